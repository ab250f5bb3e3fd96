"""Text files of survey lines, whose rows stand below headers such as ``Line 10010`` instead of having a column for the line."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa

from ... import limits
from ...elements import letters_of
from ...errors import InputError
from ...findings import Findings
from .rawtable import Layout, RawTable, unique

MEDIUM = "line file"
# In English, Spanish, French, Portuguese, German, Finnish and Swedish; a tie line's name begins with T.
_HEADER = re.compile(
    r"^\s*(line|linea|ligne|linha|linie|linja|linje|profile|perfil|profil|tie|tieline|traviesa|traverse|random|trend)\b\s*[:=#]?\s*"
    r"([\w.+-]{1,40})\s*$",
    re.IGNORECASE,
)
_TIES = ("tie", "tieline", "traviesa", "traverse")
_COMMENT = re.compile(r"^\s*(?:/+|#+|!|;|//)\s?")
_NUMBER = re.compile(r"^[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?$|^\*+$|^nan$", re.IGNORECASE)
_LOOKED_AT = 64_000  # bytes


def is_line_file(path: Path) -> bool:
    """Return whether a file has a header of a line, and below it rows of at least three numbers or dummies."""
    with path.open("rb") as handle:
        head = handle.read(_LOOKED_AT)
    if b"\0" in head:
        return False
    lines = head.decode("utf-8", "replace").splitlines()
    for k, text in enumerate(lines[:-1]):
        if _HEADER.match(letters_of(text)):
            below = next((t for t in lines[k + 1 :] if t.strip() and not _COMMENT.match(t)), "")
            fields = _fields(below)
            return len(fields) >= 3 and sum(bool(_NUMBER.match(f)) for f in fields) >= 3
    return False


def look(path: Path) -> Layout:
    """Return the columns of a line file: those that a remark or heading names, else X, Y and the rest by number."""
    names: list[str] = []
    spoken: list[list[str]] = []
    width, first = 0, 0
    for number, text in _lines(path):
        if _HEADER.match(letters_of(text)):
            continue
        remark = _COMMENT.match(text)
        fields = _fields(text[remark.end() :] if remark else text)
        if remark or sum(bool(_NUMBER.match(f)) for f in fields) < 3:
            spoken.append(fields)
            continue
        width, first = len(fields), number
        break
    if width < 3:
        raise InputError("no row of the lines has three values", where=path.name)
    fitting = [f for f in spoken if len(f) == width and not any(_NUMBER.match(w) for w in f)]
    names = fitting[-1] if fitting else ["X", "Y", *(f"value {k}" for k in range(1, width - 1))]
    return Layout("", "utf-8", first - 1, unique(["Line", *names]), medium=MEDIUM)


def read(path: Path, found: Findings, table: str, layout: Layout | None = None, most: int | None = None) -> RawTable:
    """Read all rows, or the first so many, each with its line; rows with another number of values are reported."""
    layout = layout or look(path)
    limits.afford(float(path.stat().st_size if most is None else 0), 12.0, "bytes of lines", "Take the file apart")
    width = len(layout.columns) - 1
    cells: list[list[str]] = [[] for _ in layout.columns]
    at: list[int] = []
    odd: list[int] = []
    line = ""
    for number, text in _lines(path):
        header = _HEADER.match(letters_of(text))
        if header:
            tie = header.group(1).lower() in _TIES and not header.group(2).upper().startswith("T")
            line = ("T" if tie else "") + header.group(2)
            continue
        if _COMMENT.match(text):
            continue
        fields = _fields(text)
        if not any(_NUMBER.match(f) for f in fields):
            continue
        if len(fields) != width or not line:
            odd.append(number)
            continue
        at.append(number)
        cells[0].append(line)
        for k, field in enumerate(fields, start=1):
            cells[k].append("" if set(field) == {"*"} else field)
        if most is not None and len(at) >= most:
            break
    if odd:
        what = "row has another number of values, or stands before the first line"
        found.add("left out", what, "row left out", file=path.name, table=table, line=odd)
    data = {name: pa.array(values, pa.string()) for name, values in zip(layout.columns, cells, strict=True)}
    return RawTable(path, layout, pa.table(data), np.array(at, dtype=np.int64))


def _lines(path: Path) -> Iterator[tuple[int, str]]:
    """Lines that hold anything, with their number."""
    try:
        with path.open(encoding="utf-8", errors="replace") as handle:
            for number, text in enumerate(handle, start=1):
                if text.strip():
                    yield number, text[:20_000].rstrip("\r\n")
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=path.name) from error


def _fields(text: str) -> list[str]:
    """Values of a row: between tabs, commas or semicolons where there are any, else between blanks."""
    for sign in ("\t", ";", ","):
        if sign in text:
            return [f.strip() for f in text.strip().split(sign)]
    return text.split()
