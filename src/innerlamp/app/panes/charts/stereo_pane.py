"""The stereonet: planes and poles of the selected item's readings, on the equal-area net, lower hemisphere."""

from __future__ import annotations

from html import escape
from typing import ClassVar

import numpy as np
import pandas as pd
import pyqtgraph as pg
from PySide6.QtCore import QRectF, Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QSizePolicy, QWidget

from ....core.compute.geometry import stereonet as sn
from ....core.errors import LampError
from ....core.items.attributes import orientation
from ....core.items.base import Item, class_columns
from ....core.items.holes import HoleSet
from ....core.items.legend import Legend
from ....core.items.points import POINT_ROLES
from ...context.context import Context, Selection
from ...painters.kit.colours import bins, colour_at
from ...painters.kit.flat import label
from ...theme.plain import Label, plain_tip
from ..base.boxes import choice_box, refill
from ..base.pane import ItemPane
from .chart_pane import BrushBox

_FINE = 61


def readings_of(item: Item) -> tuple[str, pd.DataFrame] | None:
    """Table name and rows of an item that carry dip and dip direction, or None."""
    tables: dict[str, pd.DataFrame] = {}
    if isinstance(item, HoleSet):
        tables = {**item.readings, **item.tables}
    elif isinstance(getattr(item, "table", None), pd.DataFrame):
        tables = {"": item.table}  # type: ignore[attr-defined]
    found = orientation(item.attributes)
    return next(((n, t) for n, t in tables.items() if found and set(found) <= set(t.columns)), None)


