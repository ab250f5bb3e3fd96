"""Sheets with little in them and cells far out, read by what is filled: what is blank in between is not made.

Workbooks are written anew without blanks, each row with its number in a column before the others, and read like any
other then. OpenDocument sheets, whose blanks are numbers, are read from their XML directly.
"""

from __future__ import annotations

import datetime
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import escape, quoteattr

import numpy as np
from defusedxml.ElementTree import iterparse

from ...errors import InputError
from .book_bounds import MOST_CELLS, MOST_COLUMNS, column_number, pieces

GAP = 200  # blank rows or columns in a row that are left out
_BLANK_CELL = re.compile(rb"<c(?: [^<>]*)?(?:/>|></c>)")
_BLANK_ROW = re.compile(rb"<row(?: [^<>]*)?(?:/>|></row>)")
_PLACE = re.compile(r"([A-Za-z]{1,3})(\d{1,7})")
_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
Filled = tuple[int, dict[int, Any]]  # number of a row, from 1, and its cells by column, from 0


def without_blanks(path: Path, place: Path) -> Path:
    """Write a workbook anew without blank cells and far gaps, with the number of each row in its first column."""
    target = place / "filled.xlsx"
    with (
        zipfile.ZipFile(path) as archive,
        zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out,
    ):
        for entry in archive.infolist():
            if entry.is_dir():
                continue
            if entry.filename.startswith("xl/worksheets/") and entry.filename.endswith(".xml"):
                stripped = place / "sheet.xml"
                _strip(archive, entry, stripped)
                columns = _closed(_used_columns(stripped))
                with out.open(entry.filename, "w", force_zip64=True) as sheet:
                    sheet.write(f'<worksheet xmlns="{_MAIN}"><sheetData>'.encode())
                    for text in _rows_anew(stripped, columns):
                        sheet.write(text.encode())
                    sheet.write(b"</sheetData></worksheet>")
            elif entry.filename.startswith("xl/worksheets/"):
                continue  # relations of sheets to drawings and comments
            else:
                out.writestr(entry.filename, archive.read(entry))
    return target


def _strip(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, target: Path) -> None:
    """Write the XML of a sheet without its blank cells, blank rows and long spaces."""
    with target.open("wb") as out:
        for text in pieces(archive, entry):
            if b"<!DOCTYPE" in text:
                raise InputError("a sheet declares entities, as no spreadsheet does")
            out.write(_BLANK_ROW.sub(b"", _BLANK_CELL.sub(b"", text)))


def _rows_in(file: Path) -> Iterator[tuple[int, list[tuple[int, Element]]]]:
    """Rows of a sheet: their number, and their cells by the number of their column."""
    row = 0
    with file.open("rb") as text:
        for _, element in iterparse(text, forbid_dtd=True):
            if _bare(element) != "row":
                continue
            told = element.get("r", "")
            row = int(told) if told.isdigit() else row + 1
            column, cells = 0, []
            for cell in element:
                place = _PLACE.fullmatch(cell.get("r", ""))
                column = column_number(place[1].encode()) if place else column + 1
                if len(cell):
                    cells.append((column, cell))
            if cells:
                yield row, cells
            element.clear()


def _bare(element: Element) -> str:
    return str(element.tag).rpartition("}")[2]


def _used_columns(file: Path) -> list[int]:
    used: set[int] = set()
    for _, cells in _rows_in(file):
        used |= {column for column, _ in cells}
    return sorted(used)


def _closed(used: list[int], gap: int = GAP) -> dict[int, int]:
    """New numbers for numbers in order: gaps of more than so many are closed."""
    out: dict[int, int] = {}
    last = away = 0
    for number in used:
        if number - last > gap:
            away += number - last - 1
        out[number] = number - away
        last = number
    return out


