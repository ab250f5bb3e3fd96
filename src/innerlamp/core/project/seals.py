"""A checksum for each row of a catalogue: what turned in it since it was written is found when it is opened.

The checksum is written by triggers that live only in a connection of ours, so that whatever writes a row writes its
seal with it. It guards against damage, not against somebody who means to change a row.
"""

from __future__ import annotations

import sqlite3
import zlib
from typing import Any, Final

_KEYS: Final = {
    "meta": "key",
    "origin": "id",
    "version": "id",
    "head": "key",
    "legend": "key",
    "change": "id",
    "workspace": "key",
}
TABLE: Final = (
    "CREATE TABLE IF NOT EXISTS seal(place TEXT NOT NULL, row TEXT NOT NULL, sum INTEGER NOT NULL,"
    " PRIMARY KEY(place, row)) WITHOUT ROWID"
)


def seal_of(*values: Any) -> int:
    """CRC-32 of the values of a row, whose order counts."""
    return zlib.crc32(repr(values).encode("utf-8", "surrogatepass"))


def watch(db: sqlite3.Connection) -> None:
    """Let a connection that writes keep the seals; they must be there already."""
    db.create_function("seal_of", -1, seal_of, deterministic=True)
    for table, key in _KEYS.items():
        columns = [str(row[1]) for row in db.execute(f"PRAGMA table_info({table})")]
        new = ", ".join(f'NEW."{c}"' for c in columns)
        # What the statement outside says of conflicts would hold in here as well: so the old one goes first.
        gone = "DELETE FROM seal WHERE place='{0}' AND row=CAST({1}.{2} AS TEXT);"
        made = f"INSERT INTO seal VALUES('{table}', CAST(NEW.{key} AS TEXT), seal_of({new}));"
        kept = gone.format(table, "NEW", key) + made
        for what, does in (("INSERT", kept), ("UPDATE", kept), ("DELETE", gone.format(table, "OLD", key))):
            db.execute(f"CREATE TEMP TRIGGER seal_{table}_{what.lower()} AFTER {what} ON main.{table} BEGIN {does} END")


def make(db: sqlite3.Connection) -> None:
    """Seal the rows of a catalogue that has no seals yet, within the caller's transaction."""
    db.execute(TABLE)
    db.execute("DELETE FROM seal")
    for table, key in _KEYS.items():
        for row in db.execute(f"SELECT {key}, * FROM {table}").fetchall():
            db.execute("INSERT INTO seal VALUES(?,?,?)", (table, str(row[0]), seal_of(*row[1:])))


def broken(db: sqlite3.Connection) -> set[tuple[str, str]]:
    """Rows (table, key) that are not as they were written."""
    found: set[tuple[str, str]] = set()
    for table, key in _KEYS.items():
        sums = dict(db.execute("SELECT row, sum FROM seal WHERE place=?", (table,)))
        for name, *values in db.execute(f"SELECT {key}, * FROM {table}"):
            if sums.get(str(name)) != seal_of(*values):
                found.add((table, str(name)))
    return found
