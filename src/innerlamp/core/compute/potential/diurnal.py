"""Daily variation of the field, taken off moving readings by a base station that stood still."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
_CLOCK = re.compile(r"^\s*(\d{1,2}):(\d{2})(?::(\d{2}(?:[.,]\d+)?))?\s*$")


def seconds_of(dates: Sequence[str], times: Sequence[str]) -> FloatArray:
    """Return seconds since 1970 of ISO dates ('' for none) and clock times (h:mm, h:mm:ss.s); NaN where unreadable.

    The result has shape (n,).
    """
    day = {"": 0.0}
    out = np.full(len(times), np.nan)
    for k, (date, time) in enumerate(zip(dates, times, strict=True)):
        found = _CLOCK.match(str(time))
        if found is None:
            continue
        if date not in day:
            day[date] = float(np.datetime64(date, "s").astype(np.int64))
        hours, minutes, seconds = found.group(1), found.group(2), found.group(3) or "0"
        out[k] = day[date] + int(hours) * 3600 + int(minutes) * 60 + float(seconds.replace(",", "."))
    return out


def diurnal(
    time: FloatArray, base_time: FloatArray, base: FloatArray, datum: float = float("nan"), longest_gap: float = 600.0
) -> tuple[FloatArray, float]:
    """Return the variation in nT at each time, to be taken off the readings, and the datum it is measured from.

    The base record is interpolated linearly between its readings (common practice in magnetic
    surveys, no source). The datum is the median of the record unless given.

    Times have shape (n,), the base record (m,).

    Parameters
    ----------
    time, base_time
        Seconds, any common origin.
    base
        Base readings, nT.
    longest_gap
        Seconds; where the base record has a longer gap, or has not begun or has ended, the variation is NaN.

    Raises
    ------
    InputError
        When the base record has fewer than two readings.
    """
    good = np.isfinite(base_time) & np.isfinite(base)
    order = np.argsort(base_time[good], kind="stable")
    bt, bv = base_time[good][order], base[good][order]
    if len(bt) < 2:
        raise InputError("the base station has fewer than two readings with a time")
    level = float(np.median(bv)) if not np.isfinite(datum) else datum
    out = np.interp(time, bt, bv, left=np.nan, right=np.nan) - level
    after = np.clip(np.searchsorted(bt, np.nan_to_num(time), "left"), 1, len(bt) - 1)
    within = bt[after] - bt[after - 1] <= longest_gap
    there = (bt[after] == time) | (bt[after - 1] == time)  # the base was read just then, whatever gap is beside it
    return np.where(np.isfinite(time) & (within | there), out, np.nan), level
