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
