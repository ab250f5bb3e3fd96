"""Significant intercepts: runs at or above a cut-off, joined over a little waste.

The rules are those of the trade (common practice, no source; what a report of them must say: JORC Code 2012, table 1):

- an intercept begins and ends with a sample at or above the cut-off: waste at its ends is trimmed;
- samples below the cut-off between two runs are internal waste; it is taken in up to a length in a row and a length in
  all, and only as long as the mean of the whole stays at or above the cut-off;
- a gap, or a sample without a grade, is no waste: it ends an intercept, unless it is told to count as waste of no grade;
- intercepts are found from the collar down, each as long as the rules allow.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Gaps = Literal["end the intercept", "count as waste"]

_TOUCH = 1e-6  # metres: what lies nearer than that touches


@dataclass(frozen=True)
class Rules:
    """What makes an intercept.

    Attributes
    ----------
    cutoff
        Least grade, in the unit of the grades.
    shortest
        Least length along the hole in metres.
    waste_in_row, waste_in_all
        Longest internal waste in a row and in all, metres.
    least_product
        Least grade times length, in the unit of the grades times metres.
    top_cut
        Grades above it count as it.
    gaps
        What becomes of lengths that were not sampled or have no grade.
    """

    cutoff: float
    shortest: float = 0.0
    waste_in_row: float = 0.0
    waste_in_all: float = np.inf
    least_product: float = 0.0
    top_cut: float = np.inf
    gaps: Gaps = "end the intercept"


@dataclass(frozen=True)
class Intercepts:
    """Intercepts by hole and depth, one value each: `hole` (index), `start` and `stop` (m), `grade` (top-cut), `waste` (m).

    `parent` is the number of the intercept that an included one lies in, -1 for none.
    """

    hole: IntArray
    start: FloatArray
    stop: FloatArray
    grade: FloatArray
    waste: FloatArray
    parent: IntArray

    @property
    def length(self) -> FloatArray:
        """Length along the hole in metres, shape (n,)."""
        return self.stop - self.start

    def __len__(self) -> int:
        return len(self.hole)


def significant(hole: IntArray, start: FloatArray, stop: FloatArray, grade: FloatArray, rules: Rules) -> Intercepts:
    """Return the intercepts of many holes.

    Parameters
    ----------
    hole, start, stop, grade
        Shape (n,): index of the hole, depths in metres, grade (NaN where none). Any order; where samples of a hole
        overlap, the deeper one counts from the end of the other.

    Raises
    ------
    InputError
        For a cut-off that is not a number, negative lengths in the rules, or a sample that ends above its start.
    """
    _check(rules)
    seg_hole, seg_start, seg_stop, value = _segments(hole, start, stop, grade, rules)
    from .intercept_kernels import runs

    first, last = runs(
        seg_hole, seg_start, seg_stop, value, rules.cutoff, rules.waste_in_row + _TOUCH, rules.waste_in_all + _TOUCH
    )
    return _kept(seg_hole, seg_start, seg_stop, value, first, last, rules, np.full(len(first), -1, dtype=np.int64))


def included(
    within: Intercepts, hole: IntArray, start: FloatArray, stop: FloatArray, grade: FloatArray, rules: Rules
) -> Intercepts:
    """Return the intercepts at a higher cut-off that lie within others, without those that are as long as their parent.

    Parameters (shape (n,) each) and errors are those of `significant`; samples are cut at the ends of the parents.
    """
    _check(rules)
    seg_hole, seg_start, seg_stop, value = _segments(hole, start, stop, grade, rules)
    if not len(within) or not len(seg_hole):
        none = np.empty(0, dtype=np.int64)
        return _kept(seg_hole, seg_start, seg_stop, value, none, none, rules, None)
    order = np.lexsort((within.start, within.hole))
    scale = float(max(within.stop.max(), seg_stop.max())) + 1.0
    keys = within.hole[order] * scale + within.start[order]
    at = np.searchsorted(keys, seg_hole * scale + seg_stop - _TOUCH, "right") - 1
    parent = order[np.clip(at, 0, len(order) - 1)]
    inside = (at >= 0) & (within.hole[parent] == seg_hole) & (seg_start < within.stop[parent] - _TOUCH)
    seg_start = np.where(inside, np.maximum(seg_start, within.start[parent]), seg_start)
    seg_stop = np.where(inside, np.minimum(seg_stop, within.stop[parent]), seg_stop)
    group = np.where(inside, parent, -1)
    value = np.where(inside, value, np.nan)
    from .intercept_kernels import runs

    first, last = runs(
        group, seg_start, seg_stop, value, rules.cutoff, rules.waste_in_row + _TOUCH, rules.waste_in_all + _TOUCH
    )
    found = _kept(seg_hole, seg_start, seg_stop, value, first, last, rules, group[first])
    own = within.length[found.parent] - found.length > _TOUCH
    return _only(found, own)


def _check(rules: Rules) -> None:
    if not np.isfinite(rules.cutoff):
        raise InputError("the cut-off must be a number")
    for words, value in (
        ("shortest length", rules.shortest),
        ("internal waste in a row", rules.waste_in_row),
        ("internal waste in all", rules.waste_in_all),
    ):
        if not value >= 0:
            raise InputError(f"the {words} can't be negative", fix="Give a length in metres, 0 for none")
    if rules.gaps == "count as waste" and rules.cutoff <= 0:
        raise InputError("gaps can count as waste only with a cut-off above 0", fix="Let gaps end the intercept")
    if not rules.top_cut > rules.cutoff:
        raise InputError("the top-cut lies at or below the cut-off", fix="Give a higher top-cut, or none")


def _segments(
    hole: IntArray, start: FloatArray, stop: FloatArray, grade: FloatArray, rules: Rules
) -> tuple[IntArray, FloatArray, FloatArray, FloatArray]:
    """Samples by hole and depth without overlaps, gaps between them as segments without a grade; grades top-cut."""
    known = np.isfinite(start) & np.isfinite(stop) & (hole >= 0)
    if (stop[known] <= start[known]).any():
        raise InputError("a sample ends above its start", fix="Mend the depths first: see the checks of the holes")
    order = np.flatnonzero(known)[np.lexsort((start[known], hole[known]))]
    hole, start, stop = hole[order].astype(np.int64), start[order].astype(float), stop[order].astype(float)
    value = np.minimum(grade[order].astype(float), rules.top_cut)
    if not len(hole):
        return hole, start, stop, value
    # The deepest end so far of each hole: what overlaps begins there.
    from .intercept_kernels import running_end  # numba is loaded only when something is computed

    reach = np.concatenate([[-np.inf], running_end(hole, stop)[:-1]])
    same = np.concatenate([[False], hole[1:] == hole[:-1]])
    start = np.where(same, np.maximum(start, reach), start)
    left = stop - start > _TOUCH
    hole, start, stop, value = hole[left], start[left], stop[left], value[left]
    gap = np.flatnonzero((hole[1:] == hole[:-1]) & (start[1:] - stop[:-1] > _TOUCH))
    hole = np.insert(hole, gap + 1, hole[gap])
    upper, lower = stop[gap], start[gap + 1]
    start, stop = np.insert(start, gap + 1, upper), np.insert(stop, gap + 1, lower)
    value = np.insert(value, gap + 1, np.nan)
    if rules.gaps == "count as waste":
        value = np.nan_to_num(value, nan=0.0)
    return hole, start, stop, value


def _kept(
    hole: IntArray,
    start: FloatArray,
    stop: FloatArray,
    value: FloatArray,
    first: IntArray,
    last: IntArray,
    rules: Rules,
    parent: IntArray | None,
) -> Intercepts:
    if not len(first):
        empty = np.empty(0)
        none = np.empty(0, dtype=np.int64)
        return Intercepts(none, empty, empty, empty, empty, none)
    long = stop - start
    count = last - first + 1
    row = np.repeat(first - np.cumsum(count) + count, count) + np.arange(int(count.sum()))
    at = np.cumsum(count) - count
    length = np.add.reduceat(long[row], at)
    grade = np.add.reduceat((long * value)[row], at) / length
    waste = np.add.reduceat(np.where(value < rules.cutoff, long, 0.0)[row], at)
    found = Intercepts(
        hole[first], start[first], stop[last], grade, waste, np.full(len(first), -1) if parent is None else parent
    )
    return _only(
        found,
        (length >= rules.shortest - _TOUCH) & (grade * length >= rules.least_product - 1e-12 * abs(grade * length)),
    )


def _only(found: Intercepts, keep: NDArray[np.bool_]) -> Intercepts:
    return Intercepts(*(getattr(found, name)[keep] for name in ("hole", "start", "stop", "grade", "waste", "parent")))
