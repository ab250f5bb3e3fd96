"""Significant intercepts by tables worked by hand, by a slow independent search on random logs, and by trigonometry.

Rules: common practice, no source; what a report must say, JORC Code 2012, table 1 and clause 50. Ounce and pound: exact
by definition (International yard and pound agreement of 1959).
"""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from innerlamp.core.compute.drilling.equivalent import Metal, equivalent, factors, formula
from innerlamp.core.compute.drilling.intercepts import Intercepts, Rules, included, significant
from innerlamp.core.compute.drilling.thickness import true_thickness
from innerlamp.core.compute.drilling.weighted import means_over
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.errors import InputError

LOG = [0.1, 0.2, 0.6, 1.4, 0.3, 0.2, 2.2, 5.1, 0.4, 0.1, 0.1, 0.1, 0.9, 0.7, 0.1, 0.05, 12.0, 0.2, 0.1, 0.1]


def of_metres(grades: list[float], rules: Rules, first: float = 0.0) -> Intercepts:
    """Intercepts of samples of 1 m of one hole."""
    start = first + np.arange(len(grades), dtype=float)
    return significant(np.zeros(len(grades), np.int64), start, start + 1.0, np.array(grades, dtype=float), rules)


def rows(found: Intercepts, digits: int = 6) -> list[tuple[float, float, float]]:
    return [
        (round(a, 6), round(b, 6), round(g, digits))
        for a, b, g in zip(found.start, found.stop, found.grade, strict=True)
    ]


def test_the_log_worked_by_hand() -> None:
    # 2-8 m: .6 + 1.4 + .3 + .2 + 2.2 + 5.1 = 9.8 g.m over 6 m; 12-17 m: .9 + .7 + .1 + .05 + 12 = 13.75 over 5 m.
    found = of_metres(LOG, Rules(0.5, waste_in_row=2.0))
    assert rows(found) == [(2, 8, 1.633333), (12, 17, 2.75)]
    assert found.waste.tolist() == [2.0, 2.0]
    # The 12.0 counts as 10: 11.75 over 5 m.
    assert rows(of_metres(LOG, Rules(0.5, waste_in_row=2.0, top_cut=10.0))) == [(2, 8, 1.633333), (12, 17, 2.35)]
    # No waste at all: every run by itself.
    assert rows(of_metres(LOG, Rules(0.5))) == [(2, 4, 1.0), (6, 8, 3.65), (12, 14, 0.8), (16, 17, 12.0)]


def test_waste_at_the_ends_is_trimmed_and_a_gap_is_no_waste() -> None:
    assert rows(of_metres([0.1, 1.0, 0.1, 0.1], Rules(0.5, waste_in_row=5.0))) == [(1, 2, 1.0)]
    start, stop = np.array([0.0, 1.0, 3.0]), np.array([1.0, 2.0, 4.0])  # 2 to 3 m was not sampled
    hole, grade = np.zeros(3, np.int64), np.array([1.0, 1.0, 1.0])
    apart = significant(hole, start, stop, grade, Rules(0.5, waste_in_row=5.0))
    assert rows(apart) == [(0, 2, 1.0), (3, 4, 1.0)]
    counted = significant(hole, start, stop, grade, Rules(0.5, waste_in_row=5.0, gaps="count as waste"))
    assert rows(counted) == [(0, 4, 0.75)]
    assert counted.waste.tolist() == [1.0]
    # A sample without a grade is a gap as well.
    assert rows(of_metres([1.0, np.nan, 1.0], Rules(0.5, waste_in_row=5.0))) == [(0, 1, 1.0), (2, 3, 1.0)]


def test_waste_in_a_row_in_all_and_the_mean() -> None:
    log = [2.0, 0.1, 2.0, 0.1, 2.0, 0.1, 0.1, 2.0]
    assert rows(of_metres(log, Rules(1.0, waste_in_row=1.0))) == [(0, 5, 1.24), (7, 8, 2.0)]
    assert rows(of_metres(log, Rules(1.0, waste_in_row=2.0))) == [(0, 8, 1.05)]
    assert rows(of_metres(log, Rules(1.0, waste_in_row=2.0, waste_in_all=2.0))) == [(0, 5, 1.24), (7, 8, 2.0)]
    # Bridging would bring the mean below the cut-off: 2 x 1.0 + 3 x 0.0 over 5 m.
    assert rows(of_metres([1.0, 0.0, 0.0, 0.0, 1.0], Rules(1.0, waste_in_row=9.0))) == [(0, 1, 1.0), (4, 5, 1.0)]
    # A poor run between two rich ones is bridged when the whole carries it.
    assert rows(of_metres([4.0, 0.0, 0.0, 0.0, 1.0, 0.0, 4.0], Rules(1.0, waste_in_row=3.0))) == [(0, 7, 1.285714)]
    # Grades at the cut-off count.
    assert rows(of_metres([0.5, 0.5], Rules(0.5))) == [(0, 2, 0.5)]


