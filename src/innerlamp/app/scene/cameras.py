"""Cameras as plain data, in coordinates of the ground; what they look at, and from where."""

from __future__ import annotations

import numpy as np
from vtkmodules.vtkRenderingCore import vtkCamera

from ...core.compute.drilling.desurvey import azimuth_and_dip
from ...core.project.records import Entry


def camera_as_data(camera: vtkCamera, origin: np.ndarray, factor: float) -> list[float]:
    """Return where a camera stands and what it looks at (easting, northing, elevation in metres each), and what is up."""
    stretch = np.array([1.0, 1.0, factor])
    place, focus = (np.array(v) / stretch + origin for v in (camera.GetPosition(), camera.GetFocalPoint()))
    return [*place.tolist(), *focus.tolist(), *camera.GetViewUp(), float(camera.GetViewAngle())]


def set_camera(camera: vtkCamera, data: list[float], origin: np.ndarray, factor: float) -> None:
    """Let a camera stand as it was kept."""
    stretch = np.array([1.0, 1.0, factor])
    place, focus, up = (np.array(data[k : k + 3]) for k in (0, 3, 6))
    camera.SetPosition(*((place - origin) * stretch).tolist())
    camera.SetFocalPoint(*((focus - origin) * stretch).tolist())
    camera.SetViewUp(*up.tolist())
    camera.SetViewAngle(data[9])


def direction_of(camera: vtkCamera) -> tuple[float, float]:
    """Return the direction in which the viewer looks (degrees clockwise from grid north) and how far down (degrees)."""
    azimuth, dip = azimuth_and_dip(np.array(camera.GetDirectionOfProjection()))
    return float(azimuth), -float(dip)


def looking_words(camera: vtkCamera, factor: float) -> str:
    """Return what the caption of a view says: where it looks, and its vertical exaggeration."""
    azimuth, down = direction_of(camera)
    return f"looking {azimuth:03.0f}°, {abs(down):.0f}° {'down' if down >= 0 else 'up'}   vertical ×{factor:g}"


def seen_from(azimuth: float, altitude: float) -> tuple[np.ndarray, np.ndarray]:
    """Return unit vectors to a viewer (degrees clockwise from north, degrees above) and of what is up for them."""
    a, h = np.radians(azimuth), np.radians(altitude)
    away = np.array([np.sin(a) * np.cos(h), np.cos(a) * np.cos(h), np.sin(h)])
    steep = abs(altitude) >= 85  # north is up on a plan
    return away, np.array([-np.sin(a), -np.cos(a), 0.0]) if steep else np.array([0.0, 0.0, 1.0])


def box_of(entries: list[Entry]) -> tuple[np.ndarray, np.ndarray]:
    """Return the lower and upper corners (m) of the box around items; a metre cube where they have no place."""
    boxes = np.array([e.bounds for e in entries if np.isfinite(e.bounds[:4]).all()], dtype=float).reshape(-1, 6)
    if not len(boxes):
        return np.zeros(3), np.ones(3)
    z = boxes[:, 4:][np.isfinite(boxes[:, 4:]).all(axis=1)]
    low = np.array([boxes[:, 0].min(), boxes[:, 2].min(), z[:, 0].min() if len(z) else 0.0])
    high = np.array([boxes[:, 1].max(), boxes[:, 3].max(), z[:, 1].max() if len(z) else 100.0])
    return low, high
