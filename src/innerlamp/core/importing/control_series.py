"""What a control chart shows, ready to be drawn in a pane or on a page: results, the limits they are held against, words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..compute.statistics import precision, quality
from ..errors import InputError
from ..items.holes import HoleSet
from . import batches, control_charts
from .control_charts import APART

BLANKS, PAIRS, PRECISION, BATCHES = "blanks", "duplicates", "precision by grade", "batches"
Weight = Literal["strong", "dotted", "dashed", "plain", "lit"]
_Curves = tuple[tuple[NDArray[np.float64], NDArray[np.float64], Weight], ...]


@dataclass(frozen=True)
class Rule:
    """A level line with its words."""

    value: float
    words: str
    weight: Weight


@dataclass(frozen=True)
class ControlSeries:
    """Results of control samples and what they are held against.

    Attributes
    ----------
    x, y
        Shape (n,): order of analysis or grade, and the result in the unit of the grade.
    bad
        Which of them are outside of what is allowed, shape (n,).
    joined
        Whether they are joined in their order.
    rules, curves
        Level lines; other lines as (x, y, weight).
    x_label, y_label, title, words
        Of the axes and the chart, and what it says in one line.
    by_grade
        Whether both axes are grades, so that a log scale makes sense.
    names
        What stands at x where it counts batches, else empty.
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    bad: NDArray[np.bool_]
    joined: bool
    rules: tuple[Rule, ...]
    curves: _Curves
    x_label: str
    y_label: str
    title: str
    words: str
    by_grade: bool = False
    names: tuple[str, ...] = ()


def groups(holes: HoleSet) -> list[str]:
    """Return what can be charted of a set: its standards, then blanks, duplicates, precision and batches as far as there are any."""
    if not len(holes.controls):
        return []
    kinds = set(holes.controls["type"])
    named = (holes.controls["batch"].astype(str) != "").any() and "standard" in kinds
    return [
        *control_charts.standards(holes),
        *([BLANKS] if "blank" in kinds else []),
        *([PAIRS, PRECISION] if "duplicate" in kinds else []),
        *([BATCHES] if named else []),
    ]


def series_of(holes: HoleSet, attribute: str, group: str, label: str = "") -> ControlSeries:
    """Return what a chart of a group (a standard's name, or one of `groups`) of a grade shows; `label` names the grade's axis.

    Raises
    ------
    InputError
        When there is nothing to show, in words.
    """
    if not len(holes.controls):
        raise InputError("the set has no control samples: bring their table in with the holes", where=holes.name)
    if attribute not in holes.controls.columns:
        raise InputError(f"the control samples have no {attribute}", where=holes.name)
    label = label or attribute
    made = {BLANKS: _blanks, PAIRS: _pairs, PRECISION: _precision, BATCHES: _batches}.get(group)
    found = made(holes, attribute, label) if made else _standard(holes, attribute, group, label)
    if not len(found.x):
        raise InputError(f"no results of {group} for {attribute}", where=holes.name)
    return found


def _order(count: int) -> NDArray[np.float64]:
    return np.arange(1.0, count + 1)


def _standard(holes: HoleSet, attribute: str, name: str, label: str) -> ControlSeries:
    rows, check = control_charts.standard_rows(holes, name, attribute)
    values = rows[attribute].to_numpy(float)
    centre, sd = check.accepted, check.deviation
    rules = [Rule(centre, f"{'accepted' if check.given else 'median'} {centre:.4g}", "strong")]
    for times, weight in ((2, "dotted"), (3, "dashed")):
        for sign in (1, -1):
            rules.append(Rule(centre + sign * times * sd, f"{'+' if sign > 0 else '−'}{times} deviations", weight))  # type: ignore[arg-type]
    curves: list[tuple[NDArray[np.float64], NDArray[np.float64], Weight]] = []
    drifts = check.chance < 0.01 and len(values) > 1
    if drifts:
        ends = np.array([1.0, len(values)])
        curves.append((ends, float(np.median(values)) + check.drift * sd * (ends - ends.mean()), "lit"))
    drift = (
        f"drifts {abs(check.drift) * len(values):.1f} deviations {'up' if check.drift > 0 else 'down'}"
        if drifts
        else "no drift"
    )
    words = f"{len(values)} results: bias {check.bias_percent:+.1f} %, {int(check.outside.sum())} beyond 3 deviations, {drift}"
    bad = check.outside | check.biased
    return ControlSeries(
        _order(len(values)), values, bad, True, tuple(rules), tuple(curves), "Order of analysis", label, f"Standard {name}", words
    )  # fmt: skip


def _blanks(holes: HoleSet, attribute: str, label: str) -> ControlSeries:
    rows, level, high = control_charts.blank_rows(holes, attribute)
    values = rows[attribute].to_numpy(float)
    carried = precision.carry_over(*batches.grades_before_blanks(holes, attribute))
    words = f"{len(values)} blanks, {int(high.sum())} above the limit"
    if carried.chance < 0.01:
        words += f"; they follow the sample before them ({carried.percent:.2g} % of it, {carried.pairs} pairs)"
    rule = Rule(level, f"{level:.3g}: five times the detection limit", "strong")
    return ControlSeries(
        _order(len(values)), values, high, True, (rule,), (), "Order of analysis", label, "Blanks", words
    )


