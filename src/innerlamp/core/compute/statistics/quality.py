"""Quality of a laboratory's work: standards against their accepted value, blanks, duplicates."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class StandardCheck:
    """How a standard came back, in order of analysis.

    `accepted` and `deviation` are those given, else the median and the scaled median absolute
    deviation of the results. `outside` marks results beyond three deviations; `biased` marks the
    second of two in a row beyond two deviations on the same side (Westgard et al. 1981, rules 1-3s
    and 2-2s). `drift` is the Theil-Sen slope in deviations for each result, `tau` Kendall's rank
    correlation with the order and `chance` its two-sided probability without drift.
    """

    accepted: float
    deviation: float
    given: bool
    outside: NDArray[np.bool_]
    biased: NDArray[np.bool_]
    drift: float
    tau: float
    chance: float
    bias_percent: float


def check_standard(
    values: FloatArray, accepted: float = float("nan"), deviation: float = float("nan")
) -> StandardCheck:
    """Return the check of one standard; `values` of shape (n,) in order of analysis, NaN where not analysed.

    Accepted value and deviation are in the unit of the values.
    """
    known = values[np.isfinite(values)]
    given = bool(np.isfinite(accepted))
    centre = float(accepted) if given else float(np.median(known)) if len(known) else float("nan")
    if not np.isfinite(deviation):
        middle = float(np.median(known)) if len(known) else float("nan")
        deviation = 1.4826 * float(np.median(np.abs(known - middle))) if len(known) else float("nan")
    with np.errstate(invalid="ignore", divide="ignore"):
        score = (
            (values - centre) / deviation
            if deviation > 0
            else np.where(values == centre, 0.0, np.inf * np.sign(values - centre))
        )
    outside = np.isfinite(values) & (np.abs(score) > 3.0)
    biased = np.zeros(len(values), dtype=bool)
    rows = np.flatnonzero(np.isfinite(values))
    for before, here in pairwise(rows):
        biased[here] = (score[before] > 2 and score[here] > 2) or (score[before] < -2 and score[here] < -2)
    drift, tau, chance = _trend(score[rows])
    bias = 100.0 * (float(known.mean()) - centre) / centre if len(known) and centre else float("nan")
    return StandardCheck(centre, float(deviation), given, outside, biased & ~outside, drift, tau, chance, bias)


def _trend(scores: FloatArray) -> tuple[float, float, float]:
    from scipy.stats import kendalltau

    scores = scores[np.isfinite(scores)]
    if len(scores) < 8:
        return 0.0, 0.0, 1.0
    i, j = np.triu_indices(len(scores), 1)
    slope = float(np.median((scores[j] - scores[i]) / (j - i)))
    rank = kendalltau(np.arange(len(scores)), scores)
    return slope, float(rank.statistic), float(rank.pvalue)


def check_blanks(values: FloatArray, limit: float, times: float = 5.0) -> tuple[float, NDArray[np.bool_]]:
    """Return the warning level of blanks and which are above it: `times` the detection limit (common practice, no source).

    Values of shape (n,) and limit are in one unit.
    """
    level = times * limit
    with np.errstate(invalid="ignore"):
        return level, np.isfinite(values) & (values > level)


def check_duplicates(first: FloatArray, second: FloatArray) -> tuple[FloatArray, float]:
    """Return half the relative difference of each pair in percent, and the coefficient of variation of all.

    Half the absolute relative difference is ``100 |a - b| / (a + b)``; the coefficient of variation
    is the root mean square of ``sqrt(2) |a - b| / (a + b)`` in percent (Abzalov 2008, eq. 1-3). Pairs
    with a missing value or a sum of zero are NaN.

    Both have shape (n,) and one unit.
    """
    total = first + second
    with np.errstate(invalid="ignore", divide="ignore"):
        half = np.where(total > 0, 100.0 * np.abs(first - second) / total, np.nan)
    known = half[np.isfinite(half)]
    return half, float(np.sqrt(2.0 * np.mean(np.square(known)))) if len(known) else float("nan")
