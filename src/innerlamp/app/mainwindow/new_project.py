"""The dialog of a new project: its folder, and its coordinate system found by name, zone or place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QWidget,
)

from ...core.crs import describe
from ...core.errors import LampError
from ...core.importing.systems_proposed import Proposal, proposed_systems
from ...core.jobs import looking
from ...core.progress import Progress
from ...core.systems_by_name import systems_named
from ..base import settings
from ..base.background import Lane
from ..theme.plain import Label, plain_tip

MOST_RECENT = 5


def _proposed(files: Sequence[Path], progress: Progress) -> list[Proposal]:
    """Systems that files speak for, looked at in a process of its own."""
    name = files[0].name if files else ""
    found: list[Proposal] = looking.ask(proposed_systems, files, where=name, seconds=600.0, progress=progress)
    return found


class NewProject(QDialog):
    """Asks for a folder and a coordinate system; those that dropped files speak for stand first, then recent ones."""

    def __init__(
        self, parent: QWidget | None = None, folder: Path | None = None, files: Sequence[Path | str] = ()
    ) -> None:
        super().__init__(parent)
        self.files: list[Path] = []
        self.proposed: list[Proposal] = []
        self._lane = Lane()
        self.finished.connect(lambda _: self._lane.close())
        self.setAcceptDrops(True)
        self.setWindowTitle("New project")
        self.setMinimumWidth(660)
        box = QFormLayout(self)
        self.path = QLineEdit(str((folder or Path.home()) / "prospect.lamp"))
        self.path.setObjectName("path")
        browse = QPushButton("Folder…")
        browse.clicked.connect(self._browse)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.path, 1)
        line.addWidget(browse)
        box.addRow("Project folder", row)
        self.search = QLineEdit()
        self.search.setObjectName("system")
        self.search.setPlaceholderText("UTM 19S, Lambert, a country, a code …")
        self.search.setToolTip("Projected systems in metres, by zone, name, place or code")
        self.search.textChanged.connect(lambda _: self._fill())
        box.addRow("Coordinate system", self.search)
        self.list = QListWidget()
        self.list.setAccessibleName("Coordinate systems")
        self.list.setMinimumHeight(190)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.itemDoubleClicked.connect(lambda _: self.accept())
        box.addRow("", self.list)
        self.from_files = Label()
        self.from_files.setObjectName("faint")
        self.from_files.setTextFormat(Qt.TextFormat.PlainText)
        self.from_files.setWordWrap(True)
        ask = QPushButton("Files…")
        ask.setToolTip("Choose data files: the systems that they name are proposed, and the files are brought in next")
        ask.clicked.connect(self._ask_files)
        told = QWidget()
        across = QHBoxLayout(told)
        across.setContentsMargins(0, 0, 0, 0)
        across.addWidget(self.from_files, 1)
        across.addWidget(ask)
        box.addRow("From files", told)
        self.problem = Label()
        self.problem.setObjectName("bad")
        self.problem.setWordWrap(True)
        box.addRow("", self.problem)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.make = buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.make.setText("Make project")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        box.addRow(buttons)
        self._fill()
        self.search.setFocus()
        self.take(files)

    def take(self, files: Sequence[Path | str]) -> None:
        """Look which systems files and folders speak for, beside the window; what they are for is kept."""
        self.files += [Path(f) for f in files]
        if not self.files:
            self.from_files.setText("Drop data files here: the system that they name is proposed.")
            return
        self.from_files.setText("Looking into the files …")
        work = tuple(self.files)
        self._lane.call("look", lambda progress: _proposed(work, progress), self._looked)

    def _looked(self, result: list[Proposal] | LampError) -> None:
        count = len(self.files)
        words = f"{count} file{'s' * (count > 1)} or folder{'s' * (count > 1)}, brought in next. "
        if isinstance(result, LampError):
            self.from_files.setText(str(result))
            return
        self.proposed = result
        self.from_files.setText(words + ("" if result else "They name no coordinate system: choose it."))
        self._fill()

    def _ask_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Data files", str(Path.home()))
        if names:
            self.take(names)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        event.acceptProposedAction()
        self.take([u.toLocalFile() for u in event.mimeData().urls() if u.isLocalFile()])

    def _browse(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "New project", self.path.text(), "Inner Lamp project (*.lamp)")
        if path:
            self.path.setText(path)

    def _fill(self) -> None:
        text = self.search.text().strip()
        self.list.clear()
        if text:
            rows = [(f.code, f.words) for f in systems_named(text)]
        else:
            rows = [(p.code, p.words) for p in self.proposed]
            known = {code for code, _ in rows}
            rows += [(code, describe(code)) for code in settings.load().recent_systems if code not in known]
        for code, words in rows:
            item = QListWidgetItem(words)
            item.setData(Qt.ItemDataRole.UserRole, code)
            item.setToolTip(plain_tip(words))
            self.list.addItem(item)
        if rows:
            self.list.setCurrentRow(0)
        self.problem.setText("" if rows or not text else "No projected system in metres has that in its name or area.")

    @property
    def crs(self) -> str:
        """Code of the chosen system; what was typed where none is chosen."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else self.search.text().strip()

    def accept(self) -> None:
        """Close when both are given; what lacks is said."""
        if not self.path.text().strip():
            self.problem.setText("Give the project a folder.")
            return
        try:
            describe(self.crs)
        except LampError as error:
            self.problem.setText(str(error) if self.crs else "Choose a coordinate system.")
            return
        here = settings.load()
        recent = (self.crs, *(c for c in here.recent_systems if c != self.crs))
        settings.save(replace(here, recent_systems=recent[:MOST_RECENT]))
        super().accept()
