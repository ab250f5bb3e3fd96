"""Trends that bend: fields that are even along bedding, a folded surface or a vein, for `rbf.Lift`."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from .rbf import Lift, fit
from .scalar_fields import fit_with_planes

FloatArray = NDArray[np.float64]
_MOST = 600  # planes, and places of a surface, that a trend is made of


def of_planes(at: FloatArray, normals: FloatArray, reach: float) -> Lift:
    """Return the trend of structural readings.

    Parameters
    ----------
    at, normals
        Places (n, 3) in metres and unit normals (n, 3), all to the same side of the layers: upward where these are upright,
        downward where they are overturned.
    reach
        How many times farther values reach along the trend than across it.

    Raises
    ------
    InputError
        With fewer than three readings.
    """
    if len(at) < 3:
        raise InputError(f"{len(at)} structural readings are too few for a trend", fix="Three are needed")
    keep = np.linspace(0, len(at) - 1, min(len(at), _MOST)).astype(np.int64)
    at, normals = at[keep], normals[keep]
    middle = at.mean(axis=0)
    mean = normals.mean(axis=0)
    mean /= max(float(np.linalg.norm(mean)), 1e-9)
    # Three values fix the level; the planes say how the field grows everywhere else.
    some = np.stack(
        [middle, middle + 1.0 * np.cross(mean, [1.0, 0.0, 0.0]), middle + 1.0 * np.cross(mean, [0.0, 1.0, 0.0])]
    )
    field = fit_with_planes(some, np.zeros(3), at, normals, plane_nugget=0.05, nugget=1.0, power=3)
    return Lift(field, reach)


def of_surface(vertices: FloatArray, triangles: NDArray[np.integer], reach: float) -> Lift:
    """Return the trend of a surface of vertices (n, 3), metres, and triangles (m, 3): values reach along sheets that follow it.

    Raises
    ------
    InputError
        When the surface has no extent.
    """
    corners = vertices[triangles]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(cross, axis=1)
    good = area > 0
    if not good.any():
        raise InputError("the surface of the trend has no extent")
    centres, normals = corners[good].mean(axis=1), cross[good] / area[good, None]
    normals = np.where(normals[:, 2:] < 0, -normals, normals)
    keep = np.linspace(0, len(centres) - 1, min(len(centres), _MOST)).astype(np.int64)
    centres, normals = centres[keep], normals[keep]
    away = 0.05 * float(np.linalg.norm(np.ptp(centres, axis=0))) or 1.0
    at = np.vstack([centres, centres + away * normals, centres - away * normals])
    values = np.concatenate([np.zeros(len(centres)), np.full(len(centres), away), np.full(len(centres), -away)])
    return Lift(fit(at, values, drift="linear", nugget=0.1), reach)
