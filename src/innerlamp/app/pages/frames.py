"""Maps and sections on a page: what a frame has lit, drawn by the painters of the panes at true scale."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ...core.compute.geometry.planes import SectionPlane
from ...core.items.page import Element, scale_words
from ...core.items.section_look import beside_from
from ...core.local_grid import called
from ..context.context import Context
from ..context.seen import SeenContext
from ..painters.kit.flat import faded
from ..painters.kit.room import draw_haloed
from ..painters.kit.views import MapView, SectionView, View
from ..painters.table import PAINTERS
from .above import paint_above
from .local_lines import paint_local_grid
from .paper import FAINT, INK, MM, PAD, font_of, round_interval


class FrameContext(SeenContext):
    """The window's context as a frame sees it: paper colours, and what the frame has lit."""

    def __init__(self, ctx: Context, element: Element) -> None:
        super().__init__(ctx, element.lit, element.colour_by)
        self.element = element
        self.corridor, self.exaggeration = element.corridor, element.exaggeration


class Frame:
    """A hidden view of given size in pixels (96 to the inch) that holds a frame's graphics."""

    def __init__(self, rect: QRectF) -> None:
        self.rect = rect
        self.view = pg.GraphicsView()
        self.view.setAttribute(Qt.WidgetAttribute.WA_DontShowOnScreen)
        self.view.setBackground(None)
        self.box = pg.ViewBox(enableMenu=False, border=None, defaultPadding=0.0)
        self.view.setCentralItem(self.box)
        self.wide, self.high = int(np.ceil(rect.width())), int(np.ceil(rect.height()))
        self.view.resize(self.wide, self.high)
        self.view.show()

    def show_range(self, west: float, north: float, metres_per_pixel: float, up: float) -> None:
        """Show the ground from a corner on; `up` is metres a pixel upward."""
        self.box.setAspectLocked(False)
        self.box.setRange(
            xRange=(west, west + self.wide * metres_per_pixel),
            yRange=(north - self.high * up, north),
            padding=0,
            disableAutoRange=True,
        )

    def paint(self, painter: QPainter, graphics: list[pg.GraphicsObject]) -> None:
        """Draw graphics into the frame's rectangle."""
        for each in graphics:
            self.box.addItem(each)
            _for_paper(each)
        scene = self.view.scene()
        scene.prepareForPaint()
        self.box.updateMatrix()
        painter.save()
        painter.setClipRect(self.rect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        scene.render(
            painter,
            QRectF(self.rect.x(), self.rect.y(), self.wide, self.high),
            QRectF(0, 0, self.wide, self.high),
            Qt.AspectRatioMode.IgnoreAspectRatio,
        )
        painter.restore()
        for each in graphics:
            self.box.removeItem(each)

    def close(self) -> None:
        """Let go of the hidden view."""
        self.view.close()
        self.view.deleteLater()


def _for_paper(item: Any) -> None:
    """Symbols as shapes, not as pictures of shapes."""
    if hasattr(item, "setExportMode"):
        item.setExportMode(True, {"antialias": True, "resolutionScale": 1.0, "background": None})


def map_rect(element: Element) -> QRectF:
    """The part of a map element, in pixels, that shows ground: within the strip of the grid's numbers."""
    pad = 0.0 if element.grid < 0 else PAD
    return QRectF(
        (element.x + pad) * MM, (element.y + pad) * MM, (element.w - 2 * pad) * MM, (element.h - 2 * pad) * MM
    )


def metres_per_pixel(element: Element) -> float:
    """Metres of ground that a pixel (1/96 inch) of the page shows."""
    return element.scale / 1000.0 / MM


def ground_of(element: Element) -> tuple[float, float, float, float]:
    """West, east, south, north of a map element in metres."""
    rect, m = map_rect(element), metres_per_pixel(element)
    wide, high = rect.width() * m, rect.height() * m
    return (
        element.easting - wide / 2,
        element.easting + wide / 2,
        element.northing - high / 2,
        element.northing + high / 2,
    )


def _ground(
    painter: QPainter,
    ctx: Context,
    element: Element,
    rect: QRectF,
    corner: tuple[float, float],
    right: float,
    up: float,
    view: View,
) -> None:
    """Draw what an element has lit; `corner` is the top left of the ground, `right` and `up` are metres a pixel."""
    seen = FrameContext(ctx, element)
    frame = Frame(rect)
    try:
        frame.show_range(*corner, right, up)
        graphics: list[pg.GraphicsObject] = []
        for entry in seen.lit_entries():
            item = seen.item(entry.id)
            if item is not None:
                made = PAINTERS[view.kind, entry.kind].paint(seen, view, entry, item)
                for each in made:
                    faded(each, entry.style.opacity)
                graphics += made
        frame.paint(painter, graphics)
    finally:
        frame.close()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(INK, 1.4))
    painter.drawRect(rect)


