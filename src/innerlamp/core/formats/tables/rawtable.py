"""A table as it was read, before any meaning is given to it: cells, columns, and the line of each row.

Cells stay as they are here; turning them into numbers is a separate, reported step (`numbers`), so
that nothing is lost on the way in.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from ...numbers import number_or_none
from ...units import unit_in_heading

_BELOW = re.compile(
    r"^\s*(?:<|≤|less than|under)\s*=?\s*([\d.,' \u00a0\u2009\u202f]+)\s*(?:ppm|ppb|%|g/t)?\s*$", re.IGNORECASE
)
_ABOVE = re.compile(
    r"^\s*(?:>|≥|more than|over)\s*=?\s*([\d.,' \u00a0\u2009\u202f]+)\s*(?:ppm|ppb|%|g/t)?\s*$", re.IGNORECASE
)
# What laboratories and loggers write for no value: not analysed, no sample, insufficient sample, listed and not received
# (common practice, no source).
NO_VALUE = frozenset(
    {
        "",
        "na",
        "n/a",
        "n.a.",
        "nan",
        "null",
        "none",
        "-",
        "--",
        "---",
        "\u2013",
        "\u2014",
        "ns",
        "n/s",
        "n.s.",
        "*",
        "?",
    }
    | {"nss", "n.s.s.", "is", "i.s.", "ins", "i/s", "lnr", "l.n.r.", "nr", "n/r", "missing", "no sample", "not sampled"}
    | {"sm", "sin muestra", "pas d'analyse", "non analyse", "sin dato", "s/d", "sd", "#n/a", "#value!", "#div/0!"}
)
_PLAIN = r"^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$"
# Thousands parted by blanks or apostrophes; by commas before a decimal point; by points before a decimal comma.
_PERHAPS = r"^['’\s]*[-+]?\d[-+\d.,'’\s\x{00a0}\x{2009}\x{202f}]*$"  # what may be a number with thousands parted
_GROUPED = re.compile(r"^[-+]?\d{1,3}(?:[ \u00a0\u2009\u202f'’]\d{3})+(?:[.,]\d+)?$")
_GROUPED_COMMA = re.compile(r"^[-+]?\d{1,3}(?:,\d{3})+(?:\.\d+)?$")
_GROUPED_POINT = re.compile(r"^[-+]?\d{1,3}(?:\.\d{3})+(?:,\d+)?$")


@dataclass(frozen=True)
class Layout:
    """What was understood of a delimited file: how it is cut and where its heading is."""

    delimiter: str
    encoding: str
    header_line: int
    columns: tuple[str, ...]
    decimal_comma: bool = False
    medium: str = "text"
    part: str = ""
    edges: tuple[int, ...] = ()
    units: tuple[str, ...] = ()
    system: str = ""  # of the places, where the file names it itself

    def unit_of(self, column: str) -> str:
        """Return the unit of a column: the one below its heading, else the one in it, else ''."""
        below = self.units[self.columns.index(column)] if self.units and column in self.columns else ""
        return below or unit_in_heading(column)

    @property
    def words(self) -> str:
        """How the table is laid out, for people."""
        signs = {
            ",": "comma separated",
            ";": "semicolon separated",
            "\t": "tab separated",
            "|": "bar separated",
            " ": "separated by spaces",
        }
        how = {"text": signs.get(self.delimiter, "fixed columns")}.get(self.medium, self.medium)
        where = f"{how} '{self.part}'" if self.part else how
        comma = ", decimal comma" if self.decimal_comma else ""
        heading = f", heading in line {self.header_line}" if self.header_line else ""
        return f"{where}{heading}, {len(self.columns)} columns{comma}"


@dataclass(frozen=True)
class RawTable:
    """All cells of a table, with the line each row stood on (first line is 1).

    Cells are text as they stand in the file; columns of a spreadsheet, database or log that hold
    nothing but numbers are float64.
    """

    path: Path
    layout: Layout
    cells: pa.Table
    line: NDArray[np.int64]

    @property
    def file(self) -> str:
        """Name of the file, with the sheet or table in it, as findings show it."""
        return f"{self.path.name}#{self.layout.part}" if self.layout.part else self.path.name

    def text(self, column: str) -> pd.Series:
        """Cells of a column as Python text; whole numbers without a decimal point."""
        cells = self.cells.column(column)
        if pa.types.is_floating(cells.type):
            return pd.Series([number_text(v) for v in cells.to_pylist()], dtype="object")
        return pd.Series(cells.to_pandas()).astype("object")


def number_text(value: float | None) -> str:
    """Return a number as somebody would have typed it; '' for none."""
    if value is None or not math.isfinite(value):
        return ""
    return f"{value:.0f}" if value == int(value) and abs(value) < 1e15 else repr(value)


def empty_rows(cells: pa.Table) -> NDArray[np.bool_]:
    empty = np.ones(cells.num_rows, dtype=bool)
    for column in cells.columns:
        if pa.types.is_floating(column.type):
            empty &= pc.is_null(column, nan_is_null=True).to_numpy()
        else:
            empty &= pc.equal(pc.utf8_trim_whitespace(column), "").to_numpy(zero_copy_only=False)
        if not empty.any():
            break
    return empty


def numbers(
    cells: pd.Series | pa.ChunkedArray, decimal_comma: bool = False
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Return cells as float64 (NaN where not a number) and a mask of cells that hold something else."""
    column = cells if isinstance(cells, pa.ChunkedArray) else pa.chunked_array([pa.array(cells, pa.string())])
    if pa.types.is_floating(column.type):
        values = np.array(column.to_numpy(), dtype=float)
        return np.where(np.isfinite(values), values, np.nan), np.zeros(len(values), dtype=bool)
    text = pc.utf8_trim_whitespace(column)
    if decimal_comma:
        text = pc.replace_substring(text, ",", ".")
    nothing = pc.equal(text, "")
    try:
        if decimal_comma and pc.any(pc.match_substring_regex(column, r"^\s*[-+]?\d{1,3}\.\d{3}\s*$")).as_py():
            raise pa.ArrowInvalid("a point among decimal commas")
        values = pc.cast(pc.if_else(nothing, pa.scalar(None, pa.string()), text), pa.float64())
        return np.array(values.to_numpy(), dtype=float), np.zeros(len(values), dtype=bool)
    except pa.ArrowInvalid:
        plain = pc.fill_null(pc.match_substring_regex(text, _PLAIN), False)
        values = np.array(
            pc.cast(pc.if_else(plain, text, pa.scalar(None, pa.string())), pa.float64()).to_numpy(), dtype=float
        )
        rest = np.flatnonzero(~plain.to_numpy(zero_copy_only=False).astype(bool))
        odd = ~np.isfinite(values)
        values[odd] = np.nan
        # Codes and words repeat: each is looked at once, and only those that digits and signs make up.
        codes, words = words_of(pc.utf8_trim_whitespace(column).take(rest))
        found = np.full(len(words), np.nan)
        for k in np.flatnonzero(matches(words, _PERHAPS)).tolist():
            given = _with_thousands(str(words[k]), decimal_comma)
            found[k] = np.nan if given is None else given
        none = pc.is_in(pc.utf8_lower(words), value_set=pa.array(sorted(NO_VALUE), pa.string()))
        nothing_said = np.asarray(pc.or_(pc.is_null(words), none).to_numpy(zero_copy_only=False), dtype=bool)
        if len(rest):
            values[rest] = found[codes]
            odd[rest] = np.isnan(found[codes]) & ~nothing_said[codes]
        if decimal_comma:
            at = points_among_commas(column)
            if at.any():
                values[at] = _as_the_rest(values, at)
        return values, odd


