"""Where a table begins: its heading, of one line or two, with a row of units below it, after titles and remarks."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ...errors import InputError
from ...units import unit_alone
from .rawtable import NO_VALUE, unique

_NUMBER = re.compile(r"^\s*[<>]?\s*[-+]?(\d+([.,]\d*)?|[.,]\d+)([eE][-+]?\d+)?\s*$")
_DATE = re.compile(r"^\s*\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}")
_CLOCK = re.compile(r"^\s*\d{1,2}:\d{2}")
_CODE = re.compile(r"^\s*([<>≤≥].*|nd|n\.d\.|bdl|lld|tr|traces?)\s*$", re.IGNORECASE)
_BODY = 60


@dataclass(frozen=True)
class Heading:
    """The names of columns, the unit below each ('' for none), and the index of the last row of the heading."""

    last: int
    names: tuple[str, ...]
    units: tuple[str, ...]


def find_heading(rows: list[list[str]], width: int, name: str) -> Heading:
    """Return the heading of a table from its first rows.

    It starts with the first wide row without a number. The rows below it belong to it as long as they have no number
    where the table has numbers: a second line of names, or units. Names that stand only in the line above (cells
    joined over several columns) are taken from there.

    Raises
    ------
    InputError
        When there is none.
    """
    first = _first(rows, width)
    if first is None:
        raise InputError(
            "no heading line was found", where=name, fix="The first line of the table must name its columns"
        )
    names = [f.strip() for f in rows[first]]
    units = [""] * len(names)
    above = [f.strip() for f in rows[first - 1]] if first else []
    if first and "" in names and sum(bool(f) for f in above) > 1 and not any(_NUMBER.match(f) for f in above):
        names = _joined(above, names)
        units = [""] * len(names)
    last = first
    while last + 1 < len(rows) and last < first + 3:
        row = [f.strip() for f in rows[last + 1]]
        if not any(row):
            if any(any(c.strip() for c in r) for r in rows[last + 2 : last + 3]):
                last += 1
                continue
            break
        told = [unit_alone(c) for c in row]
        if any(_NUMBER.match(c) or _DATE.match(c) for c in row):
            break
        count = sum(bool(u) for u in told)
        if count >= 2 and 2 * count >= sum(bool(c) for c in row) and len(row) >= min(width, 3):
            units = [*told, *[""] * len(names)][: len(names)]
        elif _names_numbers(row, rows[last + 2 : last + 2 + _BODY]):
            # A line of another length over a whole heading is a remark with commas in it.
            names = row if len(row) == width != len(names) and all(row) else _joined(names, row)
            units = [""] * len(names)
        else:
            break
        last += 1
    while last > first and not any(f.strip() for f in rows[last]):
        last -= 1
    return Heading(last, unique(names), tuple(units) if any(units) else ())


def _first(rows: list[list[str]], width: int) -> int | None:
    for index, row in enumerate(rows):
        fields = [f.strip() for f in row]
        filled = sum(bool(f) for f in fields)
        if len(fields) >= width and filled >= max(2, width - 2) and not any(_NUMBER.match(f) for f in fields):
            return index
    return None


def _counts(cell: str) -> bool:
    return bool(_NUMBER.match(cell) or _DATE.match(cell) or _CLOCK.match(cell))


def _names_numbers(row: list[str], body: list[list[str]]) -> bool:
    """Return whether a row has words over at least two columns of numbers, dates or times further down, and over most of them."""
    body = [r for r in body if any(c.strip() for c in r)]
    words = numbers = 0
    for k, cell in enumerate(row):
        below = [r[k].strip() for r in body if k < len(r) and r[k].strip().lower() not in NO_VALUE]
        if len(below) < 2 or sum(map(_counts, below)) < 0.6 * len(below):
            continue
        numbers += 1
        words += bool(cell) and cell.lower() not in NO_VALUE and not _CODE.match(cell)
    return words >= 2 and 2 * words > numbers


def _joined(upper: list[str], lower: list[str]) -> list[str]:
    """Return names of two lines: the lower one where it has a name that no other column has, with the upper one behind it else."""
    count = max(len(upper), len(lower))
    top, filled = "", []
    for cell in [*upper, *[""] * (count - len(upper))]:
        top = cell or top
        filled.append(top)
    low = [*lower, *[""] * (count - len(lower))]
    plain = [*upper, *[""] * (count - len(upper))]
    out = []
    for k in range(count):
        if not low[k]:
            out.append(plain[k])
        else:
            out.append(low[k] if low.count(low[k]) == 1 else f"{low[k]} {filled[k]}".strip())
    return out
