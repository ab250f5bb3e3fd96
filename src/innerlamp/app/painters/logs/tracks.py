"""How the tracks of a strip log are drawn: columns beside the depths of one hole, only what is in view."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pandas as pd
import pyqtgraph as pg
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen, QPolygonF

from ....core.items.core_pictures import CorePictures
from ....core.items.legend import Legend, position
from ....core.items.tracks import Track
from ...theme.theme import Theme
from ..kit.colours import bins, class_colour, table
from ..kit.unit_areas import draw_pattern
from .core_boxes import draw_core

FloatArray = NDArray[np.float64]
CURVES = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00")  # Okabe & Ito: told apart by all eyes


@dataclass(frozen=True)
class Rows:
    """What one track shows of one hole, sorted by depth: intervals (start, stop) or readings (start = stop), metres.

    `rows` are places in the table that they come from, named by `source` (item and table).
    """

    source: tuple[str, str]
    rows: NDArray[np.int64]
    start: FloatArray
    stop: FloatArray
    values: dict[str, NDArray[np.generic]]
    pictures: CorePictures | None = None

    def seen(self, top: float, bottom: float) -> slice:
        """The part that reaches into a range of depths."""
        first = int(np.searchsorted(np.maximum.accumulate(self.stop), top, "left")) if len(self.stop) else 0
        return slice(max(first - 1, 0), int(np.searchsorted(self.start, bottom, "right")) + 1)


def rows_of(source: tuple[str, str], frame: pd.DataFrame, mine: NDArray[np.int64], names: tuple[str, ...]) -> Rows:
    """Return some rows of a table, those of one hole, by depth."""
    start = frame["from_m" if "from_m" in frame else "depth_m"].to_numpy(float)[mine]
    stop = frame["to_m" if "from_m" in frame else "depth_m"].to_numpy(float)[mine]
    order = np.argsort(start, kind="stable")
    values = {n: frame[n].to_numpy()[mine][order] for n in names if n in frame.columns}
    return Rows(source, mine[order], start[order], stop[order], values)


@dataclass(frozen=True)
class Strip:
    """Where a track is drawn: pixels, the depths in view (metres), from depth to pixel, legends by attribute, colours."""

    rect: QRectF
    top: float
    bottom: float
    to_y: Callable[[FloatArray], FloatArray]
    legends: dict[str, Legend]
    theme: Theme


def paint_track(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    """Draw one track of one hole."""
    painter.save()
    painter.setClipRect(strip.rect, Qt.ClipOperation.IntersectClip)
    _PAINTERS[track.kind](painter, track, rows, strip)
    painter.restore()


def _rock(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    name = track.attributes[0]
    legend, part = strip.legends[name], rows.seen(strip.top, strip.bottom)
    words = np.array(["" if pd.isna(v) else str(v) for v in rows.values[name][part].tolist()], dtype=object)
    start, stop = rows.start[part], rows.stop[part]
    # Intervals of one rock that touch are one area.
    new = np.ones(len(words), dtype=bool)
    new[1:] = (words[1:] != words[:-1]) | (np.abs(start[1:] - stop[:-1]) > 1e-3)
    first = np.flatnonzero(new)
    last = np.append(first[1:], len(words)) - 1 if len(first) else first
    y0, y1 = strip.to_y(start[first]), strip.to_y(stop[last])
    ink = QPen(QColor(strip.theme.text), 0.5)
    origin = QPointF(strip.rect.left(), float(strip.to_y(np.zeros(1))[0]))  # patterns move with the rock
    metrics = QFontMetricsF(painter.font())
    for a, b, word in zip(y0.tolist(), y1.tolist(), words[first], strict=True):
        if not word:
            continue
        box = QRectF(strip.rect.left(), min(a, b), strip.rect.width(), abs(b - a))
        colour = class_colour(legend, word)
        painter.fillRect(box, colour)
        if box.height() > 4.0:
            painter.save()
            painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
            draw_pattern(painter, legend.patterns.get(word, "plain"), box, origin, colour.darker(150))
            painter.restore()
            painter.setPen(ink)
            painter.drawLine(box.bottomLeft(), box.bottomRight())
        if box.height() > metrics.height():
            text = metrics.elidedText(word, Qt.TextElideMode.ElideRight, box.width() - 4)
            space = metrics.boundingRect(text)
            space.moveCenter(box.center())
            painter.fillRect(space, colour)
            painter.setPen(QColor("#24221E"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def place_of(track: Track, legend: Legend, values: FloatArray) -> FloatArray:
    """Place of values across a track, 0..1, by its own scale or that of the legend."""
    if track.scale == "legend":
        return position(legend, values)
    low, high = legend.low, legend.high
    if track.scale == "log":
        low = low if low > 0 else max(high * 1e-4, 1e-12)
        with np.errstate(invalid="ignore", divide="ignore"):
            values, low, high = (
                np.log(np.maximum(values, low)),
                float(np.log(low)),
                float(np.log(max(high, low * 1.001))),
            )
    return np.asarray(np.clip((values - low) / (high - low if high > low else 1.0), 0.0, 1.0))


def _by_pixel(y0: FloatArray, y1: FloatArray, values: FloatArray, top: float, count: int) -> FloatArray:
    """The value of each row of pixels, NaN where none: the highest that falls on it, so that no peak is lost."""
    out = np.full(count, -np.inf)
    known = np.isfinite(values)
    low, high, values = np.minimum(y0, y1)[known] - top, np.maximum(y0, y1)[known] - top, values[known]
    first = np.clip(np.floor(low + 0.5), 0, count).astype(np.int64)
    last = np.clip(np.maximum(np.floor(high + 0.5), np.floor(low + 0.5) + 1), 0, count).astype(np.int64)
    rows = np.maximum(last - first, 0)
    at = np.repeat(first - np.cumsum(rows) + rows, rows) + np.arange(int(rows.sum()))
    np.maximum.at(out, at, np.repeat(values, rows))
    return np.where(np.isfinite(out), out, np.nan)


def _bars(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    name = track.attributes[0]
    legend, part = strip.legends[name], rows.seen(strip.top, strip.bottom)
    values = rows.values[name][part].astype(float)
    if legend.cutoff is not None:
        with np.errstate(invalid="ignore"):
            values = np.where(values < legend.cutoff, np.nan, values)
    # As one picture, row by row of the screen's own pixels: thousands of boxes would be slow.
    device = painter.device()
    ratio = device.devicePixelRatioF() if device is not None else 1.0
    high, wide = int(strip.rect.height() * ratio) + 1, max(int(strip.rect.width() * ratio) - 1, 1)
    y0, y1 = (strip.to_y(d[part]) * ratio for d in (rows.start, rows.stop))
    shown = _by_pixel(y0, y1, values, strip.rect.top() * ratio, high)
    share = place_of(track, legend, shown)
    known = np.isfinite(share)
    index = np.nan_to_num(1.0 + position(legend, shown) * 254.0).astype(np.uint8)  # 0 stands for nothing
    long = np.where(known, np.maximum(np.nan_to_num(share), 0.012) * wide, 0.0)
    line = -(-wide // 4) * 4
    pixels = np.where(np.arange(line)[None, :] < long[:, None], index[:, None], np.uint8(0))
    image = QImage(pixels.data, wide, high, line, QImage.Format.Format_Indexed8)
    image.setColorTable(_colour_table(legend.ramp))
    image.setDevicePixelRatio(ratio)
    painter.drawImage(strip.rect.topLeft(), image)


@functools.cache
def _colour_table(ramp: str) -> list[int]:
    """A ramp as Qt's table of colours, its first one transparent."""
    return [0, *(0xFF000000 | int(r) << 16 | int(g) << 8 | int(b) for r, g, b, _ in table(ramp)[1:])]


