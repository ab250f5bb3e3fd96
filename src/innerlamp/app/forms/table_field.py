"""The one widget for parameters that are tables: rows are added, removed, moved, typed and pasted."""

from __future__ import annotations

import typing
from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from ...core.declaring.operation import FieldInfo, Row
from ...core.numbers import number_or_none
from .field_base import FieldWidget, as_text

_ROWS_SHOWN, _COLUMNS_SHOWN = 8, 4


class RowTable(QTableWidget):
    """A table whose rows are changed with the keyboard as well: Insert, Ctrl+Delete, Alt and the arrows, Ctrl+V."""

    def __init__(self, owner: TableField) -> None:
        super().__init__(0, len(owner.info.columns))
        self._owner = owner

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        alt = event.modifiers() & Qt.KeyboardModifier.AltModifier
        control = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if event.key() == Qt.Key.Key_Insert:
            self._owner.add_row()
        elif event.key() == Qt.Key.Key_Delete and control:
            self._owner.remove_row()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and alt:
            self._owner.move_row(-1 if event.key() == Qt.Key.Key_Up else 1)
        elif event.matches(QKeySequence.StandardKey.Paste):
            self._owner.paste(QGuiApplication.clipboard().text())
        else:
            super().keyPressEvent(event)


class TableField(FieldWidget):
    """Rows of a parameter, one column a value."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.names = list(info.columns)
        self._filling = False
        self.table = RowTable(self)
        self.table.setAccessibleName(info.label)
        self.table.setHorizontalHeaderLabels(
            [f"{i.label} ({i.unit})" if i.unit else i.label for i in info.columns.values()]
        )
        for number, each in enumerate(info.columns.values()):
            head = self.table.horizontalHeaderItem(number)
            if head is not None:
                head.setToolTip(". ".join(t for t in (each.help, each.bounds_text) if t))
        # Many columns keep their width and are scrolled: squeezed into the form they could not be read.
        many = len(info.columns) > _COLUMNS_SHOWN
        fit = QHeaderView.ResizeMode.ResizeToContents if many else QHeaderView.ResizeMode.Stretch
        self.table.horizontalHeader().setSectionResizeMode(fit)
        self.table.verticalHeader().setDefaultSectionSize(24)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self.table.cellChanged.connect(lambda *_: None if self._filling else self._touch())
        column = QVBoxLayout()
        column.setSpacing(3)
        column.addWidget(self.table)
        buttons = QHBoxLayout()
        for name, tip, act in (
            ("Add", "Add a row (Insert)", self.add_row),
            ("Remove", "Remove the row (Ctrl+Delete)", self.remove_row),
            ("Up", "Move the row up (Alt+Up)", lambda: self.move_row(-1)),
            ("Down", "Move the row down (Alt+Down)", lambda: self.move_row(1)),
        ):
            button = QPushButton(name)
            button.setObjectName("small")
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, a=act: a())
            buttons.addWidget(button)
        buttons.addStretch(1)
        column.addLayout(buttons)
        self.row.addLayout(column)
        self.setFocusProxy(self.table)
        self.set_value(info.default or ())

    # ---- values

    def value(self) -> list[dict[str, str]]:
        """Rows as the operation takes them; cells that are empty are left out, and so are empty rows."""
        rows = [self._cells(k) for k in range(self.table.rowCount())]
        return [row for row in rows if row]

    def set_value(self, value: Any) -> None:
        self._filling = True
        self.table.setRowCount(0)
        for each in value:
            self._append(each.model_dump() if isinstance(each, Row) else dict(each))
        self._filling = False
        self._fit()

    def _cells(self, row: int) -> dict[str, str]:
        out = {}
        for number, name in enumerate(self.names):
            box, item = self.table.cellWidget(row, number), self.table.item(row, number)
            text = box.currentText() if isinstance(box, QComboBox) else item.text().strip() if item else ""
            number_kind = self.info.columns[name].kind
            if number_kind in (int, float) or float in typing.get_args(number_kind):
                value = number_or_none(text)
                text = text if value is None else repr(value)  # what is none is refused by the operation
            if text:
                out[name] = text
        # Choices always stand somewhere: alone they make no row.
        typed = [n for n in out if not _words(self.info.columns[n])]
        return out if typed or all(_words(i) for i in self.info.columns.values()) else {}

    def _append(self, values: Mapping[str, Any], at: int | None = None) -> None:
        row = self.table.rowCount() if at is None else at
        self.table.insertRow(row)
        for number, name in enumerate(self.names):
            info = self.info.columns[name]
            value = values.get(name, info.default)
            text = as_text(value)
            if words := _words(info):
                box = QComboBox()
                box.addItems(list(words))
                box.setCurrentText(text)
                box.activated.connect(lambda _: self._touch())
                self.table.setCellWidget(row, number, box)
            else:
                self.table.setItem(row, number, QTableWidgetItem(text))

    # ---- changes

    def add_row(self) -> None:
        """Add an empty row below the current one."""
        at = self.table.currentRow() + 1 if self.table.currentRow() >= 0 else self.table.rowCount()
        self._change(lambda: self._append({}, at), at)

    def remove_row(self) -> None:
        """Remove the current row."""
        at = self.table.currentRow()
        if at >= 0:
            self._change(lambda: self.table.removeRow(at), min(at, self.table.rowCount() - 2))

    def move_row(self, step: int) -> None:
        """Move the current row up (-1) or down (1)."""
        at = self.table.currentRow()
        if 0 <= at < self.table.rowCount() and 0 <= at + step < self.table.rowCount():
            cells = self._cells(at)

            def move() -> None:
                self.table.removeRow(at)
                self._append(cells, at + step)

            self._change(move, at + step)

    def paste(self, text: str) -> None:
        """Fill in rows and cells copied from a table, from the current cell on; rows are added as needed."""
        lines = [line.split("\t") for line in text.rstrip("\n").splitlines()]
        row, column = max(self.table.currentRow(), 0), max(self.table.currentColumn(), 0)

        def fill() -> None:
            for k, cells in enumerate(lines):
                if row + k >= self.table.rowCount():
                    self._append({})
                for j, cell in enumerate(cells[: len(self.names) - column]):
                    box, item = self.table.cellWidget(row + k, column + j), self.table.item(row + k, column + j)
                    if isinstance(box, QComboBox):
                        box.setCurrentText(cell.strip())
                    elif item is not None:
                        item.setText(cell.strip())

        self._change(fill, row)

    def _change(self, act: Any, row: int) -> None:
        column = max(self.table.currentColumn(), 0)
        self._filling = True
        act()
        self._filling = False
        self.table.setCurrentCell(row, column)
        self._fit()
        self._touch()

    def _fit(self) -> None:
        rows = min(max(self.table.rowCount(), 2), _ROWS_SHOWN)
        bar = self.table.horizontalScrollBar().sizeHint().height() if len(self.names) > _COLUMNS_SHOWN else 0
        self.table.setFixedHeight(self.table.horizontalHeader().sizeHint().height() + 24 * rows + 4 + bar)


def _words(info: FieldInfo) -> tuple[str, ...]:
    """The words of a choice, () for what is typed."""
    words = typing.get_args(info.kind)
    return words if words and all(isinstance(w, str) for w in words) else ()
