"""The legend of a page: areas in age order, lines, readings, points, ramps, tracks of logs; in one column or more."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPicture

from ...core.items.attributes import is_ground, orientation, plain_number
from ...core.items.features import LINE, POINT, RING, Features
from ...core.items.fields import Surface
from ...core.items.holes import HoleSet
from ...core.items.legend import Legend, value_at
from ...core.items.page import Element
from ...core.items.points import PointSet
from ...core.items.signs import LINE_SIGNS, PLANE_SIGNS, line_sign, plane_sign
from ...core.items.tracks import from_data
from ..context.context import Context
from ..painters.kit.colours import class_colour, colour_at
from ..painters.kit.unit_areas import draw_pattern
from ..painters.map.contour_lines import level_of
from ..painters.map.line_signs import draw_signed_line
from ..painters.map.map_painters import line_kinds, reading_kinds, surface_colour, symbols_of
from ..painters.map.structure_signs import draw_sign
from .frames import FrameContext
from .furniture import LEFT, MIDDLE, rect_of
from .paper import INK, font_of


class _Column:
    """Where the next row of a legend goes; a full column is followed by the next one."""

    def __init__(self, rect: QRectF, count: int = 1) -> None:
        self.rect, self.left_over = rect, count - 1
        self.wide = (rect.width() - 8.0 * (count - 1)) / count
        self.left, self.y, self.lowest = rect.left(), rect.top(), rect.top()

    def row(self, high: float, with_next: float = 0.0) -> QRectF:
        """Return the place of a row; `with_next` keeps it together with what follows."""
        if self.y + high + with_next > self.rect.bottom() + 0.5 and self.left_over:
            self.left_over -= 1
            self.left, self.y = self.left + self.wide + 8.0, self.rect.top()
        box = QRectF(self.left, self.y, self.wide, high)
        self.y += high
        self.lowest = max(self.lowest, self.y)
        return box


_NARROWEST = 205.0  # pixels in which most rows of a legend find room


def paint_legend(painter: QPainter, ctx: Context, element: Element, maps: list[Element]) -> None:
    """Draw the legend of what is on the maps of a page: areas in age order, lines, readings, points, ramps.

    It is set in one column or more, and as much smaller as it takes to fit.
    """
    rect = rect_of(element)
    painter.setPen(INK)
    painter.setFont(font_of(10.0, bold=True))
    painter.drawText(QRectF(rect.left(), rect.top(), rect.width(), 20), LEFT, element.text or "Legend")
    space = rect.adjusted(0, 24, 0, 0)
    rehearsal = QPicture()
    trial = QPainter(rehearsal)
    whole = _Column(QRectF(0, 0, _NARROWEST, 1e6))
    _legend_rows(trial, ctx, maps, whole)
    trial.end()
    if whole.lowest <= 0:  # what the maps showed is no longer in the project
        return
    # Rows do not split, so that columns are a little shorter than their share.
    sizes = [
        (min(1.0, space.height() * n / (whole.lowest + 22.0 * (n - 1)), space.width() / n / _NARROWEST), n)
        for n in (1, 2, 3)
    ]
    size, count = max(sizes)
    painter.save()
    painter.setClipRect(space)
    painter.translate(space.topLeft())
    painter.scale(size, size)
    high = space.height() / size if count == 1 else min(space.height() / size, whole.lowest / count + 30.0)
    _legend_rows(painter, ctx, maps, _Column(QRectF(0, 0, space.width() / size, high), count))
    painter.restore()


def _legend_rows(painter: QPainter, ctx: Context, maps: list[Element], column: _Column) -> None:
    painter.setFont(font_of(7.5))
    drawn: set[str] = set()
    shown: set[str] = set()
    rows: list[tuple[Any, Any]] = [
        (seen, e) for seen in (FrameContext(ctx, m) for m in maps) for e in reversed(seen.lit_entries())
    ]
    for seen, entry in rows:
        item = seen.item(entry.id)
        if seen.element.kind == "log" and seen.element.tracks:
            _track_rows(painter, column, seen, item, drawn)
            continue
        if item is None or entry.id in shown:
            continue
        shown.add(entry.id)
        attribute = seen.attribute_of(entry)
        legend = seen.legend(attribute, item) if attribute in entry.attributes else None
        if isinstance(item, Features) and level_of(item):
            _line_row(
                painter,
                column,
                "contact",
                _contour_words(item, legend),
                INK if legend is None else colour_at(legend, 0.6),
            )
        elif isinstance(item, Features):
            _features_rows(painter, column, item, legend, attribute)
        elif isinstance(item, PointSet) and orientation(item.attributes) and item.content == "structures":
            _sign_rows(painter, column, item)
        elif isinstance(item, PointSet):
            _point_rows(painter, column, ctx, entry.id, item, legend, entry.name, attribute in drawn)
            drawn.add(attribute)
        elif entry.kind == "grid" and is_ground(entry.attributes):
            _text_row(painter, column, f"{entry.name}: shaded relief, light from the north-west")
        elif entry.kind in ("holes", "targets"):
            box = column.row(15.0)
            painter.setPen(QPen(INK, 1.4))
            painter.setBrush(QColor("#FFFFFF"))
            painter.drawEllipse(QPointF(box.left() + 14, box.center().y()), 4.0, 4.0)
            painter.setPen(INK)
            painter.drawText(
                box.adjusted(34, 0, 0, 0), LEFT, f"{entry.name} ({'collar' if entry.kind == 'holes' else 'rank'})"
            )
            if legend is not None and attribute not in drawn:
                _ramp_rows(painter, column, legend, entry.name)
                drawn.add(attribute)
        elif isinstance(item, Surface):
            _line_row(painter, column, "contact", entry.name, surface_colour(seen, item))
        elif legend is not None and attribute not in drawn:
            _ramp_rows(painter, column, legend, entry.name)
            drawn.add(attribute)
        else:
            _line_row(painter, column, "contact", entry.name)


def _track_rows(painter: QPainter, column: _Column, seen: Any, item: Any, drawn: set[str]) -> None:
    """The classes of the tracks of a log, and the sets of its planes."""
    tracks = from_data(list(seen.element.tracks))
    if isinstance(item, HoleSet):
        names = [t.attributes[0] for t in tracks if t.kind == "rock"]
    elif isinstance(item, PointSet) and any(t.kind == "planes" for t in tracks):
        names = [n for n in ("set", "type") if n in item.table.columns][:1]
    else:
        names = []
    for name in names:
        if name not in drawn:
            drawn.add(name)
            _ramp_rows(painter, column, seen.legend(name, item), "")


def _contour_words(item: Features, legend: Legend | None) -> str:
    levels = np.unique(item.table[level_of(item)].to_numpy(float))
    unit = f" {legend.unit}" if legend is not None and legend.unit else ""
    steps = np.diff(levels)
    even = len(steps) and np.allclose(steps, steps[0], rtol=1e-6)
    every = (
        f"every {plain_number(float(steps[0]))}{unit}"
        if even
        else f"{', '.join(plain_number(v) for v in levels[:7])}{' …' if len(levels) > 7 else ''}{unit}"
    )
    return f"{item.name}: {every}"


def _words(painter: QPainter, box: QRectF, text: str) -> None:
    """Write a line, shortened by dots where it is too long."""
    painter.drawText(box, LEFT, painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width())))


def _heading(painter: QPainter, column: _Column, words: str) -> None:
    box = column.row(20.0, 28.0)
    painter.setPen(INK)
    painter.setFont(font_of(8.0, bold=True))
    _words(painter, box.adjusted(0, 4, 0, 0), words)
    painter.setFont(font_of(7.5))


def _text_row(painter: QPainter, column: _Column, words: str) -> None:
    painter.setPen(INK)
    _words(painter, column.row(15.0), words)


def _line_row(painter: QPainter, column: _Column, sign: str, words: str, colour: QColor = INK) -> None:
    box = column.row(16.0)
    y = box.center().y()
    painter.save()
    draw_signed_line(painter, np.array([[box.left(), y], [box.left() + 28, y]]), LINE_SIGNS[sign], colour)
    painter.restore()
    painter.setPen(INK)
    _words(painter, box.adjusted(34, 0, 0, 0), words)


def _features_rows(painter: QPainter, column: _Column, item: Features, legend: Legend | None, attribute: str) -> None:
    _heading(painter, column, item.name)
    if legend is None or not legend.classes:
        if legend is not None:
            _ramp_rows(painter, column, legend, "")
        else:
            _line_row(painter, column, "contact", "outline")
        return
    names = item.table[attribute].astype(str).to_numpy()
    areas = {names[int(o)] for o, r in zip(item.owner, item.part_types, strict=True) if r == RING}
    for name in legend.ordered:
        if name not in areas:
            continue
        box = column.row(19.0)
        swatch = QRectF(box.left(), box.top() + 2, 28, 14)
        colour = class_colour(legend, name)
        soft = QColor(colour)
        soft.setAlpha(120)
        painter.fillRect(swatch, QColor("#FFFFFF"))
        painter.fillRect(swatch, soft)
        painter.save()
        painter.setClipRect(swatch, Qt.ClipOperation.IntersectClip)
        draw_pattern(painter, legend.patterns.get(name, "plain"), swatch, swatch.topLeft(), colour.darker(165))
        painter.restore()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour.darker(150), 0.8))
        painter.drawRect(swatch)
        painter.setPen(INK)
        _words(painter, box.adjusted(34, 0, 0, 0), name)
    kinds = line_kinds(item, attribute) or attribute
    texts = item.table[kinds].astype(str).to_numpy()
    lines = dict.fromkeys(texts[int(o)] for o, r in zip(item.owner, item.part_types, strict=True) if r == LINE)
    for sign in dict.fromkeys(line_sign(t) for t in lines):
        if sign:
            _line_row(painter, column, sign, sign)
    spots = dict.fromkeys(texts[int(o)] for o, r in zip(item.owner, item.part_types, strict=True) if r == POINT)
    for name in spots:
        _text_row(painter, column, f"◆  {name}")


def _sign_rows(painter: QPainter, column: _Column, item: PointSet) -> None:
    _heading(painter, column, item.name)
    kinds = reading_kinds(item)
    names = {mark: name for name, mark, _ in PLANE_SIGNS}
    texts = [str(v) for v in item.table[kinds].dropna().unique()] if kinds else ["bedding"]
    for text in sorted(texts):
        mark = plane_sign(text)
        box = column.row(21.0)
        draw_sign(painter, QPointF(box.left() + 14, box.center().y()), 40.0, 90.0, mark, INK)
        painter.setPen(INK)
        plunge = "plunge" if mark == "arrow" else "dip"
        _words(painter, box.adjusted(34, 0, 0, 0), f"{text or names[mark]}, with {plunge} in degrees")


def _point_rows(
    painter: QPainter,
    column: _Column,
    ctx: Context,
    item_id: str,
    item: PointSet,
    legend: Legend | None,
    name: str,
    known: bool,
) -> None:
    style = ctx.style(item_id)
    if legend is not None and not known:
        _ramp_rows(painter, column, legend, name)
    elif legend is None:
        _text_row(painter, column, f"●  {name}")
    if style.shape_by in item.table.columns:
        marks = {"o": "●", "s": "■", "t1": "▲", "d": "◆", "star": "★", "+": "✚", "x": "✕", "t": "▼", "p": "⬟", "h": "⬢"}
        for each, symbol in symbols_of(item.table[style.shape_by]).items():
            _text_row(painter, column, f"{marks.get(symbol, '●')}  {each}")
    if style.size_by in item.table.columns and item.table[style.size_by].dtype.kind in "fiu":
        v = item.table[style.size_by].to_numpy(float)
        top = float(np.nanpercentile(v, 99.5))
        box = column.row(30.0)
        painter.setPen(QPen(INK, 0.8))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        x = box.left() + 14
        for share in (1.0, 0.25, 0.05):
            size = 22.0 * np.sqrt(share)
            painter.drawEllipse(QPointF(x, box.center().y()), size / 2, size / 2)
            painter.drawText(QRectF(x + 14, box.top(), 46, 30), LEFT, plain_number(top * share))
            x += 62
    if style.label_by:
        least = "" if style.label_from is None else f" from {plain_number(style.label_from)}"
        _text_row(painter, column, f"Numbers: {style.label_by}{least}")


def _ramp_rows(painter: QPainter, column: _Column, legend: Legend, name: str) -> None:
    if legend.classes:
        _heading(painter, column, f"{name}: {legend.label}" if name else legend.label)
        for each in legend.ordered[:24]:
            box = column.row(16.0)
            swatch, colour = QRectF(box.left(), box.top() + 2, 28, 11), class_colour(legend, each)
            painter.fillRect(swatch, colour)
            if legend.patterns.get(each):
                painter.save()
                painter.setClipRect(swatch, Qt.ClipOperation.IntersectClip)
                draw_pattern(painter, legend.patterns[each], swatch, swatch.topLeft(), colour.darker(150))
                painter.restore()
                painter.setPen(INK)
            _words(painter, box.adjusted(34, 0, 0, 0), each)
        return
    scale = {"log": ", log", "quantile": ", by rank"}.get(legend.scale, "")
    _heading(painter, column, f"{name}: {legend.label}{scale}" if name else f"{legend.label}{scale}")
    box = column.row(28.0)
    wide = min(box.width() - 6, 260.0)
    if legend.scale == "classes" and legend.breaks:
        count = len(legend.breaks) + 1
        for k in range(count):
            painter.fillRect(
                QRectF(box.left() + k * wide / count, box.top(), wide / count - 1, 11),
                colour_at(legend, k / (count - 1)),
            )
        for k, value in enumerate(legend.breaks, start=1):
            painter.drawText(
                QRectF(box.left() + k * wide / count - 30, box.top() + 12, 60, 13), MIDDLE, legend.tick(value)
            )
        return
    for k in range(120):
        painter.fillRect(
            QRectF(box.left() + k * wide / 120, box.top(), wide / 120 + 0.4, 11), colour_at(legend, k / 119)
        )
    for place, align in (
        (0.0, Qt.AlignmentFlag.AlignLeft),
        (0.5, Qt.AlignmentFlag.AlignHCenter),
        (1.0, Qt.AlignmentFlag.AlignRight),
    ):
        painter.drawText(QRectF(box.left(), box.top() + 12, wide, 13), align, legend.tick(value_at(legend, place)))
