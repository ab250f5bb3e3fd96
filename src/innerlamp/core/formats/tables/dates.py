"""Dates as they stand in tables: ISO, day first, month first, in letters; told apart by the whole column."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date, timedelta
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ...findings import Findings

DayOrder = Literal["auto", "day first", "month first"]

_ISO = re.compile(r"^(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})([ T].*)?$")
_PACKED = re.compile(r"^(19\d{2}|20\d{2})(\d{2})(\d{2})$")
_SHORT = re.compile(r"^(\d{1,2})[-/.](\d{1,2})[-/.](\d{4}|\d{2})([ T]\d.*)?$")
_LETTERS = re.compile(r"^(\d{1,2})[-/. ]([A-Za-z]{3,9})\.?[-/., ]+(\d{4}|\d{2})([ T]\d.*)?$")
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")


def ambiguous(cells: Sequence[object]) -> list[str]:
    """Return the dates of a column that could be day first or month first, when nothing in it tells; else none."""
    texts = ["" if c is None else str(c).strip() for c in cells]
    short = [(int(m.group(1)), int(m.group(2)), t) for t in texts if (m := _SHORT.match(t))]
    if any(a > 12 or b > 12 for a, b, _ in short):
        return []
    return list(dict.fromkeys(t for a, b, t in short if a != b))


def _year(text: str) -> int:
    # Two digits: the century in which the date is not in the far future.
    year = int(text)
    return year if len(text) == 4 else 2000 + year if year < 70 else 1900 + year


def read_dates(
    cells: Sequence[object],
    line: NDArray[np.int64],
    found: Findings,
    file: str,
    table: str,
    hole: Sequence[str] | None = None,
    order: DayOrder = "auto",
) -> list[str]:
    """Return ISO dates ('' where there is none), reporting what had to be decided.

    Day and month of ``03/04/2023`` are told apart by `order`, or by the rest of the column: when
    some first number is above 12 all are day first, when some second number is, month first;
    otherwise day first is taken and each such date is reported for a person to look at. Clock
    times after a date are left to who reads times.
    """
    texts = ["" if c is None else str(c).strip() for c in cells]
    texts = _serial(texts, line, found, file, table)
    short = [(int(m.group(1)), int(m.group(2))) for t in texts if (m := _SHORT.match(t))]
    day_first_seen = any(a > 12 for a, _ in short)
    month_first_seen = any(b > 12 for _, b in short)
    month_first = order == "month first" or (order == "auto" and month_first_seen and not day_first_seen)
    settled = order != "auto" or day_first_seen or month_first_seen
    out = []
    for index, text in enumerate(texts):
        where: dict[str, Any] = {
            "file": file,
            "table": table,
            "line": int(line[index]),
            "hole": hole[index] if hole is not None else "",
        }
        try:
            if not text:
                out.append("")
            elif m := _ISO.match(text):
                out.append(date(int(m.group(1)), int(m.group(2)), int(m.group(3))).isoformat())
            elif m := _PACKED.match(text):
                out.append(date(int(m.group(1)), int(m.group(2)), int(m.group(3))).isoformat())
                found.add("mended", f"date '{text}' is not in ISO form", f"read as {out[-1]}", **where)
            elif m := _LETTERS.match(text):
                month = _MONTHS.index(m.group(2)[:3].lower()) + 1
                out.append(date(_year(m.group(3)), month, int(m.group(1))).isoformat())
                found.add("mended", f"date '{text}' is not in ISO form", f"read as {out[-1]}", **where)
            elif m := _SHORT.match(text):
                a, b, year = int(m.group(1)), int(m.group(2)), _year(m.group(3))
                if a > 12 or b > 12:
                    day, month = (a, b) if a > 12 else (b, a)
                    against = (month_first and a > 12) or (not month_first and b > 12)
                    if against and settled and order != "auto":
                        found.add("look", f"date '{text}' can't be {order}", "read the other way", **where)
                else:
                    day, month = (b, a) if month_first else (a, b)
                    if not settled and a != b:
                        found.add("look", f"date '{text}' could be day or month first", "read as day first", **where)
                out.append(date(year, month, day).isoformat())
                found.add("mended", f"date '{text}' is not in ISO form", f"read as {out[-1]}", **where)
            else:
                raise ValueError(text)
        except ValueError:
            out.append("")
            found.add("look", f"'{text}' is not a date", "left empty", **where)
    return out


_SERIAL = re.compile(r"^\d{5}(?:\.\d+)?$")


def _serial(texts: list[str], line: NDArray[np.int64], found: Findings, file: str, table: str) -> list[str]:
    """Return dates of a column of nothing but day numbers of a spreadsheet (ISO/IEC 29500-1, 18.17.4: days from 1899-12-30)."""
    filled = [t for t in texts if t]
    if not filled or not all(_SERIAL.match(t) and 10_000 <= float(t) < 80_000 for t in filled):
        return texts
    out = [(date(1899, 12, 30) + timedelta(days=int(float(t)))).isoformat() if t else "" for t in texts]
    days = sorted(d for d in out if d)
    what = f"dates are day numbers of a spreadsheet, such as {filled[0]}"
    found.add("mended", what, f"read as {days[0]} to {days[-1]}", file=file, table=table, line=int(line[0]))
    return out


_CLOCK = re.compile(r"(\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?)\s*([AaPp]\.?[Mm]\.?)?\s*$")
_PACKED_CLOCK = re.compile(r"^(\d{1,2})(\d{2})(\d{2}(?:\.\d+)?)$")


def clock_of(text: object) -> str:
    """Return the clock time in a cell as ``hh:mm:ss`` (with decimals where given), '' when there is none.

    Takes ``9:05``, ``09:05:01.5``, ``9:05 PM``, ``2024-05-16T09:05:01`` and ``090501``.
    """
    cell = "" if text is None else str(text).strip().rstrip("Zz")
    found = _CLOCK.search(cell)
    if found:
        hour, minute, second = (found.group(1).replace(",", ".") + ":00").split(":")[:3]
        hours = int(hour)
        if found.group(2):
            hours = hours % 12 + (12 if found.group(2)[0].lower() == "p" else 0)
        good = hours < 24 and int(minute) < 60 and float(second) < 60
        return f"{hours:02d}:{minute}:{second}" if good else ""
    packed = _PACKED_CLOCK.match(cell)
    if packed and int(packed.group(1)) < 24 and int(packed.group(2)) < 60 and float(packed.group(3)) < 60:
        return f"{int(packed.group(1)):02d}:{packed.group(2)}:{packed.group(3)}"
    return ""
