"""Delimited text: delimiter, encoding and header found by looking at the file, cells kept as text."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
from numpy.typing import NDArray

from ...errors import InputError
from ...findings import Findings
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
    encoding = _wide(head)
    if not encoding and b"\0" in head[:4096]:
        raise InputError("the file is not text", where=path.name, fix="Save it as CSV")
    if encoding:
        text = head[: len(head) // 2 * 2].decode(encoding, errors="ignore").lstrip("\ufeff")
    else:
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
    lines = _without_ends(lines, best)
    width = int(np.median([len(_split(line, best)) for line in lines[:200] if line.strip()]))
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


def _wide(head: bytes) -> str:
    """The encoding of a file whose letters take two bytes each, '' for others."""
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    odd, even = head[1:4096:2].count(0), head[0:4096:2].count(0)
    half = max(len(head[:4096]) // 2, 1)
    return "utf-16-le" if odd > 0.7 * half and even == 0 else "utf-16-be" if even > 0.7 * half and odd == 0 else ""


def _without_ends(lines: list[str], delimiter: str) -> list[str]:
    """Lines without the delimiter at their end, where many have one: it parts nothing."""
    filled = [line for line in lines[:200] if line.strip()]
    if delimiter.isspace() or sum(line.rstrip().endswith(delimiter) for line in filled) < 0.3 * len(filled):
        return lines
    cut = [line.rstrip()[:-1] if line.rstrip().endswith(delimiter) else line for line in lines]
    counts = [len(_split(line, delimiter)) for line in cut[:200] if line.strip()]
    if not counts:  # nothing but delimiters
        return lines
    width = int(np.median(counts))
    # An empty last column is a column when the heading names it, or when its cells are not always empty.
    return cut if _steady(counts) >= 0.9 and _has_heading(cut, delimiter, width) else lines


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

    ended: set[int] = set()

    def on_bad(row: pacsv.InvalidRow) -> str:
        if row.actual_columns == row.expected_columns + 1 and row.text.rstrip().endswith(layout.delimiter):
            ended.add(row.number)
        bad.append((row.number, f"{row.actual_columns} cells where the heading has {row.expected_columns}"))
        return "skip"

    torn, starts = _quotes(path, layout)
    if torn:
        what = "a quotation mark is not closed on its line"
        found.add("look", what, "all quotation marks read as plain text", file=path.name, table=table, line=torn)
    parse = pacsv.ParseOptions(
        delimiter=layout.delimiter,
        quote_char=False if torn else '"',
        ignore_empty_lines=False,
        newlines_in_values=starts is not None,
        invalid_row_handler=on_bad,
    )
    convert = pacsv.ConvertOptions(column_types=dict.fromkeys(layout.columns, pa.string()), strings_can_be_null=False)
    try:
        try:
            cells = pacsv.read_csv(
                path, read_options=_options(layout, layout.encoding), parse_options=parse, convert_options=convert
            )
            if ended and starts is None:
                # One delimiter more at the end of a line parts nothing: read again without.
                source = pa.BufferReader(_without_last(path, layout, set(ended)))
                bad.clear()
                cells = pacsv.read_csv(
                    source, read_options=_options(layout, "utf8"), parse_options=parse, convert_options=convert
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
    at = starts[layout.header_line :] if starts is not None else np.arange(len(keep)) + first
    line = at[: len(keep)][keep]
    if bad:
        places = [int(at[number - first]) for number, _ in bad]
        found.add("left out", [why for _, why in bad], "row left out", file=path.name, table=table, line=places)
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


_LONGEST_CELL = 60  # lines


def _quotes(path: Path, layout: Layout) -> tuple[int, NDArray[np.int64] | None]:
    """Return the first line with a torn quotation mark (0 for none), and where rows start when cells hold line breaks.

    A quotation mark that stays open is a cell with line breaks (RFC 4180) when it is closed a few lines on, right
    before a delimiter, and its row has as many cells as the heading; else it is torn, and would swallow what follows.
    """
    with path.open("rb") as handle:
        if not any(b'"' in chunk for chunk in iter(lambda: handle.read(1 << 22), b"")):
            return 0, None
    starts: list[int] = []
    open_at, held, several = 0, [""], False
    with path.open(encoding=_codec(layout), errors="replace", newline="") as handle:
        for number, line in enumerate(handle, start=1):
            if open_at:
                held.append(line)
                if line.count('"') % 2:
                    if number - open_at > _LONGEST_CELL or not _is_row("".join(held), layout):
                        return open_at, None
                    open_at, several = 0, True
                elif number - open_at > _LONGEST_CELL:
                    return open_at, None
                continue
            starts.append(number)
            if line.count('"') % 2:
                if number <= layout.header_line:
                    return number, None
                open_at, held = number, [line]
    if open_at:
        return open_at, None
    return 0, np.array(starts, dtype=np.int64) if several else None


def _is_row(text: str, layout: Layout) -> bool:
    try:
        rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=layout.delimiter, strict=True))
    except csv.Error:
        return False
    return len(rows) == 1 and len(rows[0]) == len(layout.columns)


def _codec(layout: Layout) -> str:
    return "utf-8-sig" if layout.encoding == "utf8" else layout.encoding


def _without_last(path: Path, layout: Layout, numbers: set[int]) -> bytes:
    """The file in UTF-8, without the last delimiter of some lines."""
    with path.open(encoding=_codec(layout), errors="replace", newline="") as handle:
        lines = [
            line.rstrip().removesuffix(layout.delimiter) + "\n" if number in numbers else line
            for number, line in enumerate(handle, start=1)
        ]
    return "".join(lines).encode("utf-8")


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
    with path.open(encoding=_codec(layout), errors="replace", newline="") as handle:
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
