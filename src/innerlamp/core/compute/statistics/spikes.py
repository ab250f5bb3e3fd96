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


def isolated(values: FloatArray, half_width: int, limit: float) -> tuple[NDArray[np.bool_], FloatArray]:
    """Return which readings are spikes, and the readings with spikes drawn straight between their neighbours.

    A spike is one reading, or two of one sign, away from the middle of its neighbours by more than `limit` times the
    noise and by more than four times the most that readings two and three steps away are bent. A steep anomaly bends
    over several readings, so that it is none, where a filter by the spread of a window (`hampel`, which finds the first
    candidates here) takes its crest for spikes and misses those on its flanks. The noise is the scaled median absolute
    second difference of the line (a robust form of the usual difference checks of magnetic surveys; common practice, no
    source). Missing readings take no part.

    Parameters
    ----------
    values
        Readings of one line in order, shape (n,).
    half_width
        Readings on each side in the search for candidates, at least 1.
    limit
        In standard deviations, above 0.

    Raises
    ------
    InputError
        When `half_width` or `limit` is out of range.
    """
    spike = np.zeros(len(values), dtype=bool)
    first, _ = hampel(values, half_width, max(limit, 6.0))
    known = np.flatnonzero(np.isfinite(values))
    if len(known) < 7:
        return spike, values.copy()
    v, first = values[known], first[known]
    alone = first & (np.convolve(first.astype(int), np.ones(3), "same") <= 2)
    bad = np.zeros(len(v), dtype=bool)
    clean = _bridged(v, alone)
    for _ in range(8):
        bent, bent_pairs = np.abs(_bend(clean, clean)), np.abs(_pair_bend(clean, clean))
        noise, pair_noise = (max(_NORMAL * float(np.median(b)), 1e-12) for b in (bent, bent_pairs))
        new = np.abs(_bend(v, clean)) > limit * noise + _STEEP * _most(bent, 2, 3)
        pairs = np.abs(_pair_bend(v, clean)) > limit * pair_noise + _STEEP * _most(bent_pairs, 3, 4)
        for i in np.flatnonzero(pairs & ~new & ~np.append(new[1:], True)):
            step = (clean[i + 2] - clean[i - 1]) / 3.0
            off = v[i : i + 2] - (clean[i - 1] + step * np.array([1.0, 2.0]))
            if off[0] * off[1] > 0 and np.abs(off).min() > 0.4 * np.abs(off).max():
                new[i : i + 2] = True
        if (new == bad).all():
            break
        bad, clean = new, _bridged(v, new)
    spike[known] = bad
    out = values.copy()
    out[known] = np.where(bad, clean, v)
    return spike, out


_STEEP = 4.0  # a smooth crest three readings wide bends four times as much as what lies two and three readings off


def _bridged(values: FloatArray, bad: NDArray[np.bool_]) -> FloatArray:
    good = np.flatnonzero(~bad)
    return np.interp(np.arange(len(values)), good, values[good]) if len(good) else values


def _bend(v: FloatArray, around: FloatArray) -> FloatArray:
    """How far each reading lies from the middle of its neighbours; at the ends, from their straight continuation."""
    out = np.zeros(len(v))
    out[1:-1] = v[1:-1] - 0.5 * (around[:-2] + around[2:])
    out[0], out[-1] = v[0] - 2 * around[1] + around[2], v[-1] - 2 * around[-2] + around[-3]
    return out


def _pair_bend(v: FloatArray, around: FloatArray) -> FloatArray:
    """How far each reading and the next lie, in the mean, from the middle of the two around them."""
    out = np.zeros(len(v))
    out[1:-2] = 0.5 * (v[1:-2] + v[2:-1]) - 0.5 * (around[:-3] + around[3:])
    return out


def _most(values: FloatArray, nearest: int, farthest: int) -> FloatArray:
    out = np.zeros(len(values))
    for k in range(nearest, min(farthest, len(values) - 1) + 1):
        out[k:] = np.maximum(out[k:], values[:-k])
        out[:-k] = np.maximum(out[:-k], values[k:])
    return out


def _median(windows: FloatArray) -> FloatArray:
    # Sorting puts NaN last, so the median of what is known stands in the middle of its part.
    ordered = np.sort(windows, axis=1)
    count = np.isfinite(ordered).sum(axis=1)
    rows = np.arange(len(ordered))
    low, high = ordered[rows, np.maximum((count - 1) // 2, 0)], ordered[rows, np.maximum(count // 2, 0) - (count == 0)]
    high = np.where(count % 2 == 0, ordered[rows, np.minimum(count // 2, ordered.shape[1] - 1)], low)
    return np.where(count > 0, 0.5 * (low + high), np.nan)
