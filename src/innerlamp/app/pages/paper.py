"""Measures of paper: millimetres in pixels of 96 to the inch, ink, fonts, round intervals."""

from __future__ import annotations

from PySide6.QtGui import QColor, QFont

from ...core.compute.gridding.contouring import nearest_round

MM = 96.0 / 25.4
PAD = 6.0  # millimetres of the strip round a map in which its coordinates stand
INK, FAINT = QColor("#1B1B1B"), QColor("#6A6A6A")


def font_of(points: float, bold: bool = False) -> QFont:
    """Return the font of pages in a size; sizes are in points of paper."""
    font = QFont("DejaVu Sans")
    font.setPointSizeF(points)
    font.setBold(bold)
    return font


def round_interval(about: float) -> float:
    """Return the round length (1, 2 or 5 times a power of ten) that is nearest to one."""
    return nearest_round(max(about, 1e-6))
