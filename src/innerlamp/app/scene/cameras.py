"""Cameras as plain data, in coordinates of the ground."""

from __future__ import annotations

import numpy as np
from vtkmodules.vtkRenderingCore import vtkCamera


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
