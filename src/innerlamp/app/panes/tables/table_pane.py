"""The table: rows of the selected item, sorted by any column, linked with the selection of all panes."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QItemSelectionRange,
    Qt,
)
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QPushButton,
    QWidget,
)

from ....core.compute.expression import condition
from ....core.errors import LampError
from ....core.items.holes import HoleSet
from ....core.operations.data.computed import columns_of
from ...context.context import Context, Selection
from ...theme.plain import Label
from ..base.boxes import choice_box, rows_view
from ..base.pane import Pane
from .frame_model import HIDDEN, FrameModel, tables_of

_PIECES = 300  # pieces of a selection that the view is given


class TablePane(Pane):
    """Rows of the selected item."""

    kind: ClassVar[str] = "table"
    title: ClassVar[str] = "Table"
    delay: ClassVar[int] = 30

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.which = choice_box("Which table of the item")
        self.which.activated.connect(lambda _: self._fill())
        self.tools.addWidget(self.which)
        self.count = Label()
        self.count.setObjectName("faint")
        self.tools.addWidget(self.count)
        self._filling: bool = False
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Rows where …, such as Sn_ppm > 200 and Rock = 'SLATE'")
        self.filter.setToolTip(
            "Show only rows that meet a condition. Names with spaces stand in brackets: [Sn ppm] > 20. "
            "and, or, not, in ('A', 'B'), log10(), known(), contains(). Return applies it, empty shows all."
        )
        self.filter.setClearButtonEnabled(True)
        self.filter.returnPressed.connect(self.apply_filter)
        self.filter.textChanged.connect(lambda text: self.apply_filter() if not text and not self._filling else None)
        self.take = QPushButton("Select")
        self.take.setObjectName("small")
        self.take.setToolTip("Select the rows that are shown, in all panes")
        self.take.setFixedWidth(52)
        self.take.clicked.connect(self.select_shown)
        self.named = choice_box("Named selections: a condition kept under a name with the project", length=8)
        self.named.activated.connect(self._use_named)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(4, 2, 4, 2)
        row.setSpacing(4)
        row.addWidget(self.filter, 1)
        row.addWidget(self.take)
        row.addWidget(self.named)
        self.filter_line = line
        self.body.addWidget(line)
        self.view = rows_view()
        self.view.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.body.addWidget(self.view)
        self.hint = Label("Select an item on the shelf to see its rows.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        self.model: FrameModel | None = None
        self._shown: tuple[str, int] = ("", -1)
        self._own = False
        self._filtered = ("", "")
        self._off.append(ctx.pointed.connect(self.show_pointed))
        self.redraw()

    def draw(self) -> None:
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry else None
        self.hint.setVisible(item is None)
        self.view.setVisible(item is not None)
        self.filter_line.setVisible(item is not None)
        self.which.setVisible(item is not None)
        if entry is None or item is None:
            self.model = None
            self.count.clear()
            self._shown = ("", -1)
            return
        if self._shown == (entry.id, entry.version):
            return
        wanted = self.which.currentText() if self._shown[0] == entry.id else ""
        self._shown = (entry.id, entry.version)
        names = list(tables_of(item))
        self.which.clear()
        self.which.addItems(names)
        if not wanted and "assay" in names:
            wanted = "assay"
        if wanted in names:
            self.which.setCurrentText(wanted)
        self._fill()

    def _fill(self) -> None:
        item = self.ctx.item(self._shown[0])
        if item is None:
            return
        table, units = tables_of(item)[self.which.currentText()]()
        table = table[[c for c in table.columns if c not in HIDDEN]]
        if self._filtered != (self._shown[0], self.which.currentText()):
            self._filtered = (self._shown[0], self.which.currentText())
            self._filling = True
            self.filter.clear()
            self._filling = False
        self.model = FrameModel(table, units)
        self.view.setModel(self.model)
        self.view.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        sizing = self.view.horizontalHeader()
        for column in range(self.model.columnCount()):
            width = (
                self.view.fontMetrics().horizontalAdvance(str(self.model.headerData(column, Qt.Orientation.Horizontal)))
                + 26
            )
            sample = (
                max(
                    (
                        self.view.fontMetrics().horizontalAdvance(str(self.model.data(self.model.index(r, column))))
                        for r in range(min(20, len(table)))
                    ),
                    default=0,
                )
                + 14
            )
            sizing.resizeSection(column, int(min(max(width, sample), 320)))
        self.view.selectionModel().selectionChanged.connect(self._selected)
        self._fill_named()
        self.apply_filter()
        self.show_selection(self.ctx.selection)

    # ---- conditions and named selections

    def apply_filter(self) -> None:
        """Show the rows that meet the condition; what is wrong with it is said and all rows stay."""
        if self.model is None:
            return
        text, table = self.filter.text().strip(), self.model.table
        rows = np.arange(len(table))
        if text:
            try:
                rows = np.flatnonzero(condition(text, self._columns(), len(table)))
            except LampError as error:
                self.ctx.say(str(error), "bad")
                return
        if len(rows) != len(self.model.kept) or not np.array_equal(rows, self.model.kept):
            self.model.keep(rows)
            self.view.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        shown = f"{len(rows):,} of {len(table):,} rows" if text else f"{len(table):,} rows"
        self.count.setText(shown)

    def _columns(self) -> dict[str, np.ndarray]:
        item = self.ctx.item(self._shown[0])
        assert item is not None
        return columns_of(tables_of(item)[self.which.currentText()]()[0])

    def select_shown(self) -> None:
        """Select the rows that are shown, in all panes; with a condition, offer to keep it under a name."""
        if self.model is None:
            return
        rows = tuple(int(r) for r in self.model.kept)
        self.ctx.select_rows(Selection(self._shown[0], self.which.currentText(), rows))
        self.ctx.say(f"{len(rows):,} rows selected.")

    def _rules(self) -> dict[str, dict[str, str]]:
        """Conditions that are kept by a name; what is none, as in a project of somebody else, is passed over."""
        kept = self.ctx.store.workspace("selections", {}) if self.ctx.store else {}
        return {
            name: rule
            for name, rule in kept.items()
            if isinstance(rule, dict)
            and {"item", "table"} <= set(rule)
            and all(isinstance(v, str) for v in rule.values())
        }

    def _fill_named(self) -> None:
        self.named.clear()
        self.named.addItem("named …", "")
        mine = {
            n: r
            for n, r in self._rules().items()
            if (r["item"], r["table"]) == (self._shown[0], self.which.currentText())
        }
        for name in mine:
            self.named.addItem(name, name)
        self.named.addItem("keep this condition …", "+")

    def _use_named(self, _: int) -> None:
        chosen = self.named.currentData()
        if chosen == "+":
            name, good = QInputDialog.getText(self, "Named selection", "Name of this condition:")
            self.named.setCurrentIndex(0)
            if good and name.strip():
                self.keep_condition(name.strip())
        elif chosen:
            self.filter.setText(self._rules()[chosen]["rule"])
            self.apply_filter()
            self.select_shown()

    def keep_condition(self, name: str) -> None:
        """Keep the condition under a name with the project; it is a rule, so it holds for later data too."""
        store, rule = self.ctx.store, self.filter.text().strip()
        if store is None or not rule:
            self.ctx.say("There is no condition to keep: write one first.", "bad")
            return
        rules = self._rules() | {name: {"item": self._shown[0], "table": self.which.currentText(), "rule": rule}}
        if self.ctx.session and self.ctx.guard(self.ctx.session.remember, {"selections": rules}):
            self._fill_named()
            self.named.setCurrentText(name)
            self.ctx.say(f"Kept as '{name}'.", "good")

    def show_table(self, name: str) -> None:
        """Show one of the item's tables by name."""
        if self.which.findText(name) >= 0:
            self.which.setCurrentText(name)
            self._fill()

    def on_selected(self, item: str) -> None:
        self.redraw()

    def on_items(self, notice: Any) -> None:
        self.redraw()

    def _selected(self, *_: object) -> None:
        if self._own or self.model is None:
            return
        rows = tuple(int(self.model.order[i.row()]) for i in self.view.selectionModel().selectedRows())
        self.model.mark(np.empty(0, dtype=np.int64), self.view.palette().highlight())
        self._own = True
        self.ctx.select_rows(Selection(self._shown[0], self.which.currentText(), rows))
        if len(rows) == 1:
            row = self.model.table.iloc[rows[0]]
            if {"x", "y", "z"} <= set(row.index):
                x, y, z = float(row["x"]), float(row["y"]), float(row["z"])
                if np.isnan(z):
                    z = self.ctx.ground_at(x, y)
                self.ctx.point_at(x, y, z, self.kind)
                entry = self.ctx.entry(self._shown[0])
                if entry is not None and entry.kind == "targets":
                    self.ctx.go_to.emit(x, y, z)
            elif "hole" in row.index and self.which.currentText() in ("findings", "by hole"):
                self._show_hole(str(row["hole"]))
        self._own = False

    def _show_hole(self, hole: str) -> None:
        item = self.ctx.item(self._shown[0])
        if isinstance(item, HoleSet):
            hit = item.collars[item.collars["hole"] == hole]
            if len(hit):
                x, y, z = (float(hit.iloc[0][c]) for c in "xyz")
                self.ctx.point_at(x, y, z, self.kind)
                self.ctx.go_to.emit(x, y, z)

    def show_pointed(self, row: Selection) -> None:
        """Bring the row that the mouse is over in another pane into view, without selecting it."""
        if self.model is None or row.item != self._shown[0] or not row.rows or not self.isVisible():
            return
        at = np.flatnonzero(self.model.order == row.rows[0])
        if len(at):
            index = self.model.index(int(at[0]), 0)
            self.view.selectionModel().setCurrentIndex(index, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.view.scrollTo(index)

    def show_selection(self, selection: Selection) -> None:
        if self._own or self.model is None or selection.item != self._shown[0]:
            return
        if (
            selection.table
            and selection.table != self.which.currentText()
            and self.which.findText(selection.table) >= 0
        ):
            self.which.setCurrentText(selection.table)
            self._fill()
            return
        place = np.full(len(self.model.table), -1, dtype=np.int64)
        place[self.model.order] = np.arange(len(self.model.order))
        rows = np.array(selection.rows, dtype=np.int64)
        at = place[rows[rows < len(place)]]
        at = np.unique(at[at >= 0])
        runs = np.split(at, np.flatnonzero(np.diff(at) != 1) + 1) if len(at) else []
        # The view compares each piece of a selection with all others: very many are shown by the model instead.
        many = len(runs) > _PIECES
        self.model.mark(self.model.order[at] if many else at[:0], self.view.palette().highlight())
        chosen = QItemSelection()
        last = self.model.columnCount() - 1
        for run in [] if many else runs:
            chosen.append(QItemSelectionRange(self.model.index(int(run[0]), 0), self.model.index(int(run[-1]), last)))
        first = self.model.index(int(at[0]), 0) if len(at) else None
        self._own = True
        self.view.selectionModel().select(
            chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
        )
        if first is not None:
            self.view.scrollTo(first, QAbstractItemView.ScrollHint.PositionAtCenter)
        self._own = False

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Escape:
            self.view.clearSelection()
            if self.model is not None and self.model.marked is not None:
                self.ctx.select_rows(Selection(self._shown[0], self.which.currentText()))
        super().keyPressEvent(event)

    def close_pane(self) -> None:
        super().close_pane()
        self.view.setModel(None)
        self.model = None