def _rows_anew(file: Path, columns: dict[int, int]) -> Iterator[str]:
    last = away = 0
    for row, cells in _rows_in(file):
        if row - last > GAP:
            away += row - last - 1
        last = max(last, row)
        new = max(row - away, 1)
        parts = [f'<row r="{new}"><c r="A{new}"><v>{row}</v></c>']
        for column, cell in cells:
            held = f" s={quoteattr(cell.get('s', ''))}" if cell.get("s") else ""
            kind = f" t={quoteattr(cell.get('t', ''))}" if cell.get("t") else ""
            inside = ""
            for child in cell:
                if _bare(child) == "v":
                    inside = f"<v>{escape(child.text or '')}</v>"
                elif _bare(child) == "is":
                    words = "".join(t.text or "" for t in child.iter() if _bare(t) == "t")
                    inside = f'<is><t xml:space="preserve">{escape(words)}</t></is>'
            parts.append(f'<c r="{_letters(columns[column] + 1)}{new}"{held}{kind}>{inside}</c>')
        yield "".join([*parts, "</row>"])


def _letters(number: int) -> str:
    text = ""
    while number:
        number, rest = divmod(number - 1, 26)
        text = chr(65 + rest) + text
    return text


def opendocument_rows(path: Path, part: str) -> tuple[list[list[Any]], np.ndarray]:
    """Rows of a sheet of an OpenDocument file that hold anything (short gaps stay), and their numbers.

    Raises
    ------
    InputError
        When the sheet is not there, or what is filled by repeating is too much to hold.
    """
    filled: list[Filled] = []
    held = 0
    try:
        with zipfile.ZipFile(path) as archive, archive.open("content.xml") as text:
            for row, cells, times in _rows_of_content(text, part):
                held += len(cells) * times
                if held > MOST_CELLS:
                    raise InputError("repeated cells fill more than can be held", where=f"{path.name}#{part}")
                filled += [(row + k, cells) for k in range(times)]
    except (ParseError, KeyError, ValueError, zipfile.BadZipFile) as error:
        raise InputError(f"the sheet can't be read ({error})", where=f"{path.name}#{part}") from error
    columns = _closed(sorted({c + 1 for _, cells in filled for c in cells}))
    rows: list[list[Any]] = []
    numbers: list[int] = []
    for number, cells in filled:
        gap = number - (numbers[-1] if numbers else 0) - 1
        if 0 < gap < GAP:
            numbers += range(number - gap, number)
            rows += [[] for _ in range(gap)]
        line: list[Any] = [""] * max(columns[c + 1] for c in cells)
        for column, value in cells.items():
            line[columns[column + 1] - 1] = value
        rows.append(line)
        numbers.append(number)
    return rows, np.array(numbers, dtype=np.int64)


def _rows_of_content(text: Any, part: str) -> Iterator[tuple[int, dict[int, Any], int]]:
    """Rows with anything in them of one table: number, cells, and how many times they stand there."""
    inside, row = False, 1
    for event, element in iterparse(text, events=("start", "end"), forbid_dtd=True):
        name = _bare(element)
        if event == "start":
            if name == "table" and _told(element, "name") == part:
                inside, row = True, 1
            continue
        if name == "table-row":
            times = int(_told(element, "number-rows-repeated") or 1)
            if inside and (cells := _cells(element)):
                yield row, cells, times
            row += times
            element.clear()
        elif name == "table":
            element.clear()
            if inside:
                return


def _told(element: Element, name: str) -> str:
    return next((str(v) for k, v in element.attrib.items() if str(k).rpartition("}")[2] == name), "")


def _cells(row: Element) -> dict[int, Any]:
    cells: dict[int, Any] = {}
    column = 0
    for cell in row:
        if _bare(cell) not in ("table-cell", "covered-table-cell"):
            continue
        times = int(_told(cell, "number-columns-repeated") or 1)
        value = _value(cell)
        if value not in ("", None) and column + times <= MOST_COLUMNS:
            cells |= dict.fromkeys(range(column, column + times), value)
        column += times
    return cells


def _value(cell: Element) -> Any:
    kind = _told(cell, "value-type")
    if kind in ("float", "percentage", "currency"):
        return float(_told(cell, "value"))
    if kind == "boolean":
        return _told(cell, "boolean-value") == "true"
    if kind == "date":
        said = _told(cell, "date-value")
        return datetime.datetime.fromisoformat(said) if "T" in said else datetime.date.fromisoformat(said)
    return "\n".join("".join(p.itertext()) for p in cell if _bare(p) == "p")
