"""The lines of a mine's own grid on a map: on paper, and over the pane, numbered where they leave it."""

from __future__ import annotations

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...core.local_grid import LocalGrid, lines_across
from ..painters.kit.room import draw_haloed
from .paper import INK, font_of

MIDDLE = Qt.AlignmentFlag.AlignCenter


def paint_local_grid(
    painter: QPainter,
    rect: QRectF,
    ground: tuple[float, float, float, float],
    step: float,
    grid: LocalGrid,
    *,
    outside: float = 0.0,
    ink: QColor = INK,
    halo: QColor | None = None,
) -> None:
    """Draw the lines of a local grid over a map.

    With `outside` (pixels) numbers stand in a strip round the map, else just within it with a rim of the colour `halo`.
    A number that would stand on another is left out.
    """
    west, east, south, north = ground
    painter.save()
    painter.setFont(font_of(6.0 if outside else 7.0))
    fine = QColor(ink)
    fine.setAlpha(110)
    metrics = painter.fontMetrics()
    taken: dict[str, list[tuple[float, float]]] = {}
    for line in lines_across(grid, ground, step):
        x0, y0, x1, y1 = line.ends
        ends = [
            QPointF(
                rect.left() + (x - west) / (east - west) * rect.width(),
                rect.bottom() - (y - south) / (north - south) * rect.height(),
            )
            for x, y in ((x0, y0), (x1, y1))
        ]
        painter.setPen(QPen(fine, 0.6))
        painter.drawLine(QLineF(*ends))
        text = f"{line.value:,.0f}".replace(",", "\u2009") + f" {line.along}"
        half = metrics.horizontalAdvance(text) / 2 + 3.0
        for end in ends:
            side = _side_of(end, rect)
            at = end.x() if side in ("top", "bottom") else end.y()
            low, high = (rect.left(), rect.right()) if side in ("top", "bottom") else (rect.top(), rect.bottom())
            if not outside and not low + half <= at <= high - half:
                continue
            if any(at - half < b and at + half > a for a, b in taken.get(side, [])):
                continue
            taken.setdefault(side, []).append((at - half, at + half))
            painter.save()
            painter.translate(end)
            if side in ("left", "right"):
                painter.rotate(-90)
            # Outward is up from the top and left sides once these are turned, down from the others.
            out = -1.0 if side in ("top", "left") else 1.0
            depth = outside / 2 + 2.0 if outside else -8.0
            box = QRectF(-half, out * depth - 7.0, 2 * half, 14.0)
            if halo is None:
                painter.setPen(ink)
                painter.drawText(box, MIDDLE, text)
            else:
                draw_haloed(painter, box, text, ink, halo)
            painter.restore()
    painter.restore()


def _side_of(end: QPointF, rect: QRectF) -> str:
    """Which side of a rectangle an end of a line lies on."""
    gaps = {
        "top": abs(end.y() - rect.top()),
        "bottom": abs(end.y() - rect.bottom()),
        "left": abs(end.x() - rect.left()),
        "right": abs(end.x() - rect.right()),
    }
    return min(gaps, key=lambda side: gaps[side])
