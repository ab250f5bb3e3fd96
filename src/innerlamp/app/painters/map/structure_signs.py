"""Structural readings on the map: the sign of each kind, turned to its strike, with the dip written beside it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ....core.items.signs import PlaneMark
from ..kit.cached import CachedDrawing
from ..kit.room import Space, draw_haloed, seen_part

_HALF, _TICK = 9.0, 5.0


class StructureSigns(CachedDrawing):
    """Signs at places; where two would cover each other the later one is left out, and so are numbers that find no space."""

    def __init__(
        self,
        x: np.ndarray,
        y: np.ndarray,
        dip: np.ndarray,
        direction: np.ndarray,
        marks: list[PlaneMark],
        colours: list[QColor],
        ink: QColor,
        halo: QColor,
        z: float,
    ) -> None:
        super().__init__()
        self.xy = np.column_stack([x, y])
        self.dip, self.direction, self.marks, self.colours = dip, direction, marks, colours
        self.ink, self.halo = ink, halo
        self.shown, self.numbers = 0, 0
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        if not len(self.xy):
            return QRectF()
        low, high = self.xy.min(axis=0), self.xy.max(axis=0)
        size = self.pixelLength(QPointF(1, 0)) if self.getViewBox() is not None else None
        margin = 30.0 * float(size or 1.0)
        return QRectF(low[0] - margin, low[1] - margin, high[0] - low[0] + 2 * margin, high[1] - low[1] + 2 * margin)

    def viewTransformChanged(self) -> None:  # noqa: N802 - pyqtgraph's name
        self.prepareGeometryChange()

    def draw(self, painter: QPainter) -> None:
        transform, view = painter.transform(), seen_part(painter)
        painter.save()
        painter.resetTransform()
        font = painter.font()
        font.setPointSizeF(7.0)
        painter.setFont(font)
        space = Space(view)
        self.shown = self.numbers = 0
        for k, (x, y) in enumerate(self.xy):
            at = transform.map(QPointF(float(x), float(y)))
            if not view.contains(at):
                continue
            box = QRectF(at.x() - 5, at.y() - 5, 10, 10)
            if not space.take(box):
                continue
            self.shown += 1
            draw_sign(painter, at, float(self.dip[k]), float(self.direction[k]), self.marks[k], self.colours[k])
            if not np.isfinite(self.dip[k]) or self.dip[k] in (0.0, 90.0):
                continue
            down = np.radians(self.direction[k])
            away = (17.0 if self.marks[k] == "arrow" else 12.0) + 5.0 * abs(float(np.sin(down)))
            spot = QRectF(0, 0, 15, 10)
            spot.moveCenter(QPointF(at.x() + away * np.sin(down), at.y() - away * np.cos(down)))
            if not space.take(spot):
                continue
            self.numbers += 1
            text = f"{self.dip[k]:.0f}"
            draw_haloed(painter, spot, text, self.ink, self.halo)
        painter.restore()


def draw_sign(painter: QPainter, at: QPointF, dip: float, direction: float, mark: PlaneMark, colour: QColor) -> None:
    """Draw one sign at a place in pixels; `direction` is that of the dip, for lines that of the plunge."""
    painter.setPen(QPen(colour, 1.5))
    painter.setBrush(colour)
    if not np.isfinite(direction):
        if dip == 0.0:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, _TICK, _TICK)
            painter.drawLine(QPointF(at.x() - _HALF, at.y()), QPointF(at.x() + _HALF, at.y()))
            painter.drawLine(QPointF(at.x(), at.y() - _HALF), QPointF(at.x(), at.y() + _HALF))
        else:
            painter.drawEllipse(at, 1.5, 1.5)
        return
    painter.save()
    painter.translate(at)
    painter.rotate(direction)  # now up is down the dip
    if mark == "arrow":
        painter.drawLine(QPointF(0, 0), QPointF(0, -2 * _HALF))
        painter.drawPolygon(QPolygonF([QPointF(0, -2 * _HALF), QPointF(-2.6, -12.5), QPointF(2.6, -12.5)]))
        painter.restore()
        return
    if dip == 0.0 and mark in ("tick", "overturned"):
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(0, 0), _TICK, _TICK)
        painter.drawLine(QPointF(0, -_HALF), QPointF(0, _HALF))
    painter.drawLine(QPointF(-_HALF, 0), QPointF(_HALF, 0))
    upright = dip == 90.0
    if mark == "tick":
        painter.drawLine(QPointF(0, _TICK if upright else 0), QPointF(0, -_TICK))
    elif mark == "overturned":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawArc(QRectF(-4, -4, 8, 8), 0, -180 * 16)
        painter.drawLine(QPointF(4, 0), QPointF(4, -_TICK))
    elif mark == "filled wedge":
        for way in (1.0, -1.0) if upright else (1.0,):
            painter.drawPolygon(QPolygonF([QPointF(-3.2, 0), QPointF(3.2, 0), QPointF(0, -_TICK * way)]))
    elif mark == "box":
        if not upright:
            painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(-2.6, -_TICK if not upright else -2.6, 5.2, _TICK if not upright else 5.2))
    elif mark == "bars":
        painter.drawLine(QPointF(-_HALF, 2.4), QPointF(_HALF, 2.4))
        if not upright:
            painter.drawLine(QPointF(0, 0), QPointF(0, -_TICK))
    painter.restore()
