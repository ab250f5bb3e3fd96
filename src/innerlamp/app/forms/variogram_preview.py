"""The variogram of a form's samples: pairs as dots, the model as a curve that is dragged by its handles."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from ...core.compute.gridding.variogram import Experimental, Model, Shape, Structure, experimental, fit, propose_bins
from ...core.errors import LampError
from ...core.operations.grid_common import GridValues, values_of
from .. import background
from ..theme.theme import Theme
from .previews import Preview

if TYPE_CHECKING:
    from .form import OperationForm

_HEIGHT = 190


@dataclass(frozen=True)
class _Found:
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

    dragged = QtSignal(float, float, float)  # nugget, partial sill, range

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
        self.setToolTip("Dots: half the mean squared difference of pairs; the number is that of pairs. Drag the square to set the nugget, the ring to set range and sill.")  # fmt: skip

    def frame(self) -> QRectF:
        """The area of the plot on the widget."""
        return QRectF(40, 10, max(self.width() - 52, 20), _HEIGHT - 44)

    def _limits(self) -> tuple[float, float]:
        assert self.found is not None
        right = float(self.found.every.distance.max()) * 1.05
        top = float(self.found.every.gamma.max())
        if self.model is not None:
            right, top = max(right, self.model.structures[0].range * 1.05), max(top, self.model.sill)
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
        part = self.model.structures[0]
        return {"nugget": self.place(0.0, self.model.nugget), "sill": self.place(part.range, self.model.sill)}

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
        painter.drawText(QRectF(f.left(), f.bottom() + 15, f.width(), 13), Qt.AlignmentFlag.AlignHCenter, "Distance (m)")  # fmt: skip

    def _dots(self, painter: QPainter, found: _Found) -> None:
        for data, colour, hollow in ((found.across, self.theme.faint, True), (found.along, self.theme.faint, False), (found.every, self.theme.text, False)):  # fmt: skip
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
        painter.drawRect(QRectF(marks["nugget"].x() - 4, marks["nugget"].y() - 4, 8, 8))
        painter.drawEllipse(marks["sill"], 5.5, 5.5)

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
        part = self.model.structures[0]
        if self._held == "nugget":
            self.dragged.emit(min(gamma, self.model.sill * 0.999), max(self.model.sill - gamma, self.model.sill * 1e-3), part.range)  # fmt: skip
        else:
            distance = float(np.clip((event.position().x() - f.left()) / f.width(), 0.01, 0.98)) * right
            self.dragged.emit(self.model.nugget, max(gamma - self.model.nugget, top * 1e-3), distance)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = ""


class VariogramPreview(Preview):
    """Experimental variogram and model of the form; zeros in the form mean the fitted model."""

    def __init__(self, form: OperationForm) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.view = VariogramView(form.ctx.theme)
        self.view.dragged.connect(self._dragged)
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.again = QPushButton("Fit again")
        self.again.setToolTip("Take the model that fits the dots best")
        self.again.clicked.connect(self.fit_again)
        for widget in (self.view, self.words, self.again):
            box.addWidget(widget)
        self._answers = background.Answers()
        self._answers.came.connect(self._came)
        self._asked: object = None
        self._number = 0

    def _number_of(self, name: str, otherwise: float) -> float:
        try:
            return float(str(self.form.fields[name].value()))
        except ValueError:
            return otherwise

    def update_preview(self) -> None:
        source = (self.form.items() or {}).get("samples")
        values = self.form.values()
        if source is None or not values.get("attribute"):
            return
        asked = (id(source), *(str(values[n]) for n in ("attribute", "transform", "shape", "azimuth", "ratio")))
        if asked == self._asked:
            self._show()
            return
        self._asked = asked
        self._number += 1
        p = GridValues(attribute=str(values["attribute"]), transform=values["transform"])  # type: ignore[arg-type]
        shape: Shape = str(values["shape"])  # type: ignore[assignment]
        azimuth, ratio = self._number_of("azimuth", 0.0), self._number_of("ratio", 1.0)

        def work() -> _Found:
            x, y, v, _ = values_of(source, p)
            width, bins = propose_bins(x, y)
            every = experimental(x, y, v, width, bins)
            sides = [experimental(x, y, v, width, bins, (azimuth + turn) % 180.0) for turn in (0.0, 90.0)] if ratio < 1 else [None, None]  # fmt: skip
            return _Found(every, sides[0], sides[1], fit(every, shape, azimuth, ratio))

        self.words.setText("Pairing samples …")
        background.start(self._answers, self._number, work, "The variogram can't be worked out")

    def _came(self, number: int, result: object) -> None:
        if number != self._number:
            return
        if isinstance(result, LampError):
            self.view.found = None
            self.words.setText(str(result))
            self.view.update()
            return
        assert isinstance(result, _Found)
        self.view.found = result
        self._show()

    def model(self) -> Model | None:
        """The model as the form has it, what is not set taken from the fit."""
        found = self.view.found
        if found is None:
            return None
        nugget, sill, reach = (self._number_of(n, d) for n, d in (("nugget", -1.0), ("sill", 0.0), ("reach", 0.0)))
        part = found.model.structures[0]
        return Model(
            nugget if nugget >= 0 else found.model.nugget,
            (Structure(part.shape, sill if sill > 0 else part.sill, reach if reach > 0 else part.range),),
            found.model.azimuth, found.model.ratio,
        )  # fmt: skip

    def _show(self) -> None:
        self.view.model = self.model()
        if self.view.model is not None and self.view.found is not None:
            part = self.view.model.structures[0]
            self.words.setText(f"{part.shape.capitalize()}: nugget {self.view.model.nugget:.3g}, sill {part.sill:.3g}, range {part.range:,.0f} m; {int(self.view.found.every.pairs.sum()):,} pairs")  # fmt: skip
        self.view.update()

    def _dragged(self, nugget: float, sill: float, reach: float) -> None:
        for name, value in (("nugget", nugget), ("sill", sill), ("reach", reach)):
            self.form.fields[name].set_value(float(f"{value:.4g}"))
            self.form.fields[name].touched = True
        self._show()

    def fit_again(self) -> None:
        """Give nugget, sill and range back to the fit."""
        for name, value in (("nugget", -1.0), ("sill", 0.0), ("reach", 0.0)):
            self.form.fields[name].set_value(value)
        self._show()
