"""The list of holes that a model of units misses, on its card: each is shown in the panes, and mended in one step."""

from __future__ import annotations

from typing import Any, TypeGuard

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.items.base import Item, rows_of_table
from ...core.items.points import PointSet
from ...core.project.records import Entry
from ..context.context import Context
from ..theme.plain import Label, plain_tip

_SHOWN = 200  # rows
_READ = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable


def is_list(item: Item, entry: Entry) -> TypeGuard[PointSet]:
    """Whether an item is the list of holes that a model misses."""
    run = entry.chain[0] if entry.chain else None
    return isinstance(item, PointSet) and run is not None and run.operation == "build-units" and run.output == "misses"


class MissList(QWidget):
    """Holes, units and distances, the worst first; buttons make the model anew with what mends the chosen row."""

    def __init__(self, ctx: Context, entry: Entry, item: PointSet) -> None:
        super().__init__()
        self.ctx, self.entry = ctx, entry
        self.setObjectName("missList")
        self.rows = list(rows_of_table(item.table.head(_SHOWN)))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 4, 0, 0)
        box.setSpacing(3)
        if not self.rows:
            box.addWidget(Label("No hole is missed."))
            return
        self.table = QTableWidget(len(self.rows), 3)
        self.table.setAccessibleName("Holes that the model misses")
        self.table.setHorizontalHeaderLabels(["Hole", "Unit", "Off (m)"])
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(20)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        for k, row in enumerate(self.rows):
            for column, text in enumerate((str(row.hole), str(row.surface), f"{row.distance:.1f}")):
                cell = QTableWidgetItem(text)
                cell.setFlags(_READ)
                cell.setToolTip(
                    plain_tip(f"{row.hole}: the surface of {row.surface} {row.what}, by {row.distance:.1f} m")
                )
                self.table.setItem(k, column, cell)
        self.table.setFixedHeight(26 + 20 * min(len(self.rows), 7))
        self.table.itemSelectionChanged.connect(self._go)
        box.addWidget(self.table)
        self.words = Label("Choose a row to go there and to mend it.")
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        box.addWidget(self.words)
        line = QHBoxLayout()
        line.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        for name, tip, act in (
            (
                "Honour",
                "Make the model anew with the contacts of this hole honoured exactly",
                lambda: self._mend("honour"),
            ),
            ("Push", "Make the model anew with a push that brings the surface to this place", self._push),
            ("Doubt", "Make the model anew without this unit's log of this hole", lambda: self._mend("doubtful")),
        ):
            button = QPushButton(name)
            button.setObjectName("small")
            button.setToolTip(tip)
            button.setEnabled(False)
            button.clicked.connect(lambda _=False, a=act: a())
            self.buttons[name] = button
            line.addWidget(button)
        line.addStretch(1)
        box.addLayout(line)

    def _row(self) -> Any:
        at = self.table.currentRow()
        return self.rows[at] if 0 <= at < len(self.rows) and self.table.selectedItems() else None

    def _go(self) -> None:
        row = self._row()
        for button in self.buttons.values():
            button.setEnabled(row is not None)
        if row is None:
            return
        self.words.setText(f"The surface of {row.surface} {row.what}.")
        self.ctx.point_at(row.x, row.y, row.z, "")
        self.ctx.go_to.emit(row.x, row.y, row.z)

    def _mend(self, what: str) -> None:
        row = self._row()
        if row is not None:
            self._again("mends", {"hole": str(row.hole), "surface": str(row.surface), "what": what})

    def _push(self) -> None:
        row = self._row()
        if row is not None:  # a place that the log has inside or outside pushes by what it was off
            inside = (
                0.0
                if "contact" in row.what or "wall" in row.what
                else (-row.distance if row.misfit > 0 else row.distance)
            )
            place = {"east": row.x, "north": row.y, "elevation": row.z, "inside": inside}
            self._again("edits", {"surface": str(row.surface), **place})

    def _again(self, table: str, row: dict[str, Any]) -> None:
        run, session = self.entry.chain[0], self.ctx.session
        if session is None:
            return
        before = [dict(r) for r in run.params.get(table) or ()]
        if table == "mends":  # one word for each hole and unit: the last one said
            before = [r for r in before if (r["hole"], r.get("surface", "")) != (row["hole"], row["surface"])]
        self.ctx.guard(session.desk.rerun, self.entry.id, {**run.params, table: [*before, row]})
