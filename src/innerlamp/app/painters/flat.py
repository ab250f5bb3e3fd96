"""Drawing pieces that the map and the section share: many coloured line pieces, images, markers."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor

from ...core.items.legend import Legend
from .colours import bins

FloatArray = NDArray[np.float64]


def coloured_pieces(start: FloatArray, stop: FloatArray, legend: Legend, values: NDArray[np.generic], width: float, z: float) -> list[pg.GraphicsObject]:
    """Return curves that draw line pieces (n, 2)-(n, 2), one curve a colour."""
    out = []
    for colour, mask in bins(legend, values):
        xy = np.stack([start[mask], stop[mask]], axis=1).reshape(-1, 2)
        out.append(plain_pieces(xy, colour, width, z))
    return out


def plain_pieces(xy: FloatArray, colour: QColor, width: float, z: float) -> pg.PlotCurveItem:
    """Return a curve through pairs of points (2n, 2)."""
    curve = pg.PlotCurveItem(xy[:, 0], xy[:, 1], connect="pairs", pen=pg.mkPen(colour, width=width), antialias=False, skipFiniteCheck=False)
    curve.setZValue(z)
    return curve


def markers(x: FloatArray, y: FloatArray, legend: Legend | None, values: NDArray[np.generic] | None, size: float, z: float, symbol: str = "o", colour: QColor | None = None) -> list[pg.ScatterPlotItem]:
    """Return markers, one scatter a colour; `data` of each marker is its row."""
    rows = np.arange(len(x))
    out = []
    if legend is None or values is None:
        groups = [(colour or QColor("#444444"), np.ones(len(x), dtype=bool))]
    else:
        groups = list(bins(legend, values))
    for shade, mask in groups:
        item = pg.ScatterPlotItem(x=x[mask], y=y[mask], data=rows[mask], size=size, symbol=symbol, brush=pg.mkBrush(shade), pen=pg.mkPen(shade.darker(170), width=0.6), pxMode=True)
        item.setZValue(z)
        out.append(item)
    return out


def image(rgba: NDArray[np.uint8], west: float, south: float, width: float, height: float, z: float, opacity: float = 1.0) -> pg.ImageItem:
    """Return an image (rows from the bottom up) placed in plot coordinates."""
    item = pg.ImageItem(rgba, axisOrder="row-major")
    item.setRect(QRectF(west, south, width, height))
    item.setZValue(z)
    item.setOpacity(opacity)
    return item


def label(text: str, x: float, y: float, colour: str, z: float, anchor: tuple[float, float] = (0.0, 1.0), bold: bool = False) -> pg.TextItem:
    """Return a text at a place."""
    item = pg.TextItem(text, color=colour, anchor=anchor)
    font = item.textItem.font()
    font.setPointSizeF(7.5)
    font.setBold(bold)
    item.setFont(font)
    item.setPos(x, y)
    item.setZValue(z)
    return item
