"""Delimited text: delimiter, encoding and header found by looking at the file, cells kept as text.

Cells stay text here; turning them into numbers is a separate, reported step (`numbers`), so that
nothing is lost on the way in.
"""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
from numpy.typing import NDArray

from ..errors import InputError
from ..findings import Findings

_DELIMITERS = (",", ";", "\t", "|")
_NUMBER = re.compile(r"^\s*[<>]?\s*[-+]?(\d+([.,]\d*)?|[.,]\d+)([eE][-+]?\d+)?\s*$")
_BELOW = re.compile(r"^\s*<\s*(\d*\.?\d+)\s*$")
NO_VALUE = frozenset({"", "na", "n/a", "nan", "null", "none", "-", "--", "ns", "*"})


@dataclass(frozen=True)
class Layout:
    """What was understood of a delimited file: how it is cut and where its heading is."""

    delimiter: str
    encoding: str
    header_line: int
    columns: tuple[str, ...]
    decimal_comma: bool = False


@dataclass(frozen=True)
class RawTable:
    """All cells of a file as text, with the line each row stood on (first line is 1)."""

    path: Path
    layout: Layout
    cells: pa.Table
    line: NDArray[np.int64]

    def text(self, column: str) -> pd.Series:
        """Cells of a column as Python text."""
        return self.cells.column(column).to_pandas().astype("object")


def look(path: Path | str) -> Layout:
    """Find out how a delimited file is laid out from its first 64 kB.

    Raises
    ------
    InputError
        When it can't be opened, is empty, or does not look like a table.
    """
    path = Path(path)
    try:
        with path.open("rb") as handle:
            head = handle.read(65536)
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=str(path), fix="Check the path") from error
    if not head.strip():
        raise InputError("the file is empty", where=path.name)
    if b"\0" in head[:4096]:
        raise InputError("the file is not text", where=path.name, fix="Save it as CSV")
    encoding = "utf8"
    try:
        text = head.decode("utf-8-sig", errors="strict" if len(head) < 65536 else "ignore")
    except UnicodeDecodeError:
        text, encoding = head.decode("cp1252", errors="replace"), "cp1252"
    lines = text.splitlines()
    if len(head) == 65536 and len(lines) > 2:
        lines = lines[:-1]
    counts = {d: [len(_split(line, d)) for line in lines[:200] if line.strip()] for d in _DELIMITERS}
    best = max(_DELIMITERS, key=lambda d: (_steady(counts[d]), np.median(counts[d])))
    width = int(np.median(counts[best]))
    if width < 2:
        raise InputError(
            "the file does not look like a table",
            where=path.name,
            fix="Expected columns separated by comma, semicolon, tab or bar",
        )
    for heading, line in enumerate(lines):  # noqa: B007 - used after the loop
        fields = [f.strip() for f in _split(line, best)]
        if (
            len(fields) >= width
            and sum(bool(f) for f in fields) >= max(2, width - 2)
            and not any(_NUMBER.match(f) for f in fields)
        ):
            break
    else:
        raise InputError(
            "no heading line was found", where=path.name, fix="The first line of the table must name its columns"
        )
    rows = [_split(line, best) for line in lines[heading + 1 : heading + 101] if line.strip()]
    comma = (
        best != ","
        and any(re.match(r"^\s*-?\d+,\d+\s*$", c) for r in rows for c in r)
        and not any(re.match(r"^\s*-?\d+\.\d+\s*$", c) for r in rows for c in r)
    )
    return Layout(best, encoding, heading + 1, _unique(fields), comma)


