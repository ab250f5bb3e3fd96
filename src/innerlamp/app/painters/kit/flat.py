"""Drawing pieces that the map and the section share: many coloured line pieces, images, markers."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPolygonF, QTransform
from PySide6.QtWidgets import QGraphicsItem

from ....core.items.legend import Legend
from .colours import bins, coded
from .line_pieces import LinePieces
from .room import Space, draw_haloed, seen_part, to_pixels

FloatArray = NDArray[np.float64]


def coloured_pieces(
    start: FloatArray, stop: FloatArray, legend: Legend, values: NDArray[np.generic], width: float, z: float
) -> list[pg.GraphicsObject]:
    """Return a graphic that draws line pieces (n, 2)-(n, 2) in the colours of their values."""
    colours, code = coded(legend, values)
    return [LinePieces(colours, code, start, stop, width, z)] if (code >= 0).any() else []


class Boxes(pg.GraphicsObject):  # type: ignore[misc]  # the library has no types
    """Many four-cornered areas (n, 4, 2) of one colour."""

    def __init__(self, corners: FloatArray, colour: QColor, z: float) -> None:
        super().__init__()
        self.corners, self.colour = np.asarray(corners, dtype=float), colour
        self.path = QPainterPath()
        for box in self.corners:
            self.path.addPolygon(QPolygonF([QPointF(x, y) for x, y in box.tolist()]))
            self.path.closeSubpath()
        self.path.setFillRule(Qt.FillRule.WindingFill)
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self.path.boundingRect()

    def paint(self, painter: QPainter, *_: object) -> None:
        painter.fillPath(self.path, self.colour)


def coloured_boxes(corners: FloatArray, legend: Legend, values: NDArray[np.generic], z: float) -> list[Boxes]:
    """Return areas (n, 4, 2) filled by their values, one graphic a colour."""
    return [Boxes(corners[mask], colour, z) for colour, mask in bins(legend, values) if mask.any()]


def plain_pieces(xy: FloatArray, colour: QColor, width: float, z: float) -> pg.PlotCurveItem:
    """Return a curve through pairs of points (2n, 2)."""
    curve = pg.PlotCurveItem(
        xy[:, 0], xy[:, 1], connect="pairs", pen=pg.mkPen(colour, width=width), antialias=False, skipFiniteCheck=False
    )
    curve.setZValue(z)
    return curve


def markers(
    x: FloatArray,
    y: FloatArray,
    legend: Legend | None,
    values: NDArray[np.generic] | None,
    size: float,
    z: float,
    symbol: str = "o",
    colour: QColor | None = None,
) -> list[pg.ScatterPlotItem]:
    """Return markers, one scatter a colour; `data` of each marker is its row."""
    rows = np.arange(len(x))
    out = []
    if legend is None or values is None:
        groups = [(colour or QColor("#444444"), np.ones(len(x), dtype=bool))]
    else:
        groups = list(bins(legend, values))
    for shade, mask in groups:
        item = pg.ScatterPlotItem(
            x=x[mask],
            y=y[mask],
            data=rows[mask],
            size=size,
            symbol=symbol,
            brush=pg.mkBrush(shade),
            pen=pg.mkPen(shade.darker(170), width=0.6),
            pxMode=True,
        )
        item.setZValue(z)
        out.append(item)
    return out


def faded(graphic: pg.GraphicsObject, opacity: float) -> None:
    """Give a graphic a share of the opacity that it was drawn with."""
    if not hasattr(graphic, "full_opacity"):
        graphic.full_opacity = QGraphicsItem.opacity(graphic)  # some graphics have a number of that name
    QGraphicsItem.setOpacity(graphic, graphic.full_opacity * opacity)


def image(
    rgba: NDArray[np.uint8], west: float, south: float, width: float, height: float, z: float, opacity: float = 1.0
) -> pg.ImageItem:
    """Return an image (rows from the bottom up) placed in plot coordinates."""
    item = pg.ImageItem(rgba, axisOrder="row-major", autoLevels=False)
    item.setRect(QRectF(west, south, width, height))
    item.setZValue(z)
    item.setOpacity(opacity)
    return item


_MOST_TRIED = 5_000


class Labels(pg.GraphicsObject):  # type: ignore[misc]  # the library has no types
    """Many texts at places; those that would cover another are left out at the present zoom."""

    def __init__(
        self,
        words: list[str],
        x: FloatArray,
        y: FloatArray,
        colour: str,
        halo: str,
        z: float,
        above: float = 7.0,
        bold: bool = False,
        left: float | None = None,
    ) -> None:
        # `above`, or with `left` beside: pixels from the place to the text.
        super().__init__()
        self.left = left
        self.words, self.x, self.y = words, np.asarray(x, dtype=float), np.asarray(y, dtype=float)
        self.colour, self.halo, self.above, self.bold = QColor(colour), QColor(halo), above, bold
        self.shown = 0
        self.setZValue(z)

    def boundingRect(self) -> QRectF:  # noqa: N802
        good = np.isfinite(self.x) & np.isfinite(self.y)
        if not good.any():
            return QRectF()
        x, y = self.x[good], self.y[good]
        margin = (60 if self.left is None else 160) * self._pixel()
        return QRectF(x.min() - margin, y.min() - margin, np.ptp(x) + 2 * margin, np.ptp(y) + 2 * margin)

    def _pixel(self) -> float:
        size = self.pixelLength(QPointF(1, 0)) if self.getViewBox() is not None else None
        return float(size) if size else 1.0

    def viewTransformChanged(self) -> None:  # noqa: N802 - pyqtgraph's name
        self.prepareGeometryChange()

    def paint(self, painter: QPainter, *_: object) -> None:
        transform, view = painter.transform(), seen_part(painter)
        painter.save()
        painter.resetTransform()
        font = painter.font()
        font.setPointSizeF(7.5)
        space = Space(view)
        # What lies above this one has its words there already: they are kept free.
        scene = self.scene()
        others = [o for o in scene.items() if isinstance(o, Labels) and o.isVisible()] if scene is not None else []
        for other in sorted((o for o in others if o.zValue() > self.zValue()), key=lambda o: -o.zValue()):
            other.place(transform, view, font, painter, space)
        boxes = self.place(transform, view, font, painter, space)
        font.setBold(self.bold)
        painter.setFont(font)
        self.shown = len(boxes)
        for box, word in boxes:
            draw_haloed(painter, box, word, self.colour, self.halo)
        painter.restore()

    def place(
        self, transform: QTransform, view: QRectF, font: QFont, painter: QPainter, space: Space
    ) -> list[tuple[QRectF, str]]:
        """Take space for the texts that find some at a zoom; returns their boxes in pixels with the texts."""
        own = QFont(font)
        own.setBold(self.bold)
        metrics = QFontMetricsF(own, painter.device())
        at = to_pixels(transform, np.column_stack([self.x, self.y]))
        with np.errstate(invalid="ignore"):
            seen = (
                (at[:, 0] > view.left())
                & (at[:, 0] < view.right())
                & (at[:, 1] > view.top())
                & (at[:, 1] < view.bottom())
            )
        # Where thousands are in view nearly all would cover each other: trying a part of them fills the view as well.
        places = np.flatnonzero(seen)
        found: list[tuple[QRectF, str]] = []
        for k in places[:: max(1, len(places) // _MOST_TRIED)].tolist():
            word = self.words[k]
            if not word:
                continue
            box = QRectF(0, 0, metrics.horizontalAdvance(word) + 2.0, metrics.height() - 1.0)
            if self.left is not None:
                box.moveCenter(QPointF(at[k, 0] - self.left - box.width() / 2, at[k, 1]))
                if box.left() < view.left():
                    box.moveLeft(at[k, 0] + self.left)
            else:
                box.moveCenter(QPointF(at[k, 0], at[k, 1] - self.above - (box.height() / 2 if self.above else 0)))
            if space.take(box):
                found.append((box, word))
        return found


def label(
    text: str, x: float, y: float, colour: str, z: float, anchor: tuple[float, float] = (0.0, 1.0), bold: bool = False
) -> pg.TextItem:
    """Return a text at a place."""
    item = pg.TextItem(text, color=colour, anchor=anchor)
    font = item.textItem.font()
    font.setPointSizeF(7.5)
    font.setBold(bold)
    item.setFont(font)
    item.setPos(x, y)
    item.setZValue(z)
    return item
