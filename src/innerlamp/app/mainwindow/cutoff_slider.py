"""The cut-off of an attribute as a slider over the histogram of its values."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QColor, QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from ...core.items.attributes import plain_number
from ...core.items.base import Item
from ...core.items.legend import Legend
from ..context import Context
from ..painters.colours import colour_at
from ..session.legends import values_of

_BARS, _HIGH, _EDGE = 56, 46, 5


def histogram(values: np.ndarray, legend: Legend, bars: int = _BARS) -> tuple[np.ndarray, float, float]:
    """Return counts of values in `bars` even steps of the legend's scale, and the ends of these in that scale.

    The ends are those of the ramp, widened to a cut-off outside of it; values beyond them count in the outer bars.
    """
    known = np.asarray(values, dtype=float)
    known = known[np.isfinite(known)]
    low, high = legend.low, legend.high
    if legend.cutoff is not None:
        low, high = min(low, legend.cutoff), max(high, legend.cutoff)
    if legend.scale == "log" and low > 0:
        known = np.log10(known[known > 0])
        low, high = np.log10(low), np.log10(high)
    if not high > low:
        high = low + 1.0
    counts, _ = np.histogram(np.clip(known, low, high), bars, (low, high))
    return counts, float(low), float(high)


class CutoffSlider(QWidget):
    """Drag the line, or use the arrow keys; Delete or the left end takes the cut-off off. One stop of the hand is one change."""

    def __init__(self, ctx: Context, legend: Legend, item: Item, told: Callable[[float | None], None]) -> None:
        super().__init__()
        self.ctx, self.legend, self.told = ctx, legend, told
        self.setObjectName("cutoffSlider")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"Cut-off of {legend.label}")
        unit = f" {legend.unit}" if legend.unit else ""
        self.setToolTip(
            f"Cut-off{unit}: what lies below is hidden in all panes. Drag the line or use the arrow keys; Delete takes it off."
        )
        self.counts, self.low, self.high = histogram(values_of(item, legend.attribute), legend)
        self.value = legend.cutoff
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(220)
        self._rest.timeout.connect(self._set)
        self._held = False

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(140, _HIGH)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(90, _HIGH)

    @property
    def _log(self) -> bool:
        return self.legend.scale == "log" and self.legend.low > 0

    def share(self) -> float:
        """Where the line stands, 0 to 1 from the left; 0 without a cut-off."""
        if self.value is None:
            return 0.0
        at = np.log10(self.value) if self._log and self.value > 0 else self.value
        return float(np.clip((at - self.low) / (self.high - self.low), 0.0, 1.0))

    def move_to(self, share: float) -> None:
        """Put the line at a share of the width; the left end takes the cut-off off."""
        if share <= 0.0:
            self.value = None
        else:
            at = self.low + min(share, 1.0) * (self.high - self.low)
            plain = 10.0**at if self._log else at
            self.value = float(f"{plain:.3g}")
        self.update()
        self._rest.start()

    def _set(self) -> None:
        if not self._held and self.value != self.legend.cutoff:
            self.told(self.value)

    def _inner(self) -> QRectF:
        return QRectF(_EDGE, 12, self.width() - 2 * _EDGE, self.height() - 15)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = True
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._held:
            inner = self._inner()
            self.move_to((event.position().x() - inner.left()) / inner.width())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = False
        self._rest.start(0)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_PageDown: -5, Qt.Key.Key_PageUp: 5}.get(
            Qt.Key(event.key())
        )
        if step is not None:
            self.move_to(self.share() + step / _BARS)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace, Qt.Key.Key_Home):
            self.move_to(0.0)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        inner, theme, at = self._inner(), self.ctx.theme, self.share()
        top = float(self.counts.max()) or 1.0
        wide = inner.width() / len(self.counts)
        plain = replace(self.legend, cutoff=None)
        for k, count in enumerate(self.counts.tolist()):
            middle = (k + 0.5) / len(self.counts)
            # Roots, so that the few high values that matter are seen beside the many low ones.
            tall = inner.height() * (count / top) ** 0.5
            colour = colour_at(plain, self._on_ramp(middle))
            if self.value is not None and middle < at:
                colour = QColor(theme.line)
            painter.fillRect(QRectF(inner.left() + k * wide, inner.bottom() - tall, wide + 0.3, tall), colour)
        painter.setPen(QPen(QColor(theme.line), 1.0))
        painter.drawLine(QPointF(inner.left(), inner.bottom()), QPointF(inner.right(), inner.bottom()))
        x = inner.left() + at * inner.width()
        ink = QColor(theme.lit if self.hasFocus() else theme.text)
        painter.setPen(QPen(ink, 1.6))
        painter.drawLine(QPointF(x, inner.top()), QPointF(x, inner.bottom()))
        painter.setBrush(ink)
        painter.drawPolygon(QPolygonF([QPointF(x - 4, 11), QPointF(x + 4, 11), QPointF(x, 17)]))
        font = QFont(painter.font())
        font.setPointSizeF(7.5)
        painter.setFont(font)
        painter.setPen(QColor(theme.text))
        words = "no cut-off" if self.value is None else f"≥ {plain_number(self.value)} {self.legend.unit}".rstrip()
        long = painter.fontMetrics().horizontalAdvance(words) + 4
        left = min(max(x - long / 2, 0.0), self.width() - long)
        painter.drawText(QRectF(left, 0, long, 12), Qt.AlignmentFlag.AlignCenter, words)
        painter.end()

    def _on_ramp(self, share: float) -> float:
        """Place of a bar on the ramp, whose ends may lie within those of the histogram."""
        at = self.low + share * (self.high - self.low)
        low, high = (np.log10(v) if self._log else v for v in (self.legend.low, self.legend.high))
        return float(np.clip((at - low) / max(high - low, 1e-12), 0.0, 1.0))
