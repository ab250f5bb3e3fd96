"""What a spreadsheet would cost, told from its packed XML before a reader opens it.

A cell far out makes readers hold all that lies before it; blanks, spaces and texts that many cells share pack a
thousand to one. Sheets whose filled cells are few beside what they span are read by `far_cells` instead.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from ...errors import InputError

MOST_CELLS = 60_000_000
MOST_ROWS, MOST_COLUMNS = 1_048_576, 16_384  # of the standard's sheets (ISO/IEC 29500-1, 18.3.1.73 and 18.3.1.4)
_LARGEST = 8_000_000_000  # bytes when unpacked; more is no honest spreadsheet
_PACKED_LARGEST, _PACKED_RATIO = 1_000_000_000, 150  # of one that is packed as only blanks and copies are
_MOST_TEXT = 2_000_000_000  # letters of all cells together
_SMALL = 1_000_000  # cells that may be held whatever is in them
_SPARSE = 20  # cells that a sheet spans for each filled one, from which it is read by what is filled

# Where cells and rows say that they stand, as programs write it (which is found quickly), and as XML allows it.
_USUAL_PLACE = re.compile(rb' r="([A-Za-z]{0,9})([0-9]{1,20})"')
_ANY_PLACE = re.compile(rb"""\br\s*=\s*["']([A-Za-z]{0,9})([0-9]{1,20})["']""")
# A sheet of up to 57 columns, and as many rows as a workbook can have, may be held: places beyond are looked for first.
_BEYOND = (
    rb"(?:[A-Za-z]{3}|[Bb][F-Zf-z]|[C-Zc-z][A-Za-z]"
    rb"|[A-Za-z]{0,3}(?:[2-9][0-9]{6}|1[1-9][0-9]{5}|10[5-9][0-9]{4}|0|[0-9]{8}))"
)
_USUAL_FAR = re.compile(rb' r="' + _BEYOND)
_ANY_FAR = re.compile(rb"""\br\s*=\s*["']""" + _BEYOND)
_SPACES, _MANY_SPACES = re.compile(rb"\s{64,}"), b" " * 64
_FILLED = re.compile(rb"<(?:\w+:)?(?:v|is)[ >]")
_CELL = re.compile(rb"<(?:\w+:)?c[ />]")
_SHARED_CELL = re.compile(rb"""<(?:\w+:)?c\s[^>]*?\bt\s*=\s*["']s["'][^>]*>\s*<(?:\w+:)?v>\s*(\d{1,9})""")
_REPEATED = re.compile(rb"""number-(columns|rows)-repeated\s*=\s*["'](\d{1,12})["'][^>]*?(/?)>""")


@dataclass(frozen=True)
class Bounds:
    """Whether a workbook has sheets that are better read by what is filled in them."""

    sparse: bool


def bounds_of(path: Path) -> Bounds:
    """Return what a packed workbook asks for; files of other kinds have no far cells.

    Raises
    ------
    InputError
        When it can't be held, or its cells lie where no sheet has any.
    """
    if not zipfile.is_zipfile(path):
        return Bounds(sparse=False)
    with zipfile.ZipFile(path) as archive:
        entries = archive.infolist()
        size, packed = sum(e.file_size for e in entries), sum(e.compress_size for e in entries)
        if size > _LARGEST:
            raise InputError("the spreadsheet unpacks to more than 8 GB", where=path.name)
        if size > _PACKED_LARGEST and size > _PACKED_RATIO * packed:
            raise InputError(
                f"the spreadsheet unpacks to {size / packed:,.0f} times its size, as only blanks and copies do",
                where=path.name,
                fix="Save it again without them, or as CSV",
            )
        sparse, texts = size > 50_000_000 and size > 60 * packed, 0
        for entry in entries:
            name = entry.filename
            if name.startswith("xl/worksheets/") and name.endswith(".xml"):
                found, shared = _sheet(archive, entry, path)
                sparse, texts = sparse or found, texts + shared
            elif name == "content.xml":
                sparse = _content(archive, entry, path) or sparse
        if texts:
            _check_texts(archive, texts, path)
    return Bounds(sparse)


def pieces(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> Iterator[bytes]:
    """A file of an archive piece by piece, each ending with a tag: none is cut in two."""
    with archive.open(entry) as file:
        rest = b""
        while chunk := file.read(1 << 20):
            whole = _SPACES.sub(b" ", rest + chunk) if _MANY_SPACES in chunk else rest + chunk
            end = whole.rfind(b">") + 1
            if end == 0 and len(whole) > 64_000_000:
                raise InputError("a text of the spreadsheet is longer than any cell holds", where=entry.filename)
            if end:
                yield whole[:end]
            rest = whole[end:] if end else whole
        if rest:
            yield rest


def _sheet(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> tuple[bool, int]:
    """Whether a sheet is sparse, and how many of its cells name a shared text."""
    filled = cells = shared = 0
    far = False
    for text in pieces(archive, entry):
        usual = _is_usual(text)
        if usual:
            filled += text.count(b"<v>") + text.count(b"<is>")
            cells += text.count(b"<c ")
        else:
            filled += len(_FILLED.findall(text))
            cells += len(_CELL.findall(text))
        shared += text.count(b't="s"') + text.count(b"t='s'")
        far = far or (_USUAL_FAR if usual else _ANY_FAR).search(text) is not None
    if cells > max(_SMALL, _SPARSE * filled) and not far:
        return True, shared
    if not far and filled * _SPARSE > MOST_CELLS:
        return False, shared
    columns, rows = _corner(archive, entry)
    if columns > MOST_COLUMNS or rows > MOST_ROWS:
        raise InputError(
            f"a cell lies in row {rows:,} and column {columns:,}, where no sheet has any",
            where=path.name,
            fix="Save it again with the program that it comes from, or as CSV",
        )
    if cells > max(_SMALL, _SPARSE * filled) or columns * rows > max(_SMALL, _SPARSE * filled):
        return True, shared
    _refuse(columns, rows, path)
    return False, shared


def _is_usual(text: bytes) -> bool:
    """Whether XML is written as spreadsheet programs do: no prefixes, attributes in double quotes after one space."""
    return not any(odd in text for odd in (b"='", b" =", b"= ", b":c ", b":c>", b"\nr=", b"\tr=", b"\rr=", b"<v "))


def _corner(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> tuple[int, int]:
    """The last column and row that any cell or row of a sheet names."""
    columns = rows = 0
    for text in pieces(archive, entry):
        for letters, number in set((_USUAL_PLACE if _is_usual(text) else _ANY_PLACE).findall(text)):
            columns, rows = max(columns, column_number(letters)), max(rows, int(number))
    return columns, rows


def column_number(letters: bytes) -> int:
    """The number of a column from its letters: A is 1."""
    number = 0
    for letter in letters.upper():
        number = 26 * number + letter - 64
    return number


def _content(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> bool:
    """Whether the sheets of an OpenDocument file are sparse: its rows and cells are repeated by numbers.

    Blanks that nothing follows, in their row or below, do not count: every sheet is filled up with them.
    """
    widest, tall, filled, waiting = 1, 0, 0, 0
    for text in pieces(archive, entry):
        filled += text.count(b"office:value-type")
        tall += text.count(b"<table:table-row")
        last = text.rfind(b"office:value-type")
        if last >= 0:
            tall, waiting = tall + waiting, 0
        for place in _REPEATED.finditer(text):
            number = int(place[2])
            if place[1] == b"rows":
                tall, waiting = (tall + number, waiting) if place.start() < last else (tall, waiting + number)
            elif number > widest:
                end = text.find(b"</table:table-row", place.end())
                more = not place[3] or text.find(b"office:value-type", place.end(), end if end >= 0 else None) >= 0
                widest = number if more else widest
    if widest * tall > max(_SMALL, _SPARSE * filled):
        return True
    _refuse(widest, tall, path)
    return False


def _check_texts(archive: zipfile.ZipFile, count: int, path: Path) -> None:
    """Refuse a workbook whose cells share texts that would be more than memory holds, each with its copy."""
    entry = next((e for e in archive.infolist() if e.filename.lower() == "xl/sharedstrings.xml"), None)
    if entry is None or entry.file_size * count <= _MOST_TEXT:  # even if each cell held all of them
        return
    lengths: list[int] = []
    length = 0
    for text in pieces(archive, entry):
        for k, part in enumerate(re.split(rb"<(?:\w+:)?si[ >]", text)):
            if k:
                lengths.append(length)
                length = 0
            length += len(part)
    lengths.append(length)
    lengths = lengths[1:]
    if max(lengths, default=0) * count <= _MOST_TEXT:
        return
    total = 0
    for sheet in archive.infolist():
        if sheet.filename.startswith("xl/worksheets/") and sheet.filename.endswith(".xml"):
            for text in pieces(archive, sheet):
                named = (int(n) for n in _SHARED_CELL.findall(text))
                total += sum(lengths[n] for n in named if n < len(lengths))
    if total > _MOST_TEXT:
        raise InputError(
            f"the texts of its cells are {total / 1e9:,.0f} GB together, too many to hold",
            where=path.name,
            fix="Take the long texts out, or save it as CSV",
        )


def _refuse(columns: int, rows: int, path: Path) -> None:
    if columns * rows > MOST_CELLS:
        raise InputError(
            f"a sheet spans {columns:,} × {rows:,} cells, too many to hold",
            where=path.name,
            fix="Delete what lies far from the table, or save it as CSV",
        )
