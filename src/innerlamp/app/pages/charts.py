"""Charts of control samples on a page: results, the limits they are held against, axes with round figures."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ...core.errors import InputError
from ...core.importing.control_series import ControlSeries, series_of
from ...core.items.holes import HoleSet
from ...core.items.page import Element
from ..context.context import Context
from .frames import FrameContext
from .furniture import rect_of
from .paper import FAINT, INK, font_of, round_interval

BAD = QColor("#B3261E")
_LEFT, _BOTTOM, _TOP = 46.0, 30.0, 30.0  # pixels round the field
_PENS = {
    "strong": (INK, 1.0, Qt.PenStyle.SolidLine),
    "plain": (FAINT, 0.7, Qt.PenStyle.SolidLine),
    "dotted": (FAINT, 0.7, Qt.PenStyle.DotLine),
    "dashed": (FAINT, 0.7, Qt.PenStyle.DashLine),
    "lit": (QColor("#B06A00"), 1.4, Qt.PenStyle.SolidLine),
}


def paint_chart(painter: QPainter, ctx: Context, element: Element) -> None:
    """Draw what the element's text names (a standard, blanks, duplicates ...) of the grade in its fields, of the holes that it has lit.

    Raises
    ------
    InputError
        When it has no holes lit, or there is nothing to show.
    """
    seen: Any = FrameContext(ctx, element)
    entry = next((e for e in seen.lit_entries() if e.kind == "holes"), None)
    holes = seen.item(entry.id) if entry is not None else None
    if not isinstance(holes, HoleSet):
        raise InputError("the chart shows no set of holes", fix="Choose 'Take what is lit' with holes lit")
    attribute = element.fields.get("attribute", "")
    unit = holes.units.get(attribute, "")
    named = f"{attribute}, {unit}" if unit and unit.lower() not in attribute.lower() else attribute
    of = series_of(holes, attribute, element.text, named)
    rect = rect_of(element)
    field = QRectF(rect.left() + _LEFT, rect.top() + _TOP, rect.width() - _LEFT - 8, rect.height() - _TOP - _BOTTOM)
    painter.setPen(INK)
    painter.setFont(font_of(8.0, bold=True))
    painter.drawText(
        QRectF(rect.left(), rect.top(), rect.width(), 14), Qt.AlignmentFlag.AlignLeft, f"{of.title}: {named}"
    )
    painter.setFont(font_of(6.0))
    words = painter.fontMetrics().elidedText(of.words, Qt.TextElideMode.ElideRight, int(rect.width()))
    painter.drawText(QRectF(rect.left(), rect.top() + 14, rect.width(), 12), Qt.AlignmentFlag.AlignLeft, words)
    _Drawing(painter, of, field).draw()


class _Drawing:
    """A chart in a field of the paper."""

    def __init__(self, painter: QPainter, of: ControlSeries, field: QRectF) -> None:
        self.painter, self.of, self.field = painter, of, field
        good = np.isfinite(of.x) & np.isfinite(of.y)
        self.log = of.by_grade and bool((of.x[good] > 0).all() and (of.y[good] > 0).any())
        if self.log:
            good &= (of.x > 0) & (of.y > 0)
        self.good = good
        xs = [self._way(of.x[good]), *(self._way(c[0]) for c in of.curves)]
        ys = [self._way(of.y[good]), np.array([r.value for r in of.rules]), *(self._way(c[1]) for c in of.curves)]
        self.x_range, self.y_range = _range(np.concatenate(xs)), _range(np.concatenate(ys))
        if of.rules:  # room for the words over the highest one
            low, high = self.y_range
            self.y_range = low, high + 0.06 * (high - low)

    def _way(self, values: np.ndarray) -> np.ndarray:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(np.log10(values) if self.log else values, dtype=float)

    def at(self, x: float, y: float) -> QPointF:
        """The place on paper of a value, in the way of the axes."""
        (x0, x1), (y0, y1), f = self.x_range, self.y_range, self.field
        return QPointF(f.left() + f.width() * (x - x0) / (x1 - x0), f.bottom() - f.height() * (y - y0) / (y1 - y0))

    def draw(self) -> None:
        p = self.painter
        p.setFont(font_of(6.0))
        self._axes()
        p.save()
        p.setClipRect(self.field, Qt.ClipOperation.IntersectClip)
        for rule in self.of.rules:
            self._pen(rule.weight)
            here = self.at(self.x_range[0], rule.value)
            p.drawLine(here, QPointF(self.field.right(), here.y()))
            p.setPen(FAINT)
            # Words of the inner limits stand at the other end: those of close lines would lie on each other.
            side = Qt.AlignmentFlag.AlignRight if rule.weight == "dotted" else Qt.AlignmentFlag.AlignLeft
            p.drawText(QRectF(here.x() + 3, here.y() - 11, self.field.width() - 6, 10), side, rule.words)
        for x, y, weight in self.of.curves:
            self._pen(weight)
            self._line(self._way(x), self._way(y))
        x, y = self._way(self.of.x), self._way(self.of.y)
        if self.of.joined:
            self._pen("plain")
            self._line(x, y)
        p.restore()
        for k in np.flatnonzero(self.good):
            self._mark(self.at(float(x[k]), float(y[k])), bool(self.of.bad[k]))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(INK, 0.8))
        p.drawRect(self.field)

    def _pen(self, weight: str) -> None:
        ink, wide, style = _PENS[weight]
        self.painter.setPen(QPen(ink, wide, style))

    def _line(self, x: np.ndarray, y: np.ndarray) -> None:
        known = np.isfinite(x) & np.isfinite(y)
        self.painter.setBrush(Qt.BrushStyle.NoBrush)
        self.painter.drawPolyline(
            QPolygonF([self.at(float(a), float(b)) for a, b in zip(x[known], y[known], strict=True)])
        )

    def _mark(self, here: QPointF, bad: bool) -> None:
        p = self.painter
        if bad:  # told by its shape as well as by its colour
            p.setPen(QPen(BAD, 1.2))
            for dx, dy in ((3.0, 3.0), (3.0, -3.0)):
                p.drawLine(QPointF(here.x() - dx, here.y() - dy), QPointF(here.x() + dx, here.y() + dy))
            return
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(INK)
        p.drawEllipse(here, 1.6, 1.6)

    def _axes(self) -> None:
        p, f = self.painter, self.field
        p.setPen(FAINT)
        for value, words in self._ticks(self.y_range):
            y = self.at(self.x_range[0], value).y()
            p.drawLine(QPointF(f.left() - 3, y), QPointF(f.left(), y))
            p.drawText(
                QRectF(f.left() - 44, y - 6, 39, 12), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words
            )
        names = dict(enumerate(self.of.names, start=1))
        last = -1e9
        for value, words in [(float(k), n) for k, n in names.items()] or self._ticks(self.x_range):
            x = self.at(value, self.y_range[0]).x()
            wide = p.fontMetrics().horizontalAdvance(words)
            p.drawLine(QPointF(x, f.bottom()), QPointF(x, f.bottom() + 3))
            if x - wide / 2 > last + 4:
                p.drawText(QRectF(x - 40, f.bottom() + 3, 80, 12), Qt.AlignmentFlag.AlignHCenter, words)
                last = x + wide / 2
        p.setPen(INK)
        p.drawText(QRectF(f.left(), f.bottom() + 15, f.width(), 12), Qt.AlignmentFlag.AlignHCenter, self.of.x_label)
        p.save()
        p.translate(f.left() - 40, f.center().y())
        p.rotate(-90)
        p.drawText(QRectF(-f.height() / 2, -6, f.height(), 12), Qt.AlignmentFlag.AlignHCenter, self.of.y_label)
        p.restore()

    def _ticks(self, span: tuple[float, float]) -> list[tuple[float, str]]:
        low, high = span
        if self.log:
            found = [
                (k + float(np.log10(m)), f"{m * 10.0**k:.6g}")
                for k in range(int(np.floor(low)), int(np.ceil(high)) + 1)
                for m in ((1, 2, 5) if high - low < 2.5 else (1,))
            ]
            return [t for t in found if low <= t[0] <= high]
        step = round_interval((high - low) / 5.0)
        first = np.ceil(low / step) * step
        return [(float(v), f"{v:.6g}") for v in np.round(np.arange(first, high + step * 1e-6, step), 12)]


def _range(values: np.ndarray) -> tuple[float, float]:
    known = values[np.isfinite(values)]
    low, high = (float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)
    room = 0.06 * (high - low) or 0.5 * abs(high) or 1.0
    return low - room, high + room
