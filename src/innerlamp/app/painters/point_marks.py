"""Points of a map: symbols of any number, each with colour, size and shape."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
from numba import njit
from pyqtgraph.graphicsItems.ScatterPlotItem import Symbols
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QTransform
from PySide6.QtWidgets import QWidget

from .cached import CachedDrawing
from .space import seen_part

_ONE_BY_ONE = 2_000  # symbols from which they are stamped into a picture, which is a hundred times faster


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
        self.shown = 0
        self._extent = (self.xy.min(axis=0), self.xy.max(axis=0)) if len(self.xy) else None
        names, number = np.unique(self.symbols.astype(str), return_inverse=True)
        grades = np.maximum(np.rint(self.sizes * 2.0).astype(np.int64), 2)  # half pixels
        keys, self._mask = np.unique(number * 1000 + grades, return_inverse=True)
        self._kinds = [(str(names[k // 1000]), (k % 1000) / 2.0) for k in keys.tolist()]
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
        x, y = self.xy[:, 0], self.xy[:, 1]
        at = np.empty_like(self.xy)  # by hand: a product of a long and a tiny matrix is slow
        at[:, 0] = x * transform.m11() + y * transform.m21() + transform.dx()
        at[:, 1] = x * transform.m12() + y * transform.m22() + transform.dy()
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
    """Lay a mask in its colour at each place of the picture (rows, columns, premultiplied BGRA), the last on top.

    The last comes first: what is covered already costs nothing.
    """
    high, wide = picture.shape[0], picture.shape[1]
    side = masks.shape[2]
    half = side // 2
    for k in range(len(where) - 1, -1, -1):
        x, y = where[k, 0], where[k, 1]
        if 2 <= x < wide - 2 and 2 <= y < high - 2:
            covered = picture[y, x, 3] == 255 and picture[y - 2, x - 2, 3] == 255 and picture[y - 2, x + 2, 3] == 255
            if covered and picture[y + 2, x - 2, 3] == 255 and picture[y + 2, x + 2, 3] == 255:
                continue  # at most a sliver of it would show
        x0, y0 = x - half, y - half
        body, edge = masks[kind[k], 0], masks[kind[k], 1]
        blue, green, red = np.uint32(colours[k, 2]), np.uint32(colours[k, 1]), np.uint32(colours[k, 0])
        for j in range(max(0, -y0), min(side, high - y0)):
            for i in range(max(0, -x0), min(side, wide - x0)):
                cover = np.uint32(body[j, i])
                pixel = picture[y0 + j, x0 + i]
                free = np.uint32(255) - np.uint32(pixel[3])
                if cover == 0 or free == 0:
                    continue
                # (a * b + 128) * 257 >> 16 is a * b / 255, rounded.
                part = ((cover * free + np.uint32(128)) * np.uint32(257)) >> np.uint32(16)
                dark = np.uint32(255) - np.uint32(edge[j, i]) * np.uint32(2) // np.uint32(5)
                tone = ((part * dark + np.uint32(128)) * np.uint32(257)) >> np.uint32(16)
                pixel[0] += np.uint8(((blue * tone + np.uint32(128)) * np.uint32(257)) >> np.uint32(16))
                pixel[1] += np.uint8(((green * tone + np.uint32(128)) * np.uint32(257)) >> np.uint32(16))
                pixel[2] += np.uint8(((red * tone + np.uint32(128)) * np.uint32(257)) >> np.uint32(16))
                pixel[3] += np.uint8(part)
