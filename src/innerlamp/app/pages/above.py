"""What stands above a section on paper, at its distances: the plan of its corridor at true scale, profiles of grids."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...core.compute.geometry.planes import in_corridor
from ...core.items.holes import HoleSet
from ...core.items.page import PANEL, Element
from ..context.seen import SeenContext
from ..painters.kit.room import draw_haloed
from ..painters.kit.views import SectionView
from ..painters.section.upper import REACH, panel_grids, profile, profile_range, profile_title, strip_holes
from .paper import FAINT, INK, MM, font_of, round_interval

_GAP = 1.5  # millimetres between panels


def panel_rects(element: Element, section: QRectF) -> list[tuple[str, QRectF]]:
    """Return the panels above a section's ground with their rectangles in pixels, the highest first; '' is the plan."""
    names = ([""] if element.strip else []) + list(element.panels)
    top = section.top() - element.above * MM
    out = []
    for name in names:
        high = (element.strip_height if name == "" else PANEL) * MM
        out.append((name, QRectF(section.left(), top, section.width(), high - _GAP * MM)))
        top += high
    return out


def paint_above(
    painter: QPainter,
    seen: SeenContext,
    element: Element,
    view: SectionView,
    section: QRectF,
    west: float,
    pixel: float,
) -> None:
    """Draw the panels above a section; `west` is the distance at its left edge, `pixel` are metres a pixel."""
    grids = {key: grid for e, grid in panel_grids(seen, element.panels) for key in (e.id, e.name)}
    for name, rect in panel_rects(element, section):
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if name == "":
            _plan(painter, seen, view, rect, west, pixel)
        elif name in grids:
            along, values = profile(view, grids[name])
            low, high = profile_range(values)
            _axis(painter, rect, low, high)
            painter.setClipRect(rect)
            painter.setPen(QPen(INK, 0.9))
            x = rect.left() + (along - west) / pixel
            y = rect.bottom() - (values - low) / (high - low) * rect.height()
            known = np.isfinite(y)
            for run in np.split(np.arange(len(x)), np.flatnonzero(np.diff(known.astype(int))) + 1):
                if known[run[0]] and len(run) > 1:
                    painter.drawPolyline(pg.functions.arrayToQPolygonF(x[run], y[run]))
            painter.setFont(font_of(6.0))
            words = profile_title(grids[name])
            box = QRectF(rect.left() + 3, rect.top() + 1, painter.fontMetrics().horizontalAdvance(words) + 4, 11)
            draw_haloed(painter, box, words, INK, QColor("#FFFFFF"))
        painter.restore()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(FAINT, 0.7))
        painter.drawRect(rect)


def _axis(painter: QPainter, rect: QRectF, low: float, high: float) -> None:
    """Ticks at round values, two or more where there is room."""
    painter.setFont(font_of(5.5))
    painter.setPen(QPen(INK, 0.7))
    step = round_interval((high - low) / 3.0) if high - low > 1e-6 else 1.0
    for value in (step * np.arange(np.ceil(low / step), np.floor(high / step) + 1)).tolist():
        y = rect.bottom() - (value - low) / (high - low) * rect.height()
        _tick(painter, rect, y, f"{value + 0.0:.6g}")


def _tick(painter: QPainter, rect: QRectF, y: float, words: str) -> None:
    painter.drawLine(QLineF(rect.left() - 4, y, rect.left(), y))
    box = QRectF(rect.left() - 54, y - 6, 48, 12)
    painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)


def _plan(painter: QPainter, seen: SeenContext, view: SectionView, rect: QRectF, west: float, pixel: float) -> None:
    """The corridor from above, behind up: collars, traces, the line of the section; true to scale as far as it fits."""
    up = max(2.0 * REACH * view.corridor / rect.height(), 1e-9)
    middle = rect.center().y()
    painter.setFont(font_of(5.5))
    painter.setPen(QPen(INK, 0.7))
    for off in (-view.corridor, 0.0, view.corridor):
        _tick(painter, rect, middle - off / up, "0 m" if off == 0 else f"{off:+g} m")
    painter.setClipRect(rect)
    inside = in_corridor(np.array([-1e-3, 1e-3]) * view.corridor, view.corridor, view.side)
    soft = QColor(INK)
    soft.setAlpha(20)
    for there, sign in zip(inside.tolist(), (-1.0, 1.0), strict=True):
        if there:
            edge = middle - sign * view.corridor / up
            painter.fillRect(QRectF(rect.left(), min(edge, middle), rect.width(), abs(edge - middle)), soft)
    painter.setPen(QPen(INK, 1.1))
    painter.drawLine(QLineF(rect.left(), middle, rect.right(), middle))
    for entry in seen.lit_entries():
        item = seen.item(entry.id)
        if not isinstance(item, HoleSet):
            continue
        found = strip_holes(item, view)

        def at(places: np.ndarray) -> list[QPointF]:
            return [QPointF(rect.left() + (a - west) / pixel, middle - o / up) for a, o in places.tolist()]

        painter.setPen(QPen(INK, 0.8))
        ends = at(found.pieces)
        painter.drawLines([QLineF(a, b) for a, b in zip(ends[::2], ends[1::2], strict=True)])
        taken: list[QRectF] = []
        for place, name in zip(at(found.collars), found.names, strict=True):
            painter.setPen(QPen(INK, 0.8))
            painter.setBrush(QColor("#FFFFFF"))
            painter.drawEllipse(place, 1.8, 1.8)
            wide = painter.fontMetrics().horizontalAdvance(name) + 3.0
            box = QRectF(place.x() + 3, place.y() - 5, wide, 10)
            if rect.contains(box) and not any(box.intersects(t) for t in taken):
                taken.append(box)
                draw_haloed(painter, box, name, INK, QColor("#FFFFFF"))
