"""What pairs of duplicates and blanks after samples say of a laboratory: precision by grade, bias, carry-over."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_GROUP = 11  # pairs of a group (Thompson & Howarth 1978)
LEAST_PAIRS = 4 * _GROUP + 6  # "at least 50" there
_MEDIAN = 0.9538725524  # median of |a - b| of two results in their standard deviations: sqrt(2) times the normal's upper quartile


@dataclass(frozen=True)
class Precision:
    """How the scatter of results grows with the grade: s(c) = floor + slope c.

    Attributes
    ----------
    floor
        Standard deviation of one result at grade zero, in the unit of the values.
    slope
        Its growth, without unit.
    grades, deviations
        Mean grade and standard deviation of each group of pairs, shape (groups,).
    pairs
        How many were used.
    """

    floor: float
    slope: float
    grades: FloatArray
    deviations: FloatArray
    pairs: int

    def percent(self, grade: float) -> float:
        """Return the precision at a grade: two standard deviations in percent of it."""
        return float(200.0 * (self.floor + self.slope * grade) / grade) if grade > 0 else float("nan")

    @property
    def practical_limit(self) -> float:
        """The grade at which the precision is 100 %; infinite where it never gets that good."""
        return float(2.0 * self.floor / (1.0 - 2.0 * self.slope)) if self.slope < 0.5 else float("inf")


def precision_by_grade(first: FloatArray, second: FloatArray) -> Precision | None:
    """Return the scatter of duplicates by grade, None with fewer than 50 pairs.

    Pairs (n,) of one unit are put in order of their means and parted into groups of eleven or more; the median difference
    of a group over 0.954 is the standard deviation at its mean grade, and a line with neither end below zero is laid
    through them (Thompson & Howarth 1978, Journal of Geochemical Exploration 9, 23-30). Pairs with a missing value or
    a mean that is not above zero are left out.
    """
    from scipy.optimize import nnls

    mean, apart = (first + second) / 2.0, np.abs(first - second)
    with np.errstate(invalid="ignore"):
        good = np.isfinite(mean) & (mean > 0)
    count = int(good.sum())
    if count < LEAST_PAIRS:
        return None
    order = np.argsort(mean[good], kind="stable")
    mean, apart = mean[good][order], apart[good][order]
    parts = np.array_split(np.arange(count), count // _GROUP)
    grades = np.array([mean[rows].mean() for rows in parts])
    deviations = np.array([np.median(apart[rows]) for rows in parts]) / _MEDIAN
    # Each group counts by its own size of scatter: the highest grades would decide alone.
    weight = 1.0 / np.maximum(grades, 1e-300)
    size = float(grades.mean())
    found, _ = nnls(np.column_stack([weight * size, weight * grades]), weight * deviations)
    return Precision(float(found[0] * size), float(found[1]), grades, deviations, count)


def share_within(half_differences: FloatArray, percent: float) -> float:
    """Return the share (0 to 1) of known half relative differences (n,) in percent that are at most `percent`; NaN without any."""
    known = half_differences[np.isfinite(half_differences)]
    return float(np.mean(known <= percent)) if len(known) else float("nan")


def bias_of_pairs(first: FloatArray, second: FloatArray) -> tuple[float, float]:
    """Return by how many percent the second results lie above the first (median), and the chance of that without a bias.

    The relative difference of a pair is ``200 (b - a) / (a + b)``; the chance is two-sided, of the signed-rank test
    (Wilcoxon 1945). Results (n,) of one unit; NaN and 1 with fewer than six pairs that differ.
    """
    from scipy.stats import wilcoxon

    with np.errstate(invalid="ignore", divide="ignore"):
        relative = 200.0 * (second - first) / (first + second)
    known = relative[np.isfinite(relative)]
    if np.count_nonzero(known) < 6:
        return (float(np.median(known)) if len(known) else float("nan")), 1.0
    return float(np.median(known)), float(wilcoxon(known).pvalue)


@dataclass(frozen=True)
class CarryOver:
    """How blanks follow the sample before them.

    `percent` of the grade before is found again in a blank (median slope, Theil 1950), `rank` is Spearman's correlation and
    `chance` its one-sided probability without carry-over; `pairs` how many blanks have a known sample before them.
    """

    percent: float
    rank: float
    chance: float
    pairs: int


def carry_over(blanks: FloatArray, before: FloatArray) -> CarryOver:
    """Return how far blanks (n,) follow the samples analysed just before them (n,), in one unit.

    With fewer than eight pairs, or blanks or samples that are all alike, nothing is told: 0 %, chance 1.
    """
    from scipy.stats import spearmanr, theilslopes

    good = np.isfinite(blanks) & np.isfinite(before)
    blanks, before = blanks[good], before[good]
    if len(blanks) < 8 or np.ptp(blanks) == 0 or np.ptp(before) == 0:
        return CarryOver(0.0, 0.0, 1.0, len(blanks))
    rank = spearmanr(before, blanks, alternative="greater")
    slope = float(theilslopes(blanks, before)[0])
    return CarryOver(100.0 * max(slope, 0.0), float(rank.statistic), float(rank.pvalue), len(blanks))
