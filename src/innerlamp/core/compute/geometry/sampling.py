"""Reading regular grids at places."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def bilinear(
    values: FloatArray, x0: float, y0: float, dx: float, dy: float, x: FloatArray, y: FloatArray
) -> FloatArray:
    """Return grid values at places, bilinear between cell centres; NaN outside or next to blanks.

    `values` has shape (ny, nx), row 0 at northing `y0`, column 0 at easting `x0` (cell centres).
    Within half a cell of the edge the edge value holds.

    Places, origin and cell sizes are in one unit (metres); the result has their shape and the unit of the grid.
    """
    ny, nx = values.shape
    u = (np.asarray(x, dtype=float) - x0) / dx
    v = (np.asarray(y, dtype=float) - y0) / dy
    with np.errstate(invalid="ignore"):
        inside = (u >= -0.5) & (u <= nx - 0.5) & (v >= -0.5) & (v <= ny - 0.5)
    u, v = np.clip(np.where(inside, u, 0.0), 0, nx - 1), np.clip(np.where(inside, v, 0.0), 0, ny - 1)
    i, j = np.minimum(u.astype(np.int64), max(nx - 2, 0)), np.minimum(v.astype(np.int64), max(ny - 2, 0))
    i1, j1 = np.minimum(i + 1, nx - 1), np.minimum(j + 1, ny - 1)
    fu, fv = u - i, v - j
    with np.errstate(invalid="ignore"):
        # A weight of zero must not let a blank neighbour spoil the value.
        total = np.zeros(u.shape)
        for jj, ii, weight in (
            (j, i, (1 - fu) * (1 - fv)),
            (j, i1, fu * (1 - fv)),
            (j1, i, (1 - fu) * fv),
            (j1, i1, fu * fv),
        ):
            total = total + np.where(weight > 1e-12, weight * values[jj, ii], 0.0)
    return np.where(inside, total, np.nan)
