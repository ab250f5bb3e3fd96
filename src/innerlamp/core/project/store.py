"""The project store: a folder with an SQLite catalogue and immutable payload files.

Every change is one transaction that moves pointers from old versions to new ones and records
what it moved, so undo and redo are the same movement in both directions. A change that only made
fresh what an earlier one had turned stale names that one as its cause, and goes back and forth
with it. Payload files are written and flushed before the transaction that makes them reachable; a
crash at any moment therefore loses at most the change under way.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import sqlite3
import uuid
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from ..crs import parse_crs
from ..errors import ProjectError
from ..items.base import Item
from ..items.legend import Legend
from ..items.style import Style
from ..shown import plain_name
from . import catalogue, ground_rules, lock, payload
from .catalogue import now
from .freshness import found_again
from .history import Move
from .records import Line, Recipe, Result
from .upkeep import Upkeep


class Moved(ProjectError):
    """An item changed between the moment a change of it was prepared and the moment it was to be stored."""


def stage(folder: Path, item: Item, there: Sequence[payload.Written] = ()) -> Result:
    """Write the parts of an item into a folder and return what the catalogue needs to know; see `payload.write_item`."""
    manifest = payload.write_item(folder, item, there)
    return Result(item.name, manifest, item.facts, item.bounds, item.attributes, item.crs)


class Store(Upkeep):
    """An open project. Use `create` or `open`; call `close` at the end, or use it in ``with``."""

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
        fresh = path.with_name(f".{path.name}.{os.getpid()}.new")
        try:
            if path.is_symlink() or (path.exists() and (not path.is_dir() or any(path.iterdir()))):
                raise ProjectError(
                    "there is something of that name already", where=str(path), fix="Choose another name"
                )
            # Made aside and moved to its place when it is whole: what is broken off leaves nothing there.
            (fresh / "payloads").mkdir(parents=True)
            catalogue.create(fresh, crs).close()
            fresh.rename(path)
            payload.sync_folder(path.parent)
            handle = lock.take(path)
            return cls(path, catalogue.connect(path, True), handle)
        except (OSError, sqlite3.Error) as error:
            why = error.strerror if isinstance(error, OSError) else str(error)
            raise ProjectError(f"can't make the project folder ({why})", where=str(path)) from error
        finally:
            shutil.rmtree(fresh, ignore_errors=True)

    @classmethod
    def open(cls, path: Path | str, write: bool = True) -> Store:
        """Open a project; one of an earlier schema is brought to the present one.

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
        ground_rules.check(path, write)
        handle = lock.take(path) if write else None
        with contextlib.ExitStack() as undone:
            if handle:
                undone.callback(handle.close)
            db = catalogue.connect(path, write)
            undone.callback(db.close)
            store = cls(path, db, handle)
            undone.pop_all()
        if write:
            shutil.rmtree(path / "staging", ignore_errors=True)
            for rest in (path / "payloads").glob("*/.*.part"):
                rest.unlink(missing_ok=True)
        return store

    # ---- changing

    def add(
        self,
        results: Mapping[str, Result] | Iterable[Result],
        label: str,
        recipes: Mapping[str, Recipe | Line] | None = None,
        replace: Mapping[str, str] | None = None,
        *,
        expect: Mapping[str, int] | None = None,
        cause: int | None = None,
        light: Collection[str] = (),
        items: Mapping[str, Item] | None = None,
    ) -> dict[str, str]:
        """Store new items, or new versions of the items named in `replace` (slot to item id).

        Parameters
        ----------
        recipes
            How each was made: a run, an edit of the present version, or a whole line of steps.
        expect
            Version that each replaced item must still point to.
        cause
            Change that this one only follows from (see `History`); None for what a user did.
        light
            Slots whose new items are lit at once.
        items
            The items themselves where they are in memory, so that nobody reads them again.

        Returns the item id of each slot. One undoable change, whatever it holds.

        Raises
        ------
        Moved
            When a replaced item points elsewhere by now; nothing is stored then.
        """
        by_slot = dict(results) if isinstance(results, Mapping) else {str(i): r for i, r in enumerate(results)}
        ids: dict[str, str] = {}
        moves: list[Move] = []
        before = self._before()
        with self._transaction() as db:
            for item, version in (expect or {}).items():
                present = self._state("head", item)
                if present is None or present["version"] != version:
                    raise Moved("the item was changed meanwhile", where=before[item].name if item in before else item)
            fresh_bytes = 0
            for slot, result in by_slot.items():
                old = (replace or {}).get(slot)
                item = old or uuid.uuid4().hex[:12]
                state = self._state("head", item) if old else None
                made = (recipes or {}).get(slot)
                start = (state or {}).get("version", 0)
                line = Line((made,), start if made.is_edit else 0) if isinstance(made, Recipe) else made
                version = self._insert(item, result, line)
                if items and slot in items:
                    self.keep(version, items[slot])
                fresh_bytes += payload.size_of(self.payloads, result.manifest)
                if state is None:
                    name = self._free_name(result.name, ids)
                    moves.append(
                        (
                            "head",
                            item,
                            None,
                            {
                                "name": name,
                                "held": False,
                                "version": version,
                                "place": self._last("place") + 1,
                                "lit": int(self._last("lit")) + 1 if slot in light else 0,
                            },
                        )
                    )
                else:
                    moves.append(("head", item, {"version": state["version"]}, {"version": version}))
                ids[slot] = item
                self._apply(db, moves[-1], forward=True)
            self.history.record(label, moves, cause, fresh_bytes)
        self._tell(before, label)
        return ids

    def put_aside(self, item: str, result: Result, line: Line) -> int:
        """Keep a version that no item points to, so that it is found when it is needed again."""
        with self._transaction():
            return self._insert(item, result, line)

    def point(self, versions: Mapping[str, int], label: str, cause: int | None = None) -> None:
        """Let items point to versions that they had or that were put aside."""
        moves: list[Move] = [
            ("head", i, {"version": self.entry(i).version}, {"version": v}) for i, v in versions.items()
        ]
        self._commit(label, moves, cause)

    def put(self, item: Item, label: str = "", recipe: Recipe | None = None) -> str:
        """Store one new item and return its id."""
        result = stage(self.payloads, item)
        return self.add({"0": result}, label or f"Add {item.name}", {"0": recipe} if recipe else None)["0"]

    def rename(self, item: str, name: str) -> None:
        """Call an item something else."""
        name = plain_name(name)
        if not name:
            raise ProjectError("an item needs a name", where=self.entry(item).name)
        self._edit_head(f"Rename {self.entry(item).name}", item, "name", name)

    def hold(self, item: str, held: bool = True) -> None:
        """Stop remaking an item when its inputs change, or allow it again."""
        self._edit_head(f"{'Hold' if held else 'Release'} {self.entry(item).name}", item, "held", held)

    def light(self, items: Mapping[str, bool], label: str = "") -> None:
        """Light or dim items: what is lit is drawn in all panes, what was lit last on top."""
        number = int(self._last("lit"))
        moves: list[Move] = []
        for item, on in items.items():
            entry = self.entry(item)
            if on != bool(entry.lit):
                number += on
                moves.append(("head", item, {"lit": entry.lit}, {"lit": number if on else 0}))
        if moves:
            one = f"{'Light' if next(iter(items.values())) else 'Dim'} {self.entry(moves[0][1]).name}"
            self._commit(label or (one if len(moves) == 1 else "Light and dim items"), moves)

    def restyle(self, item: str, style: Style) -> None:
        """Change how an item is drawn."""
        entry = self.entry(item)
        if style != entry.style:
            move: Move = ("head", item, {"style": entry.style.to_json()}, {"style": style.to_json()})
            self._commit(f"Style of {entry.name}", [move])

    def remove(self, items: Iterable[str], label: str = "") -> None:
        """Take items off the shelf. Undo brings them back to where they were."""
        chosen = list(dict.fromkeys(items))
        names = ", ".join(self.entry(i).name for i in chosen)
        self._commit(label or f"Remove {names}", [("head", i, self._state("head", i), None) for i in chosen])

    def lineage(self, item: str) -> str:
        """Id of the item whose versions an item shows: its own, or for a dated copy that of the original."""
        row = self._db.execute("SELECT item FROM version WHERE id=?", (self.entry(item).version,)).fetchone()
        return str(row[0])

    def dated_copy(self, item: str, version: int | None = None) -> str:
        """Make a copy of the present or an earlier version that never changes; it costs no space. Returns its id."""
        entry = self.entry(item)
        made = dict(self.versions(item))
        at = now() if version is None else made[version]
        state = {
            "version": entry.version if version is None else version,
            "name": f"{entry.name} · {at[:16].replace('T', ' ')}",
            "held": True,
            "dated": at,
            "place": self._last("place") + 1,
        }
        key = uuid.uuid4().hex[:12]
        self._commit(f"Dated copy of {entry.name}", [("head", key, None, state)])
        return key

    def set_legend(self, legend: Legend) -> None:
        """Change how an attribute is coloured, everywhere."""
        broken = ("legend", legend.attribute) in self._broken
        before = None if broken else self._state("legend", legend.attribute)
        self._commit(f"Legend of {legend.attribute}", [("legend", legend.attribute, before, legend.to_json())])

    # ---- undo

    def undo(self) -> str:
        """Take back the last thing the user did and what was made fresh because of it; its label, '' for none.

        Items that are stale after that point to versions that fit again, where there are any.
        """
        return self._shift(forward=False)

    def redo(self) -> str:
        """Do the change taken back last again; returns its label, '' when there is none."""
        return self._shift(forward=True)

    def _shift(self, forward: bool) -> str:
        group = self.history.group(done=not forward)
        if not group:
            return ""
        before = self._before()
        legends: list[str] = []
        with self._transaction() as db:
            for change in group if forward else reversed(group):
                for move in change.moves if forward else reversed(change.moves):
                    self._apply(db, move, forward)
                    legends += [move[1]] if move[0] == "legend" else []
                self.history.mark(change.id, done=forward)
            self._entries = None
            again = found_again(self.entries(), self.version_of, self.same)
            settled: list[Move] = [
                ("head", i, {"version": self.entry(i).version}, {"version": v}) for i, v in again.items()
            ]
            for move in settled:
                self._apply(db, move, forward=True)
            if settled:
                self.history.record("Found again", settled, self.history.last(), 0)
        self._tell(before, group[0].label, tuple(legends))
        return group[0].label

    # ---- workspace (view state; saved, but not undone)

    def set_workspace(self, values: Mapping[str, Any]) -> None:
        """Remember view settings; ignored in a project opened read-only."""
        if self.writable:
            with self._transaction() as db:
                db.executemany(
                    "INSERT OR REPLACE INTO workspace VALUES(?,?)", [(k, json.dumps(v)) for k, v in values.items()]
                )
            self._broken -= {("workspace", key) for key in values}

    # ---- inside

    def _insert(self, item: str, result: Result, line: Line | None) -> int:
        origin = None
        if line is not None:
            start = self._db.execute("SELECT origin FROM version WHERE id=?", (line.start,)).fetchone()
            origin = self._origins.extend(start[0] if start else None, line.steps)
        row = (
            item,
            result.manifest["kind"],
            json.dumps(catalogue.fold(self._db, result.manifest)),
            origin,
            json.dumps(result.facts),
            json.dumps(result.bounds),
            json.dumps({n: a.to_json() for n, a in result.attributes.items()}),
            result.crs,
            now(),
        )
        cursor = self._db.execute(
            "INSERT INTO version(item,kind,manifest,origin,facts,bounds,attributes,crs,made_at) VALUES(?,?,?,?,?,?,?,?,?)",
            row,
        )
        return int(cursor.lastrowid or 0)

    def _last(self, field: str) -> float:
        row = self._db.execute(
            f"SELECT max(CASE WHEN json_valid(state) THEN json_extract(state,'$.{field}') END) FROM head"
        ).fetchone()
        return float(row[0]) if row and row[0] is not None else 0.0

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

    def _edit_head(self, label: str, item: str, field: str, value: Any) -> None:
        state = self._state("head", item)
        assert state is not None
        self._commit(label, [("head", item, {field: state.get(field)}, {field: value})])

    def _commit(self, label: str, moves: list[Move], cause: int | None = None) -> None:
        before = self._before()
        with self._transaction() as db:
            for move in moves:
                self._apply(db, move, forward=True)
            self.history.record(label, moves, cause, 0)
        self._tell(before, label, tuple(key for table, key, *_ in moves if table == "legend"))

    def _apply(self, db: sqlite3.Connection, move: Move, forward: bool) -> None:
        """Move one pointer: a whole state comes or goes, a part of one is put over what is there."""
        table, key, first, second = move
        if (table, key) in self._broken:
            if table == "head":  # sealed anew what is damaged would be taken for whole
                raise self._damaged_head(key, "")
            self._broken.discard((table, key))
        before, after = (first, second) if forward else (second, first)
        if after is None:
            db.execute(f"DELETE FROM {table} WHERE key=?", (key,))
            return
        present = self._state(table, key) if before is not None else {}
        if present is None:  # taken off the shelf since: there is nothing to move
            return
        db.execute(
            f"INSERT INTO {table}(key,state) VALUES(?,?) ON CONFLICT(key) DO UPDATE SET state=excluded.state",
            (key, json.dumps({**present, **after})),
        )


def _with_suffix(path: Path) -> Path:
    return path if path.suffix == ".lamp" else path.with_name(path.name + ".lamp")
