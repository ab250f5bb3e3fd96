"""Planes as they are seen: traces on a vertical section, and disks in space."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def section_traces(normal: FloatArray, azimuth: float) -> FloatArray:
    """Return unit directions (n, 2) along a vertical section and up of the lines in which planes cut it.

    Parameters
    ----------
    normal
        Unit normals, east-north-up, shape (n, 3).
    azimuth
        Direction of the section in degrees clockwise from north.

    Returns
    -------
    ndarray
        Pointing to the right; NaN for planes that lie in the section.
    """
    a = np.radians(azimuth)
    along = np.array([np.sin(a), np.cos(a), 0.0])
    across = np.array([np.cos(a), -np.sin(a), 0.0])
    line = np.cross(normal, across)
    flat = np.stack([line @ along, line[:, 2]], axis=1)
    size = np.linalg.norm(flat, axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        flat = np.where(size[:, None] > 1e-9, flat / size[:, None], np.nan)
    return np.where(flat[:, :1] < 0, -flat, flat)


def disks(centre: FloatArray, normal: FloatArray, radius: float, sides: int = 12) -> FloatArray:
    """Return the corners (n, sides, 3) of flat disks about their centres (n, 3), metres."""
    other = np.where(np.abs(normal[:, 2:]) < 0.9, [[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]])
    first = np.cross(normal, other)
    first /= np.linalg.norm(first, axis=1)[:, None]
    second = np.cross(normal, first)
    turn = np.linspace(0.0, 2.0 * np.pi, sides, endpoint=False)
    around = np.cos(turn)[None, :, None] * first[:, None, :] + np.sin(turn)[None, :, None] * second[:, None, :]
    return np.asarray(centre[:, None, :] + radius * around)
