"""Delimited text: delimiter, encoding and header found by looking at the file, cells kept as text."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from ..errors import InputError
from ..findings import Findings
from . import blanks
from .heading_rows import find_heading
from .rawtable import Layout, RawTable, decimal_comma, empty_rows

_DELIMITERS = (",", ";", "\t", "|")


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
    if not any(line.strip() for line in lines):
        raise InputError("the file is empty", where=path.name)
    counts = {d: [len(_split(line, d)) for line in lines[:200] if line.strip()] for d in _DELIMITERS}
    # Commas are in numbers and remarks as well: a steady other sign parts cells before them.
    likely = sorted(
        _DELIMITERS,
        key=lambda d: (d != "," and _steady(counts[d]) >= 0.9, _steady(counts[d]), np.median(counts[d])),
        reverse=True,
    )
    # Decimal commas part cells as steadily as semicolons do, but not those of the heading.
    best = next((d for d in likely if _has_heading(lines, d, int(np.median(counts[d])))), likely[0])
    width = int(np.median(counts[best]))
    if width < 2:
        layout = blanks.look(lines, encoding, path.name)
        if layout is not None:
            return layout
        raise InputError(
            "the file does not look like a table",
            where=path.name,
            fix="Expected columns separated by comma, semicolon, tab, bar or spaces",
        )
    heading = find_heading([_split(line, best) for line in lines], width, path.name)
    rows = [_split(line, best) for line in lines[heading.last + 1 : heading.last + 101] if line.strip()]
    comma = best != "," and decimal_comma(c for r in rows for c in r)
    return Layout(best, encoding, heading.last + 1, heading.names, comma, units=heading.units)


def _has_heading(lines: list[str], delimiter: str, width: int) -> bool:
    if width < 2:
        return False
    try:
        find_heading([_split(line, delimiter) for line in lines], width, "")
    except InputError:
        return False
    return True


def read(path: Path | str, found: Findings, table: str = "", layout: Layout | None = None) -> RawTable:
    """Read all rows as text; rows with another number of cells are reported and left out.

    Raises
    ------
    InputError
        When the file can't be read as a table.
    """
    path = Path(path)
    layout = layout or look(path)
    if layout.delimiter in (" ", ""):
        return blanks.read(path, found, table, layout)
    bad: list[tuple[int, str]] = []

    def on_bad(row: pacsv.InvalidRow) -> str:
        bad.append((row.number, f"{row.actual_columns} cells where the heading has {row.expected_columns}"))
        return "skip"

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
        try:
            cells = pacsv.read_csv(
                path, read_options=_options(layout, layout.encoding), parse_options=parse, convert_options=convert
            )
        except (UnicodeDecodeError, pa.ArrowInvalid) as error:
            if isinstance(error, pa.ArrowInvalid) and "UTF8" not in str(error):
                raise
            bad.clear()
            what = "some letters are not in the encoding of the rest"
            found.add("look", what, "read as Latin-1, letter by letter", file=path.name, table=table)
            cells = pacsv.read_csv(
                path, read_options=_options(layout, "latin-1"), parse_options=parse, convert_options=convert
            )
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
    empty = empty_rows(cells)
    if empty.any():
        cells = cells.filter(pa.array(~empty))
        line = line[~empty]
    if layout.decimal_comma:
        found.add(
            "note", "numbers are written with a decimal comma", "read as decimal points", file=path.name, table=table
        )
    return RawTable(path, layout, cells, line)


def _options(layout: Layout, encoding: str) -> pacsv.ReadOptions:
    return pacsv.ReadOptions(
        use_threads=False,
        skip_rows=layout.header_line,
        column_names=list(layout.columns),
        encoding=encoding,
        block_size=8 << 20,
    )


def _torn_quote(path: Path) -> int:
    """Return the first line with an odd number of quotation marks, 0 for none: it would swallow the next lines."""
    with path.open("rb") as handle:
        if not any(b'"' in chunk for chunk in iter(lambda: handle.read(1 << 22), b"")):
            return 0
        handle.seek(0)
        return next((number for number, line in enumerate(handle, start=1) if line.count(b'"') % 2), 0)


def _split(line: str, delimiter: str) -> list[str]:
    try:
        return next(csv.reader(io.StringIO(line), delimiter=delimiter), [])
    except csv.Error:
        return line.split(delimiter)


def _steady(counts: list[int]) -> float:
    if not counts or np.median(counts) < 2:
        return 0.0
    return round(float(np.mean(np.asarray(counts) == int(np.median(counts)))), 1)


def first_rows(path: Path, layout: Layout, count: int) -> list[list[str]]:
    """Return the first rows as text, without reading further."""
    rows: list[list[str]] = []
    with path.open(encoding=layout.encoding, errors="replace", newline="") as handle:
        for number, line in enumerate(handle, start=1):
            if number > layout.header_line:
                rows.append(
                    blanks.cells(line[:20_000], layout)
                    if layout.delimiter in (" ", "")
                    else _split(line[:20_000], layout.delimiter)
                )
            if len(rows) == count:
                break
    return [row[: len(layout.columns)] for row in rows]
