"""What stands beside the maps of a page: legend, scale bar, north arrows, title block, notes, inset, pictures."""

from __future__ import annotations

import base64
import binascii
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from ...core.compute.potential.mainfield import main_field
from ...core.crs import grid_convergence, to_lonlat
from ...core.errors import LampError
from ...core.items.page import Element, scale_words
from ...core.local_grid import called
from ..context.context import Context
from ..painters.kit.bitmaps import bitmap, fitted
from .frames import ground_of, metres_per_pixel
from .paper import FAINT, INK, MM, font_of, round_interval

LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
MIDDLE = Qt.AlignmentFlag.AlignCenter


def rect_of(element: Element) -> QRectF:
    """The element's rectangle in pixels."""
    return QRectF(element.x * MM, element.y * MM, element.w * MM, element.h * MM)


# ---- scale bar and north


def paint_scale(painter: QPainter, element: Element, target: Element) -> None:
    """Draw a bar of a round length, and the scale in figures."""
    rect, m = rect_of(element), metres_per_pixel(target)
    length = round_interval(0.55 * rect.width() * m)
    while length / m > 0.8 * rect.width():
        length /= 2.0
    pixels, left, y = length / m, rect.left() + 8, rect.top() + 20
    painter.setPen(QPen(INK, 0.9))
    painter.setFont(font_of(7.0))
    words, each = ("km", 1000.0) if length >= 1000 else ("m", 1.0)
    for k in range(4):
        piece = QRectF(left + k * pixels / 4, y, pixels / 4, 5)
        painter.setBrush(INK if k % 2 == 0 else QColor("#FFFFFF"))
        painter.drawRect(piece)
    for k in (0, 2, 4):
        text = f"{k * length / 4 / each:g}" + (f" {words}" if k == 4 else "")
        painter.drawText(QRectF(left + k * pixels / 4 - 40, y - 16, 80, 14), MIDDLE, text)
    painter.setFont(font_of(8.0, bold=True))
    painter.drawText(QRectF(rect.left(), y + 8, rect.width(), 18), LEFT, f"  Scale {scale_words(target.scale)}")


def north_angles(crs: str, element: Element, when: str) -> tuple[float, float]:
    """Return true and magnetic north in degrees clockwise from grid north, at the middle of a map.

    Raises
    ------
    LampError
        When the main field is not known for the date.
    """
    lon, lat = to_lonlat(crs, element.easting, element.northing)
    turn = grid_convergence(crs, element.easting, element.northing)
    return -turn, main_field(float(lon), float(lat), 0.0, when).declination - turn


def paint_north(painter: QPainter, element: Element, target: Element, crs: str) -> None:
    """Draw grid, true and magnetic north; small angles are drawn wider than they are, and written."""
    rect = rect_of(element)
    try:
        true, magnetic = north_angles(crs, target, element.date)
    except LampError:
        true = magnetic = float("nan")
    local = target.local.turned if target.local is not None else 0.0
    below = 54 if target.local is not None else 42  # for the words
    foot = QPointF(rect.center().x(), rect.bottom() - below)
    high = max(rect.height() - below - 24.0, 20.0)
    if abs(local) > 100.0:  # local north points down: the arrows share the room
        foot.setY(foot.y() - high / 2)
        high /= 2
    painter.setFont(font_of(7.0))

    def arrow(angle: float, name: str, mark: str) -> None:
        painter.save()
        painter.translate(foot)
        painter.rotate(angle)
        painter.setPen(QPen(INK, 1.1))
        painter.drawLine(QPointF(0, 0), QPointF(0, -high))
        painter.setBrush(QColor("#FFFFFF") if mark == "open" else INK)
        if mark in ("full", "open"):
            painter.drawPolygon(QPolygonF([QPointF(0, -high - 4), QPointF(-4, -high + 10), QPointF(4, -high + 10)]))
        elif mark == "half":
            painter.drawPolygon(QPolygonF([QPointF(0, -high - 2), QPointF(4, -high + 10), QPointF(0, -high + 8)]))
        else:
            painter.drawEllipse(QPointF(0, -high), 2.0, 2.0)
        painter.drawText(QRectF(-24, -high - 18, 48, 13), MIDDLE, name)
        painter.restore()

    def spread(angle: float, other: float) -> float:
        """At least 14 degrees apart, so that the arrows can be told from each other."""
        return angle if abs(angle) > 14 else float(np.copysign(14.0, angle if abs(angle) > 1e-9 else other))

    arrow(0.0, "GN", "full")
    if np.isfinite(true):
        shown_m = spread(magnetic, 1.0)
        shown_t = spread(true, -shown_m)
        if abs(shown_t - shown_m) < 10:
            shown_m = shown_m * 2.0
        arrow(shown_t, "TN", "dot")
        arrow(shown_m, "MN", "half")
    if target.local is not None:
        arrow(local, "LN", "open")
    painter.setPen(INK)
    painter.setFont(font_of(6.0))
    words = (
        [f"true {_side(true)}", f"magnetic {_side(magnetic)}", element.date]
        if np.isfinite(true)
        else ["magnetic north not known", element.date]
    )
    if target.local is not None:
        words.insert(0, f"{called(target.system)} {_side(local)}")
    for k, text in enumerate(words):
        painter.drawText(
            QRectF(rect.left() - 20, rect.bottom() - 12 * len(words) + 12 * k, rect.width() + 40, 12), MIDDLE, text
        )


