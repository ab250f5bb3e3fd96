"""What the importing operations share: columns by role, attributes with units, values below detection."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..errors import InputError
from ..findings import Findings
from ..formats import columns, delimited
from ..units import unit_in_heading

DetectionRule = Literal["half of limit", "limit", "zero", "missing"]
_SHARE = {"half of limit": 0.5, "limit": 1.0, "zero": 0.0, "missing": np.nan}


def mapped(raw: delimited.RawTable, table: str, mapping: Mapping[str, str]) -> dict[str, str]:
    """Return role to column: the user's choice, completed by guesses from the headings.

    Raises
    ------
    InputError
        When a required role has no column, or a chosen column does not exist.
    """
    have = raw.layout.columns
    for role, column in mapping.items():
        if column and column not in have:
            raise InputError(
                f"there is no column '{column}' for {role}",
                where=raw.path.name,
                fix="Its columns are: " + ", ".join(have),
            )
    chosen = {**columns.guess(have, table), **dict(mapping)}
    chosen = {role: column for role, column in chosen.items() if column}
    absent = columns.missing(chosen, table)
    if absent:
        raise InputError(
            "no column for " + ", ".join(absent),
            where=raw.path.name,
            fix="Choose it in the mapping; the columns are: " + ", ".join(have),
        )
    return chosen


def number_column(raw: delimited.RawTable, column: str) -> NDArray[np.float64]:
    """Return a column as numbers, NaN where it is not one; the checks report those."""
    values, _ = delimited.numbers(raw.cells.column(column), raw.layout.decimal_comma)
    return values


def attributes(
    raw: delimited.RawTable,
    used: set[str],
    rule: DetectionRule,
    found: Findings,
    table: str,
    hole: NDArray[np.object_] | None = None,
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return all columns that play no role, as numbers or as text, and the unit of each.

    A column is numeric when at least half of its filled cells are numbers or below detection.
    Cells like ``<0.5`` become what `rule` says; other cells that are no numbers are left empty.
    Both are reported with their line.
    """
    taken: dict[str, NDArray[np.float64] | pd.Series] = {}
    units: dict[str, str] = {}
    where = hole if hole is not None else np.full(len(raw.line), "", dtype=object)
    for column in raw.layout.columns:
        if column in used:
            continue
        values, odd = delimited.numbers(raw.cells.column(column), raw.layout.decimal_comma)
        rows = np.flatnonzero(odd)
        texts = raw.cells.column(column).take(rows).to_pylist() if len(rows) else []
        limits = delimited.below_detection(pd.Series(texts, dtype="object"))
        below = np.isfinite(limits)
        filled = int(np.isfinite(values).sum())
        if filled + int(below.sum()) < max(1, len(rows) - int(below.sum())):
            text = raw.text(column).str.strip()
            taken[column] = text.where(text != "", None)
            units[column] = ""
            continue
        if below.any():
            at = rows[below]
            values[at] = limits[below] * _SHARE[rule]
            done = [f"taken as {v:g}" if np.isfinite(v) else "left empty" for v in values[at]]
            what = [f"{column} '{t.strip()}' is below detection" for t, b in zip(texts, below, strict=True) if b]
            found.add("mended", what, done, file=raw.path.name, table=table, line=raw.line[at], hole=where[at])
        if (~below).any():
            at = rows[~below]
            what = [f"{column} '{t.strip()}' is not a number" for t, b in zip(texts, below, strict=True) if not b]
            found.add("look", what, "left empty", file=raw.path.name, table=table, line=raw.line[at], hole=where[at])
        taken[column] = values
        units[column] = unit_in_heading(column)
    return pd.DataFrame(taken, index=range(len(raw.line))), units


def existing(path: str) -> Path:
    """Return a path that is a file.

    Raises
    ------
    InputError
        When it is not.
    """
    file = Path(path).expanduser()
    if not file.is_file():
        raise InputError("there is no such file", where=str(path), fix="Check the path")
    return file
