"""The dialog of a new project: its folder, and its coordinate system found by name, zone or place."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QWidget,
)

from ...core.crs import describe
from ...core.errors import LampError
from ...core.systems_by_name import systems_named
from .. import settings

MOST_RECENT = 5


class NewProject(QDialog):
    """Asks for a folder and a coordinate system; recent systems stand first."""

    def __init__(self, parent: QWidget | None = None, folder: Path | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("New project")
        self.setMinimumWidth(560)
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
        self.problem = QLabel()
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
            rows = [(code, describe(code)) for code in settings.load().recent_systems]
        for code, words in rows:
            item = QListWidgetItem(words)
            item.setData(Qt.ItemDataRole.UserRole, code)
            item.setToolTip(words)
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
