"""Measures of paper: millimetres in pixels of 96 to the inch, ink, fonts, round intervals."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QColor, QFont

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
    """Return 1, 2, or 5 times the power of ten that is nearest to a length."""
    power = 10.0 ** np.floor(np.log10(max(about, 1e-6)))
    return float(min((m * power for m in (1, 2, 5, 10)), key=lambda v: abs(np.log(v / max(about, 1e-6)))))