def _both(holes: HoleSet, attribute: str) -> tuple[pd.DataFrame, NDArray[np.float64], NDArray[np.float64]]:
    pairs = control_charts.duplicate_pairs(holes, attribute)
    good = (pairs["first"].notna() & pairs["second"].notna()).to_numpy()
    if not good.any():
        raise InputError("no duplicate has its original among the samples", where=holes.name)
    pairs = pairs[good].reset_index(drop=True)
    return pairs, pairs["first"].to_numpy(float), pairs["second"].to_numpy(float)


def _pairs(holes: HoleSet, attribute: str, label: str) -> ControlSeries:
    pairs, first, second = _both(holes, attribute)
    half = pairs["half_difference"].to_numpy(float)
    bad = np.nan_to_num(half) > APART
    low, high = float(min(first.min(), second.min())), float(max(first.max(), second.max()))
    least = float(min(v for v in (*first, *second) if v > 0)) if high > 0 else low
    ends = np.geomspace(max(low, least), high, 40) if high > 0 else np.array([low, high])
    # Beyond these two lines a pair is apart: |a - b| / (a + b) = APART / 100.
    ratio = (100.0 + APART) / (100.0 - APART)
    curves: _Curves = ((ends, ends, "plain"), (ends, ends * ratio, "dashed"), (ends, ends / ratio, "dashed"))
    words = f"{len(first)} pairs, {int(bad.sum())} apart by more than {APART:.0f} %; " + words_of_pairs(first, second)
    return ControlSeries(
        first, second, bad, False, (), curves, f"Original {label}", f"Duplicate {label}", "Duplicates", words, by_grade=True
    )  # fmt: skip


def words_of_pairs(first: NDArray[np.float64], second: NDArray[np.float64]) -> str:
    """Return what duplicates (n,) of one unit say of the precision, and of a bias between the two."""
    half, spread = quality.check_duplicates(first, second)
    words = [
        f"{100 * precision.share_within(half, 10.0):.0f} % within a half difference of 10 %",
        f"coefficient of variation {spread:.1f} %",
    ]
    if (found := precision.precision_by_grade(first, second)) is not None:
        middle = float(np.median(found.grades))
        words.append(f"precision {found.percent(middle):.0f} % at {middle:.3g}")
    shift, chance = precision.bias_of_pairs(first, second)
    if chance < 0.01:
        words.append(f"the second results are {abs(shift):.1f} % {'higher' if shift > 0 else 'lower'}")
    return ", ".join(words)


def _precision(holes: HoleSet, attribute: str, label: str) -> ControlSeries:
    _, first, second = _both(holes, attribute)
    found = precision.precision_by_grade(first, second)
    if found is None:
        raise InputError(
            f"{len(first)} pairs are too few for a precision by grade",
            where=holes.name,
            fix=f"It takes {precision.LEAST_PAIRS}",
        )
    ends = np.geomspace(float(found.grades.min()), float(found.grades.max()), 40)
    curves: _Curves = ((ends, found.floor + found.slope * ends, "lit"),)
    limit = found.practical_limit
    words = f"{found.pairs} pairs: s = {found.floor:.3g} + {100 * found.slope:.1f} % of the grade; " + (
        f"precision reaches 100 % at {limit:.3g}" if np.isfinite(limit) else "precision never gets below 100 %"
    )
    bad = np.zeros(len(found.grades), dtype=bool)
    return ControlSeries(
        found.grades, found.deviations, bad, False, (), curves, label, f"Deviation of {label}", "Precision by grade", words, by_grade=True
    )  # fmt: skip


def _batches(holes: HoleSet, attribute: str, label: str) -> ControlSeries:
    """Mean score of all standards by batch."""
    holes = batches.by_laboratory(holes)
    parts = [batches.by_batch(holes, name, attribute) for name in control_charts.standards(holes)]
    whole = pd.concat([p for p in parts if len(p)], ignore_index=True) if any(len(p) for p in parts) else pd.DataFrame()
    if not len(whole):
        raise InputError("no standard has a batch and results that differ", where=holes.name)
    whole = whole.assign(sum=whole["score"] * whole["results"])
    order = list(dict.fromkeys(control_charts.in_order(holes.controls)["batch"].astype(str)))
    told = whole.groupby("batch", sort=False)[["sum", "results"]].sum()
    told = told.loc[[b for b in order if b in told.index]]
    score = (told["sum"] / told["results"]).to_numpy(float)
    judged = batches.judged_batches(holes, [attribute])
    failed = set(judged[judged["state"] == batches.FAILED]["batch"])
    bad = np.array([b in failed for b in told.index], dtype=bool)
    rules = (Rule(0.0, "certified", "strong"), Rule(2.0, "+2", "dotted"), Rule(-2.0, "−2", "dotted"))
    words = f"{len(score)} batches, {int(bad.sum())} fail by a standard or a blank"
    return ControlSeries(
        _order(len(score)), score, bad, True, rules, (), "Batch", "Mean score, deviations", "Batches", words,
        names=tuple(str(b) for b in told.index),
    )  # fmt: skip
