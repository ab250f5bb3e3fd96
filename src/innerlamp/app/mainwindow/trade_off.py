"""The curve of an inversion on the card of its model: misfit against the size of the model, step by step."""

from __future__ import annotations

import numpy as np
import pandas as pd
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QToolTip, QWidget

from ..context.context import Context
from ..theme.plain import plain_tip

_HIGH, _LEFT, _UNDER = 104, 40.0, 26.0


class TradeOff(QWidget):
    """Log misfit upwards, log size of the model to the right; the target is dashed, the last step is the filled dot."""

    def __init__(self, ctx: Context, course: pd.DataFrame) -> None:
        super().__init__()
        self.ctx, self.course = ctx, course
        self.setObjectName("tradeOff")
        self.setAccessibleName("Misfit against size of the model")
        self.setMouseTracking(True)
        self.setToolTip("Misfit against the size of the model, step by step, both on log scales; point at a step")

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, _HIGH)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(120, _HIGH)

    def spots(self) -> list[QPointF]:
        """Where the steps lie, in pixels."""
        size = np.log10(np.maximum(self.course["size"].to_numpy(float), 1e-300))
        misfit = np.log10(np.maximum(self.course["misfit"].to_numpy(float), 1e-300))
        box = self._box()
        low, high = min(float(misfit.min()), 0.0) - 0.1, float(misfit.max()) + 0.1
        start, span = float(size.min()), max(float(np.ptp(size)), 1e-6)
        x = box.left() + 6 + (box.width() - 12) * (size - start) / span
        y = box.bottom() - box.height() * (misfit - low) / (high - low)
        self._target = float(box.bottom() - box.height() * (0.0 - low) / (high - low))
        return [QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]

    def _box(self) -> QRectF:
        return QRectF(_LEFT, 6.0, self.width() - _LEFT - 6.0, _HIGH - 6.0 - _UNDER)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme, box, spots = self.ctx.theme, self._box(), self.spots()
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawRect(box)
        painter.setPen(QPen(QColor(theme.faint), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(box.left(), self._target), QPointF(box.right(), self._target))
        misfit = self.course["misfit"].to_numpy(float)
        painter.setPen(QColor(theme.faint))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        marks = {self._target: "1"}
        if abs(spots[int(np.argmax(misfit))].y() - self._target) > 14:
            marks[spots[int(np.argmax(misfit))].y()] = f"{misfit.max():.3g}"
        for y, text in marks.items():
            painter.drawText(QRectF(0, y - 7, _LEFT - 4, 14), right, text)
        painter.drawText(
            QRectF(box.left(), box.bottom() + 2, box.width(), 12),
            Qt.AlignmentFlag.AlignCenter,
            "size of the model (log)",
        )
        painter.save()
        painter.translate(9, box.center().y())
        painter.rotate(-90)
        painter.drawText(QRectF(-40, -8, 80, 12), Qt.AlignmentFlag.AlignCenter, "misfit (log)")
        painter.restore()
        painter.setPen(QPen(QColor(theme.text), 1.4))
        painter.drawPolyline(QPolygonF(spots))
        painter.setBrush(QColor(theme.canvas))
        for k, spot in enumerate(spots):
            if k == len(spots) - 1:
                painter.setBrush(QColor(theme.lit))
            painter.drawEllipse(spot, 2.8, 2.8)
        painter.end()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        spots = self.spots()
        away = [np.hypot(s.x() - event.position().x(), s.y() - event.position().y()) for s in spots]
        k = int(np.argmin(away))
        if away[k] < 12:
            row = self.course.iloc[k]
            words = f"Step {row['iteration']:.0f}: misfit {row['misfit']:.3g}, size {row['size']:.3g}, trade-off {row['beta']:.3g}"
            QToolTip.showText(event.globalPosition().toPoint(), plain_tip(words), self)
