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


# Suns around the horizon and how much each counts: most light from the north-west, as maps have it, and some from the
# sides, so that ridges along the light are seen as well (Mark 1992, multidirectional oblique-weighted shading).
_SUNS = ((315.0, 0.46), (270.0, 0.2), (0.0, 0.2), (225.0, 0.14))
_USUAL_SLOPE = 0.25  # to which the steeper slopes of a ground are exaggerated


def ground_shade(values: FloatArray, dx: float, dy: float) -> FloatArray:
    """Return brightness 0..1 of a ground (ny, nx; metres, row 0 south) lit from several sides, exaggerated by its relief.

    Flat ground is exaggerated more (up to 5 times), steep ground not at all, by its slopes at the 90th percentile.
    """
    north, east = np.gradient(values, dy, dx)
    slope = np.hypot(east, north)
    known = slope[np.isfinite(slope)]
    steep = float(np.percentile(known, 90)) if known.size else 0.0
    times = float(np.clip(_USUAL_SLOPE / max(steep, 1e-9), 1.0, 5.0))
    parts = [weight * hillshade(values, dx, dy, azimuth, 45.0, times) for azimuth, weight in _SUNS]
    return evened(np.sum(parts, axis=0))


_LEAST = 0.3  # of the brightness: what varies less, such as a plane or the rounding of feet, stays nearly even


def evened(shade: FloatArray) -> FloatArray:
    """Return brightness (ny, nx) spread over 0..1 by its 2nd and 98th percentiles, without spreading mere rounding (no unit)."""
    known = shade[np.isfinite(shade)]
    dark, bright = np.percentile(known, [2, 98]) if known.size else (0.0, 1.0)
    return np.clip(0.5 + (shade - 0.5 * (dark + bright)) / max(bright - dark, _LEAST), 0.0, 1.0)
