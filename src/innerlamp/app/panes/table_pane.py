"""The table: rows of the selected item, sorted by any column, linked with the selection of all panes."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any, ClassVar

import numpy as np
import pandas as pd
from PySide6.QtCore import (
    QAbstractTableModel,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    Qt,
)
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QLabel, QTableView

from ...core.findings import report_by_hole
from ...core.items.base import Item
from ...core.items.fields import BlockModel, Grid, Surface
from ...core.items.holes import HoleSet
from ...core.items.legend import without_unit
from ...core.items.points import PointSet, SurveyLines, TargetSet
from ..context import Context, Selection
from .base import Pane

Index = QModelIndex | QPersistentModelIndex
_ROOT = QModelIndex()
HIDDEN = {"x0", "y0", "z0", "x1", "y1", "z1", "file_line"}


class FrameModel(QAbstractTableModel):
    """Shows a table without copying it; sorting keeps an order of rows."""

    def __init__(self, table: pd.DataFrame, units: dict[str, str]) -> None:
        super().__init__()
        self.table = table
        self.units = units
        self.order = np.arange(len(table))
        self._columns = [table[c].to_numpy() for c in table.columns]

    def rowCount(self, parent: Index = _ROOT) -> int:  # noqa: N802
        return 0 if parent.isValid() else len(self.order)

    def columnCount(self, parent: Index = _ROOT) -> int:  # noqa: N802
        return 0 if parent.isValid() else len(self._columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        values = self._columns[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return as_text(values[self.order[index.row()]], str(self.table.columns[index.column()]))
        if role == Qt.ItemDataRole.TextAlignmentRole and values.dtype.kind in "fiu":
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: N802
        if orientation == Qt.Orientation.Vertical:
            return str(self.order[section] + 1) if role == Qt.ItemDataRole.DisplayRole else None
        name = str(self.table.columns[section])
        unit = self.units.get(name, "m" if name in ("x", "y", "z", "depth_m", "from_m", "to_m") else "")
        if role == Qt.ItemDataRole.DisplayRole:
            bare = without_unit(name, unit).replace("_", " ")
            bare = {"x": "Easting", "y": "Northing", "z": "Elevation"}.get(bare, bare)
            return f"{bare} ({unit})" if unit else bare
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{name}{f', in {unit}' if unit else ''}. Click to sort."
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < len(self._columns):
            return
        self.layoutAboutToBeChanged.emit()
        values = self._columns[column]
        if values.dtype.kind not in "fiuM":
            values = pd.factorize(pd.Series(values).astype(str), sort=True)[0]
        keys = np.argsort(values, kind="stable")
        if order == Qt.SortOrder.DescendingOrder:
            keys = keys[::-1]
            if values.dtype.kind == "f":  # missing values stay at the end
                missing = np.isnan(values[keys])
                keys = np.concatenate([keys[~missing], keys[missing]])
        self.order = keys
        self.layoutChanged.emit()


def as_text(value: Any, column: str = "") -> str:
    """Return a cell as people read it: few digits for measures, centimetres for coordinates."""
    if value is None or (isinstance(value, float | np.floating) and np.isnan(value)):
        return ""
    if isinstance(value, float | np.floating):
        if column in ("x", "y", "z") or column.endswith("_m"):
            return f"{value:.2f}"
        size = abs(float(value))
        if size != 0 and size < 0.001:
            return f"{value:.2e}"
        return f"{value:.0f}" if size >= 10000 else f"{value:.4g}"
    return str(value)


Rows = Callable[[], tuple[pd.DataFrame, dict[str, str]]]


def tables_of(item: Item) -> dict[str, Rows]:
    """Return the tables that an item can show, by name; calling one gives its rows and the units of its columns."""
    if isinstance(item, HoleSet):
        out: dict[str, Rows] = {
            "collar": lambda: (item.collars, {}),
            "survey": lambda: (item.surveys, {"azimuth": "°", "dip": "°"}),
        }
        for name, table in {**item.tables, **item.readings}.items():
            out[name] = partial(_given, table, item.units)
        if len(item.findings):
            out["by hole"] = lambda: (report_by_hole(item.collars, item.surveys, item.tables, item.findings), {})
            out["findings"] = lambda: (item.findings, {})
        return out
    if isinstance(item, PointSet | SurveyLines):
        out = {item.role if isinstance(item, PointSet) else "readings": lambda: (item.table, item.units)}
        return out | ({"findings": lambda: (item.findings, {})} if len(item.findings) else {})
    if isinstance(item, TargetSet):
        return {"targets": lambda: (_why_first(item.table), {}), "evidence": lambda: (item.evidence, {})}
    return {"facts": lambda: (_facts(item), {})}


def _given(table: pd.DataFrame, units: dict[str, str]) -> tuple[pd.DataFrame, dict[str, str]]:
    return table, units


def _why_first(table: pd.DataFrame) -> pd.DataFrame:
    # What each place scored and why comes before where it is.
    why = [c for c in table.columns if c.endswith(" share")] + [c for c in table.columns if c.endswith(" value")]
    return table[["rank", "score", *why, "x", "y", "z"]]


def _facts(item: Item) -> pd.DataFrame:
    facts = dict(item.facts)
    if isinstance(item, Grid):
        facts |= _summary(item.values[np.isfinite(item.values)])
    if isinstance(item, BlockModel):
        for values in item.properties.values():
            facts |= _summary(values[np.isfinite(values)])
    if isinstance(item, Surface):
        facts["Vertices"] = f"{len(item.vertices):,}"
    return pd.DataFrame({"fact": list(facts), "value": list(facts.values())})


def _summary(values: np.ndarray) -> dict[str, str]:
    if not len(values):
        return {}
    low, mid, high = np.percentile(values, [10, 50, 90])
    return {
        "Minimum": f"{values.min():.4g}",
        "10 %": f"{low:.4g}",
        "Median": f"{mid:.4g}",
        "90 %": f"{high:.4g}",
        "Maximum": f"{values.max():.4g}",
    }


class TablePane(Pane):
    """Rows of the selected item."""

    kind: ClassVar[str] = "table"
    title: ClassVar[str] = "Table"
    delay: ClassVar[int] = 30

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.which = QComboBox()
        self.which.setMinimumContentsLength(7)
        self.which.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.which.setToolTip("Which table of the item")
        self.which.activated.connect(lambda _: self._fill())
        self.tools.addWidget(self.which)
        self.count = QLabel()
        self.count.setObjectName("faint")
        self.tools.addWidget(self.count)
        self.view = QTableView()
        self.view.setSortingEnabled(True)
        self.view.setAlternatingRowColors(True)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.verticalHeader().setDefaultSectionSize(20)
        self.view.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.body.addWidget(self.view)
        self.hint = QLabel("Select an item on the shelf to see its rows.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.body.addWidget(self.hint)
        self.model: FrameModel | None = None
        self._shown: tuple[str, int] = ("", -1)
        self._own = False
        self.redraw()

    def draw(self) -> None:
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry else None
        self.hint.setVisible(item is None)
        self.view.setVisible(item is not None)
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
        self.count.setText(f"{len(table):,} rows")
        self.view.selectionModel().selectionChanged.connect(self._selected)
        self.show_selection(self.ctx.selection)

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
        place = {int(row): at for at, row in enumerate(self.model.order)} if len(selection.rows) < 5000 else {}
        chosen = QItemSelection()
        first: QModelIndex | None = None
        for row in selection.rows:
            if row in place:
                index = self.model.index(place[row], 0)
                chosen.select(index, index)
                first = first or index
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
        super().keyPressEvent(event)

    def close_pane(self) -> None:
        super().close_pane()
        self.view.setModel(None)
        self.model = None
