"""What was done to a project, in order, so that it can be taken back and done again.

A user's change has no cause. What was made fresh because of it names it as its cause and belongs to
it: the two are taken back and done again as one step. The history is bounded by the number of the
user's changes and by the bytes that they brought.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any, Literal

from ..errors import ProjectError
from . import row_models
from .catalogue import DAMAGED, now

State = dict[str, Any]
# One moved pointer: table, key, state before, state after. None: not there. Where both are there, only
# the fields that changed are named, so that changes of other fields do not disturb each other.
Move = tuple[Literal["head", "legend"], str, State | None, State | None]


@dataclass(frozen=True)
class Change:
    id: int
    label: str
    moves: tuple[Move, ...]


def _moves(text: str) -> tuple[Move, ...]:
    """The moved pointers of a stored change."""
    try:
        return tuple(row_models.moves(text))
    except DAMAGED as error:
        raise ProjectError(
            "a step of the history is damaged; what the project holds now is not touched by that",
            fix="Forget the history when you clean up the project, or restore catalogue.sqlite from a back-up",
        ) from error


class History:
    """The changes of a project. Calls that write stand within the caller's transaction."""

    def __init__(
        self,
        db: sqlite3.Connection,
        most: int = 500,
        most_bytes: int = 8_000_000_000,
        broken: Collection[int] = (),
    ) -> None:
        self._db, self._broken = db, broken
        self.most, self.most_bytes = most, most_bytes

    def bound(self, changes: int, size: int) -> None:
        """Let undo reach at most so many changes, and so many bytes that only they can bring back."""
        self.most, self.most_bytes = max(changes, 1), max(size, 1)

    def record(self, label: str, moves: list[Move], cause: int | None, size: int) -> None:
        """Write down a change that was just made."""
        if cause is None:
            self._db.execute("DELETE FROM change WHERE done=0")
        else:
            row = self._db.execute("SELECT done FROM change WHERE id=?", (cause,)).fetchone()
            if row is None or not row[0]:  # forgotten, or taken back since: it follows from what stands now
                cause = self.last()
            if not cause:
                return
        self._db.execute(
            "INSERT INTO change(label,at,done,cause,bytes,entries) VALUES(?,?,1,?,?,?)",
            (label, now(), cause, size, json.dumps(moves)),
        )
        if cause is None:
            self._trim()

    def last(self) -> int:
        """Id of the last thing the user did that stands, 0 for none."""
        row = self._db.execute("SELECT max(id) FROM change WHERE done=1 AND cause IS NULL").fetchone()
        return int(row[0] or 0)

    def _next(self, done: bool) -> int:
        """Id of the user's change that undo (done) or redo would move."""
        if done:
            return self.last()
        row = self._db.execute("SELECT min(id) FROM change WHERE done=0 AND cause IS NULL").fetchone()
        return int(row[0] or 0)

    def label(self, done: bool) -> str:
        row = self._db.execute("SELECT label FROM change WHERE id=?", (self._next(done),)).fetchone()
        return str(row[0]) if row else ""

    def group(self, done: bool) -> list[Change]:
        """The user's change that undo (done) or redo would move, and what followed from it, in order."""
        first = self._next(done)
        rows = self._db.execute(
            "SELECT id, label, entries FROM change WHERE (id=? OR cause=?) AND done=? ORDER BY id",
            (first, first, int(done)),
        ).fetchall()
        return [Change(i, label, self._moves(i, text)) for i, label, text in rows]

    def _moves(self, change: int, text: str) -> tuple[Move, ...]:
        return _moves("" if change in self._broken else text)

    def mark(self, change: int, done: bool) -> None:
        self._db.execute("UPDATE change SET done=? WHERE id=?", (int(done), change))

    def rows(self) -> list[tuple[str, str, bool]]:
        """All that the user did: time, label, whether done (not taken back)."""
        found = self._db.execute("SELECT at, label, done FROM change WHERE cause IS NULL ORDER BY id")
        return [(a, b, bool(c)) for a, b, c in found]

    def versions(self) -> set[int]:
        """All versions that undo or redo can reach."""
        found: set[int] = set()
        for change, text in self._db.execute("SELECT id, entries FROM change"):
            for table, _, *sides in self._moves(change, text):
                if table == "head":
                    found |= {side["version"] for side in sides if side and "version" in side}
        return found

    def forget(self) -> None:
        self._db.execute("DELETE FROM change")

    def _trim(self) -> None:
        """Forget the oldest changes until what is left is within bounds; the last one always stays."""
        count, size = self._db.execute("SELECT sum(cause IS NULL), coalesce(sum(bytes), 0) FROM change").fetchone()
        while count > 1 and (count > self.most or size > self.most_bytes):
            first = self._db.execute("SELECT min(id) FROM change WHERE cause IS NULL").fetchone()[0]
            gone = self._db.execute(
                "SELECT coalesce(sum(bytes), 0) FROM change WHERE id<=? OR cause=?", (first, first)
            ).fetchone()[0]
            self._db.execute("DELETE FROM change WHERE id<=? OR cause=?", (first, first))
            count, size = count - 1, size - gone
