"""The SQLite catalogue of a project: its tables, their migrations, transactions, long texts kept once."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

from ..crs import parse_crs
from ..errors import CrsError, ProjectError
from ..items.attributes import Attribute, told_of_old
from . import own_tables, seals
from .records import Recipe

SCHEMA = max(own_tables.OF_SCHEMA)
# What reading a damaged row of the catalogue leads to.
DAMAGED = (ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError, RecursionError)
_LONG = 2000  # characters from which a text is kept once under its name, whoever uses it


def _not_written(error: sqlite3.Error) -> ProjectError:
    words = str(error)
    fix = "Look whether the disk can be written"
    if "full" in words:
        fix = "Make room on the disk, then do it again"
    elif "malformed" in words:
        fix = "A row of its catalogue is damaged: restore catalogue.sqlite from a back-up"
    return ProjectError(f"the project can't be written ({words}); it is as it was before", fix=fix)


class Transaction:
    """BEGIN IMMEDIATE .. COMMIT, or ROLLBACK when anything is raised."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def __enter__(self) -> sqlite3.Connection:
        try:
            self._db.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as error:
            raise _not_written(error) from error
        return self._db

    def __exit__(self, kind: object, error: object, *_: object) -> None:
        try:
            self._db.execute("ROLLBACK" if kind else "COMMIT")
        except sqlite3.Error as failed:
            with contextlib.suppress(sqlite3.Error):
                self._db.execute("ROLLBACK")
            if not kind:
                raise _not_written(failed) from failed
        if isinstance(error, sqlite3.Error):
            raise _not_written(error) from error


def now() -> str:
    return datetime.now().isoformat(timespec="seconds")


def connect(path: Path, write: bool) -> sqlite3.Connection:
    """Open the catalogue of a project folder and bring it to the present schema.

    A project opened for reading is never written: an older one is migrated in memory.

    Raises
    ------
    ProjectError
        When it can't be read, or was made by a newer version.
    """
    file = path / "catalogue.sqlite"
    db: sqlite3.Connection | None = None
    try:
        db = _open(file, write)
        found = own_tables.number_of(db, path)
        whole = db.execute("PRAGMA quick_check(1)").fetchone()
        if whole is None or whole[0] != "ok":
            raise ProjectError(
                "the project's catalogue is damaged", where=str(file), fix="Restore catalogue.sqlite from a back-up"
            )
        _check_system(db, file)
        if found < SCHEMA:
            if not write:
                copy = sqlite3.connect(":memory:", isolation_level=None)
                copy.text_factory = _text
                db.backup(copy)
                db.close()
                db = copy
            _migrate(db, found)
        if write:
            seals.watch(db)
    except (sqlite3.Error, ValueError, KeyError, TypeError) as error:
        if db is not None:
            db.close()
        raise ProjectError(f"the project's catalogue can't be read ({error})", where=str(file)) from error
    except ProjectError:
        if db is not None:
            db.close()
        raise
    return db


def create(path: Path, crs: str) -> sqlite3.Connection:
    """Make the catalogue of a new project."""
    db = _open(path / "catalogue.sqlite", write=True)
    with Transaction(db):
        _make_tables(db)
        seals.watch(db)
        rows = {"schema": str(SCHEMA), "crs": crs, "created": now()}
        db.executemany("INSERT INTO meta VALUES(?,?)", rows.items())
    return db


def _open(file: Path, write: bool) -> sqlite3.Connection:
    if not write and not os.access(file.parent, os.W_OK):
        return _copy(file)
    uri = file.resolve().as_uri() + ("" if write else "?mode=ro")
    db = sqlite3.connect(uri, uri=True, isolation_level=None, timeout=10)
    db.text_factory = _text
    if write:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=FULL")
    return db


def _text(raw: bytes) -> str:
    """A damaged letter is no error of the library's, but of the text that it stands in: whoever reads that will tell."""
    return raw.decode("utf-8", "replace")


