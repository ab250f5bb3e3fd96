"""Points of a map: symbols of any number, each with colour, size and shape."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
import pyqtgraph as pg
from numba import njit
from pyqtgraph.graphicsItems.ScatterPlotItem import Symbols
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QTransform
from PySide6.QtWidgets import QWidget

from .space import seen_part

_ONE_BY_ONE = 2_000  # symbols from which they are stamped into a picture, which is a hundred times faster


class PointMarks(pg.GraphicsObject):
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
        self.shown = 0
        names, number = np.unique(self.symbols.astype(str), return_inverse=True)
        grades = np.maximum(np.rint(self.sizes * 2.0).astype(np.int64), 2)  # half pixels
        keys, self._mask = np.unique(number * 1000 + grades, return_inverse=True)
        self._kinds = [(str(names[k // 1000]), (k % 1000) / 2.0) for k in keys.tolist()]
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        if not len(self.xy):
            return QRectF()
        low, high = self.xy.min(axis=0), self.xy.max(axis=0)
        size = self.pixelLength(QPointF(1, 0)) if self.getViewBox() is not None else None
        margin = 0.6 * float(self.sizes.max()) * float(size or 1.0)
        return QRectF(low[0] - margin, low[1] - margin, high[0] - low[0] + 2 * margin, high[1] - low[1] + 2 * margin)

    def viewTransformChanged(self) -> None:  # noqa: N802 - pyqtgraph's name
        self.prepareGeometryChange()

    def paint(self, painter: QPainter, *_: object) -> None:
        transform = painter.transform()
        matrix = np.array([[transform.m11(), transform.m12()], [transform.m21(), transform.m22()]])
        at = self.xy @ matrix + np.array([transform.dx(), transform.dy()])
        view = seen_part(painter)
        margin = float(self.sizes.max()) if len(self.sizes) else 0.0
        inside = (at[:, 0] > view.left() - margin) & (at[:, 0] < view.right() + margin)
        inside &= (at[:, 1] > view.top() - margin) & (at[:, 1] < view.bottom() + margin)
        seen = np.flatnonzero(inside)
        self.shown = len(seen)
        if not len(seen):
            return
        painter.save()
        painter.resetTransform()
        if len(seen) > _ONE_BY_ONE and isinstance(painter.device(), QImage | QWidget):
            self._stamp(painter, at, seen, view)
        else:
            self._draw(painter, at, seen)
        painter.restore()

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

    def _stamp(self, painter: QPainter, at: np.ndarray, seen: np.ndarray, view: QRectF) -> None:
        ratio = float(painter.device().devicePixelRatioF())
        wide, high = int(view.width() * ratio) + 1, int(view.height() * ratio) + 1
        masks = [_mask(symbol, size * ratio) for symbol, size in self._kinds]
        side = max(m.shape[1] for m in masks)
        stack = np.zeros((len(masks), 2, side, side), dtype=np.uint8)
        for number, mask in enumerate(masks):
            off = (side - mask.shape[1]) // 2
            stack[number, :, off : off + mask.shape[1], off : off + mask.shape[1]] = mask
        picture = np.zeros((high, wide, 4), dtype=np.uint8)
        where = np.rint((at[seen] - [view.left(), view.top()]) * ratio).astype(np.int64)
        _stamped(picture, where, stack, self._mask[seen].astype(np.int64), self.colours[seen])
        image = QImage(picture.data, wide, high, 4 * wide, QImage.Format.Format_ARGB32_Premultiplied)
        image.setDevicePixelRatio(ratio)
        painter.drawImage(view.topLeft(), image)


@functools.lru_cache(maxsize=512)
def _mask(symbol: str, size: float) -> np.ndarray:
    """Coverage (0 to 255) of a symbol's body and of its edge: (2, side, side), the side odd."""
    side = 2 * int(np.ceil(size / 2 + 1)) + 1
    out = np.zeros((2, side, side), dtype=np.uint8)
    for number, edge in enumerate((False, True)):
        image = QImage(side, side, QImage.Format.Format_Alpha8)
        image.fill(0)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(side / 2, side / 2)
        shape = QTransform.fromScale(size, size).map(Symbols[symbol])
        if edge:
            painter.strokePath(shape, QPen(QColor("black"), 0.8))
        else:
            painter.fillPath(shape, QColor("black"))
            painter.strokePath(shape, QPen(QColor("black"), 0.6))
        painter.end()
        bits: Any = image.constBits()
        out[number] = np.frombuffer(bits, dtype=np.uint8).reshape(side, image.bytesPerLine())[:, :side]
    return out


@njit(cache=True)  # type: ignore[untyped-decorator]
def _stamped(picture, where, masks, kind, colours):  # type: ignore[no-untyped-def]
    """Lay a mask in its colour over the picture (rows, columns, premultiplied BGRA) at each place."""
    high, wide = picture.shape[0], picture.shape[1]
    side = masks.shape[2]
    half = side // 2
    for k in range(len(where)):
        x0, y0 = where[k, 0] - half, where[k, 1] - half
        body, edge = masks[kind[k], 0], masks[kind[k], 1]
        for j in range(side):
            y = y0 + j
            if y < 0 or y >= high:
                continue
            for i in range(side):
                x = x0 + i
                cover = np.int64(body[j, i])
                if cover == 0 or x < 0 or x >= wide:
                    continue
                dark = 255 - np.int64(edge[j, i]) * 2 // 5
                left = 255 - cover
                for c in range(3):
                    shade = np.int64(colours[k, 2 - c]) * dark // 255
                    picture[y, x, c] = (shade * cover + np.int64(picture[y, x, c]) * left) // 255
                picture[y, x, 3] = cover + np.int64(picture[y, x, 3]) * left // 255