def words_of(cells: pa.ChunkedArray | pa.Array) -> tuple[NDArray[np.int64], pa.Array]:
    """Return the number of the word of each cell (n,), and the words: each text once; a cell that is null has one of its own."""
    whole = cells.combine_chunks() if isinstance(cells, pa.ChunkedArray) else cells
    coded = pc.dictionary_encode(whole, null_encoding="encode")
    return coded.indices.to_numpy(zero_copy_only=False).astype(np.int64), coded.dictionary.cast(pa.string())


def matches(words: pa.Array, pattern: str) -> NDArray[np.bool_]:
    """Return which words a pattern is found in, capital letters or not."""
    found = pc.fill_null(pc.match_substring_regex(words, pattern, ignore_case=True), False)
    return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)


def _with_thousands(text: str, decimal_comma: bool) -> float | None:
    text = text.lstrip("'’").strip()
    bare = re.sub(r"[ \u00a0\u2009\u202f'’]", "", text)
    if _GROUPED.match(text):
        return number_or_none(bare)
    if decimal_comma:
        return number_or_none(bare.replace(".", "")) if _GROUPED_POINT.match(text) else None
    if _GROUPED_COMMA.match(text):
        return number_or_none(bare.replace(",", ""))
    return number_or_none(text) if re.fullmatch(r"[-+]?\d+,\d+", text) else None


