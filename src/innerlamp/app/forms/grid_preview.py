"""Previews of grids before they are made: a coarse picture that follows the form, and the power spectrum with its straight stretch."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QImage, QPixmap
from PySide6.QtWidgets import QVBoxLayout

from ...core.compute.potential.filters import depth_from_slope, radial_spectrum
from ...core.declaring.operation import Inputs
from ...core.errors import LampError
from ...core.items.fields import Grid
from ...core.operations.grids.analysis import SourceDepth, band_of, power_of
from ...core.progress import Progress
from ..painters.kit.colours import colour_values
from ..theme.plain import Label
from .form_state import FormState
from .previews import Preview
from .variogram_preview import VariogramPreview

_CELLS, _ROWS = 70, 2500


class CoarsePreview(Preview):
    """The grid as it will be, on large cells and from a part of the rows: made anew at once when the form changes."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.picture = Label()
        self.picture.setMinimumHeight(150)
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.picture.setAccessibleName("Coarse preview of the grid")
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        box.addWidget(self.picture)
        box.addWidget(self.words)
        self._asked: object = None
        self.shown: Grid | None = None

    def update_preview(self) -> None:
        op, store, items = self.form.operation, self.form.ctx.store, self.form.items()
        values = self.form.values()
        if items is None or "samples" not in items or store is None:
            return
        asked = (sorted(self.form.inputs().items()), repr(values))
        if asked == self._asked:
            return
        try:
            params = op.check(values)
        except LampError:
            return
        self._asked = asked
        source: Any = items["samples"]
        west, east, south, north, _, _ = source.bounds
        largest = max(east - west, north - south) / _CELLS
        chosen = max(float(getattr(params, "cell", 0.0)), float(f"{largest:.3g}"))
        blanking = float(getattr(params, "blanking", 0.0))
        coarse = params.model_copy(
            update={"cell": chosen, "blanking": max(blanking, chosen) if blanking else 3.0 * chosen}
        )

        crs, chosen_items = store.crs, dict(items)

        def work(progress: Progress) -> Grid:
            step = max(1, len(source.table) // _ROWS)
            few = dataclasses.replace(source, table=source.table.iloc[::step].reset_index(drop=True))
            made = op.run(Inputs({**chosen_items, "samples": few}, crs), coarse, progress)["grid"]
            assert isinstance(made, Grid)
            return made

        self.form.lane.call("coarse", work, self._came)

    def _came(self, result: object) -> None:
        if not isinstance(result, Grid):
            self.shown = None
            self.picture.clear()
            self.words.setText(str(result))
            return
        self.shown = result
        legend = self.form.ctx.legend(result.attribute, result)
        rgba = np.ascontiguousarray(colour_values(legend, result.values)[::-1])
        rows, columns = rgba.shape[:2]
        image = QImage(rgba.data, columns, rows, 4 * columns, QImage.Format.Format_RGBA8888)
        size = self.picture.size().expandedTo(self.picture.minimumSize())
        self.picture.setPixmap(
            QPixmap.fromImage(image).scaled(min(size.width(), 250), 150, Qt.AspectRatioMode.KeepAspectRatio)
        )
        self.words.setText(f"Coarse preview on cells of {result.dx:g} m; {legend.label} in the colours of the map.")


class KrigingPreview(Preview):
    """The variogram, and under it the coarse picture of the grid."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.variogram, self.coarse = VariogramPreview(form), CoarsePreview(form)
        box.addWidget(self.variogram)
        box.addWidget(self.coarse)

    def update_preview(self) -> None:
        self.variogram.update_preview()
        self.coarse.update_preview()


class SpectrumPreview(Preview):
    """Logarithm of power against wavenumber; the band between the two handles is the stretch that tells the depth."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        theme = form.ctx.theme
        self.plot = pg.PlotWidget(enableMenu=False, background=theme.canvas)
        self.plot.setFixedHeight(190)
        self.plot.setMouseEnabled(False, False)
        self.plot.getPlotItem().hideButtons()
        self.plot.setLabel("bottom", "Cycles per km")
        self.plot.setLabel("left", "ln power")
        self.plot.setToolTip(
            "Drag the two edges of the band to the ends of a straight stretch: its slope tells the depth of the sources' tops"
        )
        for name in ("bottom", "left"):
            axis = self.plot.getPlotItem().getAxis(name)
            axis.enableAutoSIPrefix(False)
            axis.setPen(pg.mkPen(theme.line))
            axis.setTextPen(pg.mkPen(theme.faint))
            font = QFont()
            font.setPointSizeF(7.5)
            axis.setStyle(tickFont=font)
            axis.label.setFont(font)
        self.curve = pg.PlotDataItem(
            pen=pg.mkPen(theme.text, width=1.4), symbol="o", symbolSize=3, symbolBrush=theme.text, symbolPen=None
        )
        self.slope = pg.PlotDataItem(pen=pg.mkPen(theme.lit, width=2.2))
        faint = QColor(theme.lit)
        faint.setAlpha(45)
        self.band = pg.LinearRegionItem(pen=pg.mkPen(theme.lit, width=2), brush=faint, hoverBrush=faint)
        for each in (self.band, self.curve, self.slope):
            self.plot.addItem(each)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        box.addWidget(self.plot)
        box.addWidget(self.words)
        self.depth_m = float("nan")
        self._grid: Grid | None = None
        self._frequency, self._power = np.empty(0), np.empty(0)
        self._setting = False
        self.band.sigRegionChanged.connect(self._dragged)

    def update_preview(self) -> None:
        grid = self.form.item("grid")
        if not isinstance(grid, Grid):
            return
        if grid is self._grid:
            self._show_band()
            return
        self._grid = grid
        step = max(1, int(np.ceil(np.sqrt(grid.values.size / 400_000))))
        values, dx, dy = grid.values[::step, ::step], grid.dx * step, grid.dy * step
        self.form.lane.call("spectrum", lambda _: radial_spectrum(values, dx, dy), self._came)

    def _came(self, result: object) -> None:
        if not isinstance(result, tuple):
            self.words.setText(str(result))
            return
        self._frequency, self._power = result
        self.curve.setData(self._frequency * 1000.0, self._power)
        self._show_band()

    def _show_band(self) -> None:
        """Show the stretch of the form, and read it."""
        if self._grid is None or not len(self._frequency):
            return
        try:
            params = self.form.operation.check(self.form.values())
            assert isinstance(params, SourceDepth)
            _, shortest, longest = band_of(self._grid, params)
        except LampError as error:
            self.words.setText(str(error))
            return
        self._setting = True
        self.band.setRegion((1000.0 / longest, 1000.0 / max(shortest, 1e-9)))
        self._setting = False
        self._read(1.0 / longest, 1.0 / max(shortest, 1e-9))

    def _read(self, low: float, high: float) -> None:
        inside = (self._frequency >= low) & (self._frequency <= high)
        try:
            params = self.form.operation.check(self.form.values())
            assert isinstance(params, SourceDepth) and self._grid is not None
            power = power_of(params.sources, self._grid)
            self.depth_m = depth_from_slope(self._frequency, self._power, low, high, power)
        except LampError as error:
            self.depth_m = float("nan")
            self.slope.setData([], [])
            self.words.setText(str(error))
            return
        # The sources' own part of the spectrum is put back for the picture, so that the curve lies on the dots.
        own = power * np.log(self._frequency[inside])
        line = np.polyfit(self._frequency[inside], self._power[inside] - own, 1)
        fit = np.polyval(line, self._frequency[inside]) + own
        self.slope.setData(self._frequency[inside] * 1000.0, fit)
        self.words.setText(
            f"Wavelengths {1 / high:,.0f} to {1 / low:,.0f} m: tops of sources {self.depth_m:,.0f} m below the level of the grid."
        )

    def _dragged(self) -> None:
        if self._setting:
            return
        longest, shortest = (float(f"{1000.0 / max(v, 1e-3):.4g}") for v in self.band.getRegion())
        for name, value in (("shortest", shortest), ("longest", longest)):
            self.form.fields[name].set_value(value)
            self.form.fields[name].touched = True
        self._read(1.0 / longest, 1.0 / shortest)