def test_short_ones_products_and_holes() -> None:
    log = [0.9, 0.1, 5.0, 0.1, 0.9, 0.9]
    assert rows(of_metres(log, Rules(0.5, shortest=2.0))) == [(4, 6, 0.9)]
    assert rows(of_metres(log, Rules(0.5, least_product=1.8))) == [(2, 3, 5.0), (4, 6, 0.9)]
    hole = np.array([0, 0, 1, 1])
    start = np.array([0.0, 1.0, 0.0, 1.0])
    found = significant(hole, start, start + 1.0, np.array([0.1, 1.0, 1.0, 0.1]), Rules(0.5, waste_in_row=9.0))
    assert found.hole.tolist() == [0, 1]  # never from one hole into the next
    assert rows(found) == [(1, 2, 1.0), (0, 1, 1.0)]
    shuffled = significant(hole[::-1], start[::-1], start[::-1] + 1.0, np.array([0.1, 1.0, 1.0, 0.1]), Rules(0.5))
    assert rows(shuffled) == rows(found)
    # Of samples that overlap the deeper one counts from the end of the other: 0-2 at 1, 2-3 at 3.
    over = significant(
        np.zeros(2, np.int64), np.array([0.0, 1.0]), np.array([2.0, 3.0]), np.array([1.0, 3.0]), Rules(0.5)
    )
    assert rows(over) == [(0, 3, 1.666667)]


def test_included_lie_within_and_are_shorter_than_their_parent() -> None:
    grades = np.array(LOG)
    start = np.arange(20.0)
    hole = np.zeros(20, np.int64)
    whole = significant(hole, start, start + 1, grades, Rules(0.5, waste_in_row=2.0))
    inner = included(whole, hole, start, start + 1, grades, Rules(2.0))
    assert rows(inner) == [(6, 8, 3.65), (16, 17, 12.0)]
    assert inner.parent.tolist() == [0, 1]
    same = significant(hole, start, start + 1, grades, Rules(5.0))
    assert rows(same) == [(7, 8, 5.1), (16, 17, 12.0)]
    assert len(included(same, hole, start, start + 1, grades, Rules(5.05))) == 0  # as long as their parents
    # A sample that the parent's edge cuts counts by its part only.
    half = Intercepts(*(np.array([v]) for v in (0, 6.5, 8.0, 0.0, 0.0, -1)))
    assert rows(included(half, hole, start, start + 1, grades, Rules(3.0))) == [(7, 8, 5.1)]
    assert len(included(of_metres([0.1], Rules(0.5)), hole, start, start + 1, grades, Rules(1.0))) == 0


def by_search(grades: np.ndarray, start: np.ndarray, stop: np.ndarray, rules: Rules) -> list[tuple[float, float]]:
    """The same rules told another way: all pairs of ends are tried, the longest from each place is taken."""
    out: list[tuple[float, float]] = []
    i = 0
    while i < len(grades):
        best = None
        for j in range(i, len(grades)):
            inner, long = grades[i : j + 1], (stop - start)[i : j + 1]
            if np.isnan(inner).any() or (start[i + 1 : j + 1] - stop[i:j] > 1e-6).any():
                break
            poor = inner < rules.cutoff
            row = max((sum(long[list(k)]) for k in _groups(poor)), default=0.0)
            fits = row <= rules.waste_in_row + 1e-9 and long[poor].sum() <= rules.waste_in_all + 1e-9
            ends = not poor[0] and not poor[-1]
            if ends and fits and (inner * long).sum() >= rules.cutoff * long.sum() - 1e-12:
                best = j
        if best is None:
            i += 1
            continue
        out.append((float(start[i]), float(stop[best])))
        i = best + 1
    return out


def _groups(mask: np.ndarray) -> list[tuple[int, ...]]:
    return [tuple(k for k, _ in g) for on, g in itertools.groupby(enumerate(mask), key=lambda e: e[1]) if on]


LENGTHS = st.sampled_from([0.5, 1.0, 1.5, 2.0])
GRADES = st.sampled_from([0.0, 0.25, 0.5, 1.0, 2.0, 6.0, float("nan")])


@settings(max_examples=300, deadline=None)
@given(
    st.lists(st.tuples(LENGTHS, GRADES, st.sampled_from([0.0, 0.0, 0.0, 1.0])), max_size=14),
    st.sampled_from([0.0, 1.0, 2.5]),
    st.sampled_from([1.0, 3.0, np.inf]),
)
def test_random_logs_by_trying_all_ends(
    samples: list[tuple[float, float, float]], in_row: float, in_all: float
) -> None:
    rules = Rules(0.5, waste_in_row=in_row, waste_in_all=in_all)
    start, stop, at = [], [], 0.0
    for long, _, gap in samples:
        start.append(at + gap)
        at += gap + long
        stop.append(at)
    a, b, g = np.array(start), np.array(stop), np.array([s[1] for s in samples], dtype=float)
    found = significant(np.zeros(len(a), np.int64), a, b, g, rules)
    assert list(zip(found.start.tolist(), found.stop.tolist(), strict=True)) == by_search(g, a, b, rules)
    mean, long = means_over(found.hole, found.start, found.stop, np.zeros(len(a), np.int64), a, b, g)
    assert found.grade == pytest.approx(mean)
    assert found.length == pytest.approx(long)