def decimal_comma(cells: Iterable[str]) -> bool:
    """Return whether numbers in cells have a decimal comma: most of those with a sign that can't part thousands do."""
    commas = points = 0
    for cell in cells:
        text = cell.strip().lstrip("<>≤≥ ")
        commas += bool(re.fullmatch(r"[-+]?\d*,\d+", text))
        points += bool(re.fullmatch(r"[-+]?\d*\.\d+", text) and not re.fullmatch(r"[-+]?\d{1,3}\.\d{3}", text))
    return commas > points


def points_among_commas(cells: pd.Series | pa.ChunkedArray) -> NDArray[np.bool_]:
    """Return which cells of a table with decimal commas have a point before three last digits: ``1.250`` may be 1250 or 1.25."""
    column = cells if isinstance(cells, pa.ChunkedArray) else pa.chunked_array([pa.array(cells, pa.string())])
    if pa.types.is_floating(column.type):
        return np.zeros(len(column), dtype=bool)
    return np.asarray(
        pc.match_substring_regex(column, r"^\s*[-+]?\d{1,3}\.\d{3}\s*$").to_numpy(zero_copy_only=False), dtype=bool
    )


def _as_the_rest(values: NDArray[np.float64], at: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Return doubtful numbers as they lie nearer to the middle of the others: as they are, or a thousand times as much."""
    doubtful = values[at]
    rest = np.abs(values[np.isfinite(values) & ~at & (values != 0)])
    if not len(rest):
        return doubtful * 1000.0  # the comma is the decimal sign here, so the point parts thousands
    middle = np.log10(np.median(rest))
    with np.errstate(divide="ignore"):
        as_is = np.abs(np.log10(np.abs(doubtful)) - middle)
    return np.where(
        np.abs(np.log10(np.maximum(np.abs(doubtful), 1e-30)) + 3.0 - middle) < as_is, doubtful * 1000.0, doubtful
    )


def below_detection(words: pa.Array) -> NDArray[np.float64]:
    """Return the limit of words like ``<0.5`` or ``<0,5``, NaN for all others."""
    return _limits(words, _BELOW, r"^\s*(?:<|≤|less than|under)")


def above_limit(words: pa.Array) -> NDArray[np.float64]:
    """Return the limit of words like ``>10000``, NaN for all others."""
    return _limits(words, _ABOVE, r"^\s*(?:>|≥|more than|over)")


def _limits(words: pa.Array, pattern: re.Pattern[str], begins: str) -> NDArray[np.float64]:
    found = np.full(len(words), np.nan)
    for k in np.flatnonzero(matches(words, begins)).tolist():
        if m := pattern.match(str(words[k])):
            value = number_or_none(m.group(1))
            found[k] = np.nan if value is None else value
    return found


def unique(names: list[str]) -> tuple[str, ...]:
    seen: dict[str, int] = {}
    out = []
    for index, given in enumerate(names):
        name = given or f"column {index + 1}"
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return tuple(out)
