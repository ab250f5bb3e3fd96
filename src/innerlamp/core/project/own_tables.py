"""Whether a catalogue is one of ours: all that stands in its schema is compared with what we write, before anything is read.

A database may hold more than rows: triggers, views in the place of tables, computed columns, indexes over expressions.
What SQLite would run when such a catalogue is read or written never comes that far.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Iterable
from pathlib import Path

from ..errors import ProjectError

_META = "CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT NOT NULL)"
_REST = (
    "CREATE TABLE head(key TEXT PRIMARY KEY, state TEXT NOT NULL)",
    "CREATE TABLE legend(key TEXT PRIMARY KEY, state TEXT NOT NULL)",
    "CREATE TABLE workspace(key TEXT PRIMARY KEY, value TEXT NOT NULL)",
)
FIRST = (
    _META,
    "CREATE TABLE version(id INTEGER PRIMARY KEY AUTOINCREMENT, item TEXT NOT NULL, kind TEXT NOT NULL,"
    " manifest TEXT NOT NULL, recipe TEXT, facts TEXT NOT NULL, bounds TEXT NOT NULL,"
    " attributes TEXT NOT NULL, crs TEXT NOT NULL, made_at TEXT NOT NULL)",
    "CREATE TABLE change(id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, at TEXT NOT NULL,"
    " done INTEGER NOT NULL, entries TEXT NOT NULL)",
    *_REST,
)
SECOND = (
    _META,
    "CREATE TABLE text(name TEXT PRIMARY KEY, text TEXT NOT NULL)",
    "CREATE TABLE origin(id INTEGER PRIMARY KEY AUTOINCREMENT, parent INTEGER, recipe TEXT NOT NULL, key TEXT NOT NULL)",
    "CREATE INDEX origin_key ON origin(key)",
    "CREATE TABLE version(id INTEGER PRIMARY KEY AUTOINCREMENT, item TEXT NOT NULL, kind TEXT NOT NULL,"
    " manifest TEXT NOT NULL, origin INTEGER, facts TEXT NOT NULL, bounds TEXT NOT NULL,"
    " attributes TEXT NOT NULL, crs TEXT NOT NULL, made_at TEXT NOT NULL)",
    "CREATE INDEX version_origin ON version(origin)",
    "CREATE TABLE change(id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, at TEXT NOT NULL,"
    " done INTEGER NOT NULL, cause INTEGER, bytes INTEGER NOT NULL, entries TEXT NOT NULL)",
    *_REST,
)
SEAL = "CREATE TABLE seal(place TEXT NOT NULL, row TEXT NOT NULL, sum INTEGER NOT NULL, PRIMARY KEY(place, row)) WITHOUT ROWID"
FOURTH = (*SECOND, SEAL)
OF_SCHEMA = {1: FIRST, 2: SECOND, 3: SECOND, 4: FOURTH}


def number_of(db: sqlite3.Connection, path: Path) -> int:
    """The number of the schema of a catalogue whose tables are just those of that number, and nothing beside them.

    Raises
    ------
    ProjectError
        When it is newer than this program, or anything in it is not as we write it; what, is said.
    """
    with contextlib.suppress(sqlite3.Error):  # nothing that a schema calls may do more than compute
        db.execute("PRAGMA trusted_schema=OFF")
        db.execute("PRAGMA cell_size_check=ON")
    there = db.execute("SELECT type, name, sql FROM sqlite_master").fetchall()
    found = {_plainly(sql) for kind, name, sql in there if not _by_sqlite(str(kind), str(name), sql)}
    if _plainly(_META) not in found:
        raise _foreign(path, "it has no heading")
    row = db.execute("SELECT value FROM meta WHERE key='schema'").fetchone()
    if row is None or not re.fullmatch(r"[0-9]{1,9}", str(row[0])):
        raise _foreign(path, "the number of its schema is missing")
    number = int(row[0])
    if number > max(OF_SCHEMA):
        raise ProjectError("the project was made by a newer version", where=str(path), fix="Update Inner Lamp")
    wanted = {_plainly(sql) for sql in OF_SCHEMA.get(number, ())}
    if not wanted:
        raise _foreign(path, f"there is no schema {number}")
    if more := found - wanted:
        names = (f"{kind} '{name}'" for kind, name, sql in there if _plainly(sql) in more)
        raise _foreign(path, f"it holds what we never write: {_few(names)}")
    if lacking := wanted - found:
        raise _foreign(path, f"it lacks {_few(' '.join(sql.split()[1:3]).partition('(')[0] for sql in lacking)}")
    return number


def _plainly(sql: object) -> str:
    return re.sub(r"\s*([(),])\s*", r"\1", " ".join(str(sql).split())).replace(
        "CREATE TABLE IF NOT EXISTS", "CREATE TABLE"
    )


def _by_sqlite(kind: str, name: str, sql: object) -> bool:
    """Whether SQLite made it by itself: indexes of primary keys, the table of running numbers."""
    if kind == "index" and sql is None:
        return name.startswith("sqlite_autoindex_")
    return kind == "table" and name == "sqlite_sequence" and _plainly(sql) == "CREATE TABLE sqlite_sequence(name,seq)"


def _few(names: Iterable[str]) -> str:
    each = sorted(n if n.isprintable() else ascii(n) for n in names)
    return ", ".join(n[:60] for n in each[:3]) + (f" and {len(each) - 3} more" if len(each) > 3 else "")


def _foreign(path: Path, why: str) -> ProjectError:
    return ProjectError(
        f"its catalogue is not one that Inner Lamp writes ({why}); nothing of it was read",
        where=str(path),
        fix="Restore catalogue.sqlite from a back-up, or ask where the project comes from",
    )
