"""Contour lines on the map: broken for the label that runs along them, ticked where they close round a high or a low."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from ...core.items.features import Features, part_vertices
from .space import Space, seen_part

_TICK, _APART, _GAP = 5.0, 16.0, 3.0


class ContourLines(pg.GraphicsObject):
    """All lines of one item. Widths, gaps, labels and ticks are in pixels, so they are found anew at each zoom."""

    def __init__(self, item: Features, colours: list[QColor], ink: QColor, z: float) -> None:
        super().__init__()
        self.ink = ink
        self.lines: list[tuple[np.ndarray, str, bool, str, QColor]] = []
        minor: dict[str, QPainterPath] = {}
        levels = item.table[level_of(item)].to_numpy(float)
        for part in range(len(item.role)):
            row = int(item.owner[part])
            xy = part_vertices(item, part)[:, :2]
            major, turned = item.table["weight"].iloc[row] == "major", str(item.table["round"].iloc[row])
            colour = colours[row]
            if major or turned:
                self.lines.append((xy, f"{levels[row]:g}" if major else "", major, turned, colour))
            if not major:
                path = minor.setdefault(colour.name(), QPainterPath())
                path.addPolygon(QPolygonF([QPointF(float(a), float(b)) for a, b in xy]))
        self.minor = [(QColor(name), path) for name, path in minor.items()]
        x, y = item.vertices[:, 0], item.vertices[:, 1]
        self._bounds = QRectF(float(x.min()), float(y.min()), float(np.ptp(x)), float(np.ptp(y)))
        self.labels = 0
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self._bounds

    def paint(self, painter: QPainter, *_: object) -> None:
        transform, view = painter.transform(), seen_part(painter)
        pen = QPen()
        pen.setCosmetic(True)
        pen.setWidthF(0.8)
        for colour, path in self.minor:
            pen.setColor(colour)
            painter.setPen(pen)
            painter.drawPath(path)
        painter.save()
        painter.resetTransform()
        font = painter.font()
        font.setPointSizeF(7.0)
        painter.setFont(font)
        metrics = painter.fontMetrics()
        matrix = np.array([[transform.m11(), transform.m12()], [transform.m21(), transform.m22()]])
        shift = np.array([transform.dx(), transform.dy()])
        space = Space(view)
        self.labels = 0
        for xy, text, major, turned, colour in self.lines:
            at = xy @ matrix + shift
            low, high = at.min(axis=0), at.max(axis=0)
            if not view.intersects(QRectF(low[0] - 1, low[1] - 1, high[0] - low[0] + 2, high[1] - low[1] + 2)):
                continue
            pen = QPen(colour, 1.6 if major else 0.8)
            along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
            wide = metrics.horizontalAdvance(text) + 2 * _GAP
            middle = self._place(at, along, wide, view, space) if text else -1.0
            painter.setPen(pen)
            if middle >= 0:
                for piece in (_cut(at, along, 0.0, middle - wide / 2), _cut(at, along, middle + wide / 2, along[-1])):
                    painter.drawPolyline([QPointF(float(a), float(b)) for a, b in piece])
                self._label(painter, at, along, middle, text, wide, colour)
                self.labels += 1
            elif major:
                painter.drawPolyline([QPointF(float(a), float(b)) for a, b in at])
            if turned and along[-1] > 3 * _APART:
                self._ticks(painter, at, along, turned, pen)
        painter.restore()

    @staticmethod
    def _place(at: np.ndarray, along: np.ndarray, wide: float, view: QRectF, space: Space) -> float:
        """Distance along the line at which its label stands: in view, free of others, where the line is straight."""
        if along[-1] < 2.5 * wide:
            return -1.0
        for share in (0.5, 0.3, 0.7, 0.15, 0.85):
            middle = float(np.clip(share * along[-1], wide, along[-1] - wide))
            a, centre, b = (along_line(at, along, middle + d) for d in (-wide / 2, 0.0, wide / 2))
            box = QRectF(centre[0] - wide / 2, centre[1] - wide / 2, wide, wide)
            straight = float(np.hypot(*(b - a))) > 0.85 * wide
            if straight and view.contains(box) and space.take(box.adjusted(-7, -7, 7, 7)):
                return middle
        return -1.0

    def _label(self, painter: QPainter, at: np.ndarray, along: np.ndarray, middle: float, text: str, wide: float, colour: QColor) -> None:  # fmt: skip
        a, centre, b = (along_line(at, along, middle + d) for d in (-wide / 2, 0.0, wide / 2))
        angle = float(np.degrees(np.arctan2(b[1] - a[1], b[0] - a[0])))
        painter.save()
        painter.translate(float(centre[0]), float(centre[1]))
        painter.rotate(angle + 180.0 if abs(angle) > 90.0 else angle)
        painter.setPen(self.ink)
        painter.drawText(QRectF(-wide / 2, -8, wide, 16), Qt.AlignmentFlag.AlignCenter, text)
        painter.restore()

    @staticmethod
    def _ticks(painter: QPainter, at: np.ndarray, along: np.ndarray, turned: str, pen: QPen) -> None:
        """Short strokes down the slope: inward round a low, outward round a high."""
        painter.setPen(QPen(pen.color(), 0.9))
        area = 0.5 * float(np.dot(at[:-1, 0], at[1:, 1]) - np.dot(at[1:, 0], at[:-1, 1]))
        inward = 1.0 if area > 0 else -1.0
        side = inward if turned == "low" else -inward
        for place in np.arange(_APART / 2, along[-1], _APART):
            here, ahead = along_line(at, along, place), along_line(at, along, min(place + 1.0, along[-1]))
            run = ahead - here
            length = float(np.hypot(*run))
            if length < 1e-6:
                continue
            foot = here + side * _TICK * np.array([-run[1], run[0]]) / length
            painter.drawLine(QPointF(*here), QPointF(*foot))


def along_line(xy: np.ndarray, along: np.ndarray, place: float) -> np.ndarray:
    return np.array([np.interp(place, along, xy[:, 0]), np.interp(place, along, xy[:, 1])])


def _cut(xy: np.ndarray, along: np.ndarray, start: float, stop: float) -> np.ndarray:
    inside = (along > start) & (along < stop)
    return np.vstack([along_line(xy, along, start), xy[inside], along_line(xy, along, stop)])


def level_of(item: Features) -> str:
    """The column of the level: the first of numbers. '' for features that are no contours."""
    if not {"weight", "round"} <= set(item.table.columns):
        return ""
    return next((str(c) for c in item.table.columns if item.table[c].dtype.kind == "f"), "")
