"""Places that lie far from all others: a digit, a sign, another zone, easting and northing changed round."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_TIMES = 30.0  # of the middle distance from the middle: surveys with a dense part reach about 10
_LEAST = 10_000.0  # metres


def middle_of(x: FloatArray, y: FloatArray) -> tuple[float, float]:
    """Return the middle of places (median easting and northing, metres), which a few far ones do not move."""
    return float(np.nanmedian(x)), float(np.nanmedian(y))


def far_from_rest(x: FloatArray, y: FloatArray) -> NDArray[np.bool_]:
    """Return which places (n,) lie far from the middle of all: 30 times as far as half of them do, and over 10 km; in metres."""
    known = np.isfinite(x) & np.isfinite(y)
    if known.sum() < 3:
        return np.zeros(len(x), dtype=bool)
    # A part of very many tells their middle as well.
    step = max(1, len(x) // 100_000)
    some = known[::step]
    mx, my = middle_of(x[::step][some], y[::step][some])
    away = np.hypot(x - mx, y - my)
    with np.errstate(invalid="ignore"):
        return np.asarray(known & (away > max(_TIMES * float(np.median(away[::step][some])), _LEAST)))


def core_box(x: FloatArray, y: FloatArray, away: NDArray[np.bool_] | None = None) -> tuple[float, float, float, float]:
    """Return west, east, south and north (metres) of the places (n,) that do not lie far from the rest (`away`)."""
    good = np.isfinite(x) & np.isfinite(y) & ~(far_from_rest(x, y) if away is None else away)
    if not good.any():
        return (np.nan,) * 4
    return float(x[good].min()), float(x[good].max()), float(y[good].min()), float(y[good].max())
