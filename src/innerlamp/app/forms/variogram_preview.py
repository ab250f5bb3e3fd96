"""The variogram of a form's samples: pairs as dots, the model as a curve that is dragged by its handles."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import cast

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ...core.compute.gridding.variogram import Experimental, Model, experimental, propose_bins
from ...core.errors import LampError
from ...core.items.points import PointSet, SurveyLines
from ...core.operations.grids.interpolation import VariogramChoice, settled_model
from ...core.operations.grids.sampling import Transform, values_of
from ...core.progress import Progress
from ..theme.plain import Label
from ..theme.theme import Theme
from .form_state import FormState
from .previews import Preview

_HEIGHT = 190


@dataclass(frozen=True)
class _Found:
    key: tuple[object, ...]
    every: Experimental
    along: Experimental | None
    across: Experimental | None
    model: Model


def _ticks(end: float, count: int) -> list[float]:
    """Round values from 0 to the end of an axis."""
    step = round_step(end / count)
    return [k * step for k in range(int(end / step + 1e-9) + 1)]


def round_step(least: float) -> float:
    """Return the smallest of 1, 2, 5 times a power of ten that is not below `least`."""
    power = 10.0 ** np.floor(np.log10(max(least, 1e-30)))
    return float(next(m * power for m in (1, 2, 5, 10) if m * power >= least * (1 - 1e-9)))


def _short(count: int) -> str:
    return f"{count}" if count < 1000 else f"{count / 1000:.0f}k"


class VariogramView(QWidget):
    """Semivariance against distance. The square handle is the nugget, the round one range and sill."""

    dragged = QtSignal(object)  # fields of the form and their values

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.found: _Found | None = None
        self.model: Model | None = None
        self.unit = ""
        self._held = ""
        self.setFixedHeight(_HEIGHT)
        self.setMouseTracking(True)
        self.setAccessibleName("Variogram")
        self.setToolTip(
            "Dots: half the mean squared difference of pairs; the number is that of pairs. Drag the square to set the nugget, the ring to set range and sill, the diamond on the axis to set the range across (its dashed curve)."
        )

    def frame(self) -> QRectF:
        """The area of the plot on the widget."""
        return QRectF(40, 10, max(self.width() - 52, 20), _HEIGHT - 44)

    def _limits(self) -> tuple[float, float]:
        assert self.found is not None
        right = float(self.found.every.distance.max()) * 1.05
        top = float(self.found.every.gamma.max())
        if self.model is not None:
            right, top = max(right, *(s.range * 1.05 for s in self.model.structures)), max(top, self.model.sill)
        return right, top * 1.15

    def place(self, distance: float, gamma: float) -> QPointF:
        """Where a distance and a semivariance are on the widget."""
        right, top = self._limits()
        f = self.frame()
        return QPointF(f.left() + distance / right * f.width(), f.bottom() - gamma / top * f.height())

    def handles(self) -> dict[str, QPointF]:
        """Places of the handles."""
        if self.found is None or self.model is None:
            return {}
        out = {"nugget": self.place(0.0, self.model.nugget)}
        height = self.model.nugget
        for name, part in zip(("sill", "second"), self.model.structures, strict=False):
            height += part.sill
            out[name] = self.place(part.range, height)
        out["ratio"] = self.place(self.model.structures[0].range * self.model.ratio, 0.0)
        return out

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(self.theme.panel))
        painter.setPen(QColor(self.theme.line))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        if self.found is not None and self.model is not None:
            self._axes(painter)
            self._dots(painter, self.found)
            self._curve(painter, self.model)
        painter.end()

    def _axes(self, painter: QPainter) -> None:
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        f, (right, top) = self.frame(), self._limits()
        painter.setPen(QColor(self.theme.line))
        painter.drawLine(f.bottomLeft(), f.bottomRight())
        painter.drawLine(f.bottomLeft(), f.topLeft())
        painter.setPen(QColor(self.theme.faint))
        for value in _ticks(right, 5):
            x = self.place(value, 0).x()
            painter.drawText(QRectF(x - 30, f.bottom() + 2, 60, 12), Qt.AlignmentFlag.AlignHCenter, f"{value:.10g}")
        for value in _ticks(top, 4):
            y = self.place(0, value).y()
            painter.drawText(QRectF(0, y - 6, 36, 12), Qt.AlignmentFlag.AlignRight, f"{value:.10g}")
        painter.drawText(
            QRectF(f.left(), f.bottom() + 15, f.width(), 13), Qt.AlignmentFlag.AlignHCenter, "Distance (m)"
        )

    def _dots(self, painter: QPainter, found: _Found) -> None:
        for data, colour, hollow in (
            (found.across, self.theme.faint, True),
            (found.along, self.theme.faint, False),
            (found.every, self.theme.text, False),
        ):
            if data is None:
                continue
            painter.setPen(QPen(QColor(colour), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush if hollow else QColor(colour))
            size = 2.0 if data is not found.every else 3.2
            for h, g in zip(data.distance, data.gamma, strict=True):
                painter.drawEllipse(self.place(float(h), float(g)), size, size)
        painter.setPen(QColor(self.theme.faint))
        step = max(1, len(found.every.pairs) // 6)
        for h, g, n in list(zip(found.every.distance, found.every.gamma, found.every.pairs, strict=True))[::step]:
            at = self.place(float(h), float(g))
            below = self.frame().bottom() - 12 if at.y() < self.frame().bottom() - 26 else at.y() - 17
            painter.drawText(QRectF(at.x() - 30, below, 60, 11), Qt.AlignmentFlag.AlignHCenter, _short(int(n)))

    def _curve(self, painter: QPainter, model: Model) -> None:
        right, _ = self._limits()
        h = np.concatenate([[1e-9], np.linspace(right / 200, right, 200)])
        curve = QPolygonF([self.place(float(d), float(g)) for d, g in zip(h, model.gamma(h), strict=True)])
        painter.setPen(QPen(QColor(self.theme.lit), 2.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(curve)
        painter.setBrush(QColor(self.theme.panel))
        marks = self.handles()
        at, side = marks.pop("nugget"), marks.pop("ratio")
        painter.drawRect(QRectF(at.x() - 4, at.y() - 4, 8, 8))
        if model.ratio < 1.0:
            across = QPolygonF(
                [self.place(float(d) * model.ratio, float(g)) for d, g in zip(h, model.gamma(h), strict=True)]
            )
            painter.setPen(QPen(QColor(self.theme.lit), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(across)
            painter.setPen(QPen(QColor(self.theme.lit), 2.0))
            painter.setBrush(QColor(self.theme.panel))
        painter.drawPolygon(QPolygonF([side + QPointF(*d) for d in ((0, -5), (5, 0), (0, 5), (-5, 0))]))
        for at in marks.values():
            painter.drawEllipse(at, 5.5, 5.5)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        for name, at in self.handles().items():
            if (event.position() - at).manhattanLength() < 14:
                self._held = name

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if not self._held or self.model is None:
            return
        right, top = self._limits()
        f = self.frame()
        gamma = float(np.clip((f.bottom() - event.position().y()) / f.height(), 0.0, 0.98)) * top
        parts = self.model.structures
        if self._held == "nugget":
            first = parts[0]
            self.dragged.emit(
                {
                    "nugget": min(gamma, self.model.nugget + first.sill * 0.999),
                    "sill": max(self.model.nugget + first.sill - gamma, self.model.sill * 1e-3),
                    "range_m": first.range,
                }
            )
            return
        distance = float(np.clip((event.position().x() - f.left()) / f.width(), 0.01, 0.98)) * right
        if self._held == "ratio":
            self.dragged.emit({"ratio": float(np.clip(distance / parts[0].range, 0.05, 1.0))})
        elif self._held == "sill":
            self.dragged.emit(
                {"nugget": self.model.nugget, "sill": max(gamma - self.model.nugget, top * 1e-3), "range_m": distance}
            )
        else:
            self.dragged.emit(
                {"second_sill": max(gamma - self.model.nugget - parts[0].sill, top * 1e-3), "second_range_m": distance}
            )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = ""


class VariogramPreview(Preview):
    """Experimental variogram and model of the form; zeros in the form mean the fitted model."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.view = VariogramView(form.ctx.theme)
        self.view.dragged.connect(self._dragged)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.again = QPushButton("Fit again")
        self.again.setToolTip("Take the model that fits the dots best")
        self.again.clicked.connect(self.fit_again)
        for widget in (self.view, self.words, self.again):
            box.addWidget(widget)
        self._asked: object = None
        self._pairs: dict[tuple[object, ...], _Found] = {}

    def _choice(self) -> VariogramChoice | None:
        """The part of the form that tells the model; None while a number in it is none."""
        values = self.form.values()
        try:
            return VariogramChoice.model_validate({k: values[k] for k in VariogramChoice.model_fields})
        except ValueError:
            return None

    def update_preview(self) -> None:
        source = self.form.item("samples")
        values, choice = self.form.values(), self._choice()
        if not isinstance(source, PointSet | SurveyLines) or not values.get("attribute") or choice is None:
            return
        asked = (id(source), values["attribute"], values["transform"], choice)
        if asked == self._asked:
            return
        self._asked = asked
        known = self._pairs.get((*asked[:3], choice.azimuth))
        attribute, transform = str(values["attribute"]), cast(Transform, values["transform"])

        def work(_: Progress) -> _Found:
            if known is not None:
                return dataclasses.replace(known, model=settled_model(known.every, choice))
            x, y, v = values_of(source, attribute, transform)
            width, bins = propose_bins(x, y)
            every = experimental(x, y, v, width, bins)
            sides = [experimental(x, y, v, width, bins, (choice.azimuth + turn) % 180.0) for turn in (0.0, 90.0)]
            return _Found((*asked[:3], choice.azimuth), every, sides[0], sides[1], settled_model(every, choice))

        if known is None:
            self.words.setText("Pairing samples …")
        self.form.lane.call("variogram", work, self._came)

    def _came(self, result: object) -> None:
        if isinstance(result, LampError):
            self.view.found = None
            self.words.setText(str(result))
            self.view.update()
            return
        assert isinstance(result, _Found)
        self.view.found, self.view.model = result, result.model
        self._pairs = {result.key: result}
        parts = "; ".join(f"{s.shape} sill {s.sill:.3g}, range {s.range:,.0f} m" for s in result.model.structures)
        self.words.setText(
            f"Nugget {result.model.nugget:.3g}; {parts}. {int(result.every.pairs.sum()):,} pairs; small dots along {result.model.azimuth:03.0f}°, rings across it."
        )
        self.view.update()

    def _dragged(self, values: dict[str, float]) -> None:
        for name, value in values.items():
            self.form.fields[name].set_value(float(f"{value:.4g}"))
            self.form.fields[name].touched = True
        self._remodel()

    def _remodel(self) -> None:
        """Draw the form's model at once; the words follow from the other thread."""
        choice = self._choice()
        if choice is not None and self.view.found is not None:
            self.view.model = settled_model(self.view.found.every, choice)
            self.view.update()
        self.update_preview()

    def fit_again(self) -> None:
        """Give nugget, sill and range back to the fit."""
        zeros = {"nugget": -1.0, "sill": 0.0, "range_m": 0.0, "second_sill": 0.0, "second_range_m": 0.0}
        for name, value in zeros.items():
            self.form.fields[name].set_value(value)
        self._remodel()
