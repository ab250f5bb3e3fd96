"""Evidence curves of a ranking, each over the spread of its values."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF

from ...core.compute.targets.evidence import column_maximum
from ...core.items.fields import BlockModel, Grid
from .form_state import FormState
from .previews import Preview


class CurvesPreview(Preview):
    """The evidence curves of a ranking, each over the spread of its values."""

    ROW = 62

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        self.curves: list[tuple[str, float, float, bool, float, np.ndarray]] = []
        self._values: dict[str, np.ndarray] = {}

    def update_preview(self) -> None:
        def number(name: str) -> float:
            try:
                return float(str(self.form.fields[name].value()))
            except ValueError:
                return 0.0

        items = self.form.items() or {}
        self.curves = []
        soil, model = items.get("soil"), items.get("model")
        if isinstance(soil, Grid):
            values = soil.values[np.isfinite(soil.values)]
            self._add(
                f"{soil.attribute} ({soil.unit})",
                values,
                number("soil_low"),
                number("soil_high"),
                True,
                number("soil_weight"),
            )
        if isinstance(model, BlockModel):
            values = self._depth_values(model, number("shallow"), number("deep"))
            name = next(iter(model.properties))
            self._add(
                f"{name} at depth ({model.units.get(name, '')})",
                values,
                number("depth_low"),
                number("depth_high"),
                True,
                number("depth_weight"),
            )
        if "shell" in items:
            self._add(
                "distance to shell (m)",
                np.empty(0),
                number("shell_near"),
                number("shell_far"),
                False,
                number("shell_weight"),
            )
        if "holes" in items:
            self._add(
                "distance to drilling (m)",
                np.empty(0),
                number("drilled_near"),
                number("drilled_far"),
                True,
                number("drilled_weight"),
            )
        self.setFixedHeight(max(self.ROW * len(self.curves), 1))
        self.update()

    def _depth_values(self, model: BlockModel, shallow: float, deep: float) -> np.ndarray:
        values = next(iter(model.properties.values()))
        best = column_maximum(values, model.mesh, shallow, deep)
        return np.asarray(best[np.isfinite(best)])

    def _add(self, name: str, values: np.ndarray, low: float, high: float, more: bool, weight: float) -> None:
        if low == 0 and high == 0 and len(values):
            low, high = (float(v) for v in np.percentile(values, [50, 98]))
        self.curves.append((name, low, high, more, weight, values))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self.form.ctx.theme
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        for number, (name, low, high, more, weight, values) in enumerate(self.curves):
            frame = QRectF(4, number * self.ROW + 15, self.width() - 8, self.ROW - 31)
            painter.setPen(QColor(theme.text))
            painter.drawText(
                QRectF(4, number * self.ROW, self.width() - 8, 14),
                Qt.AlignmentFlag.AlignLeft,
                f"{name}, weight {weight:g}",
            )
            left, right = (
                (0.0, 1.25 * max(high, 1e-12))
                if not len(values)
                else (min(float(values.min()), low), max(float(np.percentile(values, 99.5)), high * 1.1))
            )
            span = max(right - left, 1e-12)
            if len(values):
                counts, _ = np.histogram(values, bins=40, range=(left, right))
                tall = np.sqrt(counts / max(counts.max(), 1))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(theme.line))
                for k, h in enumerate(tall):
                    painter.drawRect(
                        QRectF(
                            frame.left() + frame.width() * k / 40,
                            frame.bottom() - frame.height() * h,
                            frame.width() / 40,
                            frame.height() * h,
                        )
                    )
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(theme.text), 1.6))
            points = QPolygonF()
            for value, worth in (
                (left, 0.0 if more else 1.0),
                (low, 0.0 if more else 1.0),
                (high, 1.0 if more else 0.0),
                (right, 1.0 if more else 0.0),
            ):
                x = frame.left() + frame.width() * min(max((value - left) / span, 0.0), 1.0)
                points.append(frame.topLeft() + type(frame.topLeft())(x - frame.left(), frame.height() * (1 - worth)))
            painter.drawPolyline(points)
            painter.setPen(QColor(theme.faint))
            for value in (low, high):
                x = frame.left() + frame.width() * min(max((value - left) / span, 0.0), 1.0)
                painter.drawText(
                    QRectF(x - 40, frame.bottom() + 1, 80, 12).intersected(QRectF(0, 0, self.width(), self.height())),
                    Qt.AlignmentFlag.AlignHCenter,
                    f"{value:.3g}",
                )
        painter.end()
