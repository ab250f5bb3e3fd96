"""Gridding from near samples: inverse distance, nearest neighbour, natural neighbours, triangles."""

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


def natural(
    x: FloatArray, y: FloatArray, values: FloatArray, x0: float, y0: float, cell: float, nx: int, ny: int
) -> FloatArray:
    """Return a grid (ny, nx) by natural neighbours, found on the geometry itself (Sibson 1981; Park et al. 2006).

    Each cell spreads the value of its nearest sample over the disc that reaches to that sample; a
    cell's value is the mean of what reaches it. That is Sibson's mean with areas counted in cells,
    so it comes nearer to it the finer the geometry. Outside of the hull it fades to the nearest
    sample.
    """
    from scipy.spatial import cKDTree

    gx, gy = np.meshgrid(x0 + cell * np.arange(nx), y0 + cell * np.arange(ny))
    away, near = cKDTree(np.column_stack([x, y])).query(np.column_stack([gx.ravel(), gy.ravel()]), workers=-1)
    radius = (away / cell).reshape(ny, nx)
    source = values[near].reshape(ny, nx)
    # Spread row by row with running sums: each disc is a stack of chords.
    total, count = np.zeros((ny, nx + 1)), np.zeros((ny, nx + 1))
    columns, rows = np.arange(nx), np.arange(ny)
    for shift in range(-int(radius.max()), int(radius.max()) + 1):
        j, i = np.nonzero((abs(shift) <= radius) & ((rows[:, None] + shift >= 0) & (rows[:, None] + shift < ny)))
        if not len(j):
            continue
        half_width = np.sqrt(radius[j, i] ** 2 - shift * shift).astype(np.int64)
        left, right = np.maximum(columns[i] - half_width, 0), np.minimum(columns[i] + half_width + 1, nx)
        target = (j + shift) * (nx + 1)
        size = total.size
        for sign, place in ((1.0, left), (-1.0, right)):
            total += np.bincount(target + place, sign * source[j, i], size).reshape(ny, nx + 1)
            count += np.bincount(target + place, np.full(len(j), sign), size).reshape(ny, nx + 1)
    total, count = np.cumsum(total, axis=1)[:, :nx], np.cumsum(count, axis=1)[:, :nx]
    return np.where(count > 0.5, total / np.maximum(count, 1.0), np.nan)
