"""An open project as it is read: items, versions, legends, view settings, and what changed since the last look."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import IO, Any, Self

from ..crs import parse_crs
from ..errors import CrsError, ProjectError
from ..items.base import Item
from ..items.kinds import KINDS
from ..items.legend import Legend
from ..shown import clipped
from ..signal import Signal
from . import catalogue, lock, payload, row_models, seals
from .at_hand import ItemsAtHand
from .catalogue import Transaction
from .history import History, State
from .origins import Origins
from .records import Entry, Notice

# Of versions v: their parts are there, and their row is whole.
_HAS_PARTS = "CASE WHEN json_valid(v.manifest) THEN json_extract(v.manifest, '$.trimmed') ELSE 1 END IS NULL"


class ProjectReading:
    """What is read of an open project; `Store` changes it."""

    def __init__(self, path: Path, connection: sqlite3.Connection, handle: IO[str] | None) -> None:
        self.path, self._db, self._lock = path, connection, handle
        self.changed: Signal[[Notice]] = Signal()
        self._broken = _broken_rows(connection, path)
        self.history = History(connection, broken={int(key) for table, key in self._broken if table == "change"})
        self._origins = Origins(connection, {int(key) for table, key in self._broken if table == "origin"})
        self.at_hand = ItemsAtHand()
        self._entries: dict[str, Entry] | None = None
        self._lost: dict[str, str] = {}  # items that the catalogue does not tell any more, and why
        self._known: dict[tuple[str, str], Entry] = {}
        self._same: dict[tuple[int, int, tuple[str, ...] | None], bool] = {}
        self._seen = self._data_version()
        self._legends_seen = {} if handle else self._legend_texts()

    def close(self) -> None:
        """Close the catalogue and give the lock back."""
        self._db.close()
        if self._lock:
            self._lock.close()
            self._lock = None

    def __enter__(self) -> Self:
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
            heads = self._db.execute("SELECT key, state FROM head").fetchall()
            found, self._lost = [], {}
            for key, state in heads:
                if not (isinstance(key, str) and isinstance(state, str)):
                    name = key if isinstance(key, str) else clipped(ascii(key), 40)
                    self._lost[name] = str(self._damaged_head(name, state if isinstance(state, str) else ""))
                    continue
                known = self._known.get((key, state))
                try:
                    found.append(known or self._entry(key, state))
                except ProjectError as error:
                    self._lost[key] = str(error)
                except catalogue.DAMAGED:
                    self._lost[key] = str(self._damaged_head(key, state))
            found.sort(key=lambda e: e.place)
            self._entries = {e.id: e for e in found}
            self._known = {(key, state): self._entries[key] for key, state in heads if key in self._entries}
        return list(self._entries.values())

    def damaged_rows(self) -> dict[str, str]:
        """Items that `entries` leaves out since the catalogue's rows of them are damaged, and legends: id to what is wrong."""
        self.entries()
        legends = sorted(key for table, key in self._broken if table == "legend")
        why = "its row of the catalogue is damaged, so that the usual colours are used"
        told = {
            f"legend {key}": str(ProjectError(why, where=f"Legend of {key}", fix="Set it again")) for key in legends
        }
        return self._lost | told

    def _damaged_head(self, key: str, text: str) -> ProjectError:
        """What to say of an item whose rows in the catalogue can't be read: its name where that is still told."""
        told = re.search(r'"name": ("(?:[^"\\]|\\.)+")', text)
        try:
            name = str(json.loads(told.group(1))) if told else key
        except ValueError:
            name = key
        return ProjectError(
            "its part of the catalogue is damaged; the other items are whole",
            where=name,
            fix="Restore it from a back-up",
        )

    def _entry(self, key: str, text: str) -> Entry:
        state = row_models.head(text)
        if ("head", key) in self._broken or ("version", str(state.version)) in self._broken:
            raise self._damaged_head(key, text)
        row = self._db.execute(
            "SELECT kind, origin, facts, bounds, attributes, crs, made_at FROM version WHERE id=?", (state.version,)
        ).fetchone()
        if row is None:
            raise ProjectError(f"the version of '{state.name}' is not in the catalogue", where=self.name)
        kind, origin, facts, bounds, attributes, crs, made_at = row
        if kind not in KINDS:
            raise ProjectError(
                f"this version does not know items of kind '{clipped(str(kind), 40)}'",
                where=state.name,
                fix="Open the project with a newer Inner Lamp",
            )
        _check_words(crs, made_at)
        needs = frozenset(pair for pair in self._origins.needs(origin) if pair[0] != key)
        return Entry(
            key,
            kind,
            state.name,
            state.version,
            state.held,
            state.dated,
            self._origins.chain(origin),
            needs,
            row_models.facts(facts),
            row_models.bounds(bounds),
            row_models.attributes(attributes),
            crs,
            made_at,
            state.place,
            state.lit,
            state.style,
        )

    def heads(self) -> dict[str, int]:
        """The version that each item points to now."""
        return {e.id: e.version for e in self.entries()}

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
        try:
            found: payload.Manifest = row_models.manifest(catalogue.unfold(self._db, json.loads(row[0])))
        except catalogue.DAMAGED as error:
            raise ProjectError(
                f"the catalogue's entry of version {version} is damaged",
                where=self.name,
                fix="Restore it from a back-up",
            ) from error
        return found

    def same(self, old: int, new: int, attributes: Sequence[str] | None) -> bool:
        """Whether what is used of an item is the same in two versions: its places and some attributes (None: all)."""
        key = (old, new, tuple(attributes) if attributes is not None else None)
        if key not in self._same:
            rows = [
                self._db.execute("SELECT attributes FROM version WHERE id=?", (version,)).fetchone()
                for version in (old, new)
            ]
            known: set[str] = set()
            for row in rows:
                known |= set(json.loads(row[0])) if row else set()
            used = known if attributes is None else attributes
            self._same[key] = all(rows) and payload.unchanged(self.manifest(old), self.manifest(new), known, used)
        return self._same[key]

    def load(self, item: str, version: int | None = None) -> Item:
        """Read an item (its present version unless told otherwise); recent ones are kept at hand."""
        number = self.entry(item).version if version is None else version
        if number not in self.at_hand:  # the version alone tells what to read
            self.keep(number, payload.read_item(self.payloads, self.manifest(number)))
        return self.at_hand.get(number)

    def loaded(self, version: int) -> bool:
        """Whether `load` would answer at once."""
        return version in self.at_hand

    def keep(self, version: int, item: Item) -> None:
        """Remember an item that was read elsewhere, such as in a reader thread."""
        self.at_hand.put(version, item)

    def versions(self, item: str) -> list[tuple[int, str]]:
        """All kept versions of an item with the time each was made, oldest first."""
        return [
            (int(i), str(t))
            for i, t in self._db.execute(
                f"SELECT v.id, v.made_at FROM version v WHERE v.item=? AND {_HAS_PARTS} ORDER BY v.id",
                (item,),
            )
        ]

    def version_of(self, item: str, key: str) -> int:
        """The newest version of an item that a chain of steps of that name made; 0 when there is none."""
        row = self._db.execute(
            "SELECT v.id FROM origin o JOIN version v ON v.origin=o.id WHERE o.key=? AND v.item=?"
            f" AND {_HAS_PARTS} ORDER BY v.id DESC",
            (key, item),
        ).fetchone()
        return int(row[0]) if row else 0

    def follow(self) -> bool:
        """See what another process changed since the last look, and tell it; returns whether anything did.

        For a project that is open read-only while somebody else writes it.
        """
        seen = self._data_version()
        if seen == self._seen:
            return False
        self._seen = seen
        legends = self._legend_texts()
        moved = tuple(k for k in {*legends, *self._legends_seen} if legends.get(k) != self._legends_seen.get(k))
        self._legends_seen = legends
        self._tell(dict(self._entries or {}), "", moved)
        return True

    def _legend_texts(self) -> dict[str, str]:
        return dict(self._db.execute("SELECT key, state FROM legend").fetchall())

    def _data_version(self) -> int:
        return int(self._db.execute("PRAGMA data_version").fetchone()[0])

    # ---- legends, history, view settings

    def legend(self, attribute: str) -> Legend | None:
        """The stored legend of an attribute, or None."""
        if ("legend", attribute) in self._broken:
            return None
        row = self._db.execute("SELECT state FROM legend WHERE key=?", (attribute,)).fetchone()
        return row_models.legend(row[0], attribute) if row else None

    def undo_label(self) -> str:
        """What undo would take back, or ''."""
        return self.history.label(done=True)

    def redo_label(self) -> str:
        """What redo would do again, or ''."""
        return self.history.label(done=False)

    def workspace(self, key: str, default: Any = None) -> Any:
        """A remembered view setting; one that is not of the default's type is not taken."""
        if ("workspace", key) in self._broken:  # how things were looked at is not worth a question
            return default
        row = self._db.execute("SELECT value FROM workspace WHERE key=?", (key,)).fetchone()
        try:
            found = json.loads(row[0]) if row else default
        except catalogue.DAMAGED:
            return default
        if isinstance(default, float) and isinstance(found, int) and not isinstance(found, bool):
            return float(found)
        return found if default is None or type(found) is type(default) else default

    # ---- inside

    def _transaction(self) -> Transaction:
        if not self.writable:
            raise ProjectError(
                "the project is open read-only", where=self.name, fix="Close it in the other window first"
            )
        assert self._lock is not None
        lock.check_held(self.path, self._lock)
        return Transaction(self._db)

    def _state(self, table: str, key: str) -> State | None:
        row = self._db.execute(f"SELECT state FROM {table} WHERE key=?", (key,)).fetchone()
        return json.loads(row[0]) if row else None

    def _before(self) -> dict[str, Entry]:
        self.entries()
        return dict(self._entries or {})

    def _tell(self, old: Mapping[str, Entry], label: str, legends: tuple[str, ...] = ()) -> None:
        self._entries = None
        new = {e.id: e for e in self.entries()}
        both = [i for i, e in new.items() if i in old and e is not old[i]]
        notice = Notice(
            added=tuple(i for i in new if i not in old),
            removed=tuple(i for i in old if i not in new),
            replaced=tuple(i for i in both if new[i].version != old[i].version),
            renamed=tuple(i for i in both if _words(new[i]) != _words(old[i])),
            lit=tuple(i for i in both if new[i].lit != old[i].lit),
            styled=tuple(i for i in both if new[i].style != old[i].style),
            legends=legends,
            label=label,
        )
        self.changed.emit(notice)


def _broken_rows(db: sqlite3.Connection, path: Path) -> set[tuple[str, str]]:
    found = seals.broken(db)
    if any(table == "meta" for table, _ in found):
        raise ProjectError(
            "the row of the project's coordinate system or version is damaged",
            where=str(path / "catalogue.sqlite"),
            fix="Restore catalogue.sqlite from a back-up",
        )
    for key, text in db.execute("SELECT key, state FROM legend"):
        try:
            row_models.legend(text, key)
        except catalogue.DAMAGED:
            found.add(("legend", str(key)))
    return found


def _check_words(crs: str, made_at: str) -> None:
    """Raise ValueError unless the columns of a version hold a coordinate system (or none) and a time."""
    datetime.fromisoformat(made_at)
    if crs:
        try:
            parse_crs(crs)
        except CrsError as error:
            raise ValueError(str(error)) from error


def _words(entry: Entry) -> tuple[str, bool, str, float]:
    return entry.name, entry.held, entry.dated, entry.place
