"""Many line pieces in one graphic: drawn by colour, and of those that fall on one pixel only one."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from pyqtgraph.Qt.internals import PrimitiveArray
from PySide6.QtCore import QLineF, QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QWidget

from .room import to_pixels

FloatArray = NDArray[np.float64]
_FEW = 2_000  # pieces that are drawn without a look at pixels


class LinePieces(pg.GraphicsObject):  # type: ignore[misc]  # the library has no types
    """Pieces from starts to stops (n, 2); `code` is the number of the colour of each, below 0 for none; `width` in pixels."""

    def __init__(
        self,
        colours: list[QColor],
        code: NDArray[np.integer],
        start: FloatArray,
        stop: FloatArray,
        width: float,
        z: float,
    ) -> None:
        super().__init__()
        pieces = np.concatenate([start, stop], axis=1).astype(float)
        # Column by column: reducing along a short axis takes many times as long.
        finite = np.isfinite(pieces[:, 0] + pieces[:, 1]) & np.isfinite(pieces[:, 2] + pieces[:, 3])
        good = np.flatnonzero((code >= 0) & finite)
        order = good[np.argsort(code[good], kind="stable")]
        self.colours = colours
        self._all, self._group = pieces[order], np.asarray(code)[order].astype(np.int64)
        self.width, self.shown = width, 0
        ends = self._all.reshape(-1, 2)
        self._box = QRectF()
        if len(ends):
            x, y = ends[:, 0], ends[:, 1]
            self._box = QRectF(QPointF(float(x.min()), float(y.min())), QPointF(float(x.max()), float(y.max())))
        self._lines = PrimitiveArray(QLineF, 4)
        self.setZValue(z)

    def getData(self) -> tuple[FloatArray, FloatArray]:  # noqa: N802 - as curves of the library have it
        """Return x and y of all ends, start and stop of each piece after each other."""
        xy = self._all.reshape(-1, 2)
        return xy[:, 0], xy[:, 1]

    def groups(self) -> list[tuple[QColor, FloatArray]]:
        """The colours that are drawn, each with its pieces as x, y of start and stop, shape (n, 4)."""
        return self._by_colour(self._all, self._group)

    def _by_colour(self, pieces: FloatArray, group: NDArray[np.int64]) -> list[tuple[QColor, FloatArray]]:
        ends = np.searchsorted(group, np.arange(len(self.colours) + 1))
        parts = [pieces[a:b] for a, b in pairwise(ends.tolist())]
        return [(colour, part) for colour, part in zip(self.colours, parts, strict=True) if len(part)]

    def boundingRect(self) -> QRectF:  # noqa: N802
        if not len(self._all):
            return QRectF()
        size = self.pixelVectors() if self.getViewBox() is not None else (None, None)
        across, up = (_length(v) for v in size)
        margin = 0.5 * self.width + 1.0
        return self._box.adjusted(-margin * across, -margin * up, margin * across, margin * up)

    def viewTransformChanged(self) -> None:  # noqa: N802 - pyqtgraph's name
        self.prepareGeometryChange()

    def paint(self, painter: QPainter, *_: object) -> None:
        if not len(self._all):
            return
        pieces, group = self._all, self._group
        if len(pieces) > _FEW and isinstance(painter.device(), QImage | QWidget):
            transform = painter.transform()
            keep = _worth(
                to_pixels(transform, pieces[:, :2]), to_pixels(transform, pieces[:, 2:]), QRectF(painter.viewport())
            )
            pieces, group = pieces[keep], group[keep]
        self.shown = len(pieces)
        for colour, mine in self._by_colour(pieces, group):
            pen = QPen(colour, self.width)
            pen.setCosmetic(True)
            painter.setPen(pen)
            self._lines.resize(len(mine))
            self._lines.ndarray()[:] = mine
            painter.drawLines(*self._lines.drawargs())


def _length(vector: QPointF | None) -> float:
    return 0.0 if vector is None else float(np.hypot(vector.x(), vector.y()))


def _worth(a: FloatArray, b: FloatArray, view: QRectF) -> NDArray[np.bool_]:
    """Which pieces (pixels) are seen: those in view that are two pixels long, and of shorter ones one on each pixel."""
    (ax, ay), (bx, by) = (np.ascontiguousarray(p.T) for p in (a, b))
    inside = (np.maximum(ax, bx) >= view.left()) & (np.minimum(ax, bx) <= view.right())
    inside &= (np.maximum(ay, by) >= view.top()) & (np.minimum(ay, by) <= view.bottom())
    short = inside & (np.abs(ax - bx) < 2.0) & (np.abs(ay - by) < 2.0)
    rows = np.flatnonzero(short)
    wide = int(view.width()) + 2
    column = (0.5 * (ax[rows] + bx[rows]) - view.left()).astype(np.int64)
    line = (0.5 * (ay[rows] + by[rows]) - view.top()).astype(np.int64)
    owner = np.full(wide * (int(view.height()) + 2), -1, dtype=np.int64)
    cell = np.clip(line, 0, int(view.height()) + 1) * wide + np.clip(column, 0, wide - 1)
    owner[cell] = rows  # the last one of a pixel lies on top, as it would if all were drawn
    keep = inside & ~short
    keep[owner[owner >= 0]] = True
    return np.asarray(keep)
