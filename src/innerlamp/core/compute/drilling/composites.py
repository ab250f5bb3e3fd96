"""Composites: equal lengths down the hole with the length-weighted mean grade of what was sampled."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


def composite(
    hole: IntArray, start: FloatArray, stop: FloatArray, grade: FloatArray, length: float
) -> tuple[IntArray, FloatArray, FloatArray, FloatArray, FloatArray]:
    """Return length-weighted composites that honour gaps.

    Every hole is cut at multiples of `length` below its collar. Each piece of sampled interval
    goes to the composite it lies in; what was not sampled (or has no grade) adds neither metal
    nor length, so a gap is never counted as zero.

    Parameters
    ----------
    hole
        Index of the hole of each interval, shape (n,).
    start, stop
        Depths in metres, start < stop, not overlapping within a hole.
    grade
        Shape (n,); NaN where not analysed.
    length
        Composite length in metres.

    Returns
    -------
    hole, start, stop, grade, sampled
        One value a composite with anything sampled; `sampled` is the sampled length in metres.

    Raises
    ------
    InputError
        When `length` is not positive or an interval is reversed.
    """
    if not length > 0:
        raise InputError("the composite length must be positive", fix="Give a length in metres, such as 2")
    good = np.isfinite(grade) & np.isfinite(start) & np.isfinite(stop)
    hole, start, stop, grade = hole[good], start[good], stop[good], grade[good]
    if (stop <= start).any():
        raise InputError("an interval ends above its start")
    empty = np.empty(0)
    if len(hole) == 0:
        return np.empty(0, dtype=np.int64), empty, empty, empty, empty
    eps = 1e-9 * length
    first = np.floor((start + eps) / length).astype(np.int64)
    last = np.maximum(np.ceil((stop - eps) / length).astype(np.int64) - 1, first)
    pieces = last - first + 1
    row = np.repeat(np.arange(len(hole)), pieces)
    within = np.arange(pieces.sum()) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    bin_ = first[row] + within
    piece = np.minimum(stop[row], (bin_ + 1) * length) - np.maximum(start[row], bin_ * length)

    order = np.lexsort((bin_, hole[row]))
    row, bin_, piece = row[order], bin_[order], piece[order]
    h = hole[row]
    new = np.concatenate([[True], (np.diff(h) != 0) | (np.diff(bin_) != 0)])
    at = np.flatnonzero(new)
    sampled = np.add.reduceat(piece, at)
    metal = np.add.reduceat(piece * grade[row], at)
    return h[at], bin_[at] * length, (bin_[at] + 1) * length, metal / sampled, sampled
