"""Pictures of core beside the depths of a log: rows of a box are stood upright, one below the other."""

from __future__ import annotations

import functools
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from ....core.formats.grids.photographs import SMALL
from ....core.items.core_pictures import CorePictures, row_parts
from ..kit.bitmaps import bitmap


@functools.lru_cache(maxsize=48)
def _large(data: bytes) -> QImage:
    return bitmap(data)


@functools.lru_cache(maxsize=1024)
def _small(data: bytes) -> QImage:
    return bitmap(data)


def picture(item: CorePictures, row: int, pixels: float) -> QImage:
    """Return a picture that is to be seen so many pixels long: the small one where that is enough."""
    return _small(item.jpeg(row, True)) if pixels <= SMALL else _large(item.jpeg(row))


def draw_core(
    painter: QPainter,
    item: CorePictures,
    row: int,
    rect: QRectF,
    to_y: Callable[[np.ndarray], np.ndarray],
) -> None:
    """Draw one picture of a log; `rect` is its track, `to_y` gives the pixel of a depth."""
    record = item.table.iloc[row]
    count = int(record["rows"])
    parts = row_parts(count, float(record["from_m"]), float(record["to_m"]))
    edges = to_y(np.array(parts))
    if not (edges.max() > rect.top() and edges.min() < rect.bottom()):
        return
    device = painter.device()
    ratio = device.devicePixelRatioF() if device is not None else 1.0
    paper = device is not None and device.logicalDpiX() > 150
    tall = float(np.abs(edges[:, 1] - edges[:, 0]).max()) * ratio
    # A row of core is as long as the picture is wide: the interval's pixels, not the track's, say how fine it must be.
    image = picture(item, row, np.inf if paper else (tall if count else max(tall, rect.width() * ratio)))
    if image.isNull():
        return
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    if not count:
        _whole(painter, image, rect, float(edges.min()), float(edges.max()))
        return
    high = image.height() / count
    for k, (top, bottom) in enumerate(edges.tolist()):
        low, up = min(top, bottom), max(top, bottom)
        if up < rect.top() or low > rect.bottom():
            continue
        source = QRectF(0.0, k * high, image.width(), high)
        painter.save()
        # A quarter turn to the right stands the left end of the row at its upper end.
        painter.translate(rect.right() - 1.0, low)
        painter.rotate(90.0)
        if bottom < top:  # an axis of elevations may run the other way in a hole that goes up
            painter.translate(up - low, 0.0)
            painter.scale(-1.0, 1.0)
        painter.drawImage(QRectF(0.0, 0.0, up - low, rect.width() - 2.0), image, source)
        painter.restore()


def _whole(painter: QPainter, image: QImage, rect: QRectF, top: float, bottom: float) -> None:
    """A picture as it is, as large as its interval and the track allow."""
    scale = min((rect.width() - 2.0) / image.width(), (bottom - top) / image.height())
    wide, high = image.width() * scale, image.height() * scale
    painter.drawImage(QRectF(rect.left() + 1.0 + (rect.width() - 2.0 - wide) / 2, top, wide, high), image)