def _fewer(x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    """A curve with more points than pixels: the least and the largest of each pixel."""
    if len(y) < 4 or len(y) < 3 * (np.ptp(y) + 1):
        return x, y
    pixel = np.floor(y).astype(np.int64)
    cut = np.concatenate([[0], np.flatnonzero(np.diff(pixel)) + 1])
    low, high = np.minimum.reduceat(x, cut), np.maximum.reduceat(x, cut)
    return np.column_stack([low, high]).ravel(), np.repeat(y[cut], 2)


def _curve(painter: QPainter, track: Track, rows: Rows, strip: Strip, filled: bool = False) -> None:
    part = rows.seen(strip.top, strip.bottom)
    y = strip.to_y(0.5 * (rows.start[part] + rows.stop[part]))
    deep = 0.5 * (rows.start[part] + rows.stop[part])
    painter.setRenderHint(
        QPainter.RenderHint.Antialiasing, len(y) < 400
    )  # of many points it costs much and shows nothing
    for number, name in enumerate(n for n in track.attributes if n in rows.values):
        values = rows.values[name][part].astype(float)
        place = place_of(track, strip.legends[name], values)
        x = strip.rect.left() + place * (strip.rect.width() - 1.0)
        known = np.isfinite(x)
        # A gap of three usual steps breaks the line.
        usual = float(np.median(np.diff(deep[known]))) if known.sum() > 2 else np.inf
        at = np.flatnonzero(known)
        breaks = np.flatnonzero(np.diff(deep[at]) > 3.0 * max(usual, 1e-6)) + 1
        colour = QColor(CURVES[number % len(CURVES)])
        for piece in np.split(at, breaks):
            if not len(piece):
                continue
            px, py = _fewer(x[piece], y[piece])
            line = pg.functions.arrayToQPolygonF(px, py)
            if filled:
                edge = np.concatenate([[strip.rect.left()], px, [strip.rect.left()]])
                down = np.concatenate([[py[0]], py, [py[-1]]])
                soft = QColor(colour)
                soft.setAlpha(80)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(soft)
                painter.drawPolygon(pg.functions.arrayToQPolygonF(edge, down))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colour, 1.2 if len(y) < 400 else 0))
            if len(piece) == 1:
                painter.drawEllipse(QPointF(x[piece[0]], y[piece[0]]), 1.2, 1.2)
            else:
                painter.drawPolyline(line)