class StereoPane(ItemPane):
    """Poles, great circles and density of structural readings; brushing selects them in all panes."""

    kind: ClassVar[str] = "stereonet"
    title: ClassVar[str] = "Stereonet"
    delay: ClassVar[int] = 60

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.of = choice_box("Which readings: all, or those of one class", length=9)
        self.of.activated.connect(lambda _: self.redraw())
        self.tools.addWidget(self.of)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(6)
        self.boxes: dict[str, QCheckBox] = {}
        for name, on, tip in (
            ("poles", True, "Poles of planes"),
            ("planes", False, "Planes as great circles"),
            ("density", True, "Density in standard deviations of an even spread (Kamb)"),
            ("means", True, "Mean pole with its plane, and the girdle through the poles with its axis"),
        ):
            box = QCheckBox(name)
            box.setChecked(on)
            box.setToolTip(tip)
            box.toggled.connect(lambda _: self.redraw())
            row.addWidget(box)
            self.boxes[name] = box
        row.addStretch(1)
        self.body.addWidget(line)
        self.view = BrushBox(ctx.theme.lit)
        self.view.setAspectLocked(True)
        self.view.brushed.connect(self._brushed)
        self.plot = pg.PlotWidget(viewBox=self.view, enableMenu=False)
        for side in ("left", "bottom"):
            self.plot.hideAxis(side)
        self.plot.getPlotItem().hideButtons()
        self.body.addWidget(self.plot)
        self.words = Label()
        self.words.setTextFormat(Qt.TextFormat.RichText)  # its key is ours; what comes from data is escaped
        self.words.setObjectName("faint")
        self.words.setContentsMargins(8, 2, 8, 3)
        self.words.setWordWrap(True)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.body.addWidget(self.words)
        self.hint = Label(
            "Select structural readings on the shelf (points with dip and dip direction) to see them here."
        )
        self.hint.setObjectName("faint")
        self.hint.setMargin(12)
        self.hint.setWordWrap(True)
        self.body.addWidget(self.hint)
        self._rows = np.empty(0, dtype=np.int64)
        self._xy = np.empty((0, 2))
        self._table = ("", "")
        self._key = ""
        self.redraw()

    # ---- drawing

    def draw(self) -> None:
        entry = self.ctx.entry(self.ctx.selected)
        item = self.ctx.item(entry.id) if entry else None
        hit = readings_of(item) if item is not None else None
        self.hint.setVisible(hit is None)
        self.plot.setVisible(hit is not None)
        self.words.setVisible(hit is not None)
        self.plot.clear()
        self.plot.setBackground(self.ctx.theme.canvas)
        if entry is None or item is None or hit is None:
            return
        name, table = hit
        self._table = (entry.id, name)
        column = next((c for c in class_columns(table, POINT_ROLES)), "")
        kinds = sorted({str(v) for v in table[column].dropna()}) if column else []
        refill(self.of, ["all", "selected", *kinds], self.of.currentText())
        names = orientation(item.attributes) or ("", "")
        dip, direction = (table[c].to_numpy(float) for c in names)
        wanted = np.isfinite(dip) & (np.isfinite(direction) | (dip == 0))
        chosen = np.zeros(len(table), dtype=bool)
        selection = self.ctx.selection
        if selection.item == entry.id:
            rows = np.asarray([r for r in selection.rows if r < len(table)], dtype=np.int64)
            chosen[rows] = True
        if self.of.currentText() == "selected":
            wanted &= chosen
        elif self.of.currentText() in kinds:
            wanted &= (table[column].astype(str) == self.of.currentText()).to_numpy()
        self._rows = np.flatnonzero(wanted)
        self._net()
        if not len(self._rows):
            self.words.setText("No readings here.")
            return
        poles = sn.pole_vectors(dip[self._rows], np.nan_to_num(direction[self._rows]))
        self._xy = np.column_stack(sn.project(poles))
        if self.boxes["density"].isChecked() and len(poles) > 2:
            self._density(poles)
        if self.boxes["planes"].isChecked():
            self._planes(dip, direction)
        self._key = ""
        if self.boxes["poles"].isChecked():
            self._poles(item, table, column, chosen)
        words = self._means(poles)
        self.words.setText(f"{escape(words)}<br>{self._key}" if self._key else escape(words))
        self.words.setToolTip(plain_tip(words))
        self.plot.setRange(QRectF(-1.14, -1.1, 2.28, 2.32), padding=0)
        self.view.addItem(self.view._rect, ignoreBounds=True)

    def _net(self) -> None:
        theme = self.ctx.theme
        turn = np.linspace(0, 2 * np.pi, 181)
        self.plot.addItem(pg.PlotCurveItem(np.cos(turn), np.sin(turn), pen=pg.mkPen(theme.text, width=1.4)))
        for azimuth in range(0, 360, 10):
            a, out = np.radians(azimuth), 1.05 if azimuth % 90 == 0 else 1.025
            self.plot.addItem(
                pg.PlotCurveItem(
                    np.sin(a) * np.array([1.0, out]),
                    np.cos(a) * np.array([1.0, out]),
                    pen=pg.mkPen(theme.faint, width=1),
                )
            )
        self.plot.addItem(label("N", 0.0, 1.05, theme.text, 5, (0.5, 1.0), bold=True))
        self.plot.addItem(pg.ScatterPlotItem([0.0], [0.0], symbol="+", size=8, pen=pg.mkPen(theme.faint)))

    def _density(self, poles: np.ndarray) -> None:
        import contourpy

        side = np.linspace(-1.0, 1.0, _FINE)
        gx, gy = np.meshgrid(side, side)
        at = sn.unproject(gx.ravel(), gy.ravel())
        inside = np.isfinite(at).all(axis=1)
        values = np.full(gx.size, np.nan)
        values[inside] = sn.density(poles, at[inside])
        values = values.reshape(gx.shape)
        top = float(np.nanmax(values))
        levels = [v for v in (2, 4, 6, 8, 12, 16, 24, 32) if v < top]
        made = contourpy.contour_generator(side, side, np.ma.masked_invalid(values))
        legend = Legend("density", ramp="dawn")
        for number, level in enumerate(levels):
            colour = colour_at(legend, 0.25 + 0.6 * number / max(len(levels) - 1, 1))
            for xy in made.lines(float(level)):
                self.plot.addItem(pg.PlotCurveItem(xy[:, 0], xy[:, 1], pen=pg.mkPen(colour, width=1.4)))

    def _planes(self, dip: np.ndarray, direction: np.ndarray) -> None:
        pen = pg.mkPen(self.ctx.theme.faint, width=0.7)
        lines = [sn.great_circle(float(dip[r]), float(np.nan_to_num(direction[r]))) for r in self._rows[:1500]]
        xy = np.concatenate([np.vstack([line, [[np.nan, np.nan]]]) for line in lines])
        self.plot.addItem(pg.PlotCurveItem(xy[:, 0], xy[:, 1], pen=pen, connect="finite"))

    def _poles(self, item: Item, table: pd.DataFrame, column: str, chosen: np.ndarray) -> None:
        if column:
            legend = self.ctx.legend(column, item)
            for colour, mask in bins(legend, table[column].to_numpy()[self._rows]):
                self.plot.addItem(
                    pg.ScatterPlotItem(
                        self._xy[mask, 0],
                        self._xy[mask, 1],
                        size=5,
                        pen=pg.mkPen(colour.darker(150), width=0.6),
                        brush=pg.mkBrush(colour),
                    )
                )
            here = {str(v) for v in table[column].to_numpy()[self._rows]}
            self._key = " ".join(
                f'<span style="color:{c}">●</span> {escape(n)}' for n, c in legend.classes.items() if n in here
            )
        else:
            self.plot.addItem(
                pg.ScatterPlotItem(
                    self._xy[:, 0], self._xy[:, 1], size=5, pen=None, brush=pg.mkBrush(self.ctx.theme.text)
                )
            )
        hit = chosen[self._rows]
        if hit.any():
            self.plot.addItem(
                pg.ScatterPlotItem(
                    self._xy[hit, 0], self._xy[hit, 1], size=10, pen=pg.mkPen(self.ctx.theme.lit, width=2), brush=None
                )
            )

    def _means(self, poles: np.ndarray) -> str:
        count = f"{len(poles):,} readings"
        if not self.boxes["means"].isChecked():
            return count
        try:
            axes = sn.common_axes(poles)
        except LampError:
            return count
        theme = self.ctx.theme
        plunge, trend = (float(v) for v in sn.plunge_and_trend(axes.mean))
        dip, direction = 90.0 - plunge, (trend + 180.0) % 360.0
        mean = sn.great_circle(dip, direction)
        self.plot.addItem(pg.PlotCurveItem(mean[:, 0], mean[:, 1], pen=pg.mkPen(theme.text, width=2)))
        mx, my = sn.project(axes.mean)
        self.plot.addItem(
            pg.ScatterPlotItem(
                [float(mx)], [float(my)], symbol="s", size=11, pen=pg.mkPen(theme.text, width=2), brush=None
            )
        )
        girdle_plunge, girdle_trend = (float(v) for v in sn.plunge_and_trend(axes.girdle))
        words = f"{count}; mean plane {dip:.0f}° towards {direction:03.0f}°"
        kind = "cluster" if axes.shape > 1 else "girdle"
        if axes.shape < 1:
            circle = sn.great_circle(90.0 - girdle_plunge, (girdle_trend + 180.0) % 360.0)
            self.plot.addItem(pg.PlotCurveItem(circle[:, 0], circle[:, 1], pen=pg.mkPen(theme.lit, width=2)))
        gx, gy = sn.project(axes.girdle)
        self.plot.addItem(
            pg.ScatterPlotItem(
                [float(gx)], [float(gy)], symbol="t", size=11, pen=pg.mkPen(theme.lit, width=2), brush=None
            )
        )
        return f"{words}; axis of the girdle {girdle_plunge:.0f}° towards {girdle_trend:03.0f}°; {kind} (shape {axes.shape:.2g}, strength {axes.strength:.2g})"

    # ---- selection

    def _brushed(self, area: QRectF) -> None:
        if not len(self._rows):
            return
        x, y = self._xy[:, 0], self._xy[:, 1]
        hit = (x >= area.left()) & (x <= area.right()) & (y >= area.top()) & (y <= area.bottom())
        rows = tuple(int(r) for r in self._rows[hit])
        self.ctx.select_rows(Selection(self._table[0], self._table[1], rows))
        self.ctx.say(f"{len(rows):,} readings selected.")

    def close_pane(self) -> None:
        super().close_pane()
        self.plot.close()
