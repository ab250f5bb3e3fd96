"""What stands above a section, in step with it: a plan of its corridor, and profiles of grids in stacked panels."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QResizeEvent
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from ....core.items.fields import Grid
from ....core.items.holes import HoleSet
from ...context.context import Context
from ...painters.kit import flat
from ...painters.kit.views import SectionView
from ...painters.section.upper import REACH, panel_grids, profile, profile_range, profile_title, strip_holes
from ...theme.plain import axis_words, plain_tip
from ..base.pane import overlay
from ..base.plot import MetrePlot

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
        grids = panel_grids(self.ctx, look.panels)
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
            found = strip_holes(item, view)
            panel.addItem(flat.plain_pieces(found.pieces, QColor(self.ctx.theme.text), 1.2, 5), ignoreBounds=True)
            a, o = found.collars.T
            for mark in flat.markers(a, o, None, None, 6, 6, "o", QColor(self.ctx.theme.panel)):
                panel.addItem(mark, ignoreBounds=True)
            panel.addItem(
                flat.Labels(found.names, a, o, self.ctx.theme.text, self.ctx.theme.canvas, 8), ignoreBounds=True
            )
        panel.setYRange(-REACH * width, REACH * width, padding=0)

    def _profile(self, panel: MetrePlot, view: SectionView, grid: Grid) -> None:
        along, values = profile(view, grid)
        panel.getPlotItem().getAxis("left").setLabel(axis_words(grid.unit))
        words = panel.findChild(QLabel, "overlay") or overlay(panel)  # the axis has no room for a name
        words.setText(profile_title(grid))
        words.adjustSize()
        words.move(60, 2)
        words.show()
        panel.setToolTip(plain_tip(profile_title(grid)))
        pen = pg.mkPen(QColor(self.ctx.theme.text), width=1.4)
        panel.addItem(pg.PlotCurveItem(along, values, pen=pen, connect="finite", antialias=True))
        if np.isfinite(values).any():
            panel.setYRange(*profile_range(values), padding=0)

    def dress(self) -> None:
        """Take the colours of the theme."""
        for panel in self.panels:
            panel.dress()

    def close_all(self) -> None:
        """Let the plots go."""
        self._make([])
