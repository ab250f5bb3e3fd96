"""Tables of relational database files: SQLite tables and views, and tables of MDB and ACCDB files."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from ...errors import InputError
from ...findings import Findings
from .rawtable import Layout, RawTable, empty_rows, unique
from .sheets import column_of
from .sqlite_files import MOST_SECONDS, TO_READ_ALL, is_sqlite, opened, quoted, rows_of

MEDIUM = "database table"
_MOST_ROWS = 20_000_000


def parts(path: Path) -> tuple[str, ...]:
    """Return the names of tables and views."""
    if not is_sqlite(path):
        return tuple(name for name in _access(path).catalog if not name.startswith("MSys"))
    with opened(path) as db:
        rows = db.execute("SELECT name FROM sqlite_master WHERE type IN ('table','view') AND name NOT LIKE 'sqlite_%'")
        return tuple(str(r[0]) for r in rows)


def look(path: Path, part: str) -> Layout:
    """Return the columns of a table or view."""
    if not is_sqlite(path):
        names = list(_access_table(path, part))
    else:
        with opened(path) as db:
            names = [c[0] for c in db.execute(f"SELECT * FROM {quoted(part)} LIMIT 0").description]
    if len(names) < 2:
        raise InputError("the table has fewer than two columns", where=f"{path.name}#{part}")
    return Layout("", "", 0, unique([str(n) for n in names]), medium=MEDIUM, part=part)


def read(
    path: Path, part: str, found: Findings, table: str, layout: Layout | None = None, most: int | None = None
) -> RawTable:
    """Read all rows; the line of a row is its number in the table, counted from 1."""
    layout = layout or look(path, part)
    if not is_sqlite(path):
        columns = [list(v)[:most] for v in _access_table(path, part).values()]
    else:
        limit = "" if most is None else f" LIMIT {int(most)}"
        with opened(path, TO_READ_ALL if most is None else MOST_SECONDS) as db:
            rows = rows_of(db.execute(f"SELECT * FROM {quoted(part)}{limit}"), _MOST_ROWS, f"{path.name}#{part}")
        columns = [list(c) for c in zip(*rows, strict=True)] if rows else [[] for _ in layout.columns]
    data: dict[str, pa.Array] = {}
    for name, values in zip(layout.columns, columns, strict=True):
        blobs = sum(isinstance(v, bytes) for v in values)
        if blobs:
            found.add(
                "look", f"{name} holds {blobs} binary values", "left empty", file=f"{path.name}#{part}", table=table
            )
            values = ["" if isinstance(v, bytes) else v for v in values]  # noqa: PLW2901
        data[name] = column_of(values)
    cells = pa.table(data)
    line = np.arange(1, cells.num_rows + 1, dtype=np.int64)
    empty = empty_rows(cells) if cells.num_rows else np.zeros(0, dtype=bool)
    return RawTable(path, layout, cells.filter(pa.array(~empty)), line[~empty])


def _access(path: Path) -> Any:
    from access_parser import AccessParser

    try:
        return AccessParser(str(path))
    except Exception as error:  # the parser raises whatever a broken file leads it to
        raise InputError(
            f"can't be read as an Access database ({error})", where=path.name, fix="Export its tables as CSV or XLSX"
        ) from error


def _access_table(path: Path, part: str) -> dict[str, list[Any]]:
    try:
        return dict(_access(path).parse_table(part))
    except InputError:
        raise
    except Exception as error:  # as above
        raise InputError(
            f"the table can't be read ({error})", where=f"{path.name}#{part}", fix="Export it as CSV or XLSX"
        ) from error
