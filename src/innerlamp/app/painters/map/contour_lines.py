"""Contour lines on the map: broken for the label that runs along them, ticked where they close round a high or a low."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPen, QPolygonF, QRegion, QTransform
from PySide6.QtWidgets import QWidget

from ....core.items.attributes import are_contours, in_role
from ....core.items.features import Features
from ..kit.cached import CachedDrawing
from ..kit.room import Space, seen_part, to_pixels

_TICK, _APART, _GAP = 5.0, 16.0, 3.0
_MOST_LABELS = 120  # of one item on the screen at a time; the longest lines have them


class ContourLines(CachedDrawing):
    """All lines of one item. Widths, gaps, labels and ticks are in pixels, so they are found anew at each zoom."""

    def __init__(self, item: Features, colours: list[QColor], ink: QColor, z: float) -> None:
        super().__init__()
        self.ink = ink
        levels = item.table[level_of(item)].to_numpy(float)
        row = item.owner
        self.xy = np.ascontiguousarray(item.vertices[:, :2])
        self.starts = item.starts
        sizes = np.diff(item.starts)
        self._line = np.repeat(np.arange(len(sizes)), sizes)
        # Lines that have a level need not have a weight, nor say which way they close.
        weight, closing = in_role(item.attributes, "line weight"), in_role(item.attributes, "closing")
        plain = np.full(len(item.table), "", dtype=object)
        self.major = ((item.table[weight].to_numpy() if weight else plain) == "major")[row]
        self.turned = (item.table[closing].astype(str).to_numpy() if closing else plain)[row]
        self.texts = [f"{v:g}" for v in levels[row]]
        names = [colours[int(r)].name() for r in row]
        self.colours = [colours[int(r)] for r in row]
        self._palette = sorted(set(zip(names, self.major.tolist(), strict=True)), key=lambda each: each[1])
        number = {each: k for k, each in enumerate(self._palette)}
        self._shade = np.array([number[each] for each in zip(names, self.major.tolist(), strict=True)], dtype=np.int64)
        begin = np.minimum(item.starts[:-1], max(len(self.xy) - 1, 0))
        self.low = np.minimum.reduceat(self.xy, begin) if len(begin) else np.empty((0, 2))
        self.high = np.maximum.reduceat(self.xy, begin) if len(begin) else np.empty((0, 2))
        step = np.hypot(*np.diff(self.xy, axis=0).T)
        step[np.diff(self._line) != 0] = 0.0
        self.length = np.bincount(self._line[:-1], step, len(sizes)) if len(step) else np.zeros(len(sizes))
        self._paths: dict[int, list[QPainterPath]] = {}
        x, y = self.xy[:, 0], self.xy[:, 1]
        self._bounds = QRectF(float(x.min()), float(y.min()), float(np.ptp(x)), float(np.ptp(y)))
        self.labels = 0
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self._bounds

    def _drawn(self, cell: float, lines: np.ndarray | None) -> list[QPainterPath]:
        """One path a colour, of all lines or some, with only those vertices that differ at a cell size in metres."""
        xy, line = self.xy, self._line
        if lines is not None:
            inside = lines[line]
            xy, line = xy[inside], line[inside]
        if len(xy) < 2:
            return [QPainterPath() for _ in self._palette]
        key = np.floor(xy / cell)
        keep = np.ones(len(xy), dtype=bool)
        keep[1:] = (key[1:] != key[:-1]).any(axis=1) | (line[1:] != line[:-1])
        keep[:-1] |= line[1:] != line[:-1]  # ends stay
        xy, line = xy[keep], line[keep]
        out = []
        for number in range(len(self._palette)):
            mine = self._shade[line] == number
            part, its = xy[mine], line[mine]
            joined = np.zeros(len(part), dtype=np.int32)
            joined[:-1] = its[1:] == its[:-1]
            out.append(
                pg.arrayToQPath(part[:, 0], part[:, 1], connect=joined, finiteCheck=False)
                if len(part) > 1
                else QPainterPath()
            )
        return out

    def _paths_at(self, metres_per_pixel: float, seen: np.ndarray) -> list[QPainterPath]:
        """The paths for a zoom: kept where most is in view, else made of what is."""
        cell = 2.0 ** np.floor(np.log2(max(metres_per_pixel, 1e-6)))
        if seen.mean() < 0.35:
            return self._drawn(cell, seen)
        octave = int(np.log2(cell))
        if octave not in self._paths:
            self._paths[octave] = self._drawn(cell, None)
        return self._paths[octave]

    def draw(self, painter: QPainter) -> None:
        transform, view = painter.transform(), seen_part(painter)
        scale = float(np.hypot(transform.m11(), transform.m12())) or 1.0
        ground = transform.inverted()[0].mapRect(view)
        seen = (self.low[:, 0] <= ground.right()) & (self.high[:, 0] >= ground.left())
        seen &= (self.low[:, 1] <= ground.bottom()) & (self.high[:, 1] >= ground.top())
        font = painter.font()
        font.setPointSizeF(7.0)
        painter.setFont(font)
        metrics = painter.fontMetrics()
        space = Space(view)
        pixels = self.length * scale
        labels: list[tuple[np.ndarray, float, float, int]] = []
        gaps = QPainterPath()
        wanted = np.flatnonzero(seen & self.major & (pixels > 40.0))
        for k in wanted[np.argsort(-pixels[wanted], kind="stable")][:_MOST_LABELS].tolist():
            at = self._pixels_of(k, transform)
            along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
            wide = metrics.horizontalAdvance(self.texts[k]) + 2 * _GAP
            found = self._place(at, along, wide, view, space)
            if found is None:
                continue
            middle, angle = found
            labels.append((middle, angle, wide, k))
            turn = QTransform().translate(*middle).rotate(angle)
            gaps.addPolygon(turn.map(QPolygonF(QRectF(-wide / 2, -6, wide, 12))))
        self.labels = len(labels)
        self._lines(painter, view, gaps, self._paths_at(1.0 / scale, seen))
        painter.save()
        painter.resetTransform()
        painter.setPen(self.ink)
        for middle, angle, wide, k in labels:
            painter.save()
            painter.translate(*middle)
            painter.rotate(angle)
            painter.drawText(QRectF(-wide / 2, -8, wide, 16), Qt.AlignmentFlag.AlignCenter, self.texts[k])
            painter.restore()
        ticked = np.flatnonzero(seen & (self.turned != "") & (pixels > 3 * _APART))
        for k in ticked[np.argsort(-pixels[ticked], kind="stable")][:_MOST_LABELS].tolist():
            at = self._pixels_of(k, transform)
            along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
            self._ticks(painter, at, along, str(self.turned[k]), QPen(self.colours[k]))
        painter.restore()

    def _pixels_of(self, line: int, transform: QTransform) -> np.ndarray:
        """A line in pixels, without vertices that lie within one of the one before."""
        at = to_pixels(transform, self.xy[self.starts[line] : self.starts[line + 1]])
        if len(at) > 60:
            key = np.floor(at)
            keep = np.ones(len(at), dtype=bool)
            keep[1:-1] = (key[1:-1] != key[:-2]).any(axis=1)
            at = at[keep]
        return at

    def _lines(self, painter: QPainter, view: QRectF, gaps: QPainterPath, paths: list[QPainterPath]) -> None:
        """Draw all lines but where labels will stand; on a screen by single pixels, which is many times faster than by strokes."""
        screen = isinstance(painter.device(), QImage | QWidget)
        painter.save()
        if not gaps.isEmpty():
            transform = painter.transform()
            painter.resetTransform()
            if screen:
                region = QRegion(view.toAlignedRect())
                for polygon in gaps.toSubpathPolygons():
                    region -= QRegion(polygon.toPolygon())
                painter.setClipRegion(region, Qt.ClipOperation.IntersectClip)
            else:
                around = QPainterPath()
                around.addRect(view)
                painter.setClipPath(around.subtracted(gaps), Qt.ClipOperation.IntersectClip)
            painter.setTransform(transform)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if screen:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for (name, major), path in zip(self._palette, paths, strict=True):
            pen = QPen(QColor(name), 1.0 if screen else 1.6 if major else 0.8)
            pen.setCosmetic(True)
            painter.setPen(pen)
            painter.drawPath(path)
            if screen and major:
                painter.save()
                painter.setTransform(painter.transform() * QTransform.fromTranslate(0.7, 0.7))
                painter.drawPath(path)
                painter.restore()
        painter.restore()

    @staticmethod
    def _place(
        at: np.ndarray, along: np.ndarray, wide: float, view: QRectF, space: Space
    ) -> tuple[np.ndarray, float] | None:
        """Middle and angle (degrees) of a line's label: in view, free of others, where the line is straight."""
        if along[-1] < 2.5 * wide:
            return None
        middles = np.clip(np.array([0.5, 0.3, 0.7, 0.15, 0.85]) * along[-1], wide, along[-1] - wide)
        places = middles[:, None] + np.array([-wide / 2, 0.0, wide / 2])
        x, y = np.interp(places, along, at[:, 0]), np.interp(places, along, at[:, 1])
        for k in range(len(middles)):
            run = (float(x[k, 2] - x[k, 0]), float(y[k, 2] - y[k, 0]))
            box = QRectF(x[k, 1] - wide / 2, y[k, 1] - wide / 2, wide, wide)
            if np.hypot(*run) > 0.85 * wide and view.contains(box) and space.take(box.adjusted(-7, -7, 7, 7)):
                angle = float(np.degrees(np.arctan2(run[1], run[0])))
                return np.array([x[k, 1], y[k, 1]]), angle + 180.0 if abs(angle) > 90.0 else angle
        return None

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


def level_of(item: Features) -> str:
    """The column of the level: the first of numbers. '' for features that are no contours."""
    if not are_contours(item.attributes):
        return ""
    return next((str(c) for c in item.table.columns if item.table[c].dtype.kind == "f"), "")
