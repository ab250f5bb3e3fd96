"""Planes and lines as vectors east, north, up and back; planes as traces on a section and as disks in space."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from . import stereonet

FloatArray = NDArray[np.float64]


def plane_normal(dip: FloatArray, dip_direction: FloatArray) -> FloatArray:
    """Return upward unit normals (n, 3), east-north-up, of planes given by dip and dip direction in degrees."""
    d, a = np.radians(dip), np.radians(dip_direction)
    return np.stack([np.sin(a) * np.sin(d), np.cos(a) * np.sin(d), np.cos(d)], axis=-1)


def dip_and_direction(normal: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return dip and dip direction in degrees of planes by their normals (n, 3)."""
    up = np.where(normal[:, 2:] < 0, -normal, normal)
    dip = np.degrees(np.arctan2(np.hypot(up[:, 0], up[:, 1]), up[:, 2]))
    return dip, np.degrees(np.arctan2(up[:, 0], up[:, 1])) % 360.0


def plunge_and_trend(line: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return plunge (down) and trend in degrees of lines (n, 3), whichever way they point."""
    return stereonet.plunge_and_trend(np.asarray(line) * [1.0, 1.0, -1.0])  # the net's vectors are east, north, down


def section_traces(normal: FloatArray, azimuth: FloatArray | float) -> FloatArray:
    """Return unit directions (n, 2) along a vertical section and up of the lines in which planes cut it.

    Parameters
    ----------
    normal
        Unit normals, east-north-up, shape (n, 3).
    azimuth
        Direction of the section in degrees clockwise from north, one or shape (n,).

    Returns
    -------
    ndarray
        Pointing to the right; NaN for planes that lie in the section.
    """
    a = np.broadcast_to(np.radians(azimuth), (len(normal),))
    level = np.zeros(len(normal))
    along = np.column_stack([np.sin(a), np.cos(a), level])
    across = np.column_stack([np.cos(a), -np.sin(a), level])
    line = np.cross(normal, across)
    flat = np.stack([(line * along).sum(axis=1), line[:, 2]], axis=1)
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
