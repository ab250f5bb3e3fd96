"""A list of items of which any number is chosen, in an order."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QListWidget, QListWidgetItem

from ...core.declaring.operation import Input
from ..theme.plain import plain_tip

_ID = Qt.ItemDataRole.UserRole


class ItemList(QListWidget):
    """Items with a box each; rows are dragged (or moved with Alt and the arrows) into another order."""

    changed = Signal()

    def __init__(self, slot: Input) -> None:
        super().__init__()
        self.setObjectName(slot.slot)
        self.setToolTip(plain_tip(f"{slot.help or slot.label}. Space checks a row; drag rows into another order"))
        self.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.setMaximumHeight(110)
        self._filling = False
        self.itemChanged.connect(lambda _: None if self._filling else self.changed.emit())
        self.model().rowsMoved.connect(lambda *_: self.changed.emit())

    def offer(self, items: Mapping[str, str]) -> None:
        """Show items (name by id); what was chosen stays so, in its order."""
        chosen = [i for i in self.chosen() if i in items]
        self._filling = True
        self.clear()
        for item in [*chosen, *(i for i in items if i not in chosen)]:
            row = QListWidgetItem(items[item])
            row.setData(_ID, item)
            row.setFlags(row.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            row.setCheckState(Qt.CheckState.Checked if item in chosen else Qt.CheckState.Unchecked)
            self.addItem(row)
        self._filling = False

    def chosen(self) -> list[str]:
        """Ids of the checked rows from the top down."""
        rows = [self.item(k) for k in range(self.count())]
        return [str(row.data(_ID)) for row in rows if row.checkState() == Qt.CheckState.Checked]

    def choose(self, items: list[str]) -> None:
        """Check just these rows."""
        for k in range(self.count()):
            row = self.item(k)
            row.setCheckState(Qt.CheckState.Checked if row.data(_ID) in items else Qt.CheckState.Unchecked)
