"""How attributes go together: correlation, regression, and the distribution of one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Line:
    """A straight line y = intercept + slope x with its correlation and number of pairs."""

    intercept: float
    slope: float
    correlation: float
    count: int


def regression(x: FloatArray, y: FloatArray) -> Line:
    """Return the least-squares line of y on x over the pairs that are both known.

    Both have shape (n,), NaN where missing; slope in units of y per unit of x.

    Raises
    ------
    InputError
        With fewer than three pairs, or no spread in x.
    """
    good = np.isfinite(x) & np.isfinite(y)
    x, y = x[good], y[good]
    if len(x) < 3 or np.ptp(x) == 0:
        raise InputError("a regression needs three pairs with different values")
    dx, dy = x - x.mean(), y - y.mean()
    slope = float(dx @ dy / (dx @ dx))
    spread = float(np.sqrt((dx @ dx) * (dy @ dy)))
    return Line(float(y.mean() - slope * x.mean()), slope, float(dx @ dy) / spread if spread > 0 else 0.0, len(x))


def ranks(values: FloatArray) -> FloatArray:
    """Return ranks from 1, ties sharing their mean; NaN stays NaN.

    Values have shape (n,).
    """
    out = np.full(len(values), np.nan)
    good = np.flatnonzero(np.isfinite(values))
    known = values[good]
    order = np.argsort(known, kind="stable")
    ordered = known[order]
    first = np.searchsorted(ordered, ordered, "left")
    last = np.searchsorted(ordered, ordered, "right")
    out[good[order]] = 0.5 * (first + last + 1)
    return out


def correlations(columns: list[FloatArray], by_rank: bool = False) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return the matrix of correlations (k, k) and the number of pairs each rests on.

    Pearson's by default, Spearman's with `by_rank` (ranks among the pairs that are both known).
    NaN where there are fewer than three pairs or no spread.
    """
    k = len(columns)
    out, count = np.full((k, k), np.nan), np.zeros((k, k), dtype=np.int64)
    for i in range(k):
        for j in range(i, k):
            good = np.isfinite(columns[i]) & np.isfinite(columns[j])
            a, b = columns[i][good], columns[j][good]
            count[i, j] = count[j, i] = len(a)
            if len(a) < 3:
                continue
            if by_rank:
                a, b = ranks(a), ranks(b)
            if _constant(a) or _constant(b):
                continue
            a, b = a - a.mean(), b - b.mean()
            spread = float(np.sqrt((a @ a) * (b @ b)))
            if spread > 0:
                out[i, j] = out[j, i] = float(a @ b) / spread
    return out, count


def _constant(values: FloatArray) -> bool:
    """Whether values are the same but for rounding."""
    return bool(np.ptp(values) <= 1e-12 * float(np.abs(values).max()))


def probability_places(values: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return known values in rising order and their normal scores, for a probability plot.

    Plotting positions (i - 0.375) / (n + 0.25) (Blom 1958).
    """
    from scipy.special import ndtri

    ordered = np.sort(values[np.isfinite(values)])
    n = len(ordered)
    return ordered, np.asarray(ndtri((np.arange(1, n + 1) - 0.375) / (n + 0.25)))


@dataclass(frozen=True)
class Box:
    """What a box plot shows: quartiles, whiskers (the farthest values within 1.5 box lengths, Tukey 1977), outliers."""

    low: float
    quarter: float
    median: float
    three_quarters: float
    high: float
    outliers: FloatArray
    count: int


def box(values: FloatArray) -> Box | None:
    """Return the box of values, None without any.

    Values have shape (n,), NaN where missing; all figures are in their unit.
    """
    known = values[np.isfinite(values)]
    if not len(known):
        return None
    q1, q2, q3 = (float(v) for v in np.percentile(known, [25, 50, 75]))
    whisker = 1.5 * (q3 - q1)
    inside = known[(known >= q1 - whisker) & (known <= q3 + whisker)]
    outside = known[(known < q1 - whisker) | (known > q3 + whisker)]
    return Box(float(inside.min()), q1, q2, q3, float(inside.max()), outside, len(known))


def column_facts(values: FloatArray) -> dict[str, float]:
    """Return count, missing, lowest, percentiles, highest, mean and standard deviation (n - 1) of a column.

    Values have shape (n,), NaN where missing; figures are in their unit.
    """
    known = values[np.isfinite(values)]
    facts = {"known": float(len(known)), "missing": float(len(values) - len(known))}
    if len(known):
        places = (5, 25, 50, 75, 95, 98)
        facts |= {"lowest": float(known.min())}
        facts |= {f"{p} %": float(v) for p, v in zip(places, np.percentile(known, places), strict=True)}
        facts |= {"highest": float(known.max()), "mean": float(known.mean())}
        facts |= {"standard deviation": float(known.std(ddof=1)) if len(known) > 1 else 0.0}
    return facts
