"""Hillshade: how bright a surface looks under a low sun."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def hillshade(
    values: FloatArray, dx: float, dy: float, azimuth: float = 315.0, altitude: float = 45.0, exaggeration: float = 2.0
) -> FloatArray:
    """Return brightness 0..1 of a grid (ny, nx), row 0 south, lit from `azimuth` and `altitude` in degrees.

    Lambert's cosine law on the surface normal (Horn 1981); NaN where the grid is blank.
    """
    north, east = np.gradient(values * exaggeration, dy, dx)
    a, h = np.radians(azimuth), np.radians(altitude)
    sun = np.array([np.sin(a) * np.cos(h), np.cos(a) * np.cos(h), np.sin(h)])
    shade = (-east * sun[0] - north * sun[1] + sun[2]) / np.sqrt(1.0 + east**2 + north**2)
    return np.where(np.isfinite(values), np.clip(shade, 0.0, 1.0), np.nan)


_LEAST = 0.3  # of the brightness: what varies less, such as a plane or the rounding of feet, stays nearly even


def evened(shade: FloatArray) -> FloatArray:
    """Return brightness (ny, nx) spread over 0..1 by its 2nd and 98th percentiles, without spreading mere rounding (no unit)."""
    known = shade[np.isfinite(shade)]
    dark, bright = np.percentile(known, [2, 98]) if known.size else (0.0, 1.0)
    return np.clip(0.5 + (shade - 0.5 * (dark + bright)) / max(bright - dark, _LEAST), 0.0, 1.0)