def read(path: Path | str, found: Findings, table: str = "", layout: Layout | None = None) -> RawTable:
    """Read all rows as text; rows with another number of cells are reported and left out.

    Raises
    ------
    InputError
        When the file can't be read as a table.
    """
    path = Path(path)
    layout = layout or look(path)
    bad: list[tuple[int, str]] = []

    def on_bad(row: pacsv.InvalidRow) -> str:
        bad.append((row.number, f"{row.actual_columns} cells where the heading has {row.expected_columns}"))
        return "skip"

    options = pacsv.ReadOptions(
        use_threads=False,
        skip_rows=layout.header_line,
        column_names=list(layout.columns),
        encoding=layout.encoding,
        block_size=8 << 20,
    )
    torn = _torn_quote(path)
    if torn:
        what = "a quotation mark is not closed on its line"
        found.add("look", what, "all quotation marks read as plain text", file=path.name, table=table, line=torn)
    parse = pacsv.ParseOptions(
        delimiter=layout.delimiter,
        quote_char=False if torn else '"',
        ignore_empty_lines=False,
        invalid_row_handler=on_bad,
    )
    convert = pacsv.ConvertOptions(column_types=dict.fromkeys(layout.columns, pa.string()), strings_can_be_null=False)
    try:
        cells = pacsv.read_csv(path, read_options=options, parse_options=parse, convert_options=convert)
    except pa.ArrowInvalid as error:
        if "Empty CSV" in str(error):
            cells = pa.table({c: pa.array([], pa.string()) for c in layout.columns})
        else:
            raise InputError(f"can't be read as a table ({error})", where=path.name) from error
    # An empty line is read as a row of empty cells, so rows and lines of the file stay in step.
    first = layout.header_line + 1
    keep = np.ones(cells.num_rows + len(bad), dtype=bool)
    keep[[number - first for number, _ in bad]] = False
    line = np.flatnonzero(keep) + first
    for number, why in bad:
        found.add("left out", why, "row left out", file=path.name, table=table, line=number)
    empty = _empty_rows(cells)
    if empty.any():
        cells = cells.filter(pa.array(~empty))
        line = line[~empty]
    if layout.decimal_comma:
        found.add(
            "note", "numbers are written with a decimal comma", "read as decimal points", file=path.name, table=table
        )
    return RawTable(path, layout, cells, line)


def _torn_quote(path: Path) -> int:
    """Return the first line with an odd number of quotation marks, 0 for none: it would swallow the next lines."""
    with path.open("rb") as handle:
        if not any(b'"' in chunk for chunk in iter(lambda: handle.read(1 << 22), b"")):
            return 0
        handle.seek(0)
        return next((number for number, line in enumerate(handle, start=1) if line.count(b'"') % 2), 0)


def _empty_rows(cells: pa.Table) -> NDArray[np.bool_]:
    empty = np.ones(cells.num_rows, dtype=bool)
    for column in cells.columns:
        empty &= pc.equal(pc.utf8_trim_whitespace(column), "").to_numpy(zero_copy_only=False)
        if not empty.any():
            break
    return empty


def numbers(
    cells: pd.Series | pa.ChunkedArray, decimal_comma: bool = False
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Return cells as float64 (NaN where not a number) and a mask of cells that hold something else."""
    column = cells if isinstance(cells, pa.ChunkedArray) else pa.chunked_array([pa.array(cells, pa.string())])
    text = pc.utf8_trim_whitespace(column)
    if decimal_comma:
        text = pc.replace_substring(text, ",", ".")
    nothing = pc.equal(text, "")
    try:
        values = pc.cast(pc.if_else(nothing, pa.scalar(None, pa.string()), text), pa.float64())
        return np.array(values.to_numpy(), dtype=float), np.zeros(len(values), dtype=bool)
    except pa.ArrowInvalid:
        series = text.to_pandas().astype("object")
        values = np.array(pd.to_numeric(series, errors="coerce"), dtype=float)
        values[~np.isfinite(values)] = np.nan
        odd = np.isnan(values) & ~series.str.lower().isin(NO_VALUE).to_numpy()
        return values, odd


def below_detection(cells: pd.Series) -> NDArray[np.float64]:
    """Return the limit of cells like ``<0.5``, NaN for all others."""
    return np.array([float(m.group(1)) if (m := _BELOW.match(str(c))) else np.nan for c in cells], dtype=float)


def _split(line: str, delimiter: str) -> list[str]:
    try:
        return next(csv.reader(io.StringIO(line), delimiter=delimiter), [])
    except csv.Error:
        return line.split(delimiter)


def _steady(counts: list[int]) -> float:
    if not counts or np.median(counts) < 2:
        return 0.0
    return round(float(np.mean(np.asarray(counts) == int(np.median(counts)))), 1)


def _unique(names: list[str]) -> tuple[str, ...]:
    seen: dict[str, int] = {}
    out = []
    for index, given in enumerate(names):
        name = given or f"column {index + 1}"
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return tuple(out)