def paint_map(painter: QPainter, ctx: Context, element: Element, sections: Sequence[Element] = ()) -> None:
    """Draw a map with its frame, coordinate grid, and where the sections of its sheet run."""
    rect, m, ground = map_rect(element), metres_per_pixel(element), ground_of(element)
    _ground(painter, ctx, element, rect, (ground[0], ground[3]), m, m, MapView())
    if element.grid >= 0:
        step = element.grid or round_interval(0.05 * element.scale)
        if element.local is None:
            _coordinates(painter, rect, ground, step)
        else:
            paint_local_grid(painter, rect, ground, step, element.local, outside=PAD * MM)
    _traces(painter, rect, ground, m, sections)
    if element.text:
        painter.setFont(font_of(6.5, bold=True))
        words = f"{element.text}, {scale_words(element.scale)}"
        wide = min(painter.fontMetrics().horizontalAdvance(words) + 8.0, rect.width() - 6)
        box = QRectF(rect.left() + 3, rect.top() + 3, wide, 14)
        painter.fillRect(box, QColor(255, 255, 255, 215))
        painter.setPen(INK)
        painter.drawText(box.adjusted(4, 0, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)


def end_names(element: Element) -> tuple[str, str]:
    """Return what the ends of a section are called: A and B, or its name and its name with a prime."""
    return (element.text, f"{element.text}′") if element.text else ("A", "B")


def _traces(
    painter: QPainter,
    rect: QRectF,
    ground: tuple[float, float, float, float],
    pixel: float,
    sections: Sequence[Element],
) -> None:
    """The lines of sections on a map, with their corridors and the names of their ends."""
    west, _, _, north = ground
    painter.save()
    painter.setClipRect(rect)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for each in sections:
        assert each.line is not None
        plane = SectionPlane.along(each.line)
        low = 0.0 if each.side == "behind" else -each.corridor
        high = 0.0 if each.side == "in front" else each.corridor
        around = np.concatenate([plane.beside(low), plane.beside(high)[::-1]])
        soft = QColor(INK)
        soft.setAlpha(26)
        for xy, closed in ((around, True), (plane.places, False)):
            at = [QPointF(rect.left() + (x - west) / pixel, rect.top() + (north - y) / pixel) for x, y in xy.tolist()]
            if closed:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(soft)
                painter.drawPolygon(QPolygonF(at))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                continue
            painter.setPen(QPen(INK, 1.3))
            painter.drawPolyline(QPolygonF(at))
            painter.setFont(font_of(6.5, bold=True))
            for name, here, other in zip(end_names(each), (at[0], at[-1]), (at[1], at[-2]), strict=True):
                out = here - other
                size = max(float(np.hypot(out.x(), out.y())), 1e-6)
                box = QRectF(0, 0, painter.fontMetrics().horizontalAdvance(name) + 4.0, 11.0)
                box.moveCenter(here + out * (9.0 / size))
                draw_haloed(painter, box, name, INK, QColor("#FFFFFF"))
    painter.restore()


def _coordinates(painter: QPainter, rect: QRectF, ground: tuple[float, float, float, float], step: float) -> None:
    """Fine crosses and ticks at round coordinates, numbers along all four sides."""
    west, east, south, north = ground
    painter.setFont(font_of(6.0))
    fine = QColor(INK)
    fine.setAlpha(110)
    xs = step * np.arange(np.ceil(west / step), np.floor(east / step) + 1)
    ys = step * np.arange(np.ceil(south / step), np.floor(north / step) + 1)
    px = rect.left() + (xs - west) / (east - west) * rect.width()
    py = rect.bottom() - (ys - south) / (north - south) * rect.height()
    painter.setPen(QPen(fine, 0.6))
    for a in px.tolist():
        for b in py.tolist():
            painter.drawLine(QLineF(a - 5, b, a + 5, b))
            painter.drawLine(QLineF(a, b - 5, a, b + 5))
    painter.setPen(QPen(INK, 0.8))
    strip = PAD * MM
    for value, a in zip(xs.tolist(), px.tolist(), strict=True):
        text = f"{value:,.0f}".replace(",", "\u2009")
        for edge, way in ((rect.top(), -1.0), (rect.bottom(), 1.0)):
            painter.drawLine(QLineF(a, edge, a, edge + 4 * way))
            box = QRectF(a - 45, edge + 4 if way > 0 else edge - strip, 90, strip - 4)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    for value, b in zip(ys.tolist(), py.tolist(), strict=True):
        text = f"{value:,.0f}".replace(",", "\u2009")
        for edge, way in ((rect.left(), -1.0), (rect.right(), 1.0)):
            painter.drawLine(QLineF(edge, b, edge + 4 * way, b))
            painter.save()
            painter.translate(edge + (way * (strip + 4)) / 2, b)
            painter.rotate(-90)
            painter.drawText(QRectF(-45, -(strip - 4) / 2, 90, strip - 4), Qt.AlignmentFlag.AlignCenter, text)
            painter.restore()


def section_rect(element: Element) -> QRectF:
    """The part of a section element, in pixels, that shows ground."""
    above = element.above
    return QRectF(
        (element.x + 14) * MM, (element.y + 6 + above) * MM, (element.w - 24) * MM, (element.h - 13 - above) * MM
    )


def _sky(ctx: Context, seen: FrameContext, plane: SectionPlane) -> float:
    """The highest ground along a section; without one the top of what is lit, 0 where nothing is."""
    places = plane.to_map(np.linspace(0.0, plane.length, 100))
    heights = [ctx.ground_at(float(x), float(y)) for x, y in zip(*places, strict=True)]
    known = [h for h in heights if np.isfinite(h)]
    tops = [e.bounds[5] for e in seen.lit_entries() if np.isfinite(e.bounds[4:6]).all() and any(e.bounds[4:6])]
    return max(known) if known else max(tops, default=0.0)


def paint_section(painter: QPainter, ctx: Context, element: Element) -> None:
    """Draw a section with its ends, elevations and distances."""
    if element.line is None or not element.scale:
        return
    plane = SectionPlane.along(element.line)
    rect, m = section_rect(element), metres_per_pixel(element)
    up = m / element.exaggeration
    west = plane.length / 2 - rect.width() * m / 2
    top = (
        element.elevation + rect.height() * up / 2
        if element.elevation is not None
        else _sky(ctx, FrameContext(ctx, element), plane) + 30 * up
    )
    view = SectionView(
        plane, element.corridor, element.exaggeration, element.side, beside_from(element.beside), element.depths
    )
    _ground(painter, ctx, element, rect, (west, top), m, up, view)
    if element.above:
        paint_above(painter, FrameContext(ctx, element), element, view, rect, west, m)
    head = rect.top() - element.above * MM
    painter.setPen(QPen(FAINT, 0.7, Qt.PenStyle.DashLine))
    for bend in plane.corners[1:-1].tolist():
        x = rect.left() + (bend - west) / m
        painter.drawLine(QLineF(x, rect.top(), x, rect.bottom()))
    painter.setFont(font_of(6.0))
    step = round_interval(0.025 * element.scale / element.exaggeration)
    raised = element.local.up if element.local is not None else 0.0
    low, high = top - rect.height() * up - raised, top - raised
    for z in (step * np.arange(np.ceil(low / step), np.floor(high / step) + 1)).tolist():
        y = rect.top() + (high - z) / up
        painter.setPen(QPen(INK, 0.8))
        painter.drawLine(QLineF(rect.left() - 4, y, rect.left(), y))
        painter.drawText(
            QRectF(rect.left() - 54, y - 7, 48, 14),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            f"{z + 0.0:g} m",
        )
    step = round_interval(0.05 * element.scale)
    for along in np.arange(0.0, plane.length + 1e-6, step).tolist():
        x = rect.left() + (along - west) / m
        if rect.left() <= x <= rect.right():
            painter.drawLine(QLineF(x, rect.bottom(), x, rect.bottom() + 4))
            painter.drawText(QRectF(x - 40, rect.bottom() + 4, 80, 13), Qt.AlignmentFlag.AlignCenter, f"{along:g} m")
    painter.setFont(font_of(8.0, bold=True))
    first, last = end_names(element)
    for name, along in ((first, 0.0), (last, plane.length)):
        x = rect.left() + (along - west) / m
        painter.drawText(QRectF(x - 20, head - 18, 40, 16), Qt.AlignmentFlag.AlignCenter, name)
    painter.setFont(font_of(6.5))
    looking = f"looking {plane.view_azimuth:03.0f}°"
    if element.local is not None:
        looking = f"looking {round(plane.view_azimuth - element.local.azimuth) % 360:03d}° ({called(element.system)})"
    shape = f"fence of {len(plane.pieces)} pieces" if plane.bends else looking
    width = {"both sides": "on each side"}.get(element.side, element.side)
    parts = (
        f"Section {first}–{last}",
        shape,
        scale_words(element.scale),
        f"vertical × {element.exaggeration:g}",
        f"{element.corridor:g} m {width}",
    )
    metrics = painter.fontMetrics()  # as much as finds room, the most telling first
    fits = [n for n in range(1, 6) if metrics.horizontalAdvance(", ".join(parts[:n])) < rect.width() - 60]
    words = ", ".join(parts[: max(fits, default=1)])
    painter.drawText(QRectF(rect.left() + 30, head - 18, rect.width() - 60, 16), Qt.AlignmentFlag.AlignCenter, words)
