"""Values below detection in every way they are written, and the same element in two units."""

from __future__ import annotations

import re
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..errors import UnitError
from ..findings import Findings
from ..items.legend import without_unit
from ..units import factor

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
            by_element.setdefault(without_unit(column, units[column]).lower(), []).append(column)
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
