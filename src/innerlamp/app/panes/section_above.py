"""What stands above a section, in step with it: a plan of its corridor, and profiles of grids in stacked panels."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QResizeEvent
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from ...core.compute.geometry.sampling import bilinear
from ...core.items.fields import Grid
from ...core.items.holes import HoleSet
from ...core.items.legend import without_unit
from ..context import Context
from ..painters import flat
from ..painters.views import SectionView
from .base import overlay
from .plot import MetrePlot

PANEL, STRIP = 74, 92  # pixels
SHARE = 0.45  # of the pane that panels may take


class SectionAbove(QWidget):
    """Panels above a section's plot; all have its distances."""

    def __init__(self, ctx: Context, plot: MetrePlot) -> None:
        super().__init__()
        self.ctx, self.plot = ctx, plot
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.box.setSpacing(0)
        self.panels: list[MetrePlot] = []
        self.hide()

    def show_for(self, view: SectionView | None) -> None:
        """Draw what the look of sections asks for."""
        look = self.ctx.section_look
        grids = [
            (e, item)
            for name in look.panels
            for e in self.ctx.entries()
            if name in (e.id, e.name) and e.kind == "grid" and isinstance(item := self.ctx.item(e.id), Grid)
        ]
        wanted = (["strip"] if look.strip else []) + [e.id for e, _ in grids]
        if view is None:
            wanted = []
        if [p.objectName() for p in self.panels] != wanted:
            self._make(wanted)
        self.setVisible(bool(wanted))
        self._share_room()
        if view is None or not wanted:
            return
        for panel in self.panels:
            panel.clear()
        if look.strip:
            self._strip(self.panels[0], view)
        for panel, (_, grid) in zip(self.panels[int(look.strip) :], grids, strict=True):
            self._profile(panel, view, grid)

    def _share_room(self) -> None:
        """Give panels the height that leaves the section most of its pane; in a low pane they are lower, at last fewer."""
        owner = self.parentWidget()
        room = SHARE * (owner.height() if owner is not None else 600)
        usual = [STRIP if p.objectName() == "strip" else PANEL for p in self.panels]
        scale = min(1.0, room / max(sum(usual), 1))
        fits = len(usual) if scale >= 0.6 else max(int(room / (0.6 * PANEL)), 1)
        for number, (panel, high) in enumerate(zip(self.panels, usual, strict=True)):
            panel.setVisible(number < fits)
            panel.setFixedHeight(round(high * max(scale, 0.6)))

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._share_room()

    def _make(self, wanted: list[str]) -> None:
        for panel in self.panels:
            self.box.removeWidget(panel)
            panel.setXLink(None)
            panel.close()
            panel.deleteLater()
        self.panels = []
        for name in wanted:
            panel = MetrePlot(self.ctx, "", "")
            panel.setObjectName(name)
            panel.getViewBox().setAspectLocked(False)
            panel.getPlotItem().hideAxis("bottom")
            panel.setMouseEnabled(x=False, y=False)
            panel.setXLink(self.plot)
            panel.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.box.addWidget(panel)
            self.panels.append(panel)

    def _strip(self, panel: MetrePlot, view: SectionView) -> None:
        """The corridor from above: behind is up; collars, traces, and the line of the section."""
        width = view.corridor
        panel.getPlotItem().getAxis("left").setLabel("behind, m")
        for level, style in (
            (0.0, Qt.PenStyle.SolidLine),
            (-width, Qt.PenStyle.DashLine),
            (width, Qt.PenStyle.DashLine),
        ):
            line = pg.InfiniteLine(level, 0, pen=pg.mkPen(self.ctx.theme.lit, width=1 if level else 2, style=style))
            panel.addItem(line, ignoreBounds=True)
        for entry in self.ctx.lit_entries():
            item = self.ctx.item(entry.id)
            if not isinstance(item, HoleSet):
                continue
            s = item.stations
            along, off = view.plane.to_plane(s["x"].to_numpy(float), s["y"].to_numpy(float))
            hole = s["hole"].to_numpy()
            near = np.abs(off) <= 1.5 * width
            same = (hole[1:] == hole[:-1]) & near[1:] & near[:-1] & (np.abs(np.diff(along)) < 500.0)
            at = np.column_stack([along, off])
            pieces = np.stack([at[:-1][same], at[1:][same]], axis=1).reshape(-1, 2)
            panel.addItem(flat.plain_pieces(pieces, QColor(self.ctx.theme.text), 1.2, 5), ignoreBounds=True)
            c = item.collars
            a, o = view.plane.to_plane(c["x"].to_numpy(float), c["y"].to_numpy(float))
            there = (np.abs(o) <= 1.5 * width) & (a >= 0) & (a <= view.plane.length)
            for mark in flat.markers(a[there], o[there], None, None, 6, 6, "o", QColor(self.ctx.theme.panel)):
                panel.addItem(mark, ignoreBounds=True)
            words = c["hole"].astype(str).to_numpy()[there].tolist()
            panel.addItem(
                flat.Labels(words, a[there], o[there], self.ctx.theme.text, self.ctx.theme.canvas, 8), ignoreBounds=True
            )
        panel.setYRange(-1.5 * width, 1.5 * width, padding=0)

    def _profile(self, panel: MetrePlot, view: SectionView, grid: Grid) -> None:
        count = int(np.clip(view.plane.length / grid.dx * 2, 50, 4000))
        along = np.linspace(0.0, view.plane.length, count)
        x, y = view.plane.to_map(along)
        values = bilinear(grid.values, grid.x0, grid.y0, grid.dx, grid.dy, x, y)
        unit = f" ({grid.unit})" if grid.unit else ""
        name = without_unit(grid.attribute, grid.unit)
        panel.getPlotItem().getAxis("left").setLabel(grid.unit)
        words = panel.findChild(QLabel, "overlay") or overlay(panel)  # the axis has no room for a name
        words.setText(f"{grid.name}: {name}{unit}")
        words.adjustSize()
        words.move(60, 2)
        words.show()
        panel.setToolTip(f"{grid.name}: {name}{unit}")
        pen = pg.mkPen(QColor(self.ctx.theme.text), width=1.4)
        panel.addItem(pg.PlotCurveItem(along, values, pen=pen, connect="finite", antialias=True))
        known = values[np.isfinite(values)]
        if len(known):
            low, high = float(known.min()), float(known.max())
            panel.setYRange(low, high if high > low else low + 1.0, padding=0.08)

    def dress(self) -> None:
        """Take the colours of the theme."""
        for panel in self.panels:
            panel.dress()

    def close_all(self) -> None:
        """Let the plots go."""
        self._make([])
