"""The project store: a folder with an SQLite catalogue and immutable payload files.

Every change is one transaction that moves pointers from old versions to new ones and records
the pointers before and after, so undo and redo are the same movement in both directions.
Payload files are written and flushed before the transaction that makes them reachable; a crash
at any moment therefore loses at most the change under way.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import uuid
from collections import OrderedDict
from collections.abc import Iterable, Mapping
from datetime import datetime
from pathlib import Path
from typing import IO, Any, Literal

from ..crs import parse_crs
from ..errors import ProjectError
from ..items.base import Item
from ..items.legend import Legend
from ..signal import Signal
from . import lock, payload
from .records import Entry, Notice, Recipe, Result

SCHEMA = 1
_TABLES = """
CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE version(id INTEGER PRIMARY KEY AUTOINCREMENT, item TEXT NOT NULL, kind TEXT NOT NULL,
    manifest TEXT NOT NULL, recipe TEXT, facts TEXT NOT NULL, bounds TEXT NOT NULL,
    attributes TEXT NOT NULL, crs TEXT NOT NULL, made_at TEXT NOT NULL);
CREATE TABLE head(key TEXT PRIMARY KEY, state TEXT NOT NULL);
CREATE TABLE legend(key TEXT PRIMARY KEY, state TEXT NOT NULL);
CREATE TABLE change(id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, at TEXT NOT NULL,
    done INTEGER NOT NULL, entries TEXT NOT NULL);
