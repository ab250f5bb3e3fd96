"""Opening SQLite files from outside: read only, nothing attached or loaded, no program in them runs, and it ends."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from sys import getsizeof
from typing import Any

from ...errors import InputError
from ...limits import fits

MOST_SECONDS, TO_READ_ALL = 15.0, 60.0
HEAD = b"SQLite format 3\0"
_ALLOWED = {sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION, sqlite3.SQLITE_RECURSIVE}
_PRAGMAS = ("table_info", "table_xinfo")


def is_sqlite(path: Path) -> bool:
    """Return whether a file is an SQLite database, by its first bytes."""
    with path.open("rb") as handle:
        return handle.read(16) == HEAD


@contextmanager
def opened(path: Path, seconds: float = MOST_SECONDS) -> Iterator[sqlite3.Connection]:
    """Open a database to read from.

    Raises
    ------
    InputError
        When it can't be read, takes longer than `seconds`, or has rows that are still in its log beside it.
    """
    _in_its_log(path)
    try:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)
    except sqlite3.Error as error:
        raise InputError(f"can't be opened as a database ({error})", where=path.name) from error
    end = time.monotonic() + seconds
    try:
        db.text_factory = lambda b: b.decode("utf-8", errors="replace")
        db.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
        db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, 200_000_000)  # letters of one value: what a single call makes ends too
        db.execute("PRAGMA trusted_schema=OFF")
        db.set_authorizer(_may)
        db.set_progress_handler(lambda: int(time.monotonic() > end), 50_000)
        yield db
    except (sqlite3.Error, UnicodeDecodeError) as error:  # the second: what it says of a damaged schema
        if time.monotonic() > end:
            raise InputError(
                f"reading takes longer than {seconds:g} seconds",
                where=path.name,
                fix="A view of the database may have no end: export it as a table",
            ) from error
        raise InputError(f"the database can't be read ({error})", where=path.name) from error
    finally:
        db.close()


def _may(action: int, first: str | None, second: str | None, *_: str | None) -> int:
    """What statements may do: read, and ask for the columns of a table."""
    if action in _ALLOWED or (action == sqlite3.SQLITE_PRAGMA and first in _PRAGMAS):
        return sqlite3.SQLITE_OK
    return sqlite3.SQLITE_DENY


def _in_its_log(path: Path) -> None:
    """Refuse a database whose newest rows lie in a log beside it: read without them it would be another one."""
    for ending in ("-wal", "-journal"):
        log = path.with_name(path.name + ending)
        try:
            if log.stat().st_size > 0:
                raise InputError(
                    f"rows of the database are still in its log ({log.name})",
                    where=path.name,
                    fix="Open and close it with the program that wrote it, then bring it in",
                )
        except OSError:
            continue


def rows_of(cursor: sqlite3.Cursor, most: int, where: str) -> list[tuple[Any, ...]]:
    """Fetch all rows of a statement, in parts, so that too many are refused before they fill the memory.

    Raises
    ------
    InputError
        When there are more than `most`, or more than fit into memory.
    """
    rows: list[tuple[Any, ...]] = []
    taken = 0.0
    while part := cursor.fetchmany(20_000):
        rows += part
        if len(rows) > most:
            raise InputError(f"there are more than {most:,} rows", where=where)
        few = part[:200]
        size = sum(getsizeof(row) + sum(map(getsizeof, row)) for row in few) / len(few)
        taken += 2.0 * size * len(part)  # once as rows, once as columns
        fits(taken, f"{len(rows):,} rows of {where} and more", "Export a part of it, or a table instead of a view")
    return rows


def quoted(name: str) -> str:
    """Return a name as SQL has it."""
    escaped = name.replace('"', '""')
    return f'"{escaped}"'
