"""How versions came to be, as kept in the catalogue: each step once, linked to the one that it built on."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection
from dataclasses import dataclass

from ..errors import ProjectError
from . import catalogue, row_models
from .records import Recipe


@dataclass(frozen=True)
class _Origin:
    parent: int | None
    recipe: Recipe
    key: str


class Origins:
    """Reads and extends the chains of steps; what was read is kept, since a step never changes."""

    def __init__(self, db: sqlite3.Connection, broken: Collection[int] = ()) -> None:
        self._db, self._broken = db, broken
        self._known: dict[int, _Origin] = {}

    def _path(self, origin: int | None) -> list[int]:
        """Ids from the last step to the first."""
        out: list[int] = []
        while origin is not None:
            if origin in out[-1:]:
                raise ProjectError("the catalogue has a step that builds on itself", where=str(origin))
            if origin not in self._known:
                row = self._db.execute("SELECT parent, recipe, key FROM origin WHERE id=?", (origin,)).fetchone()
                if row is None:
                    raise ProjectError(f"the catalogue lacks the step {origin}")
                if origin in self._broken:
                    raise ValueError(f"the row of the step {origin} is damaged")
                parent = int(row[0]) if row[0] is not None else None
                if parent is not None and parent >= origin:
                    raise ProjectError("the catalogue has a step that builds on itself", where=str(origin))
                recipe = row_models.step(catalogue.unfold(self._db, json.loads(row[1])))
                self._known[origin] = _Origin(parent, recipe, row[2])
            out.append(origin)
            origin = self._known[origin].parent
        return out

    def chain(self, origin: int | None) -> tuple[Recipe, ...]:
        """The steps that led to an origin, the first one first."""
        # Put together when it is asked for: kept for each version, the chains of n edits would hold n squared steps.
        return tuple(self._known[i].recipe for i in reversed(self._path(origin)))

    def needs(self, origin: int | None) -> frozenset[tuple[str, int]]:
        """All (item, version) pairs that the steps were made from."""
        # Put together when it is asked for, as chains are: kept for each step, they would be n squared of them.
        return frozenset(pair for i in self._path(origin) for pair in self._known[i].recipe.pairs)

    def extend(self, parent: int | None, steps: tuple[Recipe, ...]) -> int | None:
        """Write steps on top of a chain, within the caller's transaction; returns the last one's id."""
        key = ""
        if parent is not None:
            self._path(parent)
            key = self._known[parent].key
        for step in steps:
            key = step.key(key)
            text = json.dumps(catalogue.fold(self._db, step.to_json()))
            row = self._db.execute("INSERT INTO origin(parent,recipe,key) VALUES(?,?,?)", (parent, text, key))
            parent = int(row.lastrowid or 0)
        return parent

    def drop_unused(self) -> None:
        """Delete steps and long texts that no version needs, within the caller's transaction."""
        used: set[int] = set()
        for (origin,) in self._db.execute("SELECT DISTINCT origin FROM version WHERE origin IS NOT NULL").fetchall():
            used |= set(self._path(int(origin)))
        rows = self._db.execute("SELECT id FROM origin").fetchall()
        self._db.executemany("DELETE FROM origin WHERE id=?", [(i,) for (i,) in rows if i not in used])
        texts: set[str] = set()
        for query in ("SELECT recipe FROM origin", "SELECT manifest FROM version"):
            for (text,) in self._db.execute(query):
                texts |= catalogue.names_of_texts(json.loads(text))
        names = self._db.execute("SELECT name FROM text").fetchall()
        self._db.executemany("DELETE FROM text WHERE name=?", [(n,) for (n,) in names if n not in texts])
        self._known = {i: o for i, o in self._known.items() if i in used}
