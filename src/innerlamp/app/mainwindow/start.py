"""The start page: new, open, demo, last project."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ..base import settings
from ..theme.plain import Label


class StartPage(QWidget):
    """Shown while no project is open."""

    def __init__(
        self,
        new_project: Callable[[], object],
        choose_project: Callable[[], object],
        open_demo: Callable[[], object],
        open_path: Callable[[Path], object],
    ) -> None:
        super().__init__()
        self._open_path = open_path
        box = QVBoxLayout(self)
        box.addStretch(2)
        name = Label("Inner Lamp")
        font = name.font()
        font.setPointSizeF(24)
        name.setFont(font)
        about = Label("From drillholes, samples and surveys to the next holes, and why.")
        about.setObjectName("faint")
        self.last = QPushButton()
        self.last.clicked.connect(self._open_last)
        buttons = [
            ("New project…", new_project),
            ("Open project…", choose_project),
            ("Open the demo prospect Emberlow", open_demo),
        ]
        for widget in (name, about):
            box.addWidget(widget, 0, Qt.AlignmentFlag.AlignHCenter)
        box.addSpacing(18)
        box.addWidget(self.last, 0, Qt.AlignmentFlag.AlignHCenter)
        for text, run in buttons:
            button = QPushButton(text)
            button.setMinimumWidth(280)
            button.clicked.connect(lambda _=False, act=run: act())
            box.addWidget(button, 0, Qt.AlignmentFlag.AlignHCenter)
        self.last.setMinimumWidth(280)
        box.addStretch(3)
        self.fill()

    def fill(self) -> None:
        """Offer the project that was open last."""
        path = settings.load().last_project
        there = bool(path) and (Path(path) / "catalogue.sqlite").is_file()
        self.last.setVisible(there)
        self.last.setText(f"Go on with {Path(path).stem}" if there else "")

    def _open_last(self) -> None:
        self._open_path(Path(settings.load().last_project))
