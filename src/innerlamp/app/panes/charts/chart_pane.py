"""Charts of the selected item's attributes. What is brushed with the mouse is selected in all panes."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np
import pandas as pd
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRectF
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QCheckBox, QGraphicsRectItem, QHBoxLayout, QLineEdit, QSizePolicy, QWidget

from ....core.compute.drilling.logged import logged_at
from ....core.compute.geometry.lines import distance_along, natural
from ....core.errors import InputError
from ....core.importing.control_series import groups
from ....core.items.attributes import plain_number
from ....core.items.base import Item, class_columns, numeric_columns
from ....core.items.holes import INTERVAL_ROLES, HoleSet, readings_with, table_with
from ....core.items.legend import Legend
from ....core.items.points import POINT_ROLES
from ....core.numbers import parse_numbers
from ....core.project.records import Entry
from ...context.context import Context, Selection
from ...painters.charts.chart_data import ChartData
from ...painters.charts.chart_painters import PAINTERS
from ...theme.plain import Label, axis_words, plain_tip
from ..base.boxes import choice_box, refill, small_font
from ..base.pane import ItemPane

LEAVE = (*POINT_ROLES, *INTERVAL_ROLES, "sampled_m", "rank")


class LogAxis(pg.AxisItem):  # type: ignore[misc]  # the library has no types
    """An axis of logarithms whose ticks are written as the values themselves."""

    log = False

    def tickStrings(self, values, scale, spacing):  # type: ignore[no-untyped-def]  # noqa: N802 - pyqtgraph's name
        if not self.log:
            return [f"{v:g}" for v in values]
        return [plain_number(10.0 ** max(min(v, 300.0), -300.0)) for v in values]


class BrushBox(pg.ViewBox):  # type: ignore[misc]  # the library has no types
    """A view in which a left drag brushes a rectangle; wheel and right drag zoom."""

    brushed = QtSignal(QRectF)

    def __init__(self, colour: str) -> None:
        super().__init__(enableMenu=False)
        self._rect = QGraphicsRectItem()
        self._rect.setPen(pg.mkPen(colour, width=1))
        fill = QColor(colour)
        fill.setAlpha(50)
        self._rect.setBrush(fill)
        self._rect.setZValue(1000)
        self._rect.hide()
        self.addItem(self._rect, ignoreBounds=True)

    def mouseDragEvent(self, ev, axis=None):  # type: ignore[no-untyped-def]  # noqa: N802 - pyqtgraph's name
        if ev.button() != ev.button().LeftButton:
            super().mouseDragEvent(ev, axis)
            return
        ev.accept()
        a, b = self.mapSceneToView(ev.buttonDownScenePos()), self.mapSceneToView(ev.scenePos())
        area = QRectF(a, b).normalized()
        self._rect.setRect(area)
        self._rect.setVisible(not ev.isFinish())
        if ev.isFinish():
            self.brushed.emit(area)


class ChartPane(ItemPane):
    """Histogram, probability plot, scatter, correlation matrix, boxes, values along a hole or line, control samples."""

    kind: ClassVar[str] = "chart"
    title: ClassVar[str] = "Chart"
    delay: ClassVar[int] = 80

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.what = choice_box("Kind of chart", list(PAINTERS))
        self.across, self.upward, self.by = (
            choice_box("Attribute"),
            choice_box("Attribute up"),
            choice_box("Classes that give colour or boxes"),
        )
        self.log = QCheckBox("log")
        self.log.setToolTip("Take logarithms; values of 0 and below are left out")
        for box in (self.what, self.across, self.upward, self.by):
            box.activated.connect(lambda _: self.redraw())
        self.log.toggled.connect(lambda _: self.redraw())
        self.tools.addWidget(self.what)
        self.tools.addWidget(self.across)
        second = QWidget()
        row = QHBoxLayout(second)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(6)
        row.addWidget(self.log)
        self.upward_words, self.by_words, self.of_words = Label("up"), Label("by"), Label("of")
        self.of = choice_box("Hole, line or kind of control sample")
        self.of.activated.connect(lambda _: self.redraw())
        self.breaks = QLineEdit()
        self.breaks.setPlaceholderText("class breaks: 5; 20; 100")
        self.breaks.setToolTip(
            "Class breaks in the attribute's unit, parted by semicolons; all panes colour by them. Drag a line to move one. Empty: no classes."
        )
        self.breaks.returnPressed.connect(self.set_breaks)
        for each in (self.upward_words, self.upward, self.by_words, self.by, self.of_words, self.of, self.breaks):
            row.addWidget(each)
        row.addStretch(1)
        self.body.addWidget(second)
        self.view = BrushBox(ctx.theme.lit)
        self.view.brushed.connect(self._brushed)
        self.bottom, self.left = LogAxis("bottom"), LogAxis("left")
        self.plot = pg.PlotWidget(
            viewBox=self.view, axisItems={"bottom": self.bottom, "left": self.left}, enableMenu=False
        )
        self.plot.getPlotItem().hideButtons()
        self.body.addWidget(self.plot)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setContentsMargins(8, 2, 8, 3)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.body.addWidget(self.words)
        self.hint = Label("Select an item with numbers on the shelf to see charts of it.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        self._owner = ""
        self._of_picked = ""
        self._down = False
        self._data: ChartData | None = None
        self._table = ("", "")
        self.redraw()

    # ---- what is shown

    def _frame(self, entry: Entry) -> tuple[str, pd.DataFrame] | None:
        """Name and rows of the table that holds the chosen attribute."""
        item = self.ctx.item(entry.id)
        if isinstance(item, HoleSet):
            return table_with(item, self.across.currentText()) or readings_with(item, self.across.currentText())
        table = getattr(item, "table", None)
        return ("", table) if isinstance(table, pd.DataFrame) else None

    def _fill_boxes(self, entry: Entry) -> bool:
        """Offer the attributes of the selected item; returns whether it has numbers."""
        item = self.ctx.item(entry.id)
        tables: list[pd.DataFrame] = []
        if isinstance(item, HoleSet):
            tables = [*item.tables.values(), *item.readings.values()]
        elif isinstance(getattr(item, "table", None), pd.DataFrame):
            tables = [item.table]  # type: ignore[union-attr]
        numbers = [c for t in tables for c in numeric_columns(t, LEAVE)]
        if entry.id != self._owner:
            self._owner = entry.id
            refill(self.across, numbers, self.ctx.attribute_of(entry))
            self.log.setChecked(self._skewed(entry))
        hit = self._frame(entry)
        inside = numeric_columns(hit[1], LEAVE) if hit else []
        others = [c for c in inside if c != self.across.currentText()]
        refill(self.upward, others, self.upward.currentText() or (others[0] if others else ""))
        classes = class_columns(hit[1], LEAVE) if hit else []
        near = self._logged_classes(entry)
        refill(self.by, ["–", *classes, *[c for c in near if c not in classes]], self.by.currentText())
        return bool(numbers)

    def _logged_classes(self, entry: Entry) -> list[str]:
        # Assays take the rock that was logged where their mid-points lie.
        item = self.ctx.item(entry.id)
        if not isinstance(item, HoleSet):
            return []
        return [c for t in item.tables.values() for c in class_columns(t, INTERVAL_ROLES)]

    def _skewed(self, entry: Entry) -> bool:
        item, name = self.ctx.item(entry.id), self.across.currentText()
        return bool(item is not None and name and self.ctx.legend(name, item).scale == "log")

    def _classes(self, entry: Entry, table: pd.DataFrame) -> tuple[NDArray[np.object_] | None, Legend | None]:
        name = self.by.currentText()
        item = self.ctx.item(entry.id)
        if name in ("", "–") or item is None:
            return None, None
        if name in table.columns:
            values = table[name].astype(str).to_numpy(dtype=object)
        else:
            assert isinstance(item, HoleSet)
            hit = table_with(item, name)
            if hit is None or "from_m" not in table.columns:
                return None, None
            values = logged_at(table, hit[1], name)
        return values, self.ctx.legend(name, item)

    # ---- drawing

    def draw(self) -> None:
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry else None
        useful = entry is not None and item is not None and self._fill_boxes(entry)
        self.hint.setVisible(not useful)
        self.plot.setVisible(useful)
        self.plot.clear()
        self.plot.setBackground(self.ctx.theme.canvas)
        self._data = None
        if not useful or entry is None or item is None:
            self.words.clear()
            return
        what, name = self.what.currentText(), self.across.currentText()
        self.upward.setVisible(what in ("Scatter", "Curves"))
        self.upward_words.setVisible(what in ("Scatter", "Curves"))
        self.by.setVisible(what in ("Scatter", "Curves", "Boxes"))
        self.by_words.setVisible(what in ("Scatter", "Curves", "Boxes"))
        self.of.setVisible(what in ("Along", "Control"))
        self.of_words.setVisible(what in ("Along", "Control"))
        self.log.setVisible(what != "Control" or self.of.currentText() == "duplicates")
        self.breaks.setVisible(what in ("Histogram", "Probability"))
        hit = self._frame(entry)
        if hit is None:
            return
        table, log = hit[1], self.log.isChecked()
        self._table = (entry.id, hit[0])
        raw = table[name].to_numpy(float)
        x = _log(raw) if log else raw
        up = self.upward.currentText()
        y = table[up].to_numpy(float) if up in table.columns else np.full(len(table), np.nan)
        classes, class_legend = self._classes(entry, table)
        chosen = np.zeros(len(table), dtype=bool)
        selection = self.ctx.selection
        if (selection.item, selection.table) == self._table or (selection.item == entry.id and hit[0] == ""):
            rows = np.asarray(selection.rows, dtype=np.int64)
            chosen[rows[rows < len(table)]] = True
        columns = {
            c: (_log(table[c].to_numpy(float)) if log else table[c].to_numpy(float))
            for c in numeric_columns(table, LEAVE)[:12]
        }
        legend = self.ctx.legend(name, item)
        self._fill_of(item, what, table)
        if not self.breaks.hasFocus():
            self.breaks.setText("; ".join(f"{b:g}" for b in legend.breaks) if legend.scale == "classes" else "")
        d = ChartData(
            x,
            legend.label,
            legend,
            raw,
            _log(y) if log else y,
            self.ctx.legend(up, item).label if up else "",
            classes,
            class_legend,
            log,
            chosen,
            columns,
            self.ctx.theme,
            name,
            self.of.currentText(),
            table,
            item if isinstance(item, HoleSet) else None,
        )
        self._axes(what, legend.label, log)
        try:
            self.words.setText(PAINTERS[what](self.plot.getPlotItem(), d))
        except (ValueError, FloatingPointError) as error:
            self.words.setText(f"This chart can't be drawn from these values ({error}).")
        self.words.setToolTip(plain_tip(self.words.text()))
        self._data = d
        if what in ("Histogram", "Probability"):
            self._break_lines(legend, log)
        self.view.addItem(self.view._rect, ignoreBounds=True)
        self.view.autoRange(padding=0.04)

    def _fill_of(self, item: Item, what: str, table: pd.DataFrame) -> None:
        names: list[str] = []
        if what == "Control" and isinstance(item, HoleSet):
            names = groups(item)
        elif what == "Along":
            column = next(
                (c for c in ("hole", "line") if c in table.columns and (c == "hole" or "file_line" in table)), ""
            )
            self._down = column == "hole"
            names = sorted({str(v) for v in table[column].unique()}, key=natural) if column else []
            selection = self.ctx.selection
            if (
                column
                and selection.item == self._table[0]
                and selection.table == self._table[1]
                and selection.rows
                and selection.rows[0] < len(table)
            ):
                picked = str(table[column].iloc[selection.rows[0]])
                if picked != self._of_picked:  # what is picked in another pane is shown here
                    self._of_picked = picked
                    refill(self.of, names, picked)
        refill(self.of, names, self.of.currentText())

    def _break_lines(self, legend: Legend, log: bool) -> None:
        """Lines at the class breaks; dragging one moves the break."""
        if legend.scale != "classes":
            return
        for number, value in enumerate(legend.breaks):
            if log and value <= 0:
                continue
            line = pg.InfiniteLine(
                np.log10(value) if log else value, 90, movable=True, pen=pg.mkPen(self.ctx.theme.lit, width=2)
            )
            line.setHoverPen(pg.mkPen(self.ctx.theme.text, width=3))
            line.sigPositionChangeFinished.connect(
                lambda moved, k=number: self._break_moved(k, float(moved.value()), log)
            )
            self.plot.addItem(line)

    def _break_moved(self, number: int, place: float, log: bool) -> None:
        item = self.ctx.item(self._owner)
        if item is None:
            return
        legend = self.ctx.legend(self.across.currentText(), item)
        breaks = list(legend.breaks)
        breaks[number] = float(f"{10.0**place if log else place:.4g}")
        self.ctx.set_legend(replace(legend, breaks=tuple(sorted(set(breaks)))))

    def set_breaks(self) -> None:
        """Take the class breaks that stand in the line; empty takes them away."""
        item = self.ctx.item(self._owner)
        if item is None:
            return
        legend = self.ctx.legend(self.across.currentText(), item)
        try:
            values = sorted(set(parse_numbers(self.breaks.text())))
        except InputError as error:
            self.ctx.say(str(error), "bad")
            return
        if len(values) > 30:
            self.ctx.say("More than 30 class breaks can't be told apart.", "bad")
            return
        scale = "classes" if values else "log" if self.log.isChecked() and legend.low > 0 else "linear"
        self.breaks.clearFocus()
        self.ctx.set_legend(replace(legend, scale=scale, breaks=tuple(values)))  # type: ignore[arg-type]

    def _axes(self, what: str, words: str, log: bool) -> None:
        plot = self.plot.getPlotItem()
        for axis in (self.bottom, self.left):
            axis.setTicks(None)
            axis.enableAutoSIPrefix(False)
            axis.setStyle(tickFont=small_font())
            axis.label.setFont(small_font())
            axis.setPen(pg.mkPen(self.ctx.theme.line))
            axis.setTextPen(pg.mkPen(self.ctx.theme.faint))
        pairs = what == "Control" and self.of.currentText() == "duplicates"
        down = what == "Along" and self._down
        self.bottom.log = log and (what in ("Histogram", "Probability", "Scatter", "Curves") or pairs or down)
        self.left.log = log and (what in ("Scatter", "Curves", "Boxes") or pairs or (what == "Along" and not down))
        plot.setLabel("bottom", axis_words(words) if what in ("Histogram", "Probability", "Scatter", "Curves") else "")

    # ---- selection

    def _brushed(self, area: QRectF) -> None:
        d = self._data
        what = self.what.currentText()
        if d is None or what in ("Correlation", "By rank", "Control"):
            return
        along, up = (area.left(), area.right()), (area.top(), area.bottom())
        with np.errstate(invalid="ignore"):
            if what == "Along":
                hit = self._along_hit(d, along, up)
            elif what == "Boxes":
                if d.classes is None or d.class_legend is None:
                    return
                names = [n for n in d.class_legend.classes if (d.classes == n).any()]
                wanted = [n for k, n in enumerate(names) if along[0] - 0.3 <= k <= along[1] + 0.3]
                hit = np.isin(d.classes, wanted) & (d.x >= up[0]) & (d.x <= up[1])
            else:
                hit = (d.x >= along[0]) & (d.x <= along[1])
                if what in ("Scatter", "Curves"):
                    hit &= (d.y >= up[0]) & (d.y <= up[1])
        rows = np.flatnonzero(hit)
        self.ctx.select_rows(Selection(self._table[0], self._table[1], tuple(rows.tolist())))
        self.ctx.say(f"{len(rows):,} rows selected.")

    @staticmethod
    def _along_hit(d: ChartData, along: tuple[float, float], up: tuple[float, float]) -> NDArray[np.bool_]:
        table = d.table
        assert table is not None
        column = "hole" if "hole" in table.columns else "line"
        mine = (table[column].astype(str) == d.group).to_numpy()
        if "from_m" in table.columns:
            return mine & (-table["to_m"].to_numpy(float) <= up[1]) & (-table["from_m"].to_numpy(float) >= up[0])
        if "depth_m" in table.columns:
            return mine & (-table["depth_m"].to_numpy(float) >= up[0]) & (-table["depth_m"].to_numpy(float) <= up[1])
        hit = np.zeros(len(table), dtype=bool)
        rows = np.flatnonzero(mine)
        place = distance_along(table["x"].to_numpy(float)[rows], table["y"].to_numpy(float)[rows])
        hit[rows] = (place >= along[0]) & (place <= along[1])
        return hit

    def show_view(self, view: str) -> None:
        if view:
            self.what.setCurrentText(view)
        self.redraw()

    def close_pane(self) -> None:
        super().close_pane()
        self.plot.close()


def _log(values: NDArray[np.float64]) -> NDArray[np.float64]:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(values > 0, np.log10(np.where(values > 0, values, 1.0)), np.nan)
