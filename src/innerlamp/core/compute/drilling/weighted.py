"""Length-weighted means of samples over other lengths of the same holes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


def means_over(
    cell_hole: IntArray,
    cell_start: FloatArray,
    cell_stop: FloatArray,
    hole: IntArray,
    start: FloatArray,
    stop: FloatArray,
    values: FloatArray,
) -> tuple[FloatArray, FloatArray]:
    """Return length-weighted means and the lengths that they are of.

    Parameters
    ----------
    cell_hole, cell_start, cell_stop
        Lengths to find means over, shape (m,): index of the hole and depths in metres; they may overlap.
    hole, start, stop
        Samples, shape (n,), not overlapping within a hole; any order.
    values
        Shape (n,) or (n, k); NaN counts neither as value nor as length.

    Returns
    -------
    mean, length
        Shape (m,) or (m, k); NaN and 0 where nothing was sampled. A sample that a cell's edge cuts counts by its part.
    """
    table = values[:, None] if values.ndim == 1 else values
    shape = (len(cell_hole), table.shape[1])
    metal, length = np.zeros(shape), np.zeros(shape)
    good = np.isfinite(start) & np.isfinite(stop) & (stop > start) & (hole >= 0)
    order = np.flatnonzero(good)[np.lexsort((start[good], hole[good]))]
    if len(order) and len(cell_hole):
        h, a, b, v = hole[order], start[order], stop[order], table[order]
        scale = float(max(b.max(), cell_stop.max())) + 1.0
        # The samples that end below a cell's top and begin above its end.
        first = np.searchsorted(h * scale + b, cell_hole * scale + cell_start, "right")
        last = np.searchsorted(h * scale + a, cell_hole * scale + cell_stop, "left")
        count = np.maximum(last - first, 0)
        cell = np.repeat(np.arange(len(cell_hole)), count)
        row = np.repeat(first - np.cumsum(count) + count, count) + np.arange(int(count.sum()))
        part = np.minimum(b[row], cell_stop[cell]) - np.maximum(a[row], cell_start[cell])
        for k in range(shape[1]):
            known = np.isfinite(v[row, k]) & (part > 0)
            length[:, k] = np.bincount(cell[known], part[known], len(cell_hole))
            metal[:, k] = np.bincount(cell[known], part[known] * v[row[known], k], len(cell_hole))
    with np.errstate(invalid="ignore"):
        mean = np.where(length > 0, metal / np.where(length > 0, length, 1.0), np.nan)
    return (mean[:, 0], length[:, 0]) if values.ndim == 1 else (mean, length)
