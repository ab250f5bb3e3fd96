"""Which parts of a drawing are taken: for labels and signs that must not cover each other."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPaintEngine, QPainter, QPainterPath, QPen, QTransform

_CELL = 3.0


def seen_part(painter: QPainter) -> QRectF:
    """The part of the device, in its pixels, that a painter can reach; ask before its transform is reset."""
    view = QRectF(painter.viewport())
    if painter.hasClipping():
        view = view.intersected(painter.transform().mapRect(painter.clipBoundingRect()))
    return view


def to_pixels(transform: QTransform, xy: np.ndarray) -> np.ndarray:
    """Return places (n, 2) in pixels; by hand, as a product of a long and a tiny matrix is slow."""
    out = np.empty_like(xy, dtype=float)
    x, y = xy[:, 0], xy[:, 1]
    out[:, 0] = x * transform.m11() + y * transform.m21() + transform.dx()
    out[:, 1] = x * transform.m12() + y * transform.m22() + transform.dy()
    return out


def draw_haloed(painter: QPainter, box: QRectF, text: str, ink: QColor, halo: QColor) -> None:
    """Write a text in the middle of a box with a rim that parts it from what lies under it."""
    engine = painter.paintEngine()
    if engine is not None and engine.type() in (QPaintEngine.Type.Pdf, QPaintEngine.Type.SVG):
        # On paper the rim is a shape: words stand there once, and can be searched for and copied.
        metrics = QFontMetricsF(painter.font(), painter.device())
        path = QPainterPath()
        left = box.center().x() - metrics.horizontalAdvance(text) / 2
        path.addText(left, box.center().y() + (metrics.ascent() - metrics.descent()) / 2, painter.font(), text)
        painter.strokePath(
            path, QPen(halo, 2.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
        )
        painter.setPen(ink)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        return
    painter.setPen(halo)
    for dx, dy in ((-1, 0), (1, 0), (0, -1), (0, 1)):
        painter.drawText(box.translated(dx, dy), Qt.AlignmentFlag.AlignCenter, text)
    painter.setPen(ink)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


class Space:
    """The pixels of a view in cells of three by three; asking and taking cost the same however much is taken."""

    def __init__(self, view: QRectF) -> None:
        self.view = view
        self.taken = np.zeros((int(view.height() / _CELL) + 2, int(view.width() / _CELL) + 2), dtype=bool)

    def take(self, box: QRectF) -> bool:
        """Take a box if it lies in the view and nothing else is there; returns whether it was free."""
        if not self.view.intersects(box):
            return False
        left, top = (
            max(int((v - o) / _CELL), 0) for v, o in ((box.left(), self.view.left()), (box.top(), self.view.top()))
        )
        right, bottom = (
            int((box.right() - self.view.left()) / _CELL) + 1,
            int((box.bottom() - self.view.top()) / _CELL) + 1,
        )
        cells = self.taken[top : max(bottom, top + 1), left : max(right, left + 1)]
        if cells.any():
            return False
        cells[...] = True
        return True
