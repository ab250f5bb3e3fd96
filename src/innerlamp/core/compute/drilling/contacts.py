"""How far samples lie from a contact along their hole, and the mean grade by that distance (a contact profile)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


def distances_to_contacts(
    hole: IntArray,
    middle: FloatArray,
    contact_hole: IntArray,
    contact_depth: FloatArray,
    first_above: NDArray[np.bool_],
) -> FloatArray:
    """Return the distance in metres along the hole from each place to the nearest contact of its hole; NaN where none.

    Negative on the side of the first rock, positive on that of the second, whichever of them lies above (`first_above`).
    """
    out = np.full(len(hole), np.nan)
    if not len(contact_hole):
        return out
    order = np.lexsort((contact_depth, contact_hole))
    h, d, above = contact_hole[order], contact_depth[order], first_above[order]
    scale = float(max(d.max(), np.nanmax(middle) if len(middle) else 0.0)) * 2.0 + 1.0
    at = np.searchsorted(h * scale + d, hole * scale + middle)
    best = np.full(len(hole), np.inf)
    for k in (at - 1, at):
        near = np.clip(k, 0, len(h) - 1)
        mine = (k >= 0) & (k < len(h)) & (h[near] == hole)
        off = middle - d[near]
        closer = mine & (np.abs(off) < best)
        best = np.where(closer, np.abs(off), best)
        out = np.where(closer, np.where(above[near], off, -off), out)
    return out


def profile(
    distance: FloatArray, grade: FloatArray, weight: FloatArray, width: float
) -> tuple[FloatArray, FloatArray, FloatArray, IntArray]:
    """Return middles of classes of distance, weighted mean and standard error of the mean of each, and counts; empty ones left out."""
    known = np.isfinite(distance) & np.isfinite(grade) & (weight > 0)
    d, g, w = distance[known], grade[known], weight[known]
    bin_ = np.floor(d / width).astype(np.int64)
    which, code = np.unique(bin_, return_inverse=True)
    count = np.bincount(code)
    total = np.bincount(code, w)
    mean: FloatArray = np.bincount(code, w * g) / np.where(total > 0, total, 1.0)
    spread = np.bincount(code, w * (g - mean[code]) ** 2) / np.where(total > 0, total, 1.0)
    error = np.sqrt(spread / np.maximum(count - 1, 1))
    middle = np.asarray((which + 0.5) * width, dtype=np.float64)
    return middle, mean, np.asarray(np.where(count > 1, error, np.nan), dtype=np.float64), count.astype(np.int64)
