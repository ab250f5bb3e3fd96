"""What the panes, the shelf and the forms share: the signals, and the session that is open.

The context lives as long as the window; everything that belongs to a project is in its session
(`app.session`), which is exchanged as a whole. Views listen to the signals and re-read what they show.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer

from ...core.comparing import differences
from ...core.compute.geometry.planes import SectionPlane, Side
from ...core.declaring.operation import Sketch
from ...core.errors import LampError, ProjectError
from ...core.items.legend import Legend
from ...core.items.section_look import SectionLook
from ...core.items.style import Style
from ...core.jobs.runner import Job, Runner
from ...core.project import left, trail
from ...core.project.lock import ProjectBusy
from ...core.project.records import Entry, Freshness, Notice
from ...core.project.store import Store
from ...core.running.execute import Task
from ..base import background, settings
from ..session.legends import values_of
from ..session.selecting import Meant, found_again, meant
from ..session.session import Listeners, Session
from ..session.view import Cursor, Selection, ViewState
from .sight import Sight
from .signals import Signals

__all__ = ["Context", "Cursor", "Selection", "values_of"]


@dataclass(frozen=True)
class Area:
    """The area that an open form asks for: its corners (metres), and whether the next clicks on the map draw it."""

    corners: tuple[tuple[float, float], ...] = ()
    drawing: bool = False


class Context(Sight, Signals):
    """What all parts of the window share: the session that is open, its signals, and every action that changes it."""

    def __init__(self, runner: Runner) -> None:
        Sight.__init__(self)
        Signals.__init__(self)
        self.runner = runner
        self.closed = False
        self._idle = ViewState()
        self._meant: Meant | None = None  # rows that are selected again once the item has been read
        self.area: Area | None = None
        self.sketch: Sketch | None = None
        self.shown_grid = ""  # known points of the local grid that coordinates are told in; the project's when empty

        self._poll = QTimer()
        self._poll.setInterval(40)
        self._poll.timeout.connect(self._poll_jobs)
        self._follow = QTimer()
        self._follow.setInterval(1000)
        self._follow.timeout.connect(self._follow_writer)
        self._save = QTimer()
        self._save.setSingleShot(True)
        self._save.setInterval(400)
        self._save.timeout.connect(self.save_view)

    # ---- project

    def open(self, path: Path | str) -> None:
        """Open a project; read-only, and following its changes, when another window writes it."""
        if self.session is not None and self.session.store.path.resolve() == Path(path).resolve():
            self.close_project()  # it would find itself writing there
        try:
            store = Store.open(path)
        except ProjectBusy as busy:
            if left.call_back(Path(path)):
                self.say("The window that was left with its run is shown again: go on there.", "good")
                return
            store = Store.open(path, write=False)
            self.say(f"{busy} It is open read-only here.", "look")
        self._take(store)

    def create(self, path: Path | str, crs: str) -> None:
        """Make a new project and open it; it is this user's own."""
        store = Store.create(path, crs)
        settings.trust(store.path)
        self._take(store)

    def _take(self, store: Store) -> None:
        self._end_session()
        self.look_at(store)
        self.project_changed.emit()
        for why in store.damaged_rows().values():
            self.say(f"An item is not shown: {why}", "bad")
        (self._poll if store.writable else self._follow).start()
        if self.session is not None:
            self.session.desk.keep_fresh()

    def look_at(self, store: Store) -> None:
        """Begin a session of a project."""
        chosen = settings.load()
        store.history.bound(chosen.history_changes, int(1e9 * chosen.history_gigabytes))
        told = Listeners(self._items, self._came, self.compared.emit, self.say)
        self.session = Session(store, self.runner, told, settings.trusts(store.path))
        desk = self.session.desk
        desk.changed.connect(self._jobs_moved)
        desk.landed.connect(self._landed)
        desk.said.connect(self.say)
        desk.untold.connect(lambda: QTimer.singleShot(0, self._poll_jobs))

    @property
    def trusted(self) -> bool:
        """Whether items of the open project may read files unasked."""
        return self.session is not None and self.session.desk.trusted

    def trust(self, trusted: bool) -> None:
        """Say whether the open project is trusted."""
        if self.session is not None:
            settings.trust(self.session.store.path, trusted)
            self.session.desk.trust(trusted)

    def close_project(self) -> None:
        """Save the view and give the project back."""
        if self.session is not None:
            self._end_session()
            self.project_changed.emit()

    def _end_session(self) -> None:
        self._poll.stop()
        self._follow.stop()
        self._save.stop()
        if self.session is not None:
            ended = [job for job in self.jobs if job.active]
            self.session.close()
            self.session = None
            self._idle, self._meant = ViewState(), None
            if ended:
                self.jobs_changed.emit(ended)

    def save_view(self) -> None:
        """Remember the view with the project."""
        if self.session is not None:
            self.session.view.save(self.session.store)

    def view_moved(self) -> None:
        """Note that the view changed and should be saved soon."""
        self._save.start()

    def freshness(self) -> dict[str, Freshness]:
        return trail.freshness(self.session.store) if self.session else {}

    # ---- items

    def set_lit(self, item: str, on: bool = True) -> None:
        """Light or dim an item, in all panes."""
        if self.session is not None and (entry := self.entry(item)) is not None and bool(entry.lit) != on:
            self.guard(self.session.light, {item: on})

    @property
    def selected(self) -> str:
        """The item whose card and table are shown."""
        return self.view.selected

    def select_item(self, item: str) -> None:
        """Make an item the one whose card and table are shown."""
        if item != self.selected:
            self.view.selected = item
            self.selected_changed.emit(item)
            self.view_moved()

    # ---- how things are drawn

    def set_colour_by(self, item: str, attribute: str) -> None:
        self.restyle(item, replace(self.style(item), colour_by=attribute))

    def restyle(self, item: str, style: Style) -> None:
        """Change how an item is drawn, in all panes."""
        if self.session is not None:
            self.guard(self.session.restyle, item, style)

    def set_legend(self, legend: Legend) -> None:
        if self.session is not None:
            self.guard(self.session.set_legend, legend)

    # ---- shared cursor, selection, section

    @property
    def view(self) -> ViewState:
        return self.session.view if self.session else self._idle

    @property
    def cursor(self) -> Cursor:
        return self.view.cursor

    @property
    def selection(self) -> Selection:
        return self.view.selection

    @property
    def section(self) -> SectionPlane | None:
        return self.view.section

    @property
    def corridor(self) -> float:
        return self.view.corridor

    @property
    def exaggeration(self) -> float:
        """Of 3D: as chosen, else none."""
        return self.view.exaggeration or 1.0

    @property
    def section_exaggeration(self) -> float:
        """Of sections: as chosen, else what their content proposes."""
        return self.view.exaggeration or self.view.proposed_exaggeration

    def point_at(self, x: float, y: float, z: float, source: str) -> None:
        """Move the shared cursor."""
        self.view.cursor = Cursor(x, y, z, source)
        self.cursor_changed.emit(self.cursor)

    def select_rows(self, selection: Selection) -> None:
        """Select rows of an item as it is now."""
        entry = self.entry(selection.item)
        if not selection.version and entry is not None:
            selection = replace(selection, version=entry.version)
        self._meant = None
        if selection != self.selection:
            self.view.selection = selection
            self.selection_changed.emit(selection)

    def _selection_moved(self, item: str = "") -> None:
        """Let the selection follow its rows into the version that its item has now."""
        chosen, entry = self.selection, self.entry(self.selection.item)
        if not chosen.item or (item and item != chosen.item) or self.session is None:
            return
        if entry is None:
            self.select_rows(Selection())
            return
        if self._meant is None and chosen.version != entry.version:
            store = self.session.store
            old = store.load("", chosen.version) if store.loaded(chosen.version) else None
            was = meant(old, chosen) if old is not None and chosen.rows else None
            self.select_rows(replace(chosen, rows=(), version=entry.version))
            self._meant = was
        new = self.item(chosen.item) if self._meant is not None else None
        if new is not None and self._meant is not None:
            self.select_rows(found_again(new, entry.version, self._meant))

    def set_section(self, plane: SectionPlane) -> None:
        self.view.section = plane
        self.section_changed.emit()
        self.view_moved()

    @property
    def corridor_side(self) -> Side:
        """Which side of the section its corridor lies on."""
        return self.view.side

    @property
    def section_look(self) -> SectionLook:
        """What sections show beside their holes and above them."""
        return self.view.look

    def set_section_look(self, look: SectionLook) -> None:
        if look != self.view.look:
            self.view.look = look
            self.section_changed.emit()
            self.view_moved()

    def set_corridor_side(self, side: Side) -> None:
        self.view.side = side
        self.section_changed.emit()
        self.view_moved()

    def set_corridor(self, width: float) -> None:
        self.view.corridor = width
        self.section_changed.emit()
        self.view_moved()

    def set_exaggeration(self, factor: float) -> None:
        self.view.exaggeration = factor
        self.view_changed.emit()
        self.view_moved()

    # ---- changes

    def say(self, text: str, level: str = "note") -> None:
        """Tell the user something in the job strip."""
        self.said.emit(text, level)

    def set_area(self, area: Area | None) -> None:
        """Show another area in all panes; None when no form asks for one."""
        if area != self.area:
            self.area = area
            self.area_changed.emit()

    def set_sketch(self, sketch: Sketch | None) -> None:
        """Show in all panes what the open form would work on."""
        if sketch is not self.sketch:
            self.sketch = sketch
            self.sketch_changed.emit()

    def set_shown_grid(self, points: str) -> None:
        """Tell coordinates in a local grid, given by its known points; in the project's own when empty."""
        if points != self.shown_grid:
            self.shown_grid = points
            self.grid_changed.emit()

    def guard(self, action: Any, *args: Any) -> bool:
        """Do something that may fail; failures are told, never thrown. Returns whether it worked."""
        try:
            action(*args)
        except LampError as error:
            self.say(str(error), "bad")
            return False
        return True

    def undo(self) -> None:
        if self.session is not None:
            self.guard(lambda session: self._moved("Taken back", session.undo()), self.session)

    def redo(self) -> None:
        if self.session is not None:
            self.guard(lambda session: self._moved("Done again", session.redo()), self.session)

    def _moved(self, how: str, label: str) -> None:
        if label:
            self.say(f"{how}: {label}")

    def _items(self, notice: Notice) -> None:
        if self.selection.item in (*notice.replaced, *notice.removed):
            self._selection_moved()
        if notice.lit or any(e.lit for i in notice.added if (e := self.entry(i))):
            self.lit_changed.emit()
        if any((notice.added, notice.removed, notice.replaced, notice.renamed)):
            self.items_changed.emit(notice)
        if notice.styled:
            self.legend_changed.emit("")
        for attribute in notice.legends:
            self.legend_changed.emit(attribute)

    def _came(self, item: str) -> None:
        self._selection_moved(item)
        self.loaded.emit(item)

    # ---- jobs

    def _jobs_moved(self, jobs: list[Job]) -> None:
        """Show what running jobs let be seen, and no longer what came of those that ended."""
        if self.session is not None and self.session.take_guests(jobs):
            self.lit_changed.emit()
        self.jobs_changed.emit(jobs)

    def unwatch(self, job: Job) -> None:
        """No longer show what a job has by now."""
        self._jobs_moved([job])

    @property
    def jobs(self) -> list[Job]:
        return self.session.desk.jobs if self.session else []

    def start(self, operation: str, params: Mapping[str, Any], inputs: Mapping[str, str | Sequence[str]]) -> Job:
        """Start an operation.

        Raises
        ------
        LampError
            When inputs or parameters do not fit; nothing is started then.
        """
        if self.session is None:
            raise ProjectError("no project is open")
        return self.session.desk.start(operation, params, inputs)

    def refresh(self, item: str) -> None:
        """Make an item again in the background."""
        if self.session is not None:
            self.session.desk.again(item)

    def _poll_jobs(self) -> None:
        if self.session is not None:
            self.session.desk.poll()

    def _follow_writer(self) -> None:
        if self.session is not None:
            self.session.follow()

    def _landed(self, job: Job, made: dict[str, str]) -> None:
        if made and isinstance(job.task, Task) and not job.task.ways:
            self.select_item(next(iter(made.values())))
        self.landed.emit(job, made)

    def warm_up(self) -> None:
        """Start the workers, so that the first job need not wait for them."""
        if not self.closed:
            self.runner.start()

    # ---- comparing versions

    def comparable(self, entry: Entry) -> list[tuple[int, str, str]]:
        """Versions that an item can be compared with, newest first: version, label, id of its dated copy or ''."""
        return self.session.compare.comparable(entry) if self.session else []

    def difference(self, old: int, new: int) -> list[differences.Change] | str | None:
        """What moved between two versions; None while it is being worked out, a sentence when it can't be."""
        return self.session.compare.difference(old, new) if self.session else None

    def close(self) -> None:
        """End everything: save the view, close the project, end the workers."""
        self.closed = True
        self._end_session()
        self.runner.close()
        background.wait(2.0)
