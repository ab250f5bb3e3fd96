"""Points of a map: symbols of any number, each with colour, size and shape."""

from __future__ import annotations

import functools

import numpy as np
from pyqtgraph.graphicsItems.ScatterPlotItem import Symbols
from pyqtgraph.Qt.internals import PrimitiveArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPixmap, QTransform
from PySide6.QtWidgets import QWidget

from ..kit.cached import CachedDrawing
from ..kit.room import seen_part, to_pixels

_ONE_BY_ONE = 500  # symbols from which their pictures are copied instead of drawn, which is a hundred times faster


class PointMarks(CachedDrawing):
    """Symbols at places (n,); `colours` is (n, 3) from 0 to 255, `sizes` in pixels, `symbols` names of shapes."""

    def __init__(
        self, x: np.ndarray, y: np.ndarray, colours: np.ndarray, sizes: np.ndarray, symbols: np.ndarray, z: float
    ) -> None:
        super().__init__()
        good = np.isfinite(x) & np.isfinite(y) & (sizes > 0)
        # Large ones first, so that small ones are not hidden beneath them.
        order = np.flatnonzero(good)[np.argsort(-sizes[good], kind="stable")]
        self.xy = np.column_stack([x, y])[order]
        self.colours, self.sizes = np.ascontiguousarray(colours[order], dtype=np.uint8), sizes[order].astype(float)
        self.symbols = np.asarray(symbols)[order]
        self.rows = order
        # Which of several that would lie on each other is drawn: a fixed order without regard to values, so that the
        # colours keep their shares.
        self._turn = np.argsort(np.random.default_rng(len(order)).permutation(len(order)))
        self.shown = 0
        self._extent = (self.xy.min(axis=0), self.xy.max(axis=0)) if len(self.xy) else None
        names, number = np.unique(self.symbols.astype(str), return_inverse=True)
        grades = np.maximum(np.rint(self.sizes * 2.0).astype(np.int64), 2)  # half pixels
        rgb = self.colours.astype(np.int64) @ np.array([65536, 256, 1])
        keys, self._group = np.unique((number * 1000 + grades) << 24 | rgb, return_inverse=True)
        self._groups = [(str(names[(k >> 24) // 1000]), ((k >> 24) % 1000) / 2.0, k & 0xFFFFFF) for k in keys.tolist()]
        self._atlases: dict[float, tuple[QPixmap, np.ndarray]] = {}
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        if self._extent is None:
            return QRectF()
        low, high = self._extent
        size = self.pixelLength(QPointF(1, 0)) if self.getViewBox() is not None else None
        margin = 0.6 * float(self.sizes.max()) * float(size or 1.0)
        return QRectF(low[0] - margin, low[1] - margin, high[0] - low[0] + 2 * margin, high[1] - low[1] + 2 * margin)

    def viewTransformChanged(self) -> None:  # noqa: N802 - pyqtgraph's name
        self.prepareGeometryChange()

    def draw(self, painter: QPainter) -> None:
        transform = painter.transform()
        at = to_pixels(transform, self.xy)
        view = seen_part(painter)
        margin = float(self.sizes.max()) if len(self.sizes) else 0.0
        inside = (at[:, 0] > view.left() - margin) & (at[:, 0] < view.right() + margin)
        inside &= (at[:, 1] > view.top() - margin) & (at[:, 1] < view.bottom() + margin)
        seen = self._apart(inside, transform)
        self.shown = len(seen)
        if not len(seen):
            return
        painter.save()
        painter.resetTransform()
        if len(seen) > _ONE_BY_ONE and isinstance(painter.device(), QImage | QWidget):
            self._stamp(painter, at, seen)
        else:
            self._draw(painter, at, seen)
        painter.restore()

    def _apart(self, inside: np.ndarray, transform: QTransform) -> np.ndarray:
        """Those of the symbols in view (a mask) that do not lie on each other: one in each square as wide as a symbol.

        The squares lie fixed on the ground and grow by steps, so that symbols stay while the map is shifted.
        """
        scale = float(np.hypot(transform.m11(), transform.m12()))
        seen: np.ndarray = self._turn[inside[self._turn]]
        if len(seen) < 2 or scale <= 0:
            return np.sort(seen)
        width = float(np.median(self.sizes[seen])) / scale
        cell = 2.0 ** (np.ceil(2.0 * np.log2(max(width, 1e-9))) / 2.0)
        column, row = np.floor(self.xy[seen] / cell).astype(np.int64).T
        row = row - row.min()
        _, kept = np.unique(column * (row.max() + 1) + row, return_index=True)
        return np.sort(seen[kept])

    def _draw(self, painter: QPainter, at: np.ndarray, seen: np.ndarray) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k in seen.tolist():
            colour = QColor(*self.colours[k].tolist())
            painter.setPen(QPen(colour.darker(170), 0.6))
            painter.setBrush(colour)
            shape = QTransform.fromScale(self.sizes[k], self.sizes[k]).map(Symbols[str(self.symbols[k])])
            painter.translate(*at[k].tolist())
            painter.drawPath(shape)
            painter.translate(*(-at[k]).tolist())

    def _stamp(self, painter: QPainter, at: np.ndarray, seen: np.ndarray) -> None:
        """Copy pictures of symbols to their places: one call for all, in their order."""
        ratio = float(painter.device().devicePixelRatioF())
        atlas, boxes = self._atlas(ratio)
        pieces = PrimitiveArray(QPainter.PixmapFragment, 10)
        pieces.resize(len(seen))
        data = pieces.ndarray()
        data[:, 0:2] = at[seen]
        data[:, 2:6] = boxes[self._group[seen]]
        data[:, 6:8] = 1.0 / ratio
        data[:, 8], data[:, 9] = 0.0, 1.0
        painter.drawPixmapFragments(*pieces.drawargs(), atlas)  # type: ignore[call-arg]

    def _atlas(self, ratio: float) -> tuple[QPixmap, np.ndarray]:
        """A picture that holds every symbol once, and where each is: left, top, width, height."""
        if ratio in self._atlases:
            return self._atlases[ratio]
        pictures = [_picture(*group, ratio) for group in self._groups]
        sides = [p.width() for p in pictures]
        columns = max(int(np.ceil(np.sqrt(len(pictures)))), 1)
        side = max(sides)
        atlas = QPixmap(columns * side, (len(pictures) // columns + 1) * side)
        atlas.fill(QColor(0, 0, 0, 0))
        inner = QPainter(atlas)
        boxes = np.empty((len(pictures), 4))
        for number, picture in enumerate(pictures):
            left, top = number % columns * side, number // columns * side
            inner.drawImage(left, top, picture)
            boxes[number] = left, top, sides[number], sides[number]
        inner.end()
        self._atlases[ratio] = (atlas, boxes)
        return atlas, boxes


@functools.lru_cache(maxsize=2048)
def _picture(symbol: str, size: float, colour: int, ratio: float) -> QImage:
    """A symbol in its colour, its middle in the middle."""
    side = 2 * int(np.ceil(size * ratio / 2 + 1)) + 1
    image = QImage(side, side, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(0)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(side / 2, side / 2)
    painter.scale(ratio, ratio)
    body = QColor.fromRgb(colour)
    painter.setPen(QPen(body.darker(170), 0.6))
    painter.setBrush(body)
    painter.drawPath(QTransform.fromScale(size, size).map(Symbols[symbol]))
    painter.end()
    return image
