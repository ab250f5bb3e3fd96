"""The difference card: what moved since an earlier version or a dated copy, and the A/B switch between the two."""

from __future__ import annotations

import numpy as np
import shiboken6
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.project.records import Entry
from ..context.context import Context
from ..theme.plain import Label


class DifferenceCard(QWidget):
    """Rows of before and after; those with a place are links that bring all panes there."""

    def __init__(self, ctx: Context, entry: Entry) -> None:
        super().__init__()
        self.ctx, self.entry = ctx, entry
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 4, 0, 0)
        box.setSpacing(2)
        line = QHBoxLayout()
        line.setSpacing(4)
        words = Label("Against")
        words.setObjectName("faint")
        line.addWidget(words)
        self.which = QComboBox()
        self.which.setObjectName("compareWith")
        self.which.setToolTip("Earlier versions and dated copies of this item")
        self.which.setMinimumContentsLength(8)
        for version, label, copy in ctx.comparable(entry):
            self.which.addItem(label, (version, copy))
        self.which.activated.connect(lambda _: self._show())
        line.addWidget(self.which, 1)
        self.switch = QPushButton("A/B")
        self.switch.setObjectName("small")
        self.switch.setFixedWidth(36)
        self.switch.setToolTip(
            "Light the other of the two in all panes, again and again; light both to lay them over each other"
        )
        self.switch.clicked.connect(self._swap)
        line.addWidget(self.switch)
        box.addLayout(line)
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(6)
        self.grid.setVerticalSpacing(1)
        self.grid.setColumnStretch(0, 1)
        box.addLayout(self.grid)
        self.rows: list[tuple[str, str, str]] = []
        self._off = ctx.compared.connect(self._compared)
        self._show()

    def _chosen(self) -> tuple[int, str]:
        version, copy = self.which.currentData()
        return int(version), str(copy)

    def _compared(self, old: int, new: int) -> None:
        if shiboken6.isValid(self) and self.which.count() and (old, new) == (self._chosen()[0], self.entry.version):
            self._show()

    def _show(self) -> None:
        while (item := self.grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self.rows = []
        changes = self.ctx.difference(self._chosen()[0], self.entry.version)
        if changes is None or isinstance(changes, str):
            waiting = Label(changes or "Comparing …")
            waiting.setObjectName("faint")
            waiting.setWordWrap(True)
            self.grid.addWidget(waiting, 0, 0, 1, 3)
            return
        for row, change in enumerate(changes):
            self.rows.append((change.what, change.before, change.after))
            what: QWidget
            if change.place is not None:
                place = change.place
                what = QPushButton(change.what)
                what.setObjectName("link")
                what.setToolTip("Go there")
                what.clicked.connect(lambda _=False, at=place: self._go(at))
            else:
                what = Label(change.what)
                what.setObjectName("faint")
                what.setWordWrap(True)
            self.grid.addWidget(what, row, 0)
            text = f"{change.before} → {change.after}" if change.before else change.after
            value = Label(text)
            value.setWordWrap(True)
            value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.grid.addWidget(value, row, 1)

    def _go(self, place: tuple[float, float, float]) -> None:
        x, y, z = place
        if np.isnan(z):
            z = self.ctx.ground_at(x, y)
        self.ctx.point_at(x, y, z, "")
        self.ctx.go_to.emit(x, y, z)

    def _swap(self) -> None:
        version, copy = self._chosen()
        if self.ctx.session is not None:
            self.ctx.guard(self.ctx.session.swap, self.entry.id, version, copy)
