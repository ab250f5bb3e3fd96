"""Line profiles: readings along survey lines as curves, spikes marked, neighbours for comparison."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
import pandas as pd
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QObject, QPointF, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QToolButton, QWidget

from ....core.compute.geometry.lines import distance_along, natural
from ....core.compute.statistics.spikes import isolated
from ....core.errors import LampError
from ....core.items.attributes import Attribute
from ....core.items.points import SurveyLines
from ....core.numbers import parse_number
from ...context.context import Context, Cursor, Selection
from ...theme.plain import Label, axis_words
from ..base.boxes import choice_box, refill, small_font
from ..base.pane import Pane

CURVES = ("#24221E", "#0072B2", "#009E73")
NIGHT_CURVES = ("#E6E3DC", "#56B4E9", "#7FC8A9")


class ProfilePane(Pane):
    """Page Up and Page Down go to the next and the line before."""

    kind: ClassVar[str] = "profile"
    title: ClassVar[str] = "Profiles"
    delay: ClassVar[int] = 40

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.line = choice_box("Line")
        self.line.activated.connect(lambda _: self.redraw())
        self.back, self.forward = QToolButton(), QToolButton()
        for button, text, step, tip in (
            (self.back, "‹", -1, "Line before (Page Down)"),
            (self.forward, "›", 1, "Next line (Page Up)"),
        ):
            button.setText(text)
            button.setToolTip(tip)
            button.setAutoRaise(True)
            button.clicked.connect(lambda _=False, s=step: self.step(s))
        self.tools.addWidget(self.back)
        self.tools.addWidget(self.line)
        self.tools.addWidget(self.forward)
        self.first, self.other = (
            choice_box("Reading", length=6),
            choice_box("A second reading beside it, such as raw beside corrected", length=5),
        )
        self.own = QCheckBox("own scale")
        self.own.setToolTip("Give the second reading a scale of its own, on the right")
        self.three = QCheckBox("3 lines")
        self.three.setToolTip("Show the lines before and after as well")
        self.common = QCheckBox("one scale")
        self.common.setToolTip("The same vertical scale for every line")
        self.common.setChecked(True)
        self.spikes = QCheckBox("spikes")
        self.spikes.setToolTip(
            "Mark single readings that stand off their neighbours by more than the noise, and more than the line bends nearby"
        )
        self.window_, self.limit = QLineEdit("5"), QLineEdit("3")
        self.window_.setToolTip("Readings on each side of the spike filter's window")
        self.limit.setToolTip("Limit of the spike filter, standard deviations")
        self.take_out = QPushButton("Take out…")
        self.take_out.setObjectName("small")
        self.take_out.setMinimumWidth(self.take_out.fontMetrics().horizontalAdvance("Take out…") + 14)
        self.take_out.setToolTip(
            "Open the form that takes the spikes of all lines out, with this window and limit; it can be lifted again"
        )
        self.take_out.clicked.connect(self._take_out)
        for edit in (self.window_, self.limit):
            edit.setFixedWidth(30)
            edit.editingFinished.connect(self.redraw)
        for box in (self.first, self.other):
            box.activated.connect(lambda _: self.redraw())
        for check in (self.own, self.three, self.common, self.spikes):
            check.toggled.connect(lambda _: self.redraw())
        for members in (
            (self.first, self.other, self.own, self.take_out),
            (
                self.three,
                self.common,
                self.spikes,
                Label("±"),
                self.window_,
                Label("limit"),
                self.limit,
            ),
        ):
            holder = QWidget()
            row = QHBoxLayout(holder)
            row.setContentsMargins(6, 2, 6, 0)
            row.setSpacing(5)
            for each in members:
                row.addWidget(each)
            row.addStretch(1)
            self.body.addWidget(holder)
        self.stack = pg.GraphicsLayoutWidget()
        self.stack.ci.setContentsMargins(2, 2, 2, 2)
        self.stack.ci.setSpacing(2)
        self.body.addWidget(self.stack)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setContentsMargins(8, 2, 8, 3)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.body.addWidget(self.words)
        self.hint = Label("Select survey lines on the shelf to see their readings along each line.")
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        self._owner = ("", -1)
        self._pointed = -1
        self._order: list[str] = []
        self._rows: dict[str, NDArray[np.int64]] = {}
        self.plots: list[tuple[str, pg.PlotItem, NDArray[np.float64]]] = []
        self._marks: list[pg.ScatterPlotItem] = []
        self.found: dict[str, NDArray[np.int64]] = {}
        self.stack.scene().sigMouseMoved.connect(self._mouse_moved)
        self.stack.scene().sigMouseClicked.connect(self._clicked)
        self.stack.installEventFilter(self)
        self.redraw()

    # ---- lines

    def _item(self) -> SurveyLines | None:
        entry = self.ctx.entry(self.ctx.selected)
        if entry is None or entry.kind != "lines":
            entry = next((e for e in self.ctx.lit_entries() if e.kind == "lines"), None)
        item = self.ctx.item(entry.id) if entry else None
        if entry is None or not isinstance(item, SurveyLines):
            return None
        if self._owner != (entry.id, entry.version):
            self._owner = (entry.id, entry.version)
            groups = pd.Series(np.arange(len(item.table))).groupby(
                item.table["line"].astype(str).to_numpy(), sort=False
            )
            self._rows = {str(name): rows.to_numpy() for name, rows in groups}
            self._order = sorted(self._rows, key=natural)
            readings = [c for c in item.attributes if c not in ("line",)]
            refill(self.line, self._order, self.line.currentText())
            refill(self.first, readings, self.ctx.attribute_of(entry))
            refill(self.other, ["–", *readings], self.other.currentText())
        return item

    def step(self, by: int) -> None:
        """Go to a neighbouring line."""
        at = self.line.currentIndex() + by
        if 0 <= at < self.line.count():
            self.line.setCurrentIndex(at)
            self.redraw()

    def shown_lines(self) -> list[str]:
        """The lines on screen, top to bottom."""
        at = self.line.currentIndex()
        if at < 0:
            return []
        span = (at - 1, at, at + 1) if self.three.isChecked() else (at,)
        return [self._order[k] for k in span if 0 <= k < len(self._order)]

    # ---- drawing

    def draw(self) -> None:
        item = self._item()
        self.hint.setVisible(item is None)
        self.stack.setVisible(item is not None)
        self.stack.clear()
        self.stack.setBackground(self.ctx.theme.canvas)
        self.plots, self._marks, self.found = [], [], {}
        if item is None:
            self.words.clear()
            return
        names = [n for n in (self.first.currentText(), self.other.currentText()) if n in item.table.columns]
        names = list(dict.fromkeys(names))
        lines = self.shown_lines()
        for number, line in enumerate(lines):
            self._plot(item, line, names, number, number == len(lines) - 1)
        if self.common.isChecked() and names:
            values = item.table[names if not self._own_scale(names) else names[:1]].to_numpy(float)
            good = values[np.isfinite(values)]
            if len(good):
                low, high = (float(v) for v in np.percentile(good, [0, 100]))
                for _, plot, _ in self.plots:
                    plot.setYRange(low, high, padding=0.04)
        count = sum(len(v) for v in self.found.values())
        said = (
            f"; {count} spikes at ± {self.window_.text()} readings, limit {self.limit.text()}"
            if self.spikes.isChecked()
            else ""
        )
        self.words.setText(f"{', '.join(lines)} of {len(self._order)} lines{said}")
        self.show_selection(self.ctx.selection)

    def _own_scale(self, names: list[str]) -> bool:
        return self.own.isChecked() and len(names) > 1

    def _plot(self, item: SurveyLines, line: str, names: list[str], number: int, last: bool) -> None:
        theme = self.ctx.theme
        rows = self._rows[line]
        t = item.table.iloc[rows]
        along = distance_along(t["x"].to_numpy(float), t["y"].to_numpy(float))
        plot = self.stack.addPlot(row=number, col=0, enableMenu=False)
        plot.hideButtons()
        plot.setMouseEnabled(x=True, y=False)
        for side in ("left", "bottom"):
            axis = plot.getAxis(side)
            axis.enableAutoSIPrefix(False)
            axis.setPen(pg.mkPen(theme.line))
            axis.setTextPen(pg.mkPen(theme.faint))
            axis.setStyle(tickFont=small_font(), showValues=side == "left" or last)
        plot.getAxis("left").setWidth(50)
        if last:
            plot.setLabel("bottom", "Distance along line (m)")
            plot.getAxis("bottom").label.setFont(small_font())
        curves = CURVES if theme.name == "paper" else NIGHT_CURVES
        for k, name in enumerate(names):
            values = t[name].to_numpy(float)
            pen = pg.mkPen(curves[k % len(curves)], width=1.4)
            if k == 1 and self._own_scale(names):
                self._right(plot, along, values, name, pen, item)
            else:
                plot.addItem(pg.PlotCurveItem(along, values, pen=pen, connect="finite"))
            if self.spikes.isChecked() and k == 0:
                self._spikes(plot, line, rows, along, values)
        unit = item.attributes.get(names[0], Attribute()).unit if names else ""
        shared = not self._own_scale(names)
        title = ", ".join(names if shared else names[:1])
        plot.setLabel("left", axis_words(unit or "value"))
        plot.getAxis("left").label.setFont(small_font())
        words = pg.LabelItem(axis_words(f"{line}  {title}"), color=theme.text, size="7.5pt", justify="left")
        words.setParentItem(plot.vb)
        words.anchor(itemPos=(0, 0), parentPos=(0, 0), offset=(4, -2))
        mark = pg.ScatterPlotItem(size=10, symbol="o", brush=None, pen=pg.mkPen(theme.lit, width=2.2))
        plot.addItem(mark, ignoreBounds=True)
        self._marks.append(mark)
        cross = pg.InfiniteLine(angle=90, pen=pg.mkPen(theme.lit, width=1))
        cross.hide()
        plot.addItem(cross, ignoreBounds=True)
        plot.cross = cross
        self.plots.append((line, plot, along))

    def _right(
        self,
        plot: pg.PlotItem,
        along: NDArray[np.float64],
        values: NDArray[np.float64],
        name: str,
        pen: Any,
        item: SurveyLines,
    ) -> None:
        view = pg.ViewBox(enableMenu=False)
        plot.showAxis("right")
        axis = plot.getAxis("right")
        axis.enableAutoSIPrefix(False)
        axis.setTextPen(pen)
        axis.setLabel(axis_words(f"{name} ({item.attributes.get(name, Attribute()).unit})".replace(" ()", "")))
        plot.scene().addItem(view)
        axis.linkToView(view)
        view.setXLink(plot)
        view.addItem(pg.PlotCurveItem(along, values, pen=pen, connect="finite"))
        plot.vb.sigResized.connect(lambda: view.setGeometry(plot.vb.sceneBoundingRect()))
        if self.common.isChecked():
            good = item.table[name].to_numpy(float)
            good = good[np.isfinite(good)]
            if len(good):
                view.setYRange(float(good.min()), float(good.max()), padding=0.04)

    def _spikes(
        self,
        plot: pg.PlotItem,
        line: str,
        rows: NDArray[np.int64],
        along: NDArray[np.float64],
        values: NDArray[np.float64],
    ) -> None:
        try:
            spike, _ = isolated(values, int(self.window_.text()), parse_number(self.limit.text()))
        except (LampError, ValueError):
            self.ctx.say("The spike filter needs a whole number of readings from 1 and a limit above 0.", "bad")
            return
        self.found[line] = rows[spike]
        plot.addItem(
            pg.ScatterPlotItem(
                along[spike], values[spike], size=9, symbol="x", pen=pg.mkPen(self.ctx.theme.bad, width=2), brush=None
            )
        )

    def _take_out(self) -> None:
        values = {"attribute": self.first.currentText(), "half_width": self.window_.text(), "limit": self.limit.text()}
        self.ctx.ask.emit("exclude-spikes", {"lines": self._owner[0]}, values)

    # ---- cursor and selection

    def _nearest(self, position: QPointF) -> tuple[str, int] | None:
        """Line and row of the reading nearest to the mouse, along the line."""
        for line, plot, along in self.plots:
            if plot.vb.sceneBoundingRect().contains(position):
                at = plot.vb.mapSceneToView(position).x()
                if len(along):
                    return line, int(self._rows[line][int(np.argmin(np.abs(along - at)))])
        return None

    def _mouse_moved(self, position: QPointF) -> None:
        hit, item = self._nearest(position), self._item()
        if hit is None or item is None:
            return
        x, y, z = (float(item.table[c].iloc[hit[1]]) for c in "xyz")
        self.ctx.point_at(x, y, z, self.kind)
        if hit[1] != self._pointed:
            self._pointed = hit[1]
            self.ctx.pointed.emit(Selection(self._owner[0], "", (hit[1],)))

    def _clicked(self, event: object) -> None:
        hit = self._nearest(event.scenePos())  # type: ignore[attr-defined]
        if hit is not None:
            self.ctx.select_item(self._owner[0])
            self.ctx.select_rows(Selection(self._owner[0], "", (hit[1],)))

    def show_cursor(self, cursor: Cursor) -> None:
        item = self._item() if self.plots else None
        for line, plot, along in self.plots:
            rows = self._rows[line]
            show = item is not None and np.isfinite(cursor.x) and len(rows) > 0
            if show and item is not None:
                away = np.hypot(
                    item.table["x"].to_numpy(float)[rows] - cursor.x, item.table["y"].to_numpy(float)[rows] - cursor.y
                )
                near = int(np.argmin(away))
                show = bool(away[near] < 60.0)
                plot.cross.setValue(float(along[near]))
            plot.cross.setVisible(bool(show))

    def show_selection(self, selection: Selection) -> None:
        item = self._item() if self.plots else None
        for (line, _, along), mark in zip(self.plots, self._marks, strict=True):
            if item is None or selection.item != self._owner[0]:
                mark.setData([], [])
                continue
            inside = np.flatnonzero(np.isin(self._rows[line], np.asarray(selection.rows, dtype=np.int64)))
            values = item.table[self.first.currentText()].to_numpy(float)[self._rows[line][inside]]
            mark.setData(along[inside], values)

    def on_selected(self, item: str) -> None:
        self.redraw()

    def on_items(self, notice: Any) -> None:
        self.redraw()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            by = {Qt.Key.Key_PageUp: 1, Qt.Key.Key_PageDown: -1}.get(Qt.Key(event.key()))
            if by:
                self.step(by)
                return True
        return False

    def fit(self) -> None:
        self.redraw()

    def close_pane(self) -> None:
        super().close_pane()
        self.stack.close()
