"""A strip log on a page: the tracks of the log pane beside the depths of one hole, from one depth to where the sheet ends."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from ...core.compute.drilling.desurvey import azimuth_and_dip
from ...core.errors import InputError
from ...core.items.attributes import orientation, plain_number
from ...core.items.core_pictures import CorePictures
from ...core.items.holes import HoleSet
from ...core.items.legend import Legend, without_unit
from ...core.items.page import Element, scale_words
from ...core.items.points import PointSet
from ...core.items.tracks import Track, from_data
from ..context.context import Context
from ..painters.logs.rows import HereRows, LogSource, of_hole
from ..painters.logs.tracks import CURVES, Strip, paint_track
from ..theme.theme import PAPER
from .frames import FrameContext
from .furniture import rect_of
from .paper import FAINT, INK, MM, font_of, round_interval

HEAD, DEPTHS = 58.0, 34.0  # pixels above the tracks, and for the depths beside them


def paint_tracks(painter: QPainter, ctx: Context, element: Element) -> None:
    """Draw the hole that the element's text names with the element's tracks, from its depth on.

    Raises
    ------
    InputError
        When the set has no such hole.
    """
    seen: Any = FrameContext(ctx, element)
    items = [seen.item(e.id) for e in seen.lit_entries()]
    holes = next((i for i in items if isinstance(i, HoleSet)), None)
    if holes is None:
        raise InputError("the log shows no set of holes", fix="Choose 'Take what is lit' with holes lit")
    planes = next((i for i in items if isinstance(i, PointSet) and orientation(i.attributes)), None)
    pictures = next((i for i in items if isinstance(i, CorePictures)), None)
    name = element.text or str(holes.collars["hole"].iloc[0])
    row = holes.collars[holes.collars["hole"].astype(str) == name]
    if not len(row):
        raise InputError(f"there is no hole '{name}'", where=holes.name)
    tracks, rect = from_data(list(element.tracks)), rect_of(element)
    end = float(row["depth_m"].iloc[0])
    room = rect.height() - HEAD - 4.0
    per_metre = 1000.0 / element.scale * MM if element.scale else room / max(end - element.depth, 1.0)
    bottom = min(end, element.depth + room / per_metre)
    if element.depth < element.depth_to <= bottom + 1.0 / per_metre:  # to the pixel: sheets break at round depths
        bottom = min(element.depth_to, end)
    _head(painter, rect, holes, row.iloc[0], element, bottom)
    body = QRectF(rect.left() + DEPTHS, rect.top() + HEAD, rect.width() - DEPTHS, (bottom - element.depth) * per_metre)
    if body.height() <= 0 or not tracks:
        return
    share = body.width() / sum(t.width for t in tracks)

    def to_y(depth: np.ndarray) -> np.ndarray:
        return np.asarray(body.top() + (np.asarray(depth, dtype=float) - element.depth) * per_metre)

    source, here = LogSource(holes, planes, pictures=pictures), HereRows()
    x = body.left()
    for track in tracks:
        strip = QRectF(x, body.top(), track.width * share, body.height())
        x = strip.right()
        legends = source.legends(track, seen.legend)
        _track_head(painter, strip, track, holes, legends)
        painter.setFont(font_of(5.5))
        rows = source.rows(track, name, here)
        if rows is not None and len(rows.start):
            painter.save()
            paint_track(painter, track, rows, Strip(strip, element.depth, bottom, to_y, legends, PAPER))
            painter.restore()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(INK, 0.7))
        painter.drawRect(strip)
    _depths(painter, rect, body, element.depth, bottom, per_metre)


def _head(painter: QPainter, rect: QRectF, holes: HoleSet, collar: pd.Series, element: Element, bottom: float) -> None:
    end = float(collar["depth_m"])
    painter.setPen(INK)
    painter.setFont(font_of(8.5, bold=True))
    part = f", {element.depth:g} to {bottom:.0f} m" if element.depth or bottom < end - 1e-6 else ""
    scale = f", {scale_words(element.scale)}" if element.scale else ""
    painter.drawText(
        QRectF(rect.left(), rect.top(), rect.width(), 14),
        Qt.AlignmentFlag.AlignLeft,
        f"{collar['hole']}{part} of {end:g} m{scale}",
    )
    s = holes.stations.iloc[of_hole(holes.stations, str(collar["hole"]))]
    way = ""
    if len(s):
        azimuth, dip = azimuth_and_dip(s[["tx", "ty", "tz"]].to_numpy(float)[0])
        way = f", azimuth {azimuth:03.0f}°, inclination {-dip:.0f}°"
    painter.setFont(font_of(6.0))
    painter.drawText(
        QRectF(rect.left(), rect.top() + 14, rect.width(), 11),
        Qt.AlignmentFlag.AlignLeft,
        f"Collar {collar['x']:.1f} E, {collar['y']:.1f} N, {collar['z']:.1f} m{way}",
    )


def _track_head(painter: QPainter, strip: QRectF, track: Track, holes: HoleSet, legends: dict[str, Legend]) -> None:
    """Name and unit above a track, each curve in its colour; the ends of its scale."""
    painter.setFont(font_of(5.5))
    lines = [
        (f"{without_unit(n, holes.units.get(n, '')).replace('_', ' ')} {holes.units.get(n, '')}".strip(), n)
        for n in track.attributes
    ] or [("core" if track.kind == "pictures" else "dip, direction", "")]
    curves = track.kind in ("curve", "filled curve")
    metrics = painter.fontMetrics()
    y = strip.top() - 12.0 - 9.0 * min(len(lines), 3)
    for number, (words, _) in enumerate(lines[:3]):
        painter.setPen(QPen(CURVES[number % len(CURVES)]) if curves else INK)
        box = QRectF(strip.left() + 1, y + 9.0 * number, strip.width() - 2, 9)
        painter.drawText(
            box, Qt.AlignmentFlag.AlignHCenter, metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        )
    if track.kind in ("bars", "curve", "filled curve") and track.attributes and track.attributes[0] in legends:
        legend = legends[track.attributes[0]]
        low, high = (
            (legend.breaks[0], legend.breaks[-1])
            if legend.scale in ("classes", "quantile") and legend.breaks
            else (legend.low, legend.high)
        )
        ends = (plain_number(low), plain_number(high))
    elif track.kind == "planes":
        ends = ("0°", "90°")
    else:
        return
    painter.setPen(FAINT)
    painter.setFont(font_of(5.0))
    box = QRectF(strip.left() + 2, strip.top() - 10, strip.width() - 5, 9)
    metrics = painter.fontMetrics()
    if metrics.horizontalAdvance(ends[0] + ends[1]) + 6 < box.width():
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft, ends[0])
    painter.drawText(box, Qt.AlignmentFlag.AlignRight, ends[1])


def _depths(painter: QPainter, rect: QRectF, body: QRectF, top: float, bottom: float, per_metre: float) -> None:
    step = round_interval(45.0 / per_metre)
    painter.setFont(font_of(6.0))
    for depth in (step * np.arange(np.ceil(top / step - 1e-9), np.floor(bottom / step + 1e-9) + 1)).tolist():
        y = body.top() + (depth - top) * per_metre
        painter.setPen(QPen(INK, 0.8))
        painter.drawLine(QPointF(body.left() - 4, y), QPointF(body.left(), y))
        painter.drawText(
            QRectF(rect.left(), y - 6, DEPTHS - 6, 12),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            f"{depth + 0.0:g}",
        )