def _side(angle: float) -> str:
    if abs(angle) < 0.05:
        return "along the grid"
    return f"{abs(angle):.1f}° {'E' if angle >= 0 else 'W'} of grid"


# ---- words, inset, pictures


def paint_title(painter: QPainter, element: Element, page_name: str) -> None:
    """Draw the title block: a heading, a second line, and rows of what must be known about the map."""
    rect = rect_of(element)
    painter.setPen(QPen(INK, 1.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(rect)
    lines = element.text.split("\n") if element.text else [page_name]
    y = rect.top() + 6
    for number, line in enumerate(lines[:4]):
        size = 13.0 if number == 0 else 8.5
        while size > 6.0:
            painter.setFont(font_of(size, bold=number == 0))
            if painter.fontMetrics().horizontalAdvance(line) <= rect.width() - 12:
                break
            size -= 0.5
        high = painter.fontMetrics().height() + 2.0
        painter.drawText(QRectF(rect.left() + 6, y, rect.width() - 12, high), LEFT, line)
        y += high
    y += 4
    painter.setPen(QPen(INK, 0.6))
    painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
    painter.setFont(font_of(7.0))
    step = min((rect.bottom() - y - 3) / max(len(element.fields), 1), 19.0)
    for name, value in element.fields.items():
        painter.setPen(FAINT)
        painter.drawText(QRectF(rect.left() + 6, y, 58, step), LEFT, name)
        painter.setPen(INK)
        shown = painter.fontMetrics().elidedText(value, Qt.TextElideMode.ElideRight, int(rect.width() - 70))
        painter.drawText(QRectF(rect.left() + 64, y, rect.width() - 68, step), LEFT, shown)
        y += step


def paint_notes(painter: QPainter, element: Element) -> None:
    """Draw words that wrap within the element."""
    painter.setPen(INK)
    painter.setFont(font_of(7.0))
    painter.drawText(
        rect_of(element),
        Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap,
        element.text,
    )


def paint_inset(painter: QPainter, ctx: Context, element: Element, target: Element) -> None:
    """Draw where the map lies within the whole project: outlines of its items, the map as a frame."""
    whole = rect_of(element)
    rect = whole.adjusted(0, 16, 0, 0)
    boxes = np.array([e.bounds[:4] for e in ctx.entries() if np.isfinite(e.bounds[:4]).all()] or [ground_of(target)])
    here = ground_of(target)
    west, east = min(boxes[:, 0].min(), here[0]), max(boxes[:, 1].max(), here[1])
    south, north = min(boxes[:, 2].min(), here[2]), max(boxes[:, 3].max(), here[3])
    m = 1.12 * max((east - west) / rect.width(), (north - south) / rect.height())
    middle = QPointF(0.5 * (west + east), 0.5 * (south + north))

    def placed(box: Any) -> QRectF:
        left = rect.center().x() + (box[0] - middle.x()) / m
        top = rect.center().y() - (box[3] - middle.y()) / m
        return QRectF(left, top, (box[1] - box[0]) / m, (box[3] - box[2]) / m)

    painter.setBrush(QColor("#FFFFFF"))
    painter.setPen(QPen(INK, 0.8))
    painter.drawRect(whole)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(FAINT, 0.6))
    for box in boxes:
        painter.drawRect(placed(box))
    painter.setPen(QPen(QColor("#B35A00"), 1.6))
    painter.drawRect(placed(here))
    painter.setPen(INK)
    painter.setFont(font_of(6.0))
    painter.drawText(
        whole.adjusted(4, 2, 0, 0),
        Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop,
        "This map within the project",
    )


def paint_picture(painter: QPainter, element: Element) -> None:
    """Draw a picture as large as fits, undistorted."""
    rect = rect_of(element)
    try:
        image = bitmap(base64.b64decode(element.data, validate=True))
    except (binascii.Error, ValueError):
        image = QImage()
    if image.isNull():
        painter.setPen(FAINT)
        painter.setFont(font_of(7.0))
        painter.drawRect(rect)
        painter.drawText(rect, MIDDLE, "no picture")
        return
    painter.drawImage(fitted(image, rect), image)
