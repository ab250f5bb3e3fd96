"""Icons of the work areas, drawn by hand: simple strokes in the colour of the text."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap, QPolygonF


def area_icon(area: str, colour: str) -> QIcon:
    """Return the icon of a work area."""
    pixmap = QPixmap(48, 48)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(2, 2)
    painter.setPen(QPen(QColor(colour), 1.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
    _DRAW[area](painter)
    painter.end()
    return QIcon(pixmap)


def _line(p: QPainter, *points: tuple[float, float]) -> None:
    p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in points]))


def _data(p: QPainter) -> None:
    for y in (6, 12, 18):
        _line(p, (4, y), (8, y))
        _line(p, (11, y), (20, y))


def _maps(p: QPainter) -> None:
    for k in range(3):
        r = 3.0 + 3.2 * k
        p.drawEllipse(QRectF(11 - r + k, 12 - 0.75 * r, 2 * r, 1.5 * r))


def _drilling(p: QPainter) -> None:
    _line(p, (3, 6), (21, 6))
    _line(p, (8, 6), (13, 14), (16, 21))
    _line(p, (10.5, 11.5), (13.5, 9.5))
    _line(p, (13, 16), (16.5, 14.5))


def _geophysics(p: QPainter) -> None:
    _line(p, (2, 9), (6, 9), (9, 4), (13, 13), (16, 8), (22, 8))
    p.drawEllipse(QRectF(8, 15, 8, 6))


def _geology(p: QPainter) -> None:
    _line(p, (3, 8), (9, 5), (15, 8), (21, 5))
    _line(p, (3, 14), (9, 11), (15, 14), (21, 11))
    _line(p, (3, 20), (9, 17), (15, 20), (21, 17))


def _targets(p: QPainter) -> None:
    _line(p, (12, 3), (12, 15))
    _line(p, (8, 11), (12, 15), (16, 11))
    _line(p, (4, 20), (20, 20))


_DRAW: dict[str, Callable[[QPainter], None]] = {
    "Data": _data,
    "Maps": _maps,
    "Drilling": _drilling,
    "Geophysics": _geophysics,
    "Geology": _geology,
    "Targets": _targets,
}
