"""What the importing operations share: columns by role, attributes with units, values below detection."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ..crs import same_system, transformers
from ..errors import InputError
from ..findings import Findings, Severity
from ..formats.tables import columns, rawtable
from ..formats.tables.rawtable import RawTable
from ..local_grid import is_local, local_grid
from ..units import in_metres
from . import detection, element_columns
from .detection import CellRules, Place
from .told_units import with_units


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


_OWN = {"x", "y", "z", "file_line", "from_m", "to_m", "depth_m", *(f"{c}{k}" for c in "xyz" for k in (0, 1))}
LengthUnit = Literal["auto", "m", "ft"]


def length_column(raw: RawTable, column: str, unit: LengthUnit, found: Findings, table: str) -> NDArray[np.float64]:
    """Return lengths in metres; other units are known by the choice, the heading or the row of units, and said.

    Raises
    ------
    InputError
        When the heading's unit is no length.
    """
    values = number_column(raw, column)
    used = unit if unit != "auto" else (raw.layout.unit_of(column) or "m")
    if used == "°":
        return values
    times = in_metres(used)
    if times is None:
        raise InputError(f"'{column}' is in '{used}', which is no length", where=raw.file, fix="Choose another column")
    if times != 1.0:
        name = "feet" if used == "ft" else used
        found.add("note", f"{column} is in {name}", f"multiplied by {times:g}", file=raw.file, table=table)
    return values * times


def attributes(
    raw: RawTable,
    used: set[str],
    rules: CellRules,
    found: Findings,
    table: str,
    hole: NDArray[np.object_] | None = None,
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return all columns that play no role, as numbers or as text, and the unit of each.

    A column is numeric when at least half of its filled cells are numbers, below detection or above a limit. What such
    cells become is said by `rules`; other cells that are no numbers are left empty. All are reported with their line.
    """
    place = Place(
        found, raw.file, table, raw.line, hole if hole is not None else np.full(len(raw.line), "", dtype=object)
    )
    told_units: dict[str, str] = {}
    if table not in ("structures", "survey", "collar"):
        raw, told_units = with_units(raw, used, found, table)
    taken: dict[str, NDArray[np.float64] | pd.Series] = {}
    units: dict[str, str] = {}
    above: dict[str, NDArray[np.bool_]] = {}
    for column in raw.layout.columns:
        if column in used:
            continue
        read = _numeric(raw, column, rules, place)
        if read is None:
            taken[column], units[column] = _texts(raw, column), ""
            continue
        values, over, coded = read
        units[column] = told_units.get(column) or raw.layout.unit_of(column)
        values = detection.missing_codes(values, column, units[column], place, rules.negatives, coded)
        taken[column] = detection.negative_codes(values, column, units[column], rules.below, place)
        if over.any():
            above[column] = over
    frame = pd.DataFrame(taken, index=range(len(raw.line)))
    made, told = element_columns.joined(frame, units, rules, above, place)
    # Names that the program gives to places and depths: a column of the file that has one and no role is another thing.
    renamed = {c: f"{c} of the file" for c in made.columns if c in _OWN}
    if renamed:
        found.add("note", f"columns called {', '.join(renamed)}", "kept as '… of the file'", file=raw.file, table=table)
    return made.rename(columns=renamed), {renamed.get(c, c): u for c, u in told.items()}


def _texts(raw: RawTable, column: str) -> pd.Series:
    """Return a column as texts without blanks around them; None where there is none. A text that repeats is kept once."""
    cells = raw.cells.column(column)
    if not pa.types.is_string(cells.type):
        text = raw.text(column).str.strip()
        return text.where(text != "", None)
    codes, words = rawtable.words_of(pc.utf8_trim_whitespace(cells))
    known = np.array([w or None for w in words.to_pylist()], dtype=object)
    return pd.Series(known[codes] if len(known) else known, dtype="object")


def _each(texts: list[str], say: Callable[[str], str]) -> list[str]:
    """Return what is said of each of some texts, said once for those that repeat."""
    known = {t: say(t.strip()) for t in set(texts)}
    return [known[t] for t in texts]


