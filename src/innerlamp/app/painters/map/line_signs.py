"""Lines of the geological map: contacts, faults, folds and dykes with the marks that maps give them."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ....core.items.signs import LINE_SIGNS, LineSign
from ..kit.cached import CachedDrawing
from ..kit.room import seen_part, to_pixels
from .contour_lines import along_line

_APART = 34.0  # pixels between marks


class SignedLines(CachedDrawing):
    """Lines (n, 2) with a sign each; marks are on the right-hand side of the line as it was drawn."""

    def __init__(self, lines: list[np.ndarray], signs: list[str], colours: list[QColor], z: float) -> None:
        super().__init__()
        self.lines, self.signs, self.colours = lines, signs, colours
        every = np.concatenate(lines)
        low, high = every.min(axis=0), every.max(axis=0)
        self._bounds = QRectF(float(low[0]), float(low[1]), float(high[0] - low[0]), float(high[1] - low[1]))
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self._bounds

    def draw(self, painter: QPainter) -> None:
        transform = painter.transform()
        view = seen_part(painter).adjusted(-20, -20, 20, 20)
        painter.save()
        painter.resetTransform()
        for xy, name, colour in zip(self.lines, self.signs, self.colours, strict=True):
            at = to_pixels(transform, xy)
            low, high = at.min(axis=0), at.max(axis=0)
            if view.intersects(QRectF(low[0] - 1, low[1] - 1, high[0] - low[0] + 2, high[1] - low[1] + 2)):
                draw_signed_line(painter, at, LINE_SIGNS[name], colour)
        painter.restore()


def draw_signed_line(painter: QPainter, at: np.ndarray, sign: LineSign, colour: QColor) -> None:
    """Draw a line (n, 2) in pixels with its sign."""
    pen = QPen(colour, sign.width)
    if sign.dashes:
        pen.setDashPattern([float(d) for d in sign.dashes])
    painter.setPen(pen)
    polygon = QPolygonF([QPointF(float(a), float(b)) for a, b in at])
    if sign.mark == "double":
        for offset in (-1.6, 1.6):
            painter.setPen(QPen(colour, 0.8))
            painter.drawPolyline(QPolygonF([QPointF(*p) for p in _beside(at, offset)]))
        return
    painter.drawPolyline(polygon)
    if not sign.mark:
        return
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
    painter.setPen(QPen(colour, 1.1))
    painter.setBrush(colour)
    places = np.arange(min(_APART / 2, along[-1] / 2), along[-1], _APART if "arrow" not in sign.mark else 3 * _APART)
    for place in places:
        here, ahead = along_line(at, along, place), along_line(at, along, min(place + 2.0, along[-1]))
        run = ahead - here
        length = float(np.hypot(*run))
        if length < 1e-6:
            continue
        run = run / length
        # Pixels count downward, so the right-hand side of the line on the ground is this one.
        side = np.array([-run[1], run[0]])
        if sign.mark == "ticks":
            _stroke(painter, here, here + 6.0 * side)
        elif sign.mark == "teeth":
            corners = (here - 3.6 * run, here + 3.6 * run, here + 6.0 * side)
            painter.drawPolygon(QPolygonF([QPointF(*c) for c in corners]))
        else:
            for way in (1.0, -1.0):
                near, far = here + 2.0 * way * side, here + 10.0 * way * side
                _arrow(painter, near, far) if sign.mark == "arrows out" else _arrow(painter, far, near)


def _beside(at: np.ndarray, offset: float) -> np.ndarray:
    run = np.gradient(at, axis=0)
    length = np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)
    return at + offset * np.column_stack([-run[:, 1] / length, run[:, 0] / length])


def _stroke(painter: QPainter, a: np.ndarray, b: np.ndarray) -> None:
    painter.drawLine(QPointF(*a), QPointF(*b))


def _arrow(painter: QPainter, tail: np.ndarray, head: np.ndarray) -> None:
    _stroke(painter, tail, head)
    run = (head - tail) / max(float(np.hypot(*(head - tail))), 1e-9)
    side = np.array([-run[1], run[0]])
    for way in (1.0, -1.0):
        _stroke(painter, head, head - 3.0 * run + 2.0 * way * side)
