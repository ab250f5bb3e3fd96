"""Dates as they stand in tables: ISO and day-first, told apart by the whole column."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..findings import Findings

_ISO = re.compile(r"^\s*(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})([ T].*)?$")
_SHORT = re.compile(r"^\s*(\d{1,2})[-/.](\d{1,2})[-/.](\d{4})\s*$")


def read_dates(
    cells: Sequence[object],
    line: NDArray[np.int64],
    found: Findings,
    file: str,
    table: str,
    hole: Sequence[str] | None = None,
) -> list[str]:
    """Return ISO dates ('' where there is none), reporting what had to be decided.

    Day and month of ``03/04/2023`` are told apart by the rest of the column: when some first
    number is above 12 all are day first, when some second number is, month first; otherwise day
    first is taken and each such date is reported for a person to look at.
    """
    texts = ["" if c is None else str(c).strip() for c in cells]
    short = [(int(m.group(1)), int(m.group(2))) for t in texts if (m := _SHORT.match(t))]
    day_first_seen = any(a > 12 for a, _ in short)
    month_first_seen = any(b > 12 for _, b in short)
    month_first = month_first_seen and not day_first_seen
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
            elif m := _SHORT.match(text):
                a, b, year = int(m.group(1)), int(m.group(2)), int(m.group(3))
                if a > 12 or b > 12:
                    day, month = (a, b) if a > 12 else (b, a)
                else:
                    day, month = (b, a) if month_first else (a, b)
                    if not (day_first_seen or month_first_seen) and a != b:
                        found.add("look", f"date '{text}' could be day or month first", "read as day first", **where)
                out.append(date(year, month, day).isoformat())
                found.add("mended", f"date '{text}' is not in ISO form", f"read as {out[-1]}", **where)
            else:
                raise ValueError(text)
        except ValueError:
            out.append("")
            found.add("look", f"'{text}' is not a date", "left empty", **where)
    return out
