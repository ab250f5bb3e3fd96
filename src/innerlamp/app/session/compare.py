"""Comparing versions of items, beside the window's own thread."""

from __future__ import annotations

from collections.abc import Callable

from ...core.comparing import differences
from ...core.errors import LampError
from ...core.project import payload
from ...core.project.records import Entry
from ...core.project.store import Store
from ..base import background

Answer = list[differences.Change] | str | None


class VersionCompare:
    """Which versions an item can be compared with, and what moved between two; answers are kept."""

    def __init__(self, store: Store, came: Callable[[int, int], None]) -> None:
        self.store, self._told = store, came
        self.closed = False
        self._known: dict[tuple[int, int], Answer] = {}
        self._answers = background.Answers()
        self._answers.came.connect(self._answer)

    def comparable(self, entry: Entry) -> list[tuple[int, str, str]]:
        """Versions that an item can be compared with, newest first: version, label, id of its dated copy or ''."""
        origin = self.store.lineage(entry.id)
        copies = {e.version: e for e in self.store.entries() if e.dated and self.store.lineage(e.id) == origin}
        out = []
        for version, at in reversed(self.store.versions(origin)):
            if version == entry.version:
                continue
            copy = copies.get(version)
            label = f"dated copy {at[5:16].replace('T', ' ')}" if copy else f"version of {at[5:16].replace('T', ' ')}"
            out.append((version, label, copy.id if copy else ""))
        return out

    def difference(self, old: int, new: int) -> Answer:
        """What moved between two versions; None while it is being worked out, a sentence when it can't be."""
        if (old, new) not in self._known:
            self._known[old, new] = None
            folder, manifests = self.store.payloads, [self.store.manifest(v) for v in (old, new)]

            def work() -> list[differences.Change]:
                before, after = (payload.read_item(folder, m) for m in manifests)
                return differences.difference(before, after)

            background.start(self._answers, (old, new), work, "The two can't be compared")
        return self._known[old, new]

    def _answer(self, key: tuple[int, int], result: object) -> None:
        if not self.closed:
            self._known[key] = str(result) if isinstance(result, LampError) else result  # type: ignore[assignment]
            self._told(*key)

    def close(self) -> None:
        """Drop every answer that is still under way."""
        self.closed = True
        self._answers.close()
