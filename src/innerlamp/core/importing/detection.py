"""Cells that are no plain number: below detection, above the limit, codes for no value, in every way they are written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from ..findings import Findings, Severity
from ..formats.tables.rawtable import matches
from .choices import AboveRule, DetectionRule, NegativeRule

SHARE = {"half of limit": 0.5, "limit": 1.0, "zero": 0.0, "missing": np.nan}
GRADES = (
    *("ppm", "ppb", "%", "g/t", "kg/t", "mg/kg", "µg/kg", "µg/g"),
    *(f"{weight}/{ton}" for weight in ("oz", "dwt") for ton in ("t", "st", "lt", "tonne")),
)
_WORDS = r"^\s*(nd|n\.d\.|bdl|b\.d\.l\.|bd|lld|below|not detected|no detectado|non détecté|tr|traces?|trazas)\s*$"


@dataclass(frozen=True)
class CellRules:
    """What cells become that hold no plain number; chosen by the user, kept with the item as parameters of its import.

    Attributes
    ----------
    below
        What ``<0.5``, ``-0.5`` and ``ND`` become, as a share of the limit.
    above, above_factor
        What ``>10000`` becomes: the value of another column of the element where it has one (an over-limit method),
        the limit, or the limit times a factor.
    negatives
        Whether a negative grade says 'below detection' or 'no value'; auto goes by the column.
    methods
        Methods from the one that counts first where several give a value; others follow as `elements.ranked` says.
    """

    below: DetectionRule = "half of limit"
    above: AboveRule = "another column or limit"
    above_factor: float = 1.2
    negatives: NegativeRule = "auto"
    methods: tuple[str, ...] = ()

    def above_as(self, limits: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return what values above some limits become as long as no other column has them."""
        if self.above == "missing":
            return np.full(len(limits), np.nan)
        return limits * (self.above_factor if self.above == "limit times factor" else 1.0)


@dataclass(frozen=True)
class Place:
    """Where the rows of a table stand, so that findings name them: file, table, and the line and hole of each row."""

    found: Findings
    file: str
    table: str
    line: NDArray[np.int64]
    hole: NDArray[np.object_]

    def add(self, severity: Severity, what: str | Sequence[str], done: str | Sequence[str], rows: Any) -> None:
        """Add a finding for each of some rows."""
        self.found.add(
            severity, what, done, file=self.file, table=self.table, line=self.line[rows], hole=self.hole[rows]
        )


def says_below(words: pa.Array) -> NDArray[np.bool_]:
    """Return which words say in letters that nothing was detected (``ND``, ``BDL``), without a limit."""
    return matches(words, _WORDS)


def limit_of(values: NDArray[np.float64], limits: NDArray[np.float64]) -> float:
    """Return the likely detection limit of a column: the smallest stated one, else its smallest positive value."""
    stated = limits[np.isfinite(limits) & (limits > 0)]
    if len(stated):
        return float(stated.min())
    positive = values[np.isfinite(values) & (values > 0)]
    return float(positive.min()) if len(positive) else float("nan")


# Numbers that stand for no value in tables, grids and logs (common practice, no source).
_MISSING = (-9.0, -99.0, -999.0, -9999.0, -99999.0, -999.25, -999.99, -1e30, -1e32, 1e30, 1e32, 99999.0)
_ALWAYS = (-999.25, -999.99, -1e30, -1e32, 1e30, 1e32)


def missing_codes(
    values: NDArray[np.float64],
    column: str,
    unit: str,
    place: Place,
    rule: NegativeRule = "auto",
    coded: NDArray[np.bool_] | None = None,
) -> NDArray[np.float64]:
    """Return numbers in which those that stand for no value are empty; `coded` ones were below detection or above a limit.

    Some always do (-999.25, ±1e32); -99, -9999 and the like do in grades, and elsewhere where they lie farther from the
    other values than these lie from each other. A negative grade that can't be a detection limit, since a quarter of
    the positive ones are smaller, is one as well: taken for half a limit it would be ore. That is asked about.
    """
    with np.errstate(invalid="ignore"):
        if not ((values < 0) | (values >= 99999.0)).any():
            return values
    known = np.isfinite(values)
    dummy = np.zeros(len(values), dtype=bool)
    asked = np.zeros(len(values), dtype=bool)
    grade = unit in GRADES
    for code in _MISSING:
        at = known & np.isclose(values, code, rtol=1e-9, atol=0.0)
        if not at.any():
            continue
        rest = values[known & ~at & ~dummy]
        far = len(rest) == 0 or abs(code - float(np.median(rest))) > 2.0 * float(np.ptp(rest)) + 1.0
        dummy |= at if code in _ALWAYS or far or (grade and code < 0 and rule != "below detection") else False
    negative = known & (values < 0) & ~dummy
    if grade and negative.any() and rule != "below detection":
        plain = known & (values > 0) & ~dummy
        positive = values[plain if coded is None else plain & ~coded]
        if rule == "missing":
            dummy |= negative
        elif len(positive) >= 4:
            asked = negative & (-values > float(np.quantile(positive, 0.25)))
    for rows, severity, done in (
        (np.flatnonzero(dummy), "look", "left empty"),
        (
            np.flatnonzero(asked & ~dummy),
            "look",
            "left empty: no detection limit is so high; say negatives='below detection' if it is one",
        ),
    ):
        if len(rows):
            what = [f"{column} '{v:g}' stands for no value" for v in values[rows]]
            place.add(severity, what, done, rows)  # type: ignore[arg-type]
    return np.where(dummy | asked, np.nan, values)


def negative_codes(
    values: NDArray[np.float64], column: str, unit: str, rule: DetectionRule, place: Place
) -> NDArray[np.float64]:
    """Return grades in which negative numbers, a laboratory's code for 'less than', became what the rule says."""
    at = np.flatnonzero(values < 0) if unit in GRADES else np.empty(0, dtype=np.int64)
    if not len(at):
        return values
    out = values.copy()
    out[at] = -values[at] * SHARE[rule]
    what = [f"{column} '{v:g}' is a code for below detection" for v in values[at]]
    done = [f"taken as {v:g}" if np.isfinite(v) else "left empty" for v in out[at]]
    place.add("mended", what, done, at)
    return out