def _copy(file: Path) -> sqlite3.Connection:
    """A catalogue in memory: where nothing can be written the log beside it could not be followed."""
    with tempfile.TemporaryDirectory() as place:
        for each in (file, file.with_name(file.name + "-wal")):
            if each.exists():
                shutil.copyfile(each, Path(place) / each.name)
        there = sqlite3.connect(str(Path(place) / file.name), isolation_level=None)
        try:
            db = sqlite3.connect(":memory:", isolation_level=None)
            db.text_factory = _text
            there.backup(db)
        finally:
            there.close()
    return db


def _check_system(db: sqlite3.Connection, file: Path) -> None:
    row = db.execute("SELECT value FROM meta WHERE key='crs'").fetchone()
    try:
        parse_crs(str(row[0]) if row else "")
    except CrsError as error:
        raise ProjectError(
            "the row of the project's coordinate system is missing or damaged",
            where=str(file),
            fix="Restore catalogue.sqlite from a back-up",
        ) from error


def _make_tables(db: sqlite3.Connection) -> None:
    for statement in own_tables.FOURTH:
        db.execute(statement)


# ---- long texts


def fold(db: sqlite3.Connection, value: Any) -> Any:
    """Return a value in which every long text is replaced by its name; the texts go into the catalogue."""
    if isinstance(value, str) and len(value) > _LONG:
        name = hashlib.blake2b(value.encode(), digest_size=16).hexdigest()
        db.execute("INSERT OR IGNORE INTO text VALUES(?,?)", (name, value))
        return {"@text": name}
    if isinstance(value, dict):
        return {k: fold(db, v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [fold(db, v) for v in value]
    return value


def unfold(db: sqlite3.Connection, value: Any) -> Any:
    """Return a value with its long texts put back."""
    if isinstance(value, dict):
        if set(value) == {"@text"}:
            row = db.execute("SELECT text FROM text WHERE name=?", (value["@text"],)).fetchone()
            if row is None:
                raise ProjectError("a text of the project is missing", where=str(value["@text"]))
            if hashlib.blake2b(str(row[0]).encode(), digest_size=16).hexdigest() != value["@text"]:
                raise ProjectError("a text of the project is damaged", where=str(value["@text"]))
            return row[0]
        return {k: unfold(db, v) for k, v in value.items()}
    if isinstance(value, list):
        return [unfold(db, v) for v in value]
    return value


def names_of_texts(value: Any) -> set[str]:
    """Names of the long texts that a folded value uses."""
    if isinstance(value, dict):
        if set(value) == {"@text"}:
            return {str(value["@text"])}
        return set().union(*(names_of_texts(v) for v in value.values()))
    if isinstance(value, list):
        return set().union(*(names_of_texts(v) for v in value))
    return set()


# ---- migrations: each takes the catalogue from its number to the next, within one transaction


def _migrate(db: sqlite3.Connection, found: int) -> None:
    with Transaction(db):
        for number in range(found, SCHEMA):
            _STEPS[number](db)
        db.execute("UPDATE meta SET value=? WHERE key='schema'", (str(SCHEMA),))
        seals.make(db)


# Operations of the first schema whose result became a new version of an input: their input slot.
_EDITS_OF_1 = {
    "merge-holes": "holes",
    "arrange-page": "page",
    "group-codes": "holes",
    "correct": "item",
    "lift-corrections": "item",
    "exclude-spikes": "lines",
    "draw-feature": "features",
    "edit-corner": "features",
    "split-features": "features",
    "join-features": "features",
    "edit-features": "features",
    "merge-by-unit": "features",
    "level-by-unit": "samples",
    "principal-components": "samples",
    "compute-column": "item",
    "diurnal-correction": "lines",
    "add-holes": "holes",
}


def _from_1(db: sqlite3.Connection) -> None:
    """Recipes become origins with the version that an edit changed; changes get causes; heads get places."""
    rows = db.execute(
        "SELECT id, item, kind, manifest, recipe, facts, bounds, attributes, crs, made_at FROM version ORDER BY id"
    ).fetchall()
    heads = db.execute("SELECT key, state FROM head ORDER BY rowid").fetchall()
    legends = db.execute("SELECT key, state FROM legend").fetchall()
    changes = db.execute("SELECT id, label, at, done, entries FROM change ORDER BY id").fetchall()
    kept = {name: db.execute(f"SELECT key, value FROM {name}").fetchall() for name in ("meta", "workspace")}
    for name in ("version", "head", "legend", "change", "meta", "workspace"):
        db.execute(f"DROP TABLE {name}")
    _make_tables(db)
    for name, values in kept.items():
        db.executemany(f"INSERT INTO {name} VALUES(?,?)", values)
    before = {}  # version -> the one its item pointed to when it came
    for *_, text in changes:
        for table, _key, old, new in json.loads(text):
            if table == "head" and old and new and old["version"] != new["version"]:
                before[new["version"]] = old["version"]
    last: dict[str, int] = {}
    origin_of: dict[int, int] = {}
    keys: dict[int, str] = {}
    for number, item, kind, manifest, recipe, *rest in rows:
        origin = None
        if recipe:
            step, parent = Recipe.from_json(json.loads(recipe)), None
            base = before.get(number, last.get(item))
            if step.operation in _EDITS_OF_1 and base is not None:
                step = Recipe.from_json(step.to_json() | {"base": _EDITS_OF_1[step.operation]})
                parent = origin_of.get(base)
            key = step.key(keys.get(parent or 0, ""))
            text = json.dumps(fold(db, step.to_json()))
            origin = db.execute("INSERT INTO origin(parent,recipe,key) VALUES(?,?,?)", (parent, text, key)).lastrowid
            origin_of[number], keys[origin or 0] = origin or 0, key
        folded = json.dumps(fold(db, json.loads(manifest)))
        db.execute("INSERT INTO version VALUES(?,?,?,?,?,?,?,?,?,?)", (number, item, kind, folded, origin, *rest))
        last[item] = number
    places = {}
    view = {key: json.loads(value) for key, value in kept["workspace"]}
    lit, colours, looks = list(view.get("lit", [])), view.get("colour_by", {}), view.get("looks", {})
    for place, (key, state) in enumerate(heads):
        places[key] = float(place)
        style = dict(looks.get(key, {})) | ({"colour_by": colours[key]} if key in colours else {})
        more = {"place": float(place), "lit": lit.index(key) + 1 if key in lit else 0, "style": style}
        db.execute("INSERT INTO head VALUES(?,?)", (key, json.dumps(json.loads(state) | more)))
    db.execute("DELETE FROM workspace WHERE key IN ('lit', 'colour_by', 'looks')")
    db.executemany("INSERT INTO legend VALUES(?,?)", legends)
    for number, label, at, done, text in changes:
        moves = json.loads(text)
        for move in moves:
            for side in (2, 3):
                if move[0] == "head" and move[side] is not None:
                    move[side]["place"] = places.setdefault(move[1], float(len(places)))
            if move[0] == "head" and move[2] is not None and move[3] is not None:
                moved = [k for k in move[3] if move[2].get(k) != move[3][k]]
                move[2], move[3] = ({k: side.get(k) for k in moved} for side in (move[2], move[3]))
        cause = None
        if label.startswith("Refresh "):  # what followed from the change before it
            row = db.execute("SELECT max(id) FROM change WHERE cause IS NULL AND done=?", (done,)).fetchone()
            cause = row[0]
        db.execute("INSERT INTO change VALUES(?,?,?,?,?,0,?)", (number, label, at, done, cause, json.dumps(moves)))


def _from_2(db: sqlite3.Connection) -> None:
    """Attributes get quantity and role beside their unit: those that their names tell."""
    for number, text in db.execute("SELECT id, attributes FROM version").fetchall():
        units: dict[str, str] = json.loads(text)
        quantities, roles = told_of_old({name: Attribute(unit) for name, unit in units.items()})
        told = {n: Attribute(u, quantities[n], roles.get(n, "")).to_json() for n, u in units.items()}
        db.execute("UPDATE version SET attributes=? WHERE id=?", (json.dumps(told), number))


def _from_3(db: sqlite3.Connection) -> None:
    """Rows get their seals, which every migration ends with."""


_STEPS: dict[int, Callable[[sqlite3.Connection], None]] = {1: _from_1, 2: _from_2, 3: _from_3}
