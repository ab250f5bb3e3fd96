"""One open project: what is read, running and looked at. Made and closed as a whole.

The session is the only place of the window that changes a project. Whatever is still under way when
it is closed is dropped: nothing of one project ever arrives in another.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ...core.errors import LampError, ProjectError
from ...core.items.base import Item
from ...core.items.legend import Legend
from ...core.items.style import Style
from ...core.jobs.runner import Job, Runner
from ...core.kept import KEPT
from ...core.project.records import Entry, Notice
from ...core.project.store import Store
from .compare import VersionCompare
from .desk import JobDesk
from .legends import LegendBook
from .reader import ItemReader
from .view import ViewState


@dataclass(frozen=True)
class Listeners:
    """Whom a session tells what."""

    items: Callable[[Notice], None]
    came: Callable[[str], None]
    compared: Callable[[int, int], None]
    say: Callable[[str, str], None]


class Session:
    """A project with its reader, jobs, view, legends and comparisons, and every action that changes it."""

    def __init__(self, store: Store, runner: Runner, told: Listeners, trusted: bool = True) -> None:
        self.store, self._told = store, told
        self.reader = ItemReader(store, told.came, told.say)
        self.desk = JobDesk(store, runner, trusted)
        self.view = ViewState.of(store)
        self.legends = LegendBook(store)
        self.compare = VersionCompare(store, told.compared)
        self.closed = False
        # Models of iterations that are looked at while their job runs: drawn like items, never stored.
        self.guests: dict[str, tuple[Entry, Item]] = {}
        self._unasked: set[str] = set()
        self._shown = 0
        # Who may only look still lights and colours things, for as long as the window is open.
        self._lit: dict[str, int] = {}
        self._styles: dict[str, Style] = {}
        store.at_hand.pinned = self._shown_versions
        store.changed.connect(self._changed)

    def entries(self) -> list[Entry]:
        """All items, as they are drawn here."""
        found = self.store.entries()
        if not self._lit and not self._styles:
            return found
        return [replace(e, lit=self._lit.get(e.id, e.lit), style=self._styles.get(e.id, e.style)) for e in found]

    def _shown_versions(self) -> set[int]:
        """Versions that are looked at: they stay in memory."""
        selected = self.view.selected
        return {e.version for e in self.entries() if e.lit or e.id == selected}

    def _changed(self, notice: Notice) -> None:
        if self.closed:
            return
        if self.view.selected not in {e.id for e in self.store.entries()}:
            self.view.selected = ""
        self.reader.forget_problems(notice.replaced)
        if notice.added or notice.removed or notice.replaced:
            self.legends.forget()
        self._told.items(notice)
        self.desk.keep_fresh()

    def take_guests(self, jobs: Iterable[Job]) -> bool:
        """Take what jobs show as guests, and let those of ended jobs go; whether anything changed."""
        before = dict(self.guests)
        for job in jobs:
            name = f"job {job.id}"
            if not job.active or (name in self.guests and not job.watched and name not in self._unasked):
                self.guests.pop(name, None)
                self._unasked.discard(name)
            elif isinstance(job.shown, Item):
                # What a job shows unasked, such as a coarse model, is seen until the job ends.
                item = job.shown
                self._shown += 1
                if not job.watched:
                    self._unasked.add(name)
                title = (
                    f"{item.name}, iteration {job.measures['iteration']:.0f}"
                    if "iteration" in job.measures
                    else item.name
                )
                entry = Entry(
                    name, item.kind, title, -self._shown, attributes=dict(item.attributes), bounds=item.bounds,
                    crs=item.crs, lit=1,
                )  # fmt: skip
                self.guests[name] = entry, replace(item, name=title)
            job.shown = None
        return before != self.guests

    # ---- actions: whatever changes the project, each one undoable

    def light(self, items: Mapping[str, bool]) -> None:
        """Light or dim items in all panes."""
        if self.store.writable:
            self.store.light(items)
            return
        top = max([e.lit for e in self.entries()], default=0)
        for item, on in items.items():
            top += on
            self._lit[item] = top if on else 0
        self._told.items(Notice(lit=tuple(items)))

    def restyle(self, item: str, style: Style) -> None:
        """Change how an item is drawn in all panes."""
        if self.store.writable:
            self.store.restyle(item, style)
            return
        self._styles[item] = style
        self._told.items(Notice(styled=(item,)))

    def set_legend(self, legend: Legend) -> None:
        """Change how an attribute is coloured everywhere."""
        self.store.set_legend(legend)

    def rename(self, item: str, name: str) -> None:
        """Call an item something else."""
        self.store.rename(item, name)

    def hold(self, item: str, held: bool) -> None:
        """Stop making an item again when its inputs change, or allow it again."""
        self.store.hold(item, held)

    def remove(self, *items: str) -> None:
        """Take items off the shelf."""
        self.store.remove(list(items))

    def dated_copy(self, item: str, version: int | None = None) -> str:
        """Keep a version of an item as it is; returns the id of the copy."""
        return self.store.dated_copy(item, version)

    def remember(self, settings: Mapping[str, Any]) -> None:
        """Remember how things are looked at with the project: by name, as JSON values; nothing that is undone.

        Raises
        ------
        ProjectError
            When the project is open to look at only.
        """
        if not self.store.writable:
            raise ProjectError("the project is open read-only", where=self.store.name)
        self.store.set_workspace(settings)

    def clean_up(self, forget: bool) -> int:
        """Drop what nothing can reach; with `forget` also the history. Returns bytes freed.

        Raises
        ------
        ProjectError
            While something runs: what it makes may hold parts of versions that would go.
        """
        if any(job.active for job in self.desk.jobs):
            raise ProjectError("something is still running", where=self.store.name, fix="Clean up when it has ended")
        return self.store.clean_up(forget)

    def undo(self) -> str:
        """Take back the last thing that was done; what it was, '' for nothing."""
        return self.store.undo()

    def redo(self) -> str:
        """Do again what was taken back last."""
        return self.store.redo()

    def swap(self, item: str, version: int, copy: str) -> None:
        """Light an item or the dated copy of one of its versions, whichever is dim, and dim the other.

        A version without a dated copy gets one first, so that it can be lit.
        """
        entries = {e.id: e for e in self.entries()}
        other = copy or next((e.id for e in entries.values() if e.dated and e.version == version), "")
        other = other or self.dated_copy(item, version)
        on = bool(entries[item].lit)
        self.light({item: not on, other: on})

    # ---- the rest

    def follow(self) -> None:
        """See what another process changed, where this one may only look."""
        try:
            if not self.store.writable:
                self.store.follow()
        except LampError as error:
            self._told.say(str(error), "bad")

    def close(self) -> None:
        """Save the view, stop everything, give the project back."""
        if self.closed:
            return
        self.closed = True
        self.desk.close()
        self.reader.close()
        self.compare.close()
        self.view.save(self.store)
        self.store.close()
        KEPT.clear()