def _filled(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    _curve(painter, track, rows, strip, filled=True)


def _words(painter: QPainter, track: Track, rows: Rows, strip: Strip, wrap: bool = True) -> None:
    """Texts at their depths; what would cover the one above is left out, notes wrap into the room of their interval."""
    name = track.attributes[0]
    part = rows.seen(strip.top, strip.bottom)
    y0, y1 = strip.to_y(rows.start[part]), strip.to_y(rows.stop[part])
    metrics = QFontMetricsF(painter.font())
    painter.setPen(QColor(strip.theme.text))
    taken = -np.inf
    for a, b, value in zip(y0.tolist(), y1.tolist(), rows.values[name][part], strict=True):
        if pd.isna(value):
            continue
        text = f"{value:.4g}" if isinstance(value, float) else str(value)
        if not text:
            continue
        top, high = min(a, b), max(abs(b - a), metrics.height())
        if not wrap:
            top, high = 0.5 * (a + b) - metrics.height() / 2, metrics.height()
        if top < taken - 0.5:
            continue
        box = QRectF(strip.rect.left() + 2, top, strip.rect.width() - 4, high)
        flags = Qt.AlignmentFlag.AlignLeft | (Qt.TextFlag.TextWordWrap if wrap else Qt.TextFlag.TextSingleLine)
        if not wrap:
            text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, box.width())
        painter.save()
        painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
        painter.drawText(box, int(flags), text)
        painter.restore()
        taken = top + (
            metrics.height() if not wrap else min(high, metrics.boundingRect(box, int(flags), text).height())
        )


def _values(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    _words(painter, track, rows, strip, wrap=False)


def _planes(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    """Dip from 0 at the left to 90 at the right; the tail points towards the dip direction, north up."""
    part = rows.seen(strip.top, strip.bottom)
    dip, to = (rows.values[n][part].astype(float) for n in ("dip", "dip direction"))
    y = strip.to_y(rows.start[part])
    x = strip.rect.left() + 6.0 + dip / 90.0 * (strip.rect.width() - 12.0)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(strip.theme.line), 0.6))
    for share in (1 / 3, 2 / 3):
        at = strip.rect.left() + 6.0 + share * (strip.rect.width() - 12.0)
        painter.drawLine(QPointF(at, strip.rect.top()), QPointF(at, strip.rect.bottom()))
    groups: list[tuple[QColor, NDArray[np.bool_]]] = [(QColor(strip.theme.text), np.ones(len(y), dtype=bool))]
    name = next(iter(strip.legends), "")
    if name in rows.values:
        groups = list(bins(strip.legends[name], rows.values[name][part]))
    for colour, mask in groups:
        painter.setPen(QPen(colour.darker(130), 1.3))
        painter.setBrush(colour)
        for px, py, a in zip(x[mask].tolist(), y[mask].tolist(), np.radians(to[mask]).tolist(), strict=True):
            if np.isfinite(px):
                if np.isfinite(a):
                    painter.drawLine(QPointF(px, py), QPointF(px + 9.0 * np.sin(a), py - 9.0 * np.cos(a)))
                painter.drawEllipse(QPointF(px, py), 2.6, 2.6)


def _pictures(painter: QPainter, track: Track, rows: Rows, strip: Strip) -> None:
    if rows.pictures is not None:
        part = rows.seen(strip.top, strip.bottom)
        for row in rows.rows[part].tolist():
            draw_core(painter, rows.pictures, row, strip.rect, strip.to_y)


_PAINTERS: dict[str, Callable[[QPainter, Track, Rows, Strip], None]] = {
    "rock": _rock,
    "bars": _bars,
    "curve": _curve,
    "filled curve": _filled,
    "values": _values,
    "notes": _words,
    "planes": _planes,
    "pictures": _pictures,
}


def paint_ties(painter: QPainter, pairs: list[tuple[float, float]], left: float, right: float, colour: QColor) -> None:
    """Lines between the tops of units in two holes; pixels."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour, 0.9, Qt.PenStyle.DashLine))
    for a, b in pairs:
        painter.drawPolyline(QPolygonF([QPointF(left, a), QPointF(right, b)]))
    painter.restore()
