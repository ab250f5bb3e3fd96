"""What the panes, the shelf and the forms share: the project, what is lit, the cursor, the selection, jobs.

The context is the only place that changes the project. Views listen to its signals and re-read
what they show.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QThreadPool, QTimer

from ..core.comparing import differences
from ..core.compute.geometry.planes import SectionPlane
from ..core.compute.geometry.sampling import bilinear
from ..core.errors import LampError, ProjectError
from ..core.items.base import Item
from ..core.items.fields import BlockModel, Grid
from ..core.items.holes import HoleSet, readings_with, table_with
from ..core.items.legend import Legend, propose
from ..core.items.signs import Look
from ..core.jobs.runner import Job, Runner
from ..core.project import trail
from ..core.project.lock import ProjectBusy
from ..core.project.records import Entry, Freshness, Notice
from ..core.project.store import Store
from ..core.running import execute
from ..core.signal import Signal
from . import background
from .theme.theme import PAPER, Theme


@dataclass(frozen=True)
class Cursor:
    """The shared cursor: a place in metres (z NaN where unknown) and the pane that moved it."""

    x: float
    y: float
    z: float
    source: str = ""


@dataclass(frozen=True)
class Selection:
    """Selected rows of one table of one item."""

    item: str = ""
    table: str = ""
    rows: tuple[int, ...] = ()


class Context:
    """State that all parts of the window share."""

    def __init__(self, runner: Runner) -> None:
        self.store: Store | None = None
        self.runner = runner
        self.theme: Theme = PAPER
        self.cursor = Cursor(np.nan, np.nan, np.nan)
        self.selection = Selection()
        self.selected = ""
        self.lit: list[str] = []
        self.colour_by: dict[str, str] = {}
        self.looks: dict[str, Look] = {}
        self.section: SectionPlane | None = None
        self.corridor = 50.0
        self.exaggeration = 1.0
        self.jobs: list[Job] = []
        self.auto_refresh = True
        self.closed = False
        self.problems: dict[str, str] = {}

        self.project_changed: Signal[[]] = Signal()
        self.items_changed: Signal[[Notice]] = Signal()
        self.loaded: Signal[[str]] = Signal()
        self.lit_changed: Signal[[]] = Signal()
        self.selected_changed: Signal[[str]] = Signal()
        self.cursor_changed: Signal[[Cursor]] = Signal()
        self.selection_changed: Signal[[Selection]] = Signal()
        self.section_changed: Signal[[]] = Signal()
        self.legend_changed: Signal[[str]] = Signal()
        self.view_changed: Signal[[]] = Signal()
        self.theme_changed: Signal[[]] = Signal()
        self.go_to: Signal[[float, float, float]] = Signal()
        self.pointed: Signal[[Selection]] = Signal()
        self.clicked: Signal[[float, float, str]] = Signal()
        # A pane asks for a form (operation, inputs, values) or for another pane (kind, what it is to show).
        self.ask: Signal[[str, dict[str, str], dict[str, Any]]] = Signal()
        self.wish: Signal[[str, str]] = Signal()
        self.jobs_changed: Signal[[list[Job]]] = Signal()
        self.compared: Signal[[int, int]] = Signal()
        self.landed: Signal[[Job, dict[str, str]]] = Signal()
        self.said: Signal[[str, str]] = Signal()

        self._answers = background.Answers()
        self._answers.came.connect(self._came)
        self._differences: dict[tuple[int, int], list[differences.Change] | str | None] = {}
        self._reading: set[int] = set()
        self._legends: dict[str, Legend] = {}
        self._poll = QTimer()
        self._poll.setInterval(40)
        self._poll.timeout.connect(self._poll_jobs)
        self._save = QTimer()
        self._save.setSingleShot(True)
        self._save.setInterval(400)
        self._save.timeout.connect(self.save_view)

    # ---- project

    def open(self, path: Path | str) -> None:
        """Open a project; read-only when another window writes it."""
        try:
            store = Store.open(path)
        except ProjectBusy as busy:
            store = Store.open(path, write=False)
            self.say(f"{busy} It is open read-only here.", "look")
        self._take(store)

    def create(self, path: Path | str, crs: str) -> None:
        """Make a new project and open it."""
        self._take(Store.create(path, crs))

    def _take(self, store: Store) -> None:
        self.close_project()
        store.changed.connect(self._on_store)
        self.look_at(store)
        ids = {e.id for e in store.entries()}
        line = store.workspace("section")
        self.section = SectionPlane(*line) if line else None
        self.corridor = float(store.workspace("corridor", 50.0))
        self.exaggeration = float(store.workspace("exaggeration", 1.0))
        self.selected = str(store.workspace("selected", ""))
        if self.selected not in ids:
            self.selected = ""
        self.project_changed.emit()
        if store.writable:
            self._poll.start()

    def look_at(self, store: Store) -> None:
        """Take what is lit and how it looks from a project, without becoming its keeper."""
        self.store = store
        ids = {e.id for e in store.entries()}
        self.lit = [i for i in store.workspace("lit", []) if i in ids]
        self.colour_by = dict(store.workspace("colour_by", {}))
        self.looks = {k: Look.from_json(v) for k, v in dict(store.workspace("looks", {})).items()}

    def close_project(self) -> None:
        """Save the view and give the project back."""
        if self.store is None:
            return
        for job in self.jobs:
            if job.active:
                self.runner.cancel(job)
        self.save_view()
        self.store.close()
        self.store = None
        self.jobs, self.lit, self.colour_by, self.looks = [], [], {}, {}
        self.section, self.selected, self.selection = None, "", Selection()
        self._legends.clear()
        self._differences.clear()
        self.problems.clear()
        self._poll.stop()

    def save_view(self) -> None:
        """Remember the view with the project."""
        if self.store is None or not self.store.writable:
            return
        s = self.section
        self.store.set_workspace(
            {
                "lit": self.lit, "colour_by": self.colour_by, "section": [s.x0, s.y0, s.x1, s.y1] if s else None,
                "corridor": self.corridor, "exaggeration": self.exaggeration, "selected": self.selected,
                "looks": {k: v.to_json() for k, v in self.looks.items()},
            }
        )  # fmt: skip

    def view_moved(self) -> None:
        """Note that the view changed and should be saved soon."""
        self._save.start()

    def entries(self) -> list[Entry]:
        return self.store.entries() if self.store else []

    def entry(self, item: str) -> Entry | None:
        return next((e for e in self.entries() if e.id == item), None)

    def freshness(self) -> dict[str, Freshness]:
        return trail.freshness(self.store) if self.store else {}

    # ---- items

    def item(self, item: str) -> Item | None:
        """Return an item if it is at hand; otherwise start reading it and return None.

        `loaded` is told when it has come.
        """
        entry = self.entry(item)
        if self.store is None or entry is None or item in self.problems:
            return None
        if self.store.loaded(entry.version):
            return self.store.load(item)
        if entry.version not in self._reading:
            self._reading.add(entry.version)
            background.read_item(self._answers, self.store.payloads, entry.version, self.store.manifest(entry.version))
        return None

    def _came(self, key: int | tuple[int, int], result: object) -> None:
        if isinstance(key, tuple):
            self._compared(key, str(result) if isinstance(result, LampError) else result)  # type: ignore[arg-type]
        else:
            self._read_done(key, result)

    def _read_done(self, version: int, result: object) -> None:
        self._reading.discard(version)
        if self.store is None:
            return
        owners = [e.id for e in self.entries() if e.version == version]
        if isinstance(result, LampError):
            for owner in owners:
                self.problems[owner] = str(result)
            name = (self.entry(owners[0]) or Entry("", "", "item", 0)).name if owners else "item"
            self.say(f"{name}: {result}", "bad")
        elif isinstance(result, Item):
            self.store.keep(version, result)
        for owner in owners:
            self.loaded.emit(owner)

    @property
    def reading(self) -> bool:
        """Whether items are still being read."""
        return bool(self._reading)

    def lit_entries(self) -> list[Entry]:
        order = {e.id: e for e in self.entries()}
        return [order[i] for i in self.lit if i in order]

    def set_lit(self, item: str, on: bool = True) -> None:
        """Light or dim an item, in all panes."""
        if on == (item in self.lit):
            return
        if on:
            self.lit.append(item)
        else:
            self.lit.remove(item)
        self.lit_changed.emit()
        self.view_moved()

    def select_item(self, item: str) -> None:
        """Make an item the one whose card and table are shown."""
        if item != self.selected:
            self.selected = item
            self.selected_changed.emit(item)
            self.view_moved()

    def ground(self) -> Grid | None:
        """The ground surface, lit or not, if it is at hand."""
        for entry in self.entries():
            if entry.kind == "grid" and "elevation" in entry.attributes:
                item = self.item(entry.id)
                return item if isinstance(item, Grid) else None
        return None

    def ground_at(self, x: float, y: float) -> float:
        """Elevation of the ground at a place, NaN where unknown."""
        dem = self.ground()
        if dem is None:
            return float("nan")
        return float(bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, np.array([x]), np.array([y]))[0])

    # ---- colours

    def attribute_of(self, entry: Entry) -> str:
        """The attribute that an item is coloured by."""
        chosen = self.colour_by.get(entry.id, "")
        if chosen in entry.attributes or chosen == "-":
            return chosen
        if entry.recipe is not None:
            wanted = str(entry.recipe.params.get("attribute", ""))
            if wanted in entry.attributes:
                return wanted
        if {"dip", "dip direction"} <= set(entry.attributes):  # structural signs are black unless asked otherwise
            return "-"
        if {"weight", "round"} <= set(entry.attributes):  # contours go by their level
            return next((a for a in entry.attributes if a not in ("weight", "round")), "")
        measured = [
            a for a, unit in entry.attributes.items() if unit and unit != "m" and not a.upper().startswith("RAW")
        ]
        return (measured or list(entry.attributes) or [""])[0]

    def set_colour_by(self, item: str, attribute: str) -> None:
        self.colour_by[item] = attribute
        self.legend_changed.emit(attribute)
        self.view_moved()

    def look(self, item: str) -> Look:
        """Shape, size and labels of the points of an item."""
        return self.looks.get(item, Look())

    def set_look(self, item: str, look: Look) -> None:
        self.looks[item] = look
        self.legend_changed.emit("")
        self.view_moved()

    def legend(self, attribute: str, item: Item) -> Legend:
        """Legend of an attribute: the user's, or one proposed from the values of an item."""
        if self.store is not None and (stored := self.store.legend(attribute)) is not None:
            return stored
        if attribute not in self._legends:
            self._legends[attribute] = propose(
                attribute, item.attributes.get(attribute, ""), values_of(item, attribute)
            )
        return self._legends[attribute]

    def set_legend(self, legend: Legend) -> None:
        if self.store is None:
            return
        try:
            self.store.set_legend(legend)
        except LampError as error:
            self.say(str(error), "bad")

    # ---- shared cursor, selection, section

    def point_at(self, x: float, y: float, z: float, source: str) -> None:
        """Move the shared cursor."""
        self.cursor = Cursor(x, y, z, source)
        self.cursor_changed.emit(self.cursor)

    def select_rows(self, selection: Selection) -> None:
        if selection != self.selection:
            self.selection = selection
            self.selection_changed.emit(selection)

    def set_section(self, plane: SectionPlane) -> None:
        self.section = plane
        self.section_changed.emit()
        self.view_moved()

    def set_corridor(self, width: float) -> None:
        self.corridor = width
        self.section_changed.emit()
        self.view_moved()

    def set_exaggeration(self, factor: float) -> None:
        self.exaggeration = factor
        self.view_changed.emit()
        self.view_moved()

    # ---- changes

    def say(self, text: str, level: str = "note") -> None:
        """Tell the user something in the job strip."""
        self.said.emit(text, level)

    def guard(self, action: Any, *args: Any) -> bool:
        """Do something that may fail; failures are told, never thrown. Returns whether it worked."""
        try:
            action(*args)
        except LampError as error:
            self.say(str(error), "bad")
            return False
        return True

    def undo(self) -> None:
        if self.store and (label := self.store.undo_label()) and self.guard(self.store.undo):
            self.say(f"Taken back: {label}")

    def redo(self) -> None:
        if self.store and (label := self.store.redo_label()) and self.guard(self.store.redo):
            self.say(f"Done again: {label}")

    def _on_store(self, notice: Notice) -> None:
        assert self.store is not None
        ids = {e.id for e in self.store.entries()}
        self.lit = [i for i in self.lit if i in ids]
        if self.selected not in ids:
            self.selected = ""
        for item in notice.replaced:
            self.problems.pop(item, None)
        if notice.added or notice.removed or notice.replaced:
            self._legends.clear()
        self.items_changed.emit(notice)
        for attribute in notice.legends:
            self.legend_changed.emit(attribute)
        self._keep_fresh()

    # ---- jobs

    def start(self, operation: str, params: Mapping[str, Any], inputs: Mapping[str, str]) -> Job:
        """Start an operation in the background.

        Raises
        ------
        LampError
            When inputs or parameters do not fit; nothing is started then.
        """
        if self.store is None:
            raise ProjectError("no project is open")
        if not self.store.writable:
            raise ProjectError("the project is open read-only", where=self.store.name)
        return self._submit(execute.prepare(self.store, operation, params, inputs))

    def refresh(self, item: str) -> None:
        """Make an item again in the background."""
        entry = self.entry(item)
        if self.store is None or entry is None or entry.recipe is None:
            return
        group = [e.id for e in self.entries() if e.recipe and e.recipe.group == entry.recipe.group and not e.dated]
        self._submit(execute.refresh_task(self.store, group))

    def _submit(self, task: execute.Task) -> Job:
        job = self.runner.submit(task)
        self.jobs.append(job)
        self._poll.start()
        self.jobs_changed.emit([job])
        return job

    def _poll_jobs(self) -> None:
        changed = self.runner.poll()
        for job in changed:
            if job.state == "done" and job.results:
                self._land(job)
            elif job.state == "failed" and job.error is not None:
                self.say(str(job.error), "bad")
            elif job.state == "cancelled":
                self.say(f"{job.task.label} was cancelled. Nothing was changed.")
        if changed:
            self.jobs_changed.emit(changed)

    def _land(self, job: Job) -> None:
        if self.store is None:
            return
        try:
            made = execute.land(self.store, job.task, job.results)
        except (LampError, OSError) as error:
            job.state, job.message = "failed", str(error)
            self.say(f"The result of '{job.task.label}' could not be stored: {error}", "bad")
            return
        job.results = {}
        names = ", ".join(e.name for i in made.values() if (e := self.entry(i)))
        seconds = job.ended - job.started
        if not job.task.replace:
            for item in made.values():
                entry = self.entry(item)
                if (
                    entry is not None
                    and entry.attributes.get("residual") is None
                    and entry.kind not in ("points", "page")
                ):
                    self.set_lit(item)
            if made:
                self.select_item(next(iter(made.values())))
        self.say(
            f"{job.task.label}: {names} ({seconds:.1f} s)" + (f". {job.outcome}" if job.outcome else ""),
            "good",
        )
        self.landed.emit(job, made)

    def _keep_fresh(self) -> None:
        """Start remaking stale items whose inputs are ready; several changes are gathered first."""
        if not self.auto_refresh or self.store is None or not self.store.writable:
            return
        running = {i for j in self.jobs if j.active for i in j.task.replace.values()}
        for group in trail.next_to_refresh(self.store):
            if not running & set(group):
                try:
                    self._submit(execute.refresh_task(self.store, group))
                except LampError as error:
                    self.say(str(error), "look")

    def warm_up(self) -> None:
        """Start the workers, so that the first job need not wait for them."""
        if not self.closed:
            self.runner.start()

    # ---- comparing versions

    def comparable(self, entry: Entry) -> list[tuple[int, str, str]]:
        """Versions that an item can be compared with, newest first: version, label, id of its dated copy or ''."""
        if self.store is None:
            return []
        origin = self.store.lineage(entry.id)
        copies = {e.version: e for e in self.entries() if e.dated and self.store.lineage(e.id) == origin}
        out = []
        for version, at in reversed(self.store.versions(origin)):
            if version == entry.version:
                continue
            copy = copies.get(version)
            label = f"dated copy {at[5:16].replace('T', ' ')}" if copy else f"version of {at[5:16].replace('T', ' ')}"
            out.append((version, label, copy.id if copy else ""))
        return out

    def difference(self, old: int, new: int) -> list[differences.Change] | str | None:
        """What moved between two versions; None while it is being worked out, a sentence when it can't be."""
        if self.store is None:
            return None
        if (old, new) not in self._differences:
            self._differences[old, new] = None
            manifests = [self.store.manifest(v) for v in (old, new)]
            background.compare(self._answers, self.store.payloads, (old, new), manifests)
        return self._differences[old, new]

    def _compared(self, versions: tuple[int, int], result: list[differences.Change] | str) -> None:
        self._differences[versions] = result
        self.compared.emit(*versions)

    def swap(self, item: str, version: int, copy: str) -> None:
        """Light an item or the dated copy of one of its versions, whichever is dim, and dim the other.

        A version without a dated copy gets one first, so that it can be lit.
        """
        if self.store is None:
            return
        other = copy or next((e.id for e in self.entries() if e.dated and e.version == version), "")
        other = other or self.store.dated_copy(item, version)
        on = item in self.lit
        self.set_lit(item, not on)
        self.set_lit(other, on)

    def rename(self, item: str, name: str) -> None:
        if self.store:
            self.guard(self.store.rename, item, name)

    def close(self) -> None:
        """End everything: save the view, close the project, end the workers."""
        self.closed = True
        self._poll.stop()
        self._save.stop()
        self.close_project()
        self.runner.close()
        QThreadPool.globalInstance().waitForDone(2000)


def values_of(item: Item, attribute: str) -> np.ndarray:
    """Return all values of an attribute of an item."""
    if isinstance(item, HoleSet):
        hit = table_with(item, attribute) or readings_with(item, attribute)
        return hit[1][attribute].to_numpy() if hit else np.empty(0)
    if isinstance(item, Grid):
        return item.values.ravel()
    if isinstance(item, BlockModel):
        return item.properties[attribute].ravel()
    table = getattr(item, "table", None)
    if table is not None and attribute in table.columns:
        return np.asarray(table[attribute].to_numpy())
    level = getattr(item, "level", None)
    return np.array([level], dtype=float) if level is not None else np.empty(0)


def with_cutoff(legend: Legend, cutoff: float | None) -> Legend:
    """Return a legend with another cut-off."""
    return replace(legend, cutoff=cutoff)
