"""Spreadsheets: XLSX, XLSM, XLS and ODS, any sheet, through python-calamine."""

from __future__ import annotations

import datetime
import itertools
import re
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

import numpy as np
import pyarrow as pa

from ...errors import InputError
from ...findings import Findings
from ...kept import KEPT
from .book_bounds import Bounds, bounds_of
from .far_cells import opendocument_rows, without_blanks
from .heading_rows import find_heading
from .rawtable import Layout, RawTable, empty_rows, number_text

_LOOKED_AT = 200


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
    everything, lines = _numbered(path, part)
    layout = layout or _layout(everything[:_LOOKED_AT], path, part)
    count = len(layout.columns)
    rows = everything[layout.header_line :]
    line = lines[layout.header_line :]
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
    """Rows of a sheet from its top; where it is read by what is filled, long gaps are left out."""
    if _bounds(path).sparse:
        yield from _filled(path, part)[0]
        return
    with _readable(path, part):
        yield from _book(path).get_sheet_by_name(part).iter_rows()


def _numbered(path: Path, part: str) -> tuple[list[list[Any]], np.ndarray]:
    """All rows of a sheet, and the number that each has there."""
    if _bounds(path).sparse:
        return _filled(path, part)
    rows = list(_rows(path, part))
    return rows, np.arange(1, len(rows) + 1, dtype=np.int64)


def _filled(path: Path, part: str) -> tuple[list[list[Any]], np.ndarray]:
    return KEPT.of(("filled cells", *_stamp(path), part), lambda: _read_filled(path, part))


def _read_filled(path: Path, part: str) -> tuple[list[list[Any]], np.ndarray]:
    with zipfile.ZipFile(path) as archive:
        opendocument = "content.xml" in archive.namelist()
    if opendocument:
        return opendocument_rows(path, part)
    with tempfile.TemporaryDirectory() as place, _readable(path, part):
        whole = _opened(without_blanks(path, Path(place)), path).get_sheet_by_name(part)
        rows = [list(row) for row in whole.iter_rows()]
    told = np.array([float(row[0]) if row and row[0] not in ("", None) else np.nan for row in rows])
    # Blank rows between two of them follow the one above.
    known = np.where(np.isnan(told), 0, np.arange(1, len(rows) + 1))
    before = np.maximum.accumulate(known) if rows else known
    lines = np.arange(1, len(rows) + 1, dtype=np.int64)
    there = before > 0
    lines[there] = told[before[there] - 1].astype(np.int64) + lines[there] - before[there]
    return [row[1:] for row in rows], lines


@contextmanager
def _readable(path: Path, part: str) -> Iterator[None]:
    from python_calamine import CalamineError

    where = f"{path.name}#{part}"
    try:
        yield
    except (CalamineError, OSError, ValueError, ParseError) as error:
        raise InputError(f"the sheet can't be read ({error})", where=where) from error
    except BaseException as error:
        if _is_panic(error):
            raise InputError("the sheet can't be read: it is damaged, or too large", where=where) from error
        raise


def _is_panic(error: BaseException) -> bool:
    """Whether the library stopped at something that it took to be impossible; what it raises is no `Exception`."""
    return type(error).__name__ == "PanicException"


def _stamp(path: Path) -> tuple[Path, int, int]:
    stamp = path.stat()
    return path, stamp.st_mtime_ns, stamp.st_size


def _bounds(path: Path) -> Bounds:
    """What a workbook asks for, before any reader opens it."""
    try:
        return KEPT.of(("sheets fit", *_stamp(path)), lambda: bounds_of(path))
    except (OSError, ValueError, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError) as error:
        raise _no_book(path, error) from error


def _book(path: Path) -> Any:
    _bounds(path)
    return _opened(path, path)


def _opened(path: Path, told: Path) -> Any:
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        return CalamineWorkbook.from_path(str(path))
    except (CalamineError, OSError, ValueError, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError) as error:
        raise _no_book(told, error) from error
    except BaseException as error:
        if _is_panic(error):
            raise _no_book(told, "it is damaged, or too large") from error
        raise


def _no_book(path: Path, why: object) -> InputError:
    return InputError(f"can't be read as a spreadsheet ({why})", where=path.name, fix="Save it again as XLSX or ODS")
