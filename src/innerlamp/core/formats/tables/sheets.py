"""Spreadsheets: XLSX, XLSM, XLS and ODS, any sheet, through python-calamine."""

from __future__ import annotations

import datetime
import itertools
import re
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from ...errors import InputError
from ...findings import Findings
from ...kept import KEPT
from .heading_rows import find_heading
from .rawtable import Layout, RawTable, empty_rows, number_text

_LOOKED_AT = 200
_MOST_CELLS = 60_000_000
_LARGEST = 8_000_000_000  # bytes when unpacked; more is no honest spreadsheet


def parts(path: Path) -> tuple[str, ...]:
    """Return the names of the sheets that hold anything."""
    book = _book(path)
    return tuple(m.name for m in book.sheets_metadata if str(m.visible).endswith("Visible")) or tuple(book.sheet_names)


def look(path: Path, part: str) -> Layout:
    """Find the heading of a sheet from its first rows."""
    return _layout(list(itertools.islice(_rows(path, part), _LOOKED_AT)), path, part)


def first_rows(path: Path, part: str, layout: Layout, count: int) -> list[list[str]]:
    """Return the first rows of a sheet as text."""
    rows = itertools.islice(_rows(path, part), layout.header_line, layout.header_line + count)
    return [[as_text(v) for v in row][: len(layout.columns)] for row in rows]


def _layout(head: list[list[Any]], path: Path, part: str) -> Layout:
    rows = [[as_text(v) for v in row] for row in head]
    filled = [sum(bool(c) for c in row) for row in rows]
    if not any(filled):
        raise InputError("the sheet is empty", where=f"{path.name}#{part}")
    width = int(np.median([n for n in filled if n]))
    if width < 2:
        raise InputError("the sheet does not look like a table", where=f"{path.name}#{part}")
    heading = find_heading(rows, width, f"{path.name}#{part}")
    count = max(
        (k + 1 for row in rows[: heading.last + 1] for k, c in enumerate(row) if c and len(row) >= width), default=0
    )
    names = heading.names[: max(2, min(count, len(heading.names)))]
    # Numbers that were kept as text are the only ones with a sign of their own: the others are numbers already.
    comma = any(
        isinstance(v, str) and re.fullmatch(r"\s*[<>]?\s*-?\d+,\d+\s*", v)
        for row in head[heading.last + 1 :]
        for v in row
    )
    return Layout("", "", heading.last + 1, names, comma, medium="sheet", part=part, units=heading.units[: len(names)])


def read(path: Path, part: str, found: Findings, table: str, layout: Layout | None = None) -> RawTable:
    """Read all rows under the heading; cells beyond the last heading are reported."""
    everything = list(_rows(path, part))
    layout = layout or _layout(everything[:_LOOKED_AT], path, part)
    count = len(layout.columns)
    rows = everything[layout.header_line :]
    line = np.arange(layout.header_line + 1, layout.header_line + 1 + len(rows), dtype=np.int64)
    wide = [k for k, row in enumerate(rows) if len(row) > count]
    beyond = [line[k] for k in wide if any(v not in ("", None) for v in rows[k][count:])]
    if beyond:
        found.add("look", "cells without a heading", "not read", file=f"{path.name}#{part}", table=table, line=beyond)
    data = {}
    for k, name in enumerate(layout.columns):
        data[name] = column_of([row[k] if k < len(row) else "" for row in rows], layout.decimal_comma)
    cells = pa.table(data)
    empty = empty_rows(cells)
    if empty.any():
        cells, line = cells.filter(pa.array(~empty)), line[~empty]
    return RawTable(path, layout, cells, line)


def column_of(values: list[Any], decimal_comma: bool = False) -> pa.Array:
    """Return cells as float64 when they hold nothing but numbers and blanks, as text otherwise (with that decimal sign)."""
    kinds = {type(v) for v in values}
    if kinds <= {float, int, str, type(None)}:
        strings = str in kinds and any(type(v) is str and v.strip() for v in values)
        if not strings and kinds & {float, int}:
            if kinds <= {float, int}:
                return pa.array(np.array(values, dtype=float))
            return pa.array([None if v in ("", None) or isinstance(v, str) else float(v) for v in values], pa.float64())
    if kinds == {str}:
        return pa.array(values, pa.string())
    if not decimal_comma:
        return pa.array([v if type(v) is str else as_text(v) for v in values], pa.string())
    texts = (as_text(v).replace(".", ",") if decimal_comma and isinstance(v, float) else as_text(v) for v in values)
    return pa.array(list(texts), pa.string())


