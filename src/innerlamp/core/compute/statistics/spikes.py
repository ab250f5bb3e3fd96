"""Spikes in readings along a line."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
_NORMAL = 1.4826  # turns the median absolute deviation of normal noise into its standard deviation


def hampel(values: FloatArray, half_width: int, limit: float) -> tuple[NDArray[np.bool_], FloatArray]:
    """Return which readings are spikes, and the readings with spikes replaced by the local median.

    A reading is a spike when it differs from the median of itself and `half_width` readings on
    each side by more than `limit` times the scaled median absolute deviation of that window
    (Hampel 1974; Davies & Gather 1993). Near the ends the window is cut short. Missing readings
    take no part and are never spikes. Where all readings of a window but this one are the same,
    any difference is a spike.

    Parameters
    ----------
    values
        Readings of one line in order, shape (n,).
    half_width
        Readings on each side, at least 1.
    limit
        In standard deviations, above 0; 3 is usual.

    Raises
    ------
    InputError
        When `half_width` or `limit` is out of range.
    """
    if half_width < 1 or limit <= 0:
        raise InputError("the spike filter needs at least one reading on each side and a limit above 0")
    n = len(values)
    if n == 0:
        return np.zeros(0, dtype=bool), values.copy()
    padded = np.concatenate([np.full(half_width, np.nan), values, np.full(half_width, np.nan)])
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * half_width + 1)
    middle = _median(windows)
    spread = _NORMAL * _median(np.abs(windows - middle[:, None]))
    known = np.isfinite(values)
    with np.errstate(invalid="ignore"):
        spike = known & (np.abs(values - middle) > limit * spread)
    return spike, np.where(spike, middle, values)


def _median(windows: FloatArray) -> FloatArray:
    # Sorting puts NaN last, so the median of what is known stands in the middle of its part.
    ordered = np.sort(windows, axis=1)
    count = np.isfinite(ordered).sum(axis=1)
    rows = np.arange(len(ordered))
    low, high = ordered[rows, np.maximum((count - 1) // 2, 0)], ordered[rows, np.maximum(count // 2, 0) - (count == 0)]
    high = np.where(count % 2 == 0, ordered[rows, np.minimum(count // 2, ordered.shape[1] - 1)], low)
    return np.where(count > 0, 0.5 * (low + high), np.nan)
