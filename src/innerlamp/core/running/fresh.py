"""Keeping fresh: which stale items are made again next. The window, scripts and the command line ask here."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from ..project import trail
from ..project.store import Store
from .again import wanted
from .task import reaches_out


class Fresh:
    """Groups of stale items that are due; what failed waits until an input of it changes.

    Attributes
    ----------
    problems
        Why items could not be made again, by item.
    trusted
        Whether items whose steps read files or call a cluster are made again unasked: a project from elsewhere says which.
    asking
        What would be read or called for items that wait to be asked for, by item.
    """

    def __init__(self, store: Store, trusted: bool = True) -> None:
        self.store, self.trusted = store, trusted
        self.asking: dict[str, str] = {}
        self.problems: dict[str, str] = {}
        self._failed: dict[str, str] = {}

    def due(self, busy: Collection[str] = (), among: Collection[str] | None = None) -> list[list[str]]:
        """Return items by run that can be made again now.

        Parameters
        ----------
        busy
            Items that are being made just now: their runs wait.
        among
            Only runs that make one of these; all by default.
        """
        out = []
        for group in trail.next_to_refresh(self.store):
            todo = [i for i in group if self._failed.get(i) != wanted(self.store, i)]
            if not self.trusted:
                out_there = {i: [w for step in self.store.entry(i).chain for w in reaches_out(step)] for i in todo}
                self.asking |= {i: words[0] for i, words in out_there.items() if words}
                todo = [] if any(out_there.values()) else todo
            if todo and not set(busy) & set(group) and (among is None or set(group) & set(among)):
                out.append(todo)
        return out

    def failed(self, items: Sequence[str] | Collection[str], why: str) -> None:
        """Remember that items can't be made from what their inputs are now."""
        for item in items:
            self._failed[item] = wanted(self.store, item)
            self.problems[item] = why
