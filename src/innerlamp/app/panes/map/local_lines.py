"""The lines of the local grid in which coordinates are told, over the map."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QObject, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from ....core.local_grid import local_grid
from ....core.numbers import round_length
from ...context.context import Context
from ...pages.local_lines import paint_local_grid
from ..base.plot import MetrePlot


class LocalLines(QWidget):
    """A sheet over a plot that draws the lines of a local grid with their numbers, in no one's way."""

    def __init__(self, plot: MetrePlot, ctx: Context) -> None:
        super().__init__(plot)
        self.plot, self.ctx = plot, ctx
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        plot.installEventFilter(self)
        plot.getViewBox().sigRangeChanged.connect(self.update)
        self.show_grid()

    def show_grid(self) -> None:
        """Show the lines of the grid that is chosen now, none for the project's own."""
        self.resize(self.plot.size())
        self.setVisible(bool(self.ctx.shown_grid))
        self.update()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.Resize:
            self.resize(self.plot.size())
        return False

    def step(self) -> float:
        """Interval of the lines in metres of the local grid: about 120 pixels."""
        metre, _ = self.plot.metres_per_pixel()
        return round_length(120.0 * metre)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        if not self.ctx.shown_grid:
            return
        box = self.plot.getViewBox()
        rect = QRectF(self.plot.mapFromScene(box.sceneBoundingRect()).boundingRect())
        (west, east), (south, north) = box.viewRange()
        if not np.isfinite([west, east, south, north]).all() or self.plot.metres_per_pixel()[0] <= 0:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.ctx.theme
        paint_local_grid(
            painter,
            rect,
            (west, east, south, north),
            self.step(),
            local_grid(self.ctx.shown_grid),
            ink=QColor(theme.text),
            halo=QColor(theme.canvas),
        )
        painter.end()