def _numeric(
    raw: RawTable, column: str, rules: CellRules, place: Place
) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.bool_]] | None:
    """Return a column as numbers, which of them are above a limit, and which are so or below detection; None where it is one of texts."""
    cells = raw.cells.column(column)
    values, odd = rawtable.numbers(cells, raw.layout.decimal_comma)
    rows = np.flatnonzero(odd)
    if pa.types.is_string(cells.type):
        codes, words = rawtable.words_of(cells.take(rows))
    else:
        codes, words = np.empty(0, dtype=np.int64), pa.array([], pa.string())
    limits = rawtable.below_detection(words)
    worded = detection.says_below(words)
    if worded.any():
        limits[worded] = detection.limit_of(values, limits)
    limit_above = rawtable.above_limit(words)
    limits, limit_above = limits[codes], limit_above[codes]
    below, over = np.isfinite(limits), np.isfinite(limit_above)
    coded = int(below.sum()) + int(over.sum())
    if int(np.isfinite(values).sum()) + coded < max(1, len(rows) - coded):
        return None
    known = [str(w) for w in words.to_pylist()]
    texts = [known[k] for k in codes.tolist()]
    if below.any():
        at = rows[below]
        values[at] = limits[below] * detection.SHARE[rules.below]
        taken = {v: f"taken as {v:g}" if np.isfinite(v) else "left empty" for v in np.unique(values[at]).tolist()}
        done = [taken.get(v, "left empty") for v in values[at].tolist()]
        mine = [t for t, b in zip(texts, below, strict=True) if b]
        place.add("mended", _each(mine, lambda t: f"{column} '{t}' is below detection"), done, at)
    mask, marked = np.zeros(len(values), dtype=bool), np.zeros(len(values), dtype=bool)
    marked[rows[below | over]] = True
    if over.any():
        at = rows[over]
        mask[at] = True
        values[at] = rules.above_as(limit_above[over])
        what = [f"{column} '{t.strip()}' is above the limit" for t, b in zip(texts, over, strict=True) if b]
        done = [f"taken as {v:g}: the true value is higher" if np.isfinite(v) else "left empty" for v in values[at]]
        place.add("look", what, done, at)
    rest = ~below & ~over
    if rest.any():
        what = [f"{column} '{t.strip()}' is not a number" for t, b in zip(texts, rest, strict=True) if b]
        place.add("look", what, "left empty", rows[rest])
    if pa.types.is_string(cells.type):
        _say_codes(raw, column, values, place)
    return values, mask, marked


def _say_codes(raw: RawTable, column: str, values: NDArray[np.float64], place: Place) -> None:
    """Point out codes for no value that are written in letters, and points among decimal commas."""
    cells = raw.cells.column(column)
    if not np.isfinite(values).all():
        words = pc.utf8_lower(pc.utf8_trim_whitespace(cells))
        coded = pc.is_in(words, value_set=pa.array(sorted(w for w in rawtable.NO_VALUE if w.isalnum()), pa.string()))
        rows = np.flatnonzero(coded.to_numpy(zero_copy_only=False))
        if len(rows):
            texts = cells.take(rows).to_pylist()
            place.add("note", [f"{column} '{t.strip()}' stands for no value" for t in texts], "left empty", rows)
    if raw.layout.decimal_comma and raw.layout.medium == "text":
        rows = np.flatnonzero(rawtable.points_among_commas(cells))
        if len(rows):
            texts = cells.take(rows).to_pylist()
            what = [f"{column} '{t.strip()}' has a point among decimal commas" for t in texts]
            place.add("look", what, [f"read as {v:g}" for v in values[rows]], rows)


def system_of(given: str, headings: tuple[str, str], own: str = "") -> str:
    """Return the coordinate system of a table: its own, the one chosen, degrees where its headings say so, else ''.

    Its own is what the file itself names (`Layout.system`). Longitude and latitude in a heading mean degrees of WGS 84
    (common practice, no source).
    """
    if own:
        return own
    if given.strip():
        return given.strip()
    said = (
        h.strip().lower().startswith(short) or columns.tells(h, word)
        for h, short, word in zip(headings, ("lon", "lat"), ("longitude", "latitude"), strict=True)
    )
    return "EPSG:4326" if all(said) else ""


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
    if is_local(source):
        grid = local_grid(source)
        severity: Severity = "look" if grid.doubtful else "note"
        found.add(
            severity, "coordinates are in a local grid", f"turned into {crs}: {grid.words}", file=file, table=table
        )
        return grid.to_project(x, y)
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


def lifted(z: NDArray[np.float64], source: str) -> NDArray[np.float64]:
    """Return elevations of a local grid as those of the project; those of other systems as they are."""
    return z + local_grid(source).up if is_local(source) else z


def title(path: Path) -> str:
    """Return a file's name as a title."""
    text = path.stem.replace("_", " ").replace("-", " ").strip()
    return text[:1].upper() + text[1:]