def test_rules_that_can_not_be() -> None:
    for rules, words in (
        (Rules(float("nan")), "cut-off must be a number"),
        (Rules(1.0, shortest=-1.0), "can't be negative"),
        (Rules(1.0, waste_in_row=-0.1), "waste in a row"),
        (Rules(1.0, top_cut=1.0), "top-cut"),
        (Rules(0.0, gaps="count as waste"), "above 0"),
    ):
        with pytest.raises(InputError, match=words):
            of_metres(LOG, rules)
    with pytest.raises(InputError, match="ends above its start"):
        significant(np.zeros(1, np.int64), np.array([2.0]), np.array([1.0]), np.array([1.0]), Rules(0.5))
    assert len(of_metres([], Rules(0.5))) == 0
    assert len(of_metres(LOG, Rules(99.0))) == 0


def test_means_over_other_lengths_by_hand() -> None:
    # 1 m of 2.0, 2 m of 4.0 (half of it in the cell), a gap: (2 x 1 + 4 x 1) / 2.
    hole = np.zeros(3, np.int64)
    start, stop = np.array([0.0, 1.0, 4.0]), np.array([1.0, 3.0, 5.0])
    values = np.array([[2.0, np.nan], [4.0, 8.0], [9.0, 9.0]])
    mean, length = means_over(
        np.array([0, 0, 1]), np.array([0.0, 2.0, 0.0]), np.array([2.0, 4.5, 9.0]), hole, start, stop, values
    )
    assert mean[:2] == pytest.approx(np.array([[3.0, 8.0], [(4.0 + 4.5) / 1.5, (8.0 + 4.5) / 1.5]]))
    assert length.tolist() == [[2.0, 1.0], [1.5, 1.5], [0.0, 0.0]]
    assert np.isnan(mean[2]).all()


def test_an_equivalent_of_gold_silver_and_copper() -> None:
    # 1900 and 23.5 a troy ounce, 3.85 a pound; recoveries 92, 78, 85 %: factors by exact fractions.
    metals = [
        Metal("Au", "g/t", 1900.0, "oz", 0.92),
        Metal("Ag", "g/t", 23.5, "oz", 0.78),
        Metal("Cu", "%", 3.85, "lb", 0.85),
    ]
    assert factors(metals) == pytest.approx([1.0, 0.01048627, 1.28375286], rel=1e-6)
    grades = np.array([[1.5, 45.0, 0.35], [np.nan, 45.0, np.nan], [np.nan] * 3])
    assert equivalent(metals, grades) == pytest.approx([2.42119565, 0.47188215, np.nan], rel=1e-6, nan_ok=True)
    words = formula(metals, "AuEq")
    assert words.startswith("AuEq (g/t) = Au + 0.0104863 x Ag + 1.28375 x Cu [Au 1900 a oz, recovery 92 %;")
    # The same in ppb and in percent.
    other = [
        Metal("Au", "ppb", 1900.0, "oz", 0.92),
        Metal("Ag", "ppm", 23.5, "oz", 0.78),
        Metal("Cu", "ppm", 3.85, "lb", 0.85),
    ]
    assert equivalent(other, np.array([[1500.0, 45.0, 3500.0]])) == pytest.approx([2421.19565], rel=1e-6)
    for bad, words in (
        ([], "at least one"),
        ([Metal("Au", "g/t", 0.0, "oz", 0.9)], "price of Au"),
        ([Metal("Au", "g/t", 1.0, "oz", 90.0)], "recovery of Au"),
        ([Metal("Au", "g/t", 1.0, "barrel", 0.9)], "barrel"),
    ):
        with pytest.raises(InputError, match=words):
            factors(bad)


def test_true_thickness_by_trigonometry() -> None:
    # 10 m down a hole 090/60 through a plane 70 -> 270: 7.660444 m = 10 sin 50.
    hole = 10.0 * np.array([[np.cos(np.radians(60)), 0.0, -np.sin(np.radians(60))]])
    normal = plane_normal(np.array([70.0]), np.array([270.0]))
    thick, low, high = true_thickness(hole, normal, 10.0)
    assert thick == pytest.approx([7.660444], abs=1e-6)
    assert (low, high) == (pytest.approx([10 * np.sin(np.radians(40))]), pytest.approx([10 * np.sin(np.radians(60))]))
    along, none, most = true_thickness(hole, plane_normal(np.array([60.0]), np.array([90.0])), 5.0)
    assert along == pytest.approx([0.0], abs=1e-9)
    assert none == pytest.approx([0.0], abs=1e-9)
    assert most == pytest.approx([10 * np.sin(np.radians(5))])
    assert true_thickness(np.array([[0.0, 0.0, -3.0]]), plane_normal(np.zeros(1), np.zeros(1)))[0] == pytest.approx(
        [3.0]
    )