def as_text(value: Any) -> str:
    """Return a cell as text: dates in ISO form, whole numbers without a decimal point."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, int | float):
        return number_text(float(value))
    if isinstance(value, datetime.datetime):
        return value.date().isoformat() if value.time() == datetime.time() else value.isoformat(" ")
    return value.isoformat() if isinstance(value, datetime.date | datetime.time) else str(value)


def _rows(path: Path, part: str) -> Iterator[list[Any]]:
    from python_calamine import CalamineError

    try:
        yield from _book(path).get_sheet_by_name(part).iter_rows()
    except (CalamineError, OSError, ValueError) as error:
        raise InputError(f"the sheet can't be read ({error})", where=f"{path.name}#{part}") from error


_CELL = re.compile(rb'<(?:\w+:)?c\s[^>]*?\br="([A-Z]{1,3})(\d{1,7})"')
# A sheet of up to 57 columns, and as many rows as a workbook can have, may be held: cells beyond are looked for first.
_FAR = re.compile(rb'r="(?:[A-Z]{3}|B[F-Z]|[C-Z][A-Z]|[A-Z]{1,3}[2-9]\d{6}|[A-Z]{1,3}1[1-9]\d{5})')
_REPEATED = re.compile(rb'number-(columns|rows)-repeated="(\d+)"[^>]*?(/?)>')


def _fits(archive: zipfile.ZipFile, path: Path) -> None:
    """Refuse a workbook with a sheet whose cells span more than can be held: one far cell makes all before it."""
    for entry in archive.infolist():
        name = entry.filename
        if name.startswith("xl/worksheets/") and name.endswith(".xml"):
            columns = rows = 0
            if not any(_FAR.search(text) for text in _pieces(archive, entry)):
                continue
            for text in _pieces(archive, entry):
                for letters, number in _CELL.findall(text):
                    column = 0
                    for letter in letters:
                        column = 26 * column + letter - 64
                    columns, rows = max(columns, column), max(rows, int(number))
            _refuse(columns, rows, path)
        elif name == "content.xml":
            widest, tall = 1, 0
            for text in _pieces(archive, entry):
                for what, number, empty in _REPEATED.findall(text):
                    if what == b"columns" and not empty:
                        widest = max(widest, int(number))
                    elif what == b"rows" and int(number) < 1_000_000:
                        tall = max(tall, int(number))
            _refuse(widest, tall, path)


def _pieces(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> Iterator[bytes]:
    """A file of an archive piece by piece; they overlap, so that none ends within a cell's head for good."""
    with archive.open(entry) as file:
        rest = b""
        while chunk := file.read(1 << 20):
            yield rest + chunk
            rest = (rest + chunk)[-200:]


def _refuse(columns: int, rows: int, path: Path) -> None:
    if columns * rows > _MOST_CELLS:
        raise InputError(
            f"a sheet spans {columns:,} × {rows:,} cells, too many to hold",
            where=path.name,
            fix="Delete what lies far from the table, or save it as CSV",
        )


def _book(path: Path) -> Any:
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        if zipfile.is_zipfile(path):
            with zipfile.ZipFile(path) as archive:
                if sum(entry.file_size for entry in archive.infolist()) > _LARGEST:
                    raise InputError("the spreadsheet unpacks to more than 8 GB", where=path.name)
                stamp = path.stat()
                seen = (path, stamp.st_mtime_ns, stamp.st_size)
                KEPT.of(("sheets fit", *seen), lambda: _fits(archive, path))
        return CalamineWorkbook.from_path(str(path))
    except (CalamineError, OSError, ValueError, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError) as error:
        raise InputError(
            f"can't be read as a spreadsheet ({error})", where=path.name, fix="Save it again as XLSX or ODS"
        ) from error
