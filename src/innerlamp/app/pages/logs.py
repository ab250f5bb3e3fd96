"""A drillhole's log on a page: depth at true scale, logged classes as columns with their patterns, numbers as bars."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...core.errors import InputError
from ...core.items.attributes import plain_number
from ...core.items.holes import HoleSet
from ...core.items.legend import Legend, position
from ...core.items.page import Element, scale_words
from ..context.context import Context
from ..painters.kit.colours import class_colour, colour_at
from ..painters.kit.unit_areas import draw_pattern
from .frames import FrameContext
from .furniture import rect_of
from .paper import FAINT, INK, MM, font_of, round_interval

_HEAD, _DEPTHS = 30.0, 34.0  # pixels above the strips, and for the depths beside them


def paint_log(painter: QPainter, ctx: Context, element: Element) -> None:
    """Draw the hole that the element's text names, of the set of holes that it has lit.

    The first column of classes is drawn as rock, then the attribute that colours the set and up to two more.

    Raises
    ------
    InputError
        When the set has no such hole.
    """
    seen: Any = FrameContext(ctx, element)
    entry = next((e for e in seen.lit_entries() if e.kind == "holes"), None)
    holes = seen.item(entry.id) if entry is not None else None
    if entry is None or not isinstance(holes, HoleSet):
        raise InputError("the log shows no set of holes", fix="Choose 'Take what is lit' with holes lit")
    name = element.text or str(holes.collars["hole"].iloc[0])
    row = holes.collars[holes.collars["hole"].astype(str) == name]
    if not len(row):
        raise InputError(f"there is no hole '{name}'", where=holes.name)
    rect = rect_of(element)
    end = float(row["depth_m"].iloc[0])
    per_metre = 1000.0 / element.scale * MM if element.scale else (rect.height() - _HEAD - 6.0) / max(end, 1.0)
    body = QRectF(rect.left() + _DEPTHS, rect.top() + _HEAD, rect.width() - _DEPTHS, rect.height() - _HEAD - 2.0)
    painter.setPen(INK)
    painter.setFont(font_of(8.0, bold=True))
    scale = f", {scale_words(element.scale)}" if element.scale else ""
    painter.drawText(
        QRectF(rect.left(), rect.top(), rect.width(), 14), Qt.AlignmentFlag.AlignLeft, f"{name}, {end:g} m{scale}"
    )
    strips = _strips(seen, entry, holes, name)
    wide = [28.0 if legend.classes else 0.0 for _, _, legend in strips]
    rest = (body.width() - sum(wide)) / max(sum(w == 0.0 for w in wide), 1)
    x = body.left()
    shown = min(end, body.height() / per_metre)
    painter.setFont(font_of(6.0))
    for (attribute, table, legend), fixed in zip(strips, wide, strict=True):
        strip = QRectF(x, body.top(), fixed or rest, shown * per_metre)
        x = strip.right()
        head = legend.label if not legend.classes else attribute
        painter.setPen(INK)
        text = painter.fontMetrics().elidedText(head, Qt.TextElideMode.ElideRight, int(strip.width()))
        painter.drawText(QRectF(strip.left(), strip.top() - 14, strip.width(), 12), Qt.AlignmentFlag.AlignLeft, text)
        painter.save()
        painter.setClipRect(strip, Qt.ClipOperation.IntersectClip)
        (_classes if legend.classes else _bars)(painter, strip, table, attribute, legend, per_metre)
        painter.restore()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(INK, 0.8))
        painter.drawRect(strip)
    step = round_interval(45.0 / per_metre)
    for depth in np.arange(0.0, shown + 1e-6, step).tolist():
        y = body.top() + depth * per_metre
        painter.setPen(QPen(INK, 0.8))
        painter.drawLine(QPointF(body.left() - 4, y), QPointF(body.left(), y))
        painter.drawText(
            QRectF(rect.left(), y - 6, _DEPTHS - 6, 12),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            f"{depth:g}",
        )
    if shown < end - 1e-6:
        painter.setPen(FAINT)
        painter.drawText(
            QRectF(body.left(), body.bottom() - 12, body.width(), 12),
            Qt.AlignmentFlag.AlignRight,
            f"down to {shown:.0f} of {end:g} m",
        )


def _strips(seen: Any, entry: Any, holes: HoleSet, name: str) -> list[tuple[str, pd.DataFrame, Legend]]:
    found: list[tuple[str, pd.DataFrame, Legend]] = []
    wanted = seen.attribute_of(entry)
    numbers = [wanted, *(a for a, known in holes.attributes.items() if known.unit and a != wanted)]
    texts = [a for a, known in holes.attributes.items() if known.is_code]
    for attribute in [*texts[:1], *numbers[:3]]:
        for table in holes.tables.values():
            if attribute in table.columns:
                rows = table[table["hole"].astype(str) == name]
                found.append((attribute, rows, seen.legend(attribute, holes)))
                break
    return found


def _classes(
    painter: QPainter, strip: QRectF, table: pd.DataFrame, attribute: str, legend: Legend, per_metre: float
) -> None:
    for start, stop, value in zip(table["from_m"], table["to_m"], table[attribute].astype(str), strict=True):
        box = QRectF(strip.left(), strip.top() + start * per_metre, strip.width(), (stop - start) * per_metre)
        colour = class_colour(legend, value)
        soft = QColor(colour)
        soft.setAlpha(130)
        painter.fillRect(box, soft)
        painter.save()
        painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
        draw_pattern(painter, legend.patterns.get(value, "plain"), box, strip.topLeft(), colour.darker(165))
        painter.restore()
        painter.setPen(QPen(INK, 0.4))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        if box.height() > 9 and not legend.patterns.get(value):
            painter.drawText(
                box,
                Qt.AlignmentFlag.AlignCenter,
                painter.fontMetrics().elidedText(value, Qt.TextElideMode.ElideRight, int(box.width()) - 2),
            )


def _bars(
    painter: QPainter, strip: QRectF, table: pd.DataFrame, attribute: str, legend: Legend, per_metre: float
) -> None:
    values = table[attribute].to_numpy(float)
    place = position(legend, values)
    for start, stop, share in zip(table["from_m"], table["to_m"], place.tolist(), strict=True):
        if np.isfinite(share):
            box = QRectF(
                strip.left(),
                strip.top() + start * per_metre,
                max(share, 0.01) * strip.width(),
                (stop - start) * per_metre,
            )
            painter.fillRect(box, colour_at(legend, share))
    painter.setPen(FAINT)
    high = legend.breaks[-1] if legend.scale in ("classes", "quantile") and legend.breaks else legend.high
    painter.drawText(
        QRectF(strip.left(), strip.bottom() - 11, strip.width() - 2, 11),
        Qt.AlignmentFlag.AlignRight,
        plain_number(high),
    )
