"""Reading tables from any file that holds some: told apart by their content, named ``file#part``.

A part is a sheet of a spreadsheet or a table of a database; text files and logs have none.
"""

from __future__ import annotations

import contextlib
import functools
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from ...errors import InputError
from ...findings import Findings
from ...given_paths import given_path
from . import database, delimited, las, line_files, point_layers, sheets
from .rawtable import Layout, RawTable

MOST_PARTS = 300


@dataclass(frozen=True)
class Medium:
    """A kind of file with tables: how it is told, its parts, and how one of them is looked at and read."""

    name: str
    fits: Callable[[Path, bytes], bool]
    parts: Callable[[Path], tuple[str, ...]]
    look: Callable[[Path, str], Layout]
    read: Callable[[Path, str, Findings, str, Layout | None], RawTable]


def _no_parts(path: Path) -> tuple[str, ...]:
    return ()


MEDIA: tuple[Medium, ...] = (
    Medium(
        point_layers.MEDIUM,
        lambda p, _: point_layers.is_map(p),
        point_layers.parts,
        point_layers.look,
        point_layers.read,
    ),
    Medium(
        "database",
        lambda _, head: head[:16] == b"SQLite format 3\0" or head[4:19] in (b"Standard Jet DB", b"Standard ACE DB"),
        database.parts,
        database.look,
        database.read,
    ),
    Medium(
        "spreadsheet",
        lambda _, head: head[:4] in (b"PK\x03\x04", b"\xd0\xcf\x11\xe0"),
        sheets.parts,
        sheets.look,
        sheets.read,
    ),
    Medium(
        "LAS log",
        lambda p, _: las.is_las(p),
        _no_parts,
        lambda p, _: las.look(p),
        lambda p, _, found, table, layout: las.read(p, found, table, layout),
    ),
    Medium(
        line_files.MEDIUM,
        lambda p, _: line_files.is_line_file(p),
        _no_parts,
        lambda p, _: line_files.look(p),
        lambda p, _, found, table, layout: line_files.read(p, found, table, layout),
    ),
    Medium(
        "text",
        lambda *_: True,
        _no_parts,
        lambda p, _: delimited.look(p),
        lambda p, _, found, table, layout: delimited.read(p, found, table, layout),
    ),
)


def split(ref: Path | str) -> tuple[Path, str]:
    """Return file and part of ``file#part``; a file that is really called so has no part.

    Raises
    ------
    InputError
        When there is no such file.
    """
    path = given_path(ref)
    if path.is_file():
        return path, ""
    name, sign, part = str(path).rpartition("#")
    if sign and Path(name).is_file():
        return Path(name), part
    raise InputError("there is no such file", where=str(ref), fix="Check the path")


def _stamp(path: Path) -> tuple[int, int]:
    """Size and time of change: what was found out of a file holds until one of them moves."""
    try:
        found = path.stat()
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=str(path), fix="Check the path") from error
    return found.st_size, found.st_mtime_ns


def medium_of(path: Path) -> Medium:
    """Return the kind of a file, by its first bytes; a file is asked once."""
    return _medium(path, _stamp(path))


@functools.lru_cache(maxsize=512)
def _medium(path: Path, stamp: tuple[int, int]) -> Medium:
    try:
        with path.open("rb") as handle:
            head = handle.read(64)
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=str(path), fix="Check the path") from error
    return next(m for m in MEDIA if m.fits(path, head))


def parts(path: Path | str) -> tuple[str, ...]:
    """Return the sheets or tables of a file; none for a file that is one table itself."""
    path, _ = split(path)
    names = medium_of(path).parts(path)
    if len(names) > MOST_PARTS:
        raise InputError(f"the file has {len(names):,} tables; at most {MOST_PARTS} are looked at", where=path.name)
    return names


def look(ref: Path | str) -> Layout:
    """Return how a table is laid out.

    Raises
    ------
    InputError
        When it can't be read, or has several parts and none was named.
    """
    path, part = split(ref)
    return _layout(path, part, _stamp(path))


# Path, part and stamp of a table, and how it is laid out: what was shown is what is read.
Known = tuple[str, str, tuple[int, int], Layout]
_LAYOUTS: OrderedDict[tuple[str, str, tuple[int, int]], Layout] = OrderedDict()
_KEPT = 512


def _layout(path: Path, part: str, stamp: tuple[int, int]) -> Layout:
    key = (str(path), part, stamp)
    if key not in _LAYOUTS:
        medium = medium_of(path)
        remember([(*key, medium.look(path, _one(path, part, medium)))])
    return _LAYOUTS[key]


def known(refs: Iterable[str]) -> tuple[Known, ...]:
    """Return the layouts that were found out of tables already, for the process that will read them."""
    out = []
    for ref in refs:
        with contextlib.suppress(InputError):
            path, part = split(ref)
            key = (str(path), part, _stamp(path))
            if key in _LAYOUTS:
                out.append((*key, _LAYOUTS[key]))
    return tuple(out)


def remember(layouts: Iterable[Known]) -> None:
    """Take over layouts that were found out elsewhere; they hold while their file stays as it was."""
    for path, part, stamp, layout in layouts:
        _LAYOUTS[path, part, stamp] = layout
    while len(_LAYOUTS) > _KEPT:
        _LAYOUTS.popitem(last=False)


def read(ref: Path | str, found: Findings, table: str = "", layout: Layout | None = None) -> RawTable:
    """Read all rows of a table; what can't be taken is reported with its line."""
    path, part = split(ref)
    medium = medium_of(path)
    if layout is None and medium.name == "text":
        layout = _layout(path, part, _stamp(path))  # the one that was shown, where it was
    return medium.read(path, _one(path, part, medium), found, table, layout)


def first_rows(ref: Path | str, layout: Layout, count: int) -> list[list[str]]:
    """Return the first rows as text, for a preview; large text files are not read as a whole."""
    path, part = split(ref)
    medium = medium_of(path)
    if medium.name == "text":
        return delimited.first_rows(path, layout, count)
    if medium.name == "spreadsheet":
        return sheets.first_rows(path, part or layout.part, layout, count)
    if medium.name == "database":
        raw = database.read(path, part or layout.part, Findings(), "", layout, most=count)
    elif medium.name == line_files.MEDIUM:
        raw = line_files.read(path, Findings(), "", layout, most=count)
    elif medium.name == point_layers.MEDIUM:
        raw = point_layers.read(path, part or layout.part, Findings(), "", layout, most=count)
    else:
        raw = medium.read(path, part or layout.part, Findings(), "", layout)
    head = RawTable(raw.path, layout, pa.table(raw.cells.slice(0, count)), raw.line[:count])
    columns = [head.text(c).tolist() for c in layout.columns]
    return [[str(c[k]) for c in columns] for k in range(head.cells.num_rows)]


def _one(path: Path, part: str, medium: Medium) -> str:
    names = medium.parts(path)
    if part:
        if part not in names:
            raise InputError(
                f"there is no part '{part}'", where=path.name, fix="There are: " + (", ".join(names) or "none")
            )
        return part
    if len(names) > 1:
        raise InputError(
            f"the file has {len(names)} tables",
            where=path.name,
            fix=f"Name one: {path.name}#{names[0]} (there are: {', '.join(names)})",
        )
    if not names and medium.name in ("spreadsheet", "database"):
        raise InputError("the file holds no table", where=path.name)
    return names[0] if names else ""
