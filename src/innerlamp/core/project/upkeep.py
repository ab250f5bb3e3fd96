"""Looking after a project: what is damaged, and what nothing can reach any more."""

from __future__ import annotations

import json

from ..errors import ProjectError
from . import catalogue, payload
from .reading import ProjectReading
from .records import Entry


class Upkeep(ProjectReading):
    """Checks and cleans an open project."""

    def damaged(self) -> dict[str, str]:
        """Check the parts of all present items; returns item id to what is wrong."""
        found = self.damaged_rows()
        found |= {entry.id: why for entry in self.entries() if (why := self.damage_of(entry))}
        return found

    def damage_of(self, entry: Entry) -> str:
        """What is wrong with the parts of an item as it is now, '' when they are whole."""
        try:
            for name in sorted(payload.files_of(self.manifest(entry.version))):
                payload.verify(self.payloads, name)
        except ProjectError as error:
            return str(error)
        return ""

    def clean_up(self, forget: bool = False) -> int:
        """Drop every version and file that neither a present item nor the history can reach; returns bytes freed.

        With `forget` the history goes first, and with it what only undo could bring back. While the catalogue is
        damaged nothing is dropped: what a damaged item needs is not known.
        """
        self.entries()
        if lost := self._lost:
            raise ProjectError(
                "nothing is cleaned up while the catalogue is damaged; " + "; ".join(lost.values()),
                where=self.name,
                fix="Restore catalogue.sqlite from a back-up first",
            )
        try:
            return self._clean_up(forget)
        except catalogue.DAMAGED as error:
            raise ProjectError(
                "nothing is cleaned up, since a row of the catalogue is damaged",
                where=self.name,
                fix="Restore catalogue.sqlite from a back-up first",
            ) from error

    def _clean_up(self, forget: bool) -> int:
        with self._transaction() as db:
            if forget:
                self.history.forget()
            kept = self.history.versions() | {
                int(v) for (v,) in db.execute("SELECT json_extract(state,'$.version') FROM head")
            }
            self._entries = None
            needed = {v for e in self.entries() for _, v in e.needs} - kept
            gone = [(i,) for (i,) in db.execute("SELECT id FROM version") if i not in kept | needed]
            db.executemany("DELETE FROM version WHERE id=?", gone)
            # What present items were made from stays known by its digests, so that they stay fresh; its parts go.
            for version in needed:
                row = db.execute("SELECT manifest FROM version WHERE id=?", (version,)).fetchone()
                if row is not None:
                    whole = json.loads(row[0])
                    trimmed = {"had_arrays": whole["arrays"], **whole, "tables": {}, "arrays": {}, "trimmed": True}
                    db.execute("UPDATE version SET manifest=? WHERE id=?", (json.dumps(trimmed), version))
            self._origins.drop_unused()
            used: set[str] = set()
            for (text,) in db.execute("SELECT manifest FROM version"):
                used |= payload.files_of(json.loads(text))
        freed = 0
        for file in self.payloads.glob("*/*"):
            if file.name not in used:
                freed += file.stat().st_size
                file.unlink()
        self.at_hand.clear()
        return freed
