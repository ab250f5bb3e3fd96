"""Gridding from near samples: inverse distance, nearest neighbour, triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


def inverse_distance(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    at_x: FloatArray,
    at_y: FloatArray,
    power: float = 2.0,
    neighbours: int = 12,
) -> FloatArray:
    """Return the mean of the nearest samples weighted by ``1 / distance**power`` (Shepard 1968); at a sample its value.

    Samples have shape (n,), places where it is wanted (m,), all in metres; values in any unit.

    Raises
    ------
    InputError
        When the power is not above 0, or no neighbour is asked for.
    """
    from scipy.spatial import cKDTree

    if not power > 0 or neighbours < 1:
        raise InputError("the power must be above 0, and one neighbour at least")
    k = min(neighbours, len(values))
    away, near = cKDTree(np.column_stack([x, y])).query(np.column_stack([at_x, at_y]), k=k, workers=-1)
    away, near = away.reshape(-1, k), near.reshape(-1, k)
    hit = away[:, 0] < 1e-9
    weight = 1.0 / np.maximum(away, 1e-9) ** power
    out = (weight * values[near]).sum(axis=1) / weight.sum(axis=1)
    return np.asarray(np.where(hit, values[near[:, 0]], out))


def nearest(x: FloatArray, y: FloatArray, values: FloatArray, at_x: FloatArray, at_y: FloatArray) -> FloatArray:
    """Return the value of the nearest sample (Thiessen 1911)."""
    from scipy.spatial import cKDTree

    near = cKDTree(np.column_stack([x, y])).query(np.column_stack([at_x, at_y]), workers=-1)[1]
    return np.asarray(values[near])


def triangles(x: FloatArray, y: FloatArray, values: FloatArray, at_x: FloatArray, at_y: FloatArray) -> FloatArray:
    """Return linear values over Delaunay triangles; NaN outside of their hull.

    Samples have shape (n,), places where it is wanted (m,), all in metres; values in any unit.

    Raises
    ------
    InputError
        When the samples lie on one line.
    """
    from scipy.interpolate import LinearNDInterpolator
    from scipy.spatial import QhullError

    cx, cy = float(x.mean()), float(y.mean())
    try:
        surface = LinearNDInterpolator(np.column_stack([x - cx, y - cy]), values)
    except QhullError as error:
        raise InputError("the samples lie on one line", fix="Use inverse distance or nearest neighbour") from error
    return np.asarray(surface(at_x - cx, at_y - cy), dtype=float)
