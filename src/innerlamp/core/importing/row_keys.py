"""Which row of a table is meant, by what it holds: hole and depths, or line, place and what else stands there.

Row numbers change when a file comes in anew. The line of the file, which changes as well, only tells rows apart that hold
the same.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from ..errors import InputError

_SAME = 1e-6  # metres along a hole
_PLACE = 1e-3  # metres on the map


@dataclass(frozen=True)
class RowKey:
    """What tells a row from others.

    Attributes
    ----------
    of
        Its hole or line, '' where the table has neither.
    start, end
        Depths in metres: of an interval both, of a reading the first; None where there are none.
    x, y
        Place in metres, None for rows of holes.
    row
        Digest of all that the row holds but the line of its file; it parts rows at one place.
    file_line
        Line of the file, 0 where it is not known: the last resort.
    """

    of: str = ""
    start: float | None = None
    end: float | None = None
    x: float | None = None
    y: float | None = None
    row: str = ""
    file_line: int = 0

    @property
    def words(self) -> str:
        """The row in a few words."""
        depths = [f"{d:g}" for d in (self.start, self.end) if d is not None]
        place = [f"{v:.1f}" for v in (self.x, self.y) if v is not None]
        parts = [self.of, " to ".join(depths) + " m" if depths else "", " ".join(place)]
        line = f"line {self.file_line} of the file" if self.file_line else "row"
        return " ".join(p for p in parts if p) or line


def _parts(table: pd.DataFrame) -> tuple[str, str, str, str, str]:
    """The columns that hold hole or line, start, end, x and y; '' for those that do not count."""
    have = set(map(str, table.columns))
    if "hole" in have:
        start = "from_m" if "from_m" in have else "depth_m" if "depth_m" in have else ""
        return "hole", start, "to_m" if "to_m" in have and start == "from_m" else "", "", ""
    x, y = ("x", "y") if {"x", "y"} <= have else ("", "")
    return "line" if "line" in have else "", "", "", x, y


def _digest(row: Sequence[Any]) -> str:
    told = json.dumps([f"{v:.9g}" if isinstance(v, float | np.floating) else str(v) for v in row])
    return hashlib.blake2b(told.encode(), digest_size=6).hexdigest()


def _rest(table: pd.DataFrame) -> pd.DataFrame:
    return table[[c for c in table.columns if str(c) not in ("file_line", "file")]]


def keys_of(table: pd.DataFrame, rows: Sequence[int] | np.ndarray) -> list[RowKey]:
    """Return the keys of some rows of a table (row numbers counted from 0)."""
    of, start, end, x, y = _parts(table)
    some = table.iloc[list(rows)]
    rest = _rest(some)

    def number(name: str, k: int) -> float | None:
        value = float(some[name].iloc[k]) if name else np.nan
        return value if np.isfinite(value) else None

    lines = some["file_line"].to_numpy() if "file_line" in table.columns else np.zeros(len(some), dtype=np.int64)
    return [
        RowKey(
            str(some[of].iloc[k]) if of else "",
            number(start, k),
            number(end, k),
            number(x, k),
            number(y, k),
            _digest(rest.iloc[k].tolist()),
            int(lines[k]),
        )
        for k in range(len(some))
    ]


class Finder:
    """Finds the rows of a table that keys mean."""

    def __init__(self, table: pd.DataFrame, where: str) -> None:
        self.table, self.where = table, where
        self.of, self.start, self.end, self.x, self.y = _parts(table)
        self._groups = table.groupby(table[self.of].astype(str), sort=False).indices if self.of else None

    def row(self, key: RowKey) -> int:
        """Return the row that a key means.

        Raises
        ------
        InputError
            When there is none, or several that nothing tells apart.
        """
        rows = self._near(key)
        if not len(rows):
            raise InputError(
                f"the row that was meant ({key.words}) is no longer there",
                where=self.where,
                fix="Choose again what to change",
            )
        if len(rows) == 1:
            return int(rows[0])
        rest = _rest(self.table)
        same = [int(r) for r in rows if key.row and _digest(rest.iloc[int(r)].tolist()) == key.row]
        lines = self.table["file_line"].to_numpy() if "file_line" in self.table.columns else None
        if len(same) != 1 and lines is not None and key.file_line:
            same = [r for r in (same or rows.tolist()) if lines[r] == key.file_line]
        if len(same) != 1:
            raise InputError(
                f"{len(rows)} rows are at {key.words}, and nothing tells which was meant",
                where=self.where,
                fix="Choose again what to change",
            )
        return same[0]

    def _near(self, key: RowKey) -> np.ndarray:
        rows = (
            np.arange(len(self.table))
            if self._groups is None
            else np.asarray(self._groups.get(key.of, ()), dtype=np.int64)
        )
        for name, value in ((self.start, key.start), (self.end, key.end)):
            if name and value is not None:
                rows = rows[np.abs(self.table[name].to_numpy(float)[rows] - value) < _SAME]
        if self.x and key.x is not None and key.y is not None:
            away = self.table[[self.x, self.y]].to_numpy(float)[rows] - (key.x, key.y)
            rows = rows[(np.abs(away) < _PLACE).all(axis=1)]
        elif not (self.of or self.x) or (not self.of and key.x is None):
            lines = (
                self.table["file_line"].to_numpy() if "file_line" in self.table.columns else np.arange(len(self.table))
            )
            rows = rows[lines[rows] == key.file_line]
        return rows
