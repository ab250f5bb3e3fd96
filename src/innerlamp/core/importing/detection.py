"""Values below detection in every way they are written, and the same element in two units."""

from __future__ import annotations

import re
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..errors import UnitError
from ..findings import Findings
from ..units import factor, without_unit_in_heading

DetectionRule = Literal["half of limit", "limit", "zero", "missing"]
SHARE = {"half of limit": 0.5, "limit": 1.0, "zero": 0.0, "missing": np.nan}
GRADES = ("ppm", "ppb", "%", "g/t")
_WORDS = re.compile(r"^\s*(nd|n\.d\.|bdl|b\.d\.l\.|bd|lld|below|not detected)\s*$", re.IGNORECASE)


def says_below(texts: list[str]) -> NDArray[np.bool_]:
    """Return which cells say in letters that nothing was detected (``ND``, ``BDL``), without a limit."""
    return np.array([bool(_WORDS.match(t)) for t in texts], dtype=bool)


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
    found: Findings,
    file: str,
    table: str,
    line: NDArray[np.int64],
    hole: NDArray[np.object_],
) -> NDArray[np.float64]:
    """Return numbers in which those that stand for no value are empty.

    Some always do (-999.25, ±1e32); -99, -9999 and the like do where they lie farther from the other values than these
    lie from each other. A negative grade whose half would be more than the usual grade is one as well: taken for half
    a detection limit it would be ore.
    """
    known = np.isfinite(values)
    dummy = np.zeros(len(values), dtype=bool)
    for code in _MISSING:
        at = known & np.isclose(values, code, rtol=1e-9, atol=0.0)
        rest = values[known & ~at & ~dummy]
        if not at.any():
            continue
        far = len(rest) == 0 or abs(code - float(np.median(rest))) > 2.0 * float(np.ptp(rest)) + 1.0
        dummy |= at if code in _ALWAYS or far else False
    if unit in GRADES:
        usual = values[known & (values > 0) & ~dummy]
        if len(usual):
            dummy |= known & (values < 0) & (-0.5 * values > float(np.median(usual)))
    rows = np.flatnonzero(dummy)
    if not len(rows):
        return values
    out = values.copy()
    out[rows] = np.nan
    what = [f"{column} '{v:g}' stands for no value" for v in values[rows]]
    found.add("look", what, "left empty", file=file, table=table, line=line[rows], hole=hole[rows])
    return out


def negative_codes(
    values: NDArray[np.float64],
    column: str,
    unit: str,
    rule: DetectionRule,
    found: Findings,
    file: str,
    table: str,
    line: NDArray[np.int64],
    hole: NDArray[np.object_],
) -> NDArray[np.float64]:
    """Return grades in which negative numbers, a laboratory's code for 'less than', became what the rule says."""
    at = np.flatnonzero(values < 0) if unit in GRADES else np.empty(0, dtype=np.int64)
    if not len(at):
        return values
    out = values.copy()
    out[at] = -values[at] * SHARE[rule]
    what = [f"{column} '{v:g}' is a code for below detection" for v in values[at]]
    done = [f"taken as {v:g}" if np.isfinite(v) else "left empty" for v in out[at]]
    found.add("mended", what, done, file=file, table=table, line=line[at], hole=hole[at])
    return out


def join_units(
    frame: pd.DataFrame,
    units: dict[str, str],
    found: Findings,
    file: str,
    table: str,
    line: NDArray[np.int64],
    hole: NDArray[np.object_],
) -> pd.DataFrame:
    """Return the table with gaps of an element filled from a column of the same element in another unit.

    Both columns stay; the factor is in the findings. Values that disagree by more than 2 % are
    pointed out and kept.
    """
    by_element: dict[str, list[str]] = {}
    for column in frame.columns:
        if units.get(column) in GRADES:
            by_element.setdefault(without_unit_in_heading(str(column)).lower(), []).append(column)
    out = frame
    for members in by_element.values():
        if len(members) < 2:
            continue
        main = max(members, key=lambda c: int(np.count_nonzero(frame[c].notna())))
        for other in members:
            if other == main:
                continue
            try:
                times = factor(units[other], units[main])
            except UnitError:
                continue
            a, b = out[main].to_numpy(float), frame[other].to_numpy(float) * times
            fill = np.flatnonzero(np.isnan(a) & np.isfinite(b))
            if len(fill):
                merged = a.copy()
                merged[fill] = b[fill]
                out = out.assign(**{main: merged})
                found.add(
                    "mended",
                    f"{main} is empty and {other} is not",
                    f"taken from {other} × {times:g}",
                    file=file,
                    table=table,
                    line=line[fill],
                    hole=hole[fill],
                )
            with np.errstate(invalid="ignore"):
                apart = np.flatnonzero(np.abs(a - b) > 0.02 * np.maximum(np.abs(a), np.abs(b)) + 1e-12)
            if len(apart):
                found.add(
                    "look",
                    f"{main} and {other} (× {times:g}) disagree",
                    "both kept",
                    file=file,
                    table=table,
                    line=line[apart],
                    hole=hole[apart],
                )
    return out
