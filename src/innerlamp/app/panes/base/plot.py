"""A plot in metres with plain tick labels, for the map and the section."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QWidget

from ....core.numbers import round_length
from ...context.context import Context
from ...theme.plain import axis_words


class MetreAxis(pg.AxisItem):  # type: ignore[misc]  # the library has no types
    """An axis whose ticks are whole metres, thousands set apart, never in powers of ten."""

    def tickStrings(self, values, scale, spacing):  # type: ignore[no-untyped-def]  # noqa: N802 - pyqtgraph's name
        digits = 0 if spacing >= 1 else 1
        return [f"{v:,.{digits}f}".replace(",", "\u2009") for v in values]


class MetrePlot(pg.PlotWidget):  # type: ignore[misc]  # the library has no types
    """A plot with equal scales, no menu, quiet axes."""

    def __init__(self, ctx: Context, right: str, up: str) -> None:
        axes = {"bottom": MetreAxis("bottom"), "left": MetreAxis("left")}
        super().__init__(axisItems=axes, enableMenu=False)
        self.ctx = ctx
        item = self.getPlotItem()
        item.hideButtons()
        item.setContentsMargins(0, 4, 6, 0)
        self.getViewBox().setAspectLocked(True)
        self.setMouseTracking(True)
        font = QFont()
        font.setPointSizeF(7.5)
        for name, text in (("bottom", right), ("left", up)):
            axis = item.getAxis(name)
            axis.enableAutoSIPrefix(False)
            axis.setStyle(tickFont=font, tickTextOffset=3)
            axis.setLabel(axis_words(text))
            axis.label.setFont(font)
        item.getAxis("left").setWidth(70 if "Northing" in up else 54)
        self.dress()

    def dress(self) -> None:
        """Take the colours of the theme."""
        theme = self.ctx.theme
        self.setBackground(theme.canvas)
        for name in ("bottom", "left"):
            axis = self.getPlotItem().getAxis(name)
            axis.setPen(pg.mkPen(theme.line))
            axis.setTextPen(pg.mkPen(theme.faint))

    def metres_per_pixel(self) -> tuple[float, float]:
        """Size of a pixel in metres, right and up."""
        # From the ranges: the library's own answer is kept from before a change of the vertical scale.
        box = self.getViewBox()
        (left, right), (low, high) = box.viewRange()
        return (right - left) / max(box.width(), 1.0), (high - low) / max(box.height(), 1.0)

    def place_of(self, event: QMouseEvent | QPointF) -> tuple[float, float]:
        """Plot coordinates under the mouse."""
        position = event if isinstance(event, QPointF) else event.position()
        point = self.getViewBox().mapSceneToView(position)
        return point.x(), point.y()


class Ruler(QWidget):
    """A scale bar and, on maps, a north arrow in the corner of a plot, always on top and never in the way."""

    def __init__(self, plot: MetrePlot, ctx: Context, north: bool) -> None:
        super().__init__(plot)
        self.plot, self.ctx, self.north = plot, ctx, north
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        plot.installEventFilter(self)
        plot.getViewBox().sigRangeChanged.connect(self.update)
        self.resize(138 if north else 122, 40 if north else 27)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if isinstance(event, QResizeEvent):
            self.move(event.size().width() - self.width() - 10, 8 if self.north else 28)
        return False

    def bar(self) -> tuple[float, float]:
        """Length of the bar in metres and in pixels."""
        metre, _ = self.plot.metres_per_pixel()
        length = round_length(100 * metre)
        return length, length / metre

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        length, pixels = self.bar()
        if not np.isfinite(pixels) or pixels < 2:
            return
        ink, back = QColor(self.ctx.theme.text), QColor(self.ctx.theme.panel)
        back.setAlpha(215)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(back)
        painter.drawRoundedRect(self.rect(), 2, 2)
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        right, base = self.width() - 8.0, self.height() - 7.0
        painter.setPen(QPen(ink, 1.2))
        painter.setBrush(ink)
        painter.drawRect(QRectF(right - pixels, base - 3, pixels / 2, 3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(right - pixels / 2, base - 3, pixels / 2, 3))
        words = f"{length / 1000:g} km" if length >= 1000 else f"{length:g} m"
        painter.drawText(QRectF(0, base - 18, right, 13), Qt.AlignmentFlag.AlignRight, words)
        if self.north:
            x, top = 11.0, 4.0
            painter.setBrush(ink)
            painter.drawPolygon(QPolygonF([QPointF(x, top), QPointF(x + 5, top + 21), QPointF(x, top + 16)]))
            painter.setBrush(back)
            painter.drawPolygon(QPolygonF([QPointF(x, top), QPointF(x - 5, top + 21), QPointF(x, top + 16)]))
            painter.drawText(QRectF(x - 11, top + 21, 22, 13), Qt.AlignmentFlag.AlignCenter, "N")
            painter.drawText(QRectF(20, 4, right - 20, 14), Qt.AlignmentFlag.AlignRight, "grid north up")
        painter.end()