CREATE TABLE workspace(key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
State = dict[str, Any]
# One moved pointer: table, key, state before, state after (None: not there).
Move = tuple[Literal["head", "legend"], str, State | None, State | None]


def stage(folder: Path, item: Item) -> Result:
    """Write the parts of an item into a folder and return what the catalogue needs to know."""
    return Result(item.name, payload.write_item(folder, item), item.facts, item.bounds, item.attributes, item.crs)


class Store:
    """An open project. Use `create` or `open`; call `close` at the end, or use it in ``with``."""

    def __init__(self, path: Path, connection: sqlite3.Connection, handle: IO[str] | None) -> None:
        self.path, self._db, self._lock = path, connection, handle
        self.changed: Signal[[Notice]] = Signal()
        self._cache: OrderedDict[int, Item] = OrderedDict()
        self._entries: dict[str, Entry] | None = None

    # ---- opening and closing

    @classmethod
    def create(cls, path: Path | str, crs: str) -> Store:
        """Make a new, empty project folder.

        Raises
        ------
        ProjectError, CrsError
            When the folder exists and is not empty, or the CRS is not a projected one in metres.
        """
        parse_crs(crs)
        path = _with_suffix(Path(path))
        if path.exists() and any(path.iterdir()):
            raise ProjectError("there is something of that name already", where=str(path), fix="Choose another name")
        try:
            (path / "payloads").mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise ProjectError(f"can't make the project folder ({error.strerror})", where=str(path)) from error
        handle = lock.take(path)
        db = _connect(path, write=True)
        with db:
            db.execute("BEGIN IMMEDIATE")
            for statement in _TABLES.split(";"):
                if statement.strip():
                    db.execute(statement)
            rows = {"schema": str(SCHEMA), "crs": crs, "created": _now()}
            db.executemany("INSERT INTO meta VALUES(?,?)", rows.items())
        return cls(path, db, handle)

    @classmethod
    def open(cls, path: Path | str, write: bool = True) -> Store:
        """Open a project.

        Raises
        ------
        ProjectBusy
            When `write` and another process writes.
        ProjectError
            When there is no project, or it was made by a newer version.
        """
        path = Path(path)
        if not (path / "catalogue.sqlite").is_file():
            raise ProjectError(
                "there is no Inner Lamp project here", where=str(path), fix="A project is a folder that ends in .lamp"
            )
        handle = lock.take(path) if write else None
        try:
            db = _connect(path, write)
            row = db.execute("SELECT value FROM meta WHERE key='schema'").fetchone()
            if row is None or int(row[0]) > SCHEMA:
                raise ProjectError("the project was made by a newer version", where=str(path), fix="Update Inner Lamp")
        except sqlite3.DatabaseError as error:
            if handle:
                handle.close()
            raise ProjectError(
                f"the project's catalogue can't be read ({error})", where=str(path / "catalogue.sqlite")
            ) from error
        except ProjectError:
            if handle:
                handle.close()
            raise
        store = cls(path, db, handle)
        if write:
            shutil.rmtree(path / "staging", ignore_errors=True)
            for rest in (path / "payloads").glob("*/.*.part"):
                rest.unlink(missing_ok=True)
        return store

    def close(self) -> None:
        """Close the catalogue and give the lock back."""
        self._db.close()
        if self._lock:
            self._lock.close()
            self._lock = None

    def __enter__(self) -> Store:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @property
    def writable(self) -> bool:
        return self._lock is not None

    @property
    def payloads(self) -> Path:
        return self.path / "payloads"

    @property
    def name(self) -> str:
        return self.path.stem

    @property
    def crs(self) -> str:
        return str(self._db.execute("SELECT value FROM meta WHERE key='crs'").fetchone()[0])

    # ---- reading

    def entries(self) -> list[Entry]:
        """All items as they are now, in the order in which they were made."""
        if self._entries is None:
            rows = self._db.execute(
                "SELECT h.key, h.state, v.kind, v.recipe, v.facts, v.bounds, v.attributes, v.crs, v.made_at "
                "FROM head h JOIN version v ON v.id = json_extract(h.state, '$.version') ORDER BY h.rowid"
            )
            found = {}
            for key, state_text, kind, recipe, facts, bounds, attributes, crs, made_at in rows:
                state = json.loads(state_text)
                found[key] = Entry(
                    key, kind, state["name"], state["version"], state.get("held", False), state.get("dated", ""),
                    Recipe.from_json(json.loads(recipe)) if recipe else None,
                    json.loads(facts), tuple(json.loads(bounds)), json.loads(attributes), crs, made_at,
                )  # fmt: skip
            self._entries = found
        return list(self._entries.values())

    def entry(self, item: str) -> Entry:
        """The present state of one item.

        Raises
        ------
        ProjectError
            When there is no such item.
        """
        self.entries()
        assert self._entries is not None
        if item not in self._entries:
            raise ProjectError(f"there is no item '{item}'", where=self.name)
        return self._entries[item]

    def find(self, text: str) -> Entry:
        """Find an item by id or by name (case ignored).

        Raises
        ------
        ProjectError
            When none or several match.
        """
        hits = [e for e in self.entries() if e.id == text] or [
            e for e in self.entries() if e.name.lower() == text.lower()
        ]
        if len(hits) == 1:
            return hits[0]
        names = ", ".join(e.name for e in self.entries()) or "none yet"
        if hits:
            raise ProjectError(
                f"several items are called '{text}'",
                where=self.name,
                fix="Name it by its id: " + ", ".join(e.id for e in hits),
            )
        raise ProjectError(f"there is no item '{text}'", where=self.name, fix=f"There are: {names}")

    def manifest(self, version: int) -> payload.Manifest:
        """Where the parts of a version are."""
        row = self._db.execute("SELECT manifest FROM version WHERE id=?", (version,)).fetchone()
        if row is None:
            raise ProjectError(f"there is no version {version}", where=self.name)
        found: payload.Manifest = json.loads(row[0])
        return found

    def load(self, item: str, version: int | None = None) -> Item:
        """Read an item (its present version unless told otherwise); recent ones are kept at hand."""
        number = self.entry(item).version if version is None else version
        if number not in self._cache:
            self.keep(number, payload.read_item(self.payloads, self.manifest(number)))
        self._cache.move_to_end(number)
        return self._cache[number]

    def loaded(self, version: int) -> bool:
        """Whether `load` would answer at once."""
        return version in self._cache

    def keep(self, version: int, item: Item) -> None:
        """Remember an item that was read elsewhere, such as in a reader thread."""
        self._cache[version] = item
        while len(self._cache) > 64:
            self._cache.popitem(last=False)

    def versions(self, item: str) -> list[tuple[int, str]]:
        """All kept versions of an item with the time each was made, oldest first."""
        return [
            (int(i), str(t))
            for i, t in self._db.execute("SELECT id, made_at FROM version WHERE item=? ORDER BY id", (item,))
        ]

    # ---- changing

    def add(
        self,
        results: Mapping[str, Result] | Iterable[Result],
        label: str,
        recipes: Mapping[str, Recipe] | None = None,
        replace: Mapping[str, str] | None = None,
    ) -> dict[str, str]:
        """Store new items, or new versions of the items named in `replace` (slot to item id).

        Returns the item id of each slot. One undoable change, whatever it holds.
        """
        by_slot = dict(results) if isinstance(results, Mapping) else {str(i): r for i, r in enumerate(results)}
        ids: dict[str, str] = {}
        moves: list[Move] = []
        with self._transaction() as db:
            for slot, result in by_slot.items():
                old = (replace or {}).get(slot)
                item = old or uuid.uuid4().hex[:12]
                recipe = (recipes or {}).get(slot)
                cursor = db.execute(
                    "INSERT INTO version(item,kind,manifest,recipe,facts,bounds,attributes,crs,made_at) VALUES(?,?,?,?,?,?,?,?,?)",
                    (
                        item, result.manifest["kind"], json.dumps(result.manifest),
                        json.dumps(recipe.to_json()) if recipe else None, json.dumps(result.facts),
                        json.dumps(result.bounds), json.dumps(result.attributes), result.crs, _now(),
                    ),
                )  # fmt: skip
                before = self._state("head", item) if old else None
                after = dict(before or {"name": self._free_name(result.name, ids), "held": False})
                after["version"] = cursor.lastrowid
                moves.append(("head", item, before, after))
                ids[slot] = item
                self._move(db, moves[-1], forward=True)
            self._record(db, label, moves)
        self._tell(moves, forward=True, label=label)
        return ids

    def put(self, item: Item, label: str = "", recipe: Recipe | None = None) -> str:
        """Store one new item and return its id."""
        result = stage(self.payloads, item)
        return self.add({"0": result}, label or f"Add {item.name}", {"0": recipe} if recipe else None)["0"]

    def rename(self, item: str, name: str) -> None:
        """Call an item something else."""
        if not name.strip():
            raise ProjectError("an item needs a name", where=self.entry(item).name)
        self._edit_heads(f"Rename {self.entry(item).name}", {item: {"name": name.strip()}})

    def hold(self, item: str, held: bool = True) -> None:
        """Stop remaking an item when its inputs change, or allow it again."""
        self._edit_heads(f"{'Hold' if held else 'Release'} {self.entry(item).name}", {item: {"held": held}})

    def remove(self, items: Iterable[str], label: str = "") -> None:
        """Take items off the shelf. Undo brings them back."""
        chosen = list(items)
        moves: list[Move] = [("head", i, self._state("head", i), None) for i in chosen]
        self._commit(label or "Remove " + ", ".join(self.entry(i).name for i in chosen), moves)

    def lineage(self, item: str) -> str:
        """Id of the item whose versions an item shows: its own, or for a dated copy that of the original."""
        row = self._db.execute("SELECT item FROM version WHERE id=?", (self.entry(item).version,)).fetchone()
        return str(row[0])

    def dated_copy(self, item: str, version: int | None = None) -> str:
        """Make a copy of the present or an earlier version that never changes; it costs no space. Returns its id."""
        entry = self.entry(item)
        made = dict(self.versions(item))
        at = _now() if version is None else made[version]
        state = {
            "version": entry.version if version is None else version,
            "name": f"{entry.name} · {at[:16].replace('T', ' ')}",
            "held": True,
            "dated": at,
        }
        key = uuid.uuid4().hex[:12]
        self._commit(f"Dated copy of {entry.name}", [("head", key, None, state)])
        return key

    def legend(self, attribute: str) -> Legend | None:
        """The stored legend of an attribute, or None."""
        state = self._state("legend", attribute)
        return Legend.from_json(state) if state else None

    def set_legend(self, legend: Legend) -> None:
        """Change how an attribute is coloured, everywhere."""
        before = self._state("legend", legend.attribute)
        self._commit(f"Legend of {legend.attribute}", [("legend", legend.attribute, before, legend.to_json())])

    # ---- undo

    def undo_label(self) -> str:
        """What undo would take back, or ''."""
        row = self._db.execute("SELECT label FROM change WHERE done=1 ORDER BY id DESC LIMIT 1").fetchone()
        return str(row[0]) if row else ""

    def redo_label(self) -> str:
        """What redo would do again, or ''."""
        row = self._db.execute("SELECT label FROM change WHERE done=0 ORDER BY id LIMIT 1").fetchone()
        return str(row[0]) if row else ""

    def undo(self) -> str:
        """Take the last change back; returns its label, '' when there is none."""
        return self._shift("SELECT id, label, entries FROM change WHERE done=1 ORDER BY id DESC LIMIT 1", forward=False)

    def redo(self) -> str:
        """Do the change taken back last again; returns its label, '' when there is none."""
        return self._shift("SELECT id, label, entries FROM change WHERE done=0 ORDER BY id LIMIT 1", forward=True)

    def history(self) -> list[tuple[str, str, bool]]:
        """All changes: time, label, whether done (not taken back)."""
        return [(a, b, bool(c)) for a, b, c in self._db.execute("SELECT at, label, done FROM change ORDER BY id")]

    # ---- workspace (view state; saved, but not undone)

    def workspace(self, key: str, default: Any = None) -> Any:
        """A remembered view setting."""
        row = self._db.execute("SELECT value FROM workspace WHERE key=?", (key,)).fetchone()
        return json.loads(row[0]) if row else default

    def set_workspace(self, values: Mapping[str, Any]) -> None:
        """Remember view settings; ignored in a project opened read-only."""
        if self.writable:
            with self._transaction() as db:
                db.executemany(
                    "INSERT OR REPLACE INTO workspace VALUES(?,?)", [(k, json.dumps(v)) for k, v in values.items()]
                )

    # ---- upkeep

    def damaged(self) -> dict[str, str]:
        """Check the parts of all present items; returns item id to what is wrong."""
        found = {}
        for entry in self.entries():
            try:
                for name in payload.files_of(self.manifest(entry.version)):
                    payload.read_file(self.payloads, name)
            except ProjectError as error:
                found[entry.id] = str(error)
        return found

    def clean_up(self) -> int:
        """Drop the undo history and every file that no present version uses; returns bytes freed."""
        with self._transaction() as db:
            db.execute("DELETE FROM change")
            db.execute("DELETE FROM version WHERE id NOT IN (SELECT json_extract(state,'$.version') FROM head)")
        used: set[str] = set()
        for (text,) in self._db.execute("SELECT manifest FROM version"):
            used |= payload.files_of(json.loads(text))
        freed = 0
        for file in self.payloads.glob("*/*"):
            if file.name not in used:
                freed += file.stat().st_size
                file.unlink()
        return freed

    # ---- inner workings

    def _transaction(self) -> _Transaction:
        if not self.writable:
            raise ProjectError(
                "the project is open read-only", where=self.name, fix="Close it in the other window first"
            )
        return _Transaction(self._db)

    def _state(self, table: str, key: str) -> State | None:
        row = self._db.execute(f"SELECT state FROM {table} WHERE key=?", (key,)).fetchone()
        return json.loads(row[0]) if row else None

    def _free_name(self, name: str, batch: Mapping[str, str]) -> str:
        taken = {e.name for e in self.entries()} | {
            (self._state("head", i) or {}).get("name", "") for i in batch.values()
        }
        if name not in taken:
            return name
        number = 2
        while f"{name} {number}" in taken:
            number += 1
        return f"{name} {number}"

    def _edit_heads(self, label: str, edits: Mapping[str, State]) -> None:
        moves: list[Move] = []
        for item, edit in edits.items():
            before = self._state("head", item)
            assert before is not None
            moves.append(("head", item, before, {**before, **edit}))
        self._commit(label, moves)

    def _commit(self, label: str, moves: list[Move]) -> None:
        with self._transaction() as db:
            for move in moves:
                self._move(db, move, forward=True)
            self._record(db, label, moves)
        self._tell(moves, forward=True, label=label)

    @staticmethod
    def _move(db: sqlite3.Connection, move: Move, forward: bool) -> None:
        table, key, before, after = move
        state = after if forward else before
        if state is None:
            db.execute(f"DELETE FROM {table} WHERE key=?", (key,))
        else:
            db.execute(
                f"INSERT INTO {table}(key,state) VALUES(?,?) ON CONFLICT(key) DO UPDATE SET state=excluded.state",
                (key, json.dumps(state)),
            )

    @staticmethod
    def _record(db: sqlite3.Connection, label: str, moves: list[Move]) -> None:
        db.execute("DELETE FROM change WHERE done=0")
        db.execute("INSERT INTO change(label,at,done,entries) VALUES(?,?,1,?)", (label, _now(), json.dumps(moves)))

    def _shift(self, query: str, forward: bool) -> str:
        row = self._db.execute(query).fetchone()
        if row is None:
            return ""
        moves: list[Move] = [(m[0], m[1], m[2], m[3]) for m in json.loads(row[2])]
        with self._transaction() as db:
            for move in moves if forward else reversed(moves):
                self._move(db, move, forward)
            db.execute("UPDATE change SET done=? WHERE id=?", (int(forward), row[0]))
        self._tell(moves, forward, label=str(row[1]))
        return str(row[1])

    def _tell(self, moves: list[Move], forward: bool, label: str) -> None:
        self._entries = None
        groups: dict[str, list[str]] = {"added": [], "removed": [], "replaced": [], "renamed": [], "legends": []}
        for table, key, first, second in moves:
            before, after = (first, second) if forward else (second, first)
            if table == "legend":
                groups["legends"].append(key)
            elif before is None:
                groups["added"].append(key)
            elif after is None:
                groups["removed"].append(key)
            elif before["version"] != after["version"]:
                groups["replaced"].append(key)
            else:
                groups["renamed"].append(key)
        self.changed.emit(Notice(**{k: tuple(v) for k, v in groups.items()}, label=label))


class _Transaction:
    """BEGIN IMMEDIATE .. COMMIT, or ROLLBACK when anything is raised."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def __enter__(self) -> sqlite3.Connection:
        self._db.execute("BEGIN IMMEDIATE")
        return self._db

    def __exit__(self, kind: object, *_: object) -> None:
        self._db.execute("ROLLBACK" if kind else "COMMIT")


def _connect(path: Path, write: bool) -> sqlite3.Connection:
    file = (path / "catalogue.sqlite").resolve()
    uri = file.as_uri() + ("" if write else "?mode=ro")
    db = sqlite3.connect(uri, uri=True, isolation_level=None, timeout=10)
    if write:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=FULL")
    return db


def _with_suffix(path: Path) -> Path:
    return path if path.suffix == ".lamp" else path.with_name(path.name + ".lamp")


def _now() -> str:
    return datetime.now().isoformat(timespec="seconds")
