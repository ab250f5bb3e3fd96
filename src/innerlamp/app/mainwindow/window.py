"""The main window."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import QPoint, QRect, QSize, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QMainWindow,
    QMessageBox,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.declaring.operation import AREAS
from ...core.items.kinds import KINDS
from ...core.project import left
from ..base import settings
from ..base.background import Lane
from ..context.context import Context
from ..sequences.demo_in_window import DemoInWindow
from ..theme.plain import plain_tip
from ..theme.theme import THEMES, apply_theme
from .arrangements import ArrangementsMenu
from .card import Card
from .centre import DEFAULT, Centre
from .finder import Finder, Hit, operations
from .help import HelpWindow
from .jobstrip import JobStrip
from .legends import Legends
from .new_project import NewProject
from .shelf import Shelf
from .start import StartPage
from .steps import Steps

KEYS = """Ctrl+K: find an operation, item or command
Ctrl+I: bring in files
Ctrl+1 … Ctrl+6: work areas
Alt+1 … Alt+4: fill the centre with a pane
Ctrl+Z, Ctrl+Shift+Z: undo, redo
F1: help, in a form that of its operation
Map: arrows shift, + and − zoom, Home fits, S draws a section, D draws features
Section: Page Up and Down step by the corridor
Strip log: arrows scroll, + and − or Ctrl+wheel zoom, Home fits, double click corrects the record
3D: arrows turn, + and − zoom, double click moves the cursor, M measures, L cuts to the slab
Shelf: Space lights or dims, F2 renames, Del removes
Form: Ctrl+Return runs, Esc goes back
Ctrl+Home: fit all panes
Ctrl+T: paper or night
"""


RIGHT = (258, 402)  # heights of shelf and card at first


class Window(QMainWindow):
    """Steps on the left, panes in the centre, shelf and card on the right, jobs at the bottom."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.setWindowTitle("Inner Lamp")
        self._take_place()
        self.steps = Steps(ctx)
        self.centre = Centre(ctx)
        self.shelf, self.legends, self.card = Shelf(ctx), Legends(ctx), Card(ctx)
        self.strip = JobStrip(ctx)
        self.start_page = StartPage(self.new_project, self.open_project, self.open_demo, self.open_path)
        right = QWidget()
        right.setObjectName("right")
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        self.stack = QSplitter()
        self.stack.setOrientation(self.stack.orientation().Vertical)
        self.stack.addWidget(self.shelf)
        self.stack.addWidget(self.card)
        self.stack.setChildrenCollapsible(False)
        known = [int(v) for v in settings.load().right if v.isdigit()]
        self.stack.setSizes(known if len(known) == 2 and all(known) else list(RIGHT))
        column.addWidget(self.stack, 1)
        column.addWidget(self.legends)
        right.setFixedWidth(246)
        self.middle = QStackedWidget()
        self.middle.addWidget(self.start_page)
        self.middle.addWidget(self.centre)
        body = QWidget()
        rows = QVBoxLayout(body)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        across = QSplitter()
        across.addWidget(self.steps)
        across.addWidget(self.middle)
        across.addWidget(right)
        across.setStretchFactor(1, 1)
        across.setChildrenCollapsible(False)
        across.setHandleWidth(4)
        rows.addWidget(across, 1)
        rows.addWidget(self.strip)
        self.setCentralWidget(body)
        self._actions()
        self.centre.legend_moved.connect(lambda inside: self.legends.setVisible(not inside))
        self.setAcceptDrops(True)
        self._left: list[Callable[[], None]] = []  # what ends waiting for a run that the window was left with
        ctx.project_changed.connect(self._project)
        ctx.items_changed.connect(lambda _: self._undo_words())
        ctx.legend_changed.connect(lambda _: self._undo_words())
        ctx.lit_changed.connect(self._undo_words)
        self._project()

    def _take_place(self) -> None:
        """Stand where the window stood last, within the free part of a screen; the first time on most of it."""
        screen = QApplication.primaryScreen()
        free = screen.availableGeometry() if screen is not None else QRect(0, 0, 1280, 800)
        known = [int(v) for v in settings.load().window if v.lstrip("-").isdigit()]
        title = 30  # of the frame that a window manager puts around it
        if len(known) == 4:
            place = QRect(*known)
            other = QApplication.screenAt(place.center())
            free = other.availableGeometry() if other is not None else free
        else:
            place = QRect(0, 0, min(1600, free.width()), min(1000, free.height() - title))
            place.moveCenter(free.center())
        size = place.size().boundedTo(QSize(free.width(), free.height() - title))
        x = min(max(place.x(), free.x()), free.right() + 1 - size.width())
        y = min(max(place.y(), free.y() + title), free.bottom() + 1 - size.height())
        self.setGeometry(QRect(QPoint(x, y), size))

    # ---- menus and keys

    def _actions(self) -> None:
        self.demo = DemoInWindow(self.ctx)
        self.help: HelpWindow | None = None
        self.finder = Finder(self, self._findable)
        self.commands: list[QAction] = []
        bar = self.menuBar()
        project, edit, view, helps = (bar.addMenu(name) for name in ("&Project", "&Edit", "&View", "&Help"))
        self._action(project, "&New…", QKeySequence.StandardKey.New, self.new_project)
        self._action(project, "&Open…", QKeySequence.StandardKey.Open, self.open_project)
        self._action(project, "Open &demo Emberlow", None, self.open_demo)
        project.addSeparator()
        self._action(project, "&Bring in files…", QKeySequence("Ctrl+I"), self.bring_in)
        self._action(project, "&Write all as OMF…", None, self.write_all)
        self._action(project, "&Save now", QKeySequence.StandardKey.Save, self.save_now)
        self._action(project, "&Clean up…", None, self.clean_up)
        self.trust: QAction = self._action(
            project, "&Trust what it reads", None, lambda: self.ctx.trust(self.trust.isChecked())
        )
        self.trust.setCheckable(True)
        self.trust.setToolTip("Items that read files are made again unasked when what they are made from changes")
        project.aboutToShow.connect(self._show_trust)
        self._action(project, "&Close", QKeySequence("Ctrl+W"), self.close_project)
        self._action(project, "&Quit", QKeySequence.StandardKey.Quit, self.close)
        self.undo = self._action(edit, "&Undo", QKeySequence.StandardKey.Undo, self.ctx.undo)
        self.redo = self._action(edit, "&Redo", QKeySequence.StandardKey.Redo, self.ctx.redo)
        edit.addSeparator()
        self._action(edit, "&Find operation, item or command…", QKeySequence("Ctrl+K"), self.finder.open_finder)
        for number, area in enumerate(AREAS):
            self._action(view, area, QKeySequence(f"Ctrl+{number + 1}"), lambda area=area: self.steps.show_area(area))
        view.addSeparator()
        self.arrangements = ArrangementsMenu(self, self.centre)
        view.addMenu(self.arrangements)
        for number in range(4):
            self._action(
                view,
                f"Fill with pane {number + 1}",
                QKeySequence(f"Alt+{number + 1}"),
                lambda n=number: self.centre.toggle_fill(n),
            )
        self._action(view, "&Fit all panes", QKeySequence("Ctrl+Home"), self.centre.fit_all)
        view.addSeparator()
        self._action(view, "&Paper or night", QKeySequence("Ctrl+T"), self.toggle_theme)
        self._action(helps, "&Help", QKeySequence("F1"), self.show_help)
        self._action(helps, "&Tutorial", None, lambda: self.show_help("tutorial"))
        self._action(helps, "&Raw files of the tutorial…", None, self.copy_raw_files)
        self._action(helps, "&Keys", QKeySequence("Ctrl+F1"), lambda: self.show_help("keys"))

    def _action(self, menu, text, keys, run) -> QAction:  # type: ignore[no-untyped-def]
        action = QAction(text, self)
        if keys is not None:
            action.setShortcut(keys)
        action.triggered.connect(lambda _=False: run())
        menu.addAction(action)
        self.commands.append(action)
        return action

    def _show_trust(self) -> None:
        self.trust.setEnabled(self.ctx.store is not None and self.ctx.store.writable)
        self.trust.setChecked(self.ctx.trusted)

    def _findable(self) -> list[Hit]:
        """All that Ctrl+K finds: operations while a project is open, items, and the commands of the menus."""
        hits = operations(self.steps.open_form) if self.ctx.store is not None else []
        for entry in self.ctx.entries():
            words = f"{entry.name} {KINDS[entry.kind].title} {' '.join(entry.attributes)}"
            hits.append(Hit(entry.name, KINDS[entry.kind].title, words, partial(self._show_item, entry.id)))
        for action in self.commands:
            if action.isEnabled():
                text = action.text().replace("&", "").rstrip("…")
                keys = action.shortcut().toString()
                hits.append(Hit(text, f"command{f', {keys}' if keys else ''}", text, action.trigger))
        return hits

    def _show_item(self, item: str) -> None:
        self.ctx.select_item(item)
        if item not in self.ctx.lit:
            self.ctx.set_lit(item, True)

    def _undo_words(self) -> None:
        store = self.ctx.store
        for action, word, label in (
            (self.undo, "Undo", store.undo_label() if store else ""),
            (self.redo, "Redo", store.redo_label() if store else ""),
        ):
            action.setText(f"&{word} {label}" if label else f"&{word}")
            action.setEnabled(bool(label) and store is not None and store.writable)

    # ---- projects

    def _project(self) -> None:
        store = self.ctx.store
        self.middle.setCurrentWidget(self.centre if store else self.start_page)
        self.setWindowTitle(
            f"{store.name}{'' if store.writable else ' (read-only)'} · Inner Lamp" if store else "Inner Lamp"
        )
        self._undo_words()
        if store:
            layout = store.workspace("panes")
            self.centre.restore(layout if isinstance(layout, dict) else {"kinds": list(DEFAULT)})
            settings.save(replace(settings.load(), last_project=str(store.path.resolve())))
        else:
            self.start_page.fill()

    def open_path(self, path: Path) -> bool:
        """Open a project; what is wrong is said in the strip."""
        self._remember()
        return self.ctx.guard(self.ctx.open, path)

    def new_project(self, files: Sequence[Path | str] = ()) -> None:
        """Ask for a new project and make it; files given with it are offered for bringing in."""
        last = settings.load().last_project
        dialog = NewProject(self, Path(last).parent if last else None, files)
        if dialog.exec() and self.ctx.guard(self.ctx.create, dialog.path.text().strip(), dialog.crs) and dialog.files:
            self.steps.open_intake(dialog.files)

    def open_project(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Open a project folder (ends in .lamp)", str(Path.home()))
        if path:
            self.open_path(Path(path))

    def open_demo(self) -> None:
        """Open the demo; the first time it is made in the window, step by step."""
        from ...demo import build

        self._remember()
        self.ctx.guard(self.demo.open, build.default_place())

    def copy_raw_files(self) -> None:
        """Copy the raw files of the demo to a folder of the user."""
        folder = QFileDialog.getExistingDirectory(self, "Where the folder with the raw files goes", str(Path.home()))
        if folder:
            self.ctx.guard(self._copy_raw_files, Path(folder))

    def _copy_raw_files(self, folder: Path) -> None:
        from ...demo import build

        self.ctx.say(f"The raw files are in {build.raw_files(folder)}.", "good")

    def bring_in(self) -> None:
        """Open the form that brings files in."""
        if self.ctx.store is None:
            self.ctx.say("Open or make a project first.", "bad")
        else:
            self.steps.open_intake()

    def take_files(self, files: Sequence[Path]) -> None:
        """Offer files for bringing in; without a project a new one is proposed for them."""
        if self.ctx.store is not None:
            self.steps.open_intake(files)
        else:
            self.new_project(files)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        event.acceptProposedAction()
        files = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        projects = [f for f in files if f.suffix == ".lamp"]
        if projects and self.ctx.store is None:
            self.open_path(projects[0])
        elif self.ctx.store is not None:
            self.steps.open_intake(files)
        elif files:  # the sender of the drop waits for its end: the dialog comes after it
            QTimer.singleShot(0, lambda: self.new_project(files))

    def write_all(self) -> None:
        """Write every item that the Open Mining Format can hold into one file."""
        store = self.ctx.store
        if store is None:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write all", f"{store.name}.omf", "Open Mining Format (*.omf)")
        if path:
            self._write_all(Path(path if path.lower().endswith(".omf") else f"{path}.omf"))

    def _write_all(self, path: Path) -> None:
        if self.ctx.session is not None:
            items = [e.id for e in self.ctx.entries() if not e.dated]
            self.ctx.guard(self.ctx.session.desk.export, items, path)

    def save_now(self) -> None:
        self._remember()
        self.ctx.save_view()
        self.ctx.say("Saved. Changes are stored as you make them; this also stored the view.")

    def close_project(self) -> None:
        self._remember()
        self.ctx.close_project()

    def clean_up(self) -> None:
        session = self.ctx.session
        if session is None:
            return
        words = "Drop the undo history and all old versions of items? Present items and dated copies stay."
        if QMessageBox.question(self, "Clean up", words) == QMessageBox.StandardButton.Yes:
            self.ctx.guard(lambda: self.ctx.say(f"Freed {session.clean_up(forget=True) / 1e6:,.1f} MB.", "good"))
            self._undo_words()

    def _remember(self) -> None:
        session = self.ctx.session
        if session is not None and session.store.writable:
            session.remember({"panes": self.centre.state()})

    # ---- view

    def toggle_theme(self) -> None:
        self.set_theme("night" if self.ctx.theme.name == "paper" else "paper")

    def set_theme(self, name: str) -> None:
        """Dress the window in paper or night."""
        self.ctx.theme = THEMES[name]
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, self.ctx.theme)
        self.ctx.theme_changed.emit()
        settings.save(replace(settings.load(), theme=name))

    def show_help(self, page: str = "") -> None:
        """Show the help; without a page that of the open form's operation."""
        if self.help is None:
            self.help = HelpWindow(self, KEYS)
        form = self.steps.form
        self.help.show_page(page or (form.operation.name if form is not None else ""))

    def settled(self) -> bool:
        """Whether nothing is being read or waits to be told or drawn."""
        told = self.ctx.session is None or self.ctx.session.desk.quiet
        return told and not self.ctx.reading and not Lane.waiting and all(p.settled for p in self.centre.panes())

    def _ask_to_leave(self, running: Sequence[str]) -> str:
        """What is to become of runs when the window closes: leave, stop or stay."""
        box = QMessageBox(
            QMessageBox.Icon.Question, "Close", plain_tip(f"Still running: {', '.join(running)}."), parent=self
        )
        box.setInformativeText("Left runs are finished without a window, and their results are there next time.")
        roles = QMessageBox.ButtonRole
        leave = box.addButton("Leave to finish", roles.AcceptRole)
        stop = box.addButton("Stop and close", roles.DestructiveRole)
        stay = box.addButton("Don't close", roles.RejectRole)
        box.setDefaultButton(leave)
        box.setEscapeButton(stay)
        box.exec()
        clicked = box.clickedButton()
        return "leave" if clicked == leave else "stop" if clicked == stop else "stay"

    def leave(self) -> None:
        """Hide, let what runs finish and be stored, then close; a call brings the window back."""
        store = self.ctx.store
        if store is None:
            return
        self._remember()
        with contextlib.suppress(OSError):  # without the mark it can't be called back; the run goes on all the same
            left.mark(store.path)
        self._left = [self.ctx.jobs_changed.connect(lambda _: QTimer.singleShot(0, self._end_when_done))]
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setQuitOnLastWindowClosed(False)
        self.hide()
        self._end_when_done()

    def come_back(self) -> None:
        """Show the window again that was left."""
        if self._left:
            self._come_off()
            self.show()
            self.raise_()
            self.ctx.say("The window that was left with its run is here again.", "good")

    def _come_off(self) -> None:
        for off in self._left:
            off()
        self._left = []
        if self.ctx.store is not None:
            left.unmark(self.ctx.store.path)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setQuitOnLastWindowClosed(True)

    def _end_when_done(self) -> None:
        if self._left and not any(job.active for job in self.ctx.jobs):
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        running = [j.task.label for j in self.ctx.jobs if j.active]
        if running and self.isVisible():
            choice = self._ask_to_leave(running)
            if choice != "stop":
                event.ignore()
                if choice == "leave":
                    self.leave()
                return
        self._come_off()
        self._remember()
        at = self.normalGeometry()
        place = tuple(str(v) for v in (at.x(), at.y(), at.width(), at.height()))
        right = tuple(str(v) for v in self.stack.sizes())
        settings.save(replace(settings.load(), window=place, right=right))
        self.steps.close_form()
        self.centre.close_all()
        self.ctx.close()
        event.accept()
        QTimer.singleShot(0, QApplication.quit)
