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
from ...core.items.legend import Legend, position, value_at
from ..context.context import Context
from ..painters.kit.colours import colour_at
from ..session.legends import values_of
from ..theme.plain import plain_tip

_BARS, _HIGH, _EDGE = 56, 46, 5


def axis_of(legend: Legend) -> Legend:
    """Return the scale that the slider runs on: that of the ramp, log or linear, widened to a cut-off outside of it."""
    log = legend.scale == "log" and legend.low > 0
    ends = [legend.low, legend.high]
    if legend.cutoff is not None and (legend.cutoff > 0 or not log):
        ends.append(legend.cutoff)
    low, high = min(ends), max(ends)
    if not high > low:
        high = 10.0 * low if log else low + 1.0
    return replace(legend, scale="log" if log else "linear", low=low, high=high, breaks=(), cutoff=None)


def histogram(values: np.ndarray, axis: Legend, bars: int = _BARS) -> np.ndarray:
    """Return counts of values in `bars` even steps of an axis; those beyond its ends count in the outer bars."""
    known = np.asarray(values, dtype=float)
    known = known[np.isfinite(known) & ((known > 0) | (axis.scale != "log"))]
    return np.histogram(position(axis, known), bars, (0.0, 1.0))[0]


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
            plain_tip(
                f"Cut-off{unit}: what lies below is hidden in all panes. Drag the line or use the arrow keys; Delete takes it off."
            )
        )
        self.axis = axis_of(legend)
        self.counts = histogram(values_of(item, legend.attribute), self.axis)
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

    def share(self) -> float:
        """Where the line stands, 0 to 1 from the left; 0 without a cut-off."""
        return 0.0 if self.value is None else float(position(self.axis, np.array([self.value]))[0])

    def move_to(self, share: float) -> None:
        """Put the line at a share of the width; the left end takes the cut-off off."""
        if share <= 0.0:
            self.value = None
        else:
            self.value = float(f"{value_at(self.axis, min(share, 1.0)):.3g}")
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
        middles = (np.arange(len(self.counts)) + 0.5) / len(self.counts)
        # A bar has the colour that its values have in the panes.
        on_ramp = position(self.legend, np.array([value_at(self.axis, m) for m in middles.tolist()])).tolist()
        for k, count in enumerate(self.counts.tolist()):
            # Roots, so that the few high values that matter are seen beside the many low ones.
            tall = inner.height() * (count / top) ** 0.5
            colour = colour_at(plain, on_ramp[k])
            if self.value is not None and middles[k] < at:
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
