"""What the importing operations share: columns by role, attributes with units, values below detection."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..crs import same_system, transformers
from ..errors import InputError
from ..findings import Findings
from ..formats import columns, rawtable
from ..formats.rawtable import RawTable
from ..units import unit_in_heading
from . import detection
from .detection import DetectionRule


def mapped(raw: RawTable, table: str, mapping: Mapping[str, str]) -> dict[str, str]:
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
                where=raw.file,
                fix="Its columns are: " + ", ".join(have),
            )
    chosen = {**columns.guess(have, table), **dict(mapping)}
    chosen = {role: column for role, column in chosen.items() if column}
    absent = columns.missing(chosen, table)
    if absent:
        raise InputError(
            "no column for " + ", ".join(absent),
            where=raw.file,
            fix="Choose it in the mapping; the columns are: " + ", ".join(have),
        )
    return chosen


def number_column(raw: RawTable, column: str) -> NDArray[np.float64]:
    """Return a column as numbers, NaN where it is not one; the checks report those."""
    values, _ = rawtable.numbers(raw.cells.column(column), raw.layout.decimal_comma)
    return values


def attributes(
    raw: RawTable,
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
        values, odd = rawtable.numbers(raw.cells.column(column), raw.layout.decimal_comma)
        rows = np.flatnonzero(odd)
        texts = raw.cells.column(column).take(rows).to_pylist() if len(rows) else []
        limits = rawtable.below_detection(pd.Series(texts, dtype="object"))
        worded = detection.says_below(texts)
        if worded.any():
            limits[worded] = detection.limit_of(values, limits)
        below = np.isfinite(limits)
        limit_above = rawtable.above_limit(pd.Series(texts, dtype="object"))
        above = np.isfinite(limit_above)
        filled = int(np.isfinite(values).sum())
        coded = int(below.sum()) + int(above.sum())
        if filled + coded < max(1, len(rows) - coded):
            text = raw.text(column).str.strip()
            taken[column] = text.where(text != "", None)
            units[column] = ""
            continue
        if below.any():
            at = rows[below]
            values[at] = limits[below] * detection.SHARE[rule]
            done = [f"taken as {v:g}" if np.isfinite(v) else "left empty" for v in values[at]]
            what = [f"{column} '{t.strip()}' is below detection" for t, b in zip(texts, below, strict=True) if b]
            found.add("mended", what, done, file=raw.file, table=table, line=raw.line[at], hole=where[at])
        if above.any():
            at = rows[above]
            values[at] = limit_above[above]
            what = [f"{column} '{t.strip()}' is above the limit" for t, b in zip(texts, above, strict=True) if b]
            done = [f"taken as the limit, {v:g}: the true value is higher" for v in limit_above[above]]
            found.add("look", what, done, file=raw.file, table=table, line=raw.line[at], hole=where[at])
        odd_cell = ~below & ~above
        if odd_cell.any():
            at = rows[odd_cell]
            what = [f"{column} '{t.strip()}' is not a number" for t, b in zip(texts, odd_cell, strict=True) if b]
            found.add("look", what, "left empty", file=raw.file, table=table, line=raw.line[at], hole=where[at])
        units[column] = unit_in_heading(column)
        values = detection.missing_codes(values, column, units[column], found, raw.file, table, raw.line, where)
        taken[column] = detection.negative_codes(
            values, column, units[column], rule, found, raw.file, table, raw.line, where
        )
    frame = pd.DataFrame(taken, index=range(len(raw.line)))
    return detection.join_units(frame, units, found, raw.file, table, raw.line, where), units


def system_of(given: str, headings: tuple[str, str]) -> str:
    """Return the coordinate system of a table: the one chosen, else degrees where its headings say so, else ''.

    Longitude and latitude in a heading mean degrees of WGS 84 (common practice, no source).
    """
    if given.strip():
        return given.strip()
    words = [h.strip().lower() for h in headings]
    return "EPSG:4326" if words[0].startswith("lon") and words[1].startswith("lat") else ""


def to_project(
    x: NDArray[np.float64], y: NDArray[np.float64], source: str, crs: str, found: Findings, file: str, table: str
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return eastings and northings turned from a table's own coordinate system into the project's.

    Without a system they are taken as the project's; when they look like degrees that is reported.

    Raises
    ------
    InputError, CrsError
        When the coordinates don't fit the system, or it is unknown.
    """
    known = np.isfinite(x) & np.isfinite(y)
    if not source:
        if known.any() and (np.abs(x[known]) <= 360).all() and (np.abs(y[known]) <= 90).all() and np.ptp(x[known]) < 20:
            small = np.abs(x[known] - np.round(x[known])).max() > 1e-9 and np.abs(y[known]).max() > 1
            if small:
                found.add(
                    "look",
                    "coordinates look like degrees",
                    f"taken as metres of {crs}; say in which system they are",
                    file=file,
                    table=table,
                )
        return x, y
    if same_system(source, crs):
        return x, y
    east, north = transformers(source, crs)[0](x, y)
    east, north = np.where(known, east, np.nan), np.where(known, north, np.nan)
    if known.any() and not (np.isfinite(east[known]) & np.isfinite(north[known])).all():
        raise InputError(
            f"coordinates don't fit {source}", where=file, fix="Check the system and which column is which"
        )
    found.add("note", f"coordinates are in {source}", f"turned into {crs}", file=file, table=table)
    return east, north


def title(path: Path) -> str:
    """Return a file's name as a title."""
    text = path.stem.replace("_", " ").replace("-", " ").strip()
    return text[:1].upper() + text[1:]
