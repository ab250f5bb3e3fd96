"""A picture of the lines of a resistivity survey; a click on a line turns it round."""

from __future__ import annotations

import numpy as np
import pandas as pd
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtCore import Signal as QtSignal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.compute.geometry.lines import natural
from ...core.declaring.operation import Inputs
from ...core.errors import LampError
from ...core.items.electrodes import ElectrodeSurvey
from ..theme.plain import Label
from ..theme.theme import Theme
from .fields import ListField
from .form_state import FormState
from .previews import Preview


class LayoutView(QWidget):
    """Electrodes from above, north up: the first of each line is a ring, an arrow runs towards the last."""

    clicked = QtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.electrodes = pd.DataFrame()
        self.reversed: set[str] = set()
        self.setFixedHeight(170)
        self.setToolTip("Lines of electrodes from above, north up. Click a line to turn it round.")
        self.setAccessibleName("Layout of the lines")

    def show_lines(self, electrodes: pd.DataFrame, turned: set[str]) -> None:
        """Show electrodes (line, x, y) and which lines are turned round."""
        self.electrodes, self.reversed = electrodes, turned
        self.update()

    def lines(self) -> dict[str, np.ndarray]:
        """Places of the electrodes on the widget, by line in natural order."""
        if not len(self.electrodes):
            return {}
        x, y = self.electrodes["x"].to_numpy(float), self.electrodes["y"].to_numpy(float)
        frame = QRectF(34, 24, max(self.width() - 68, 10), max(self.height() - 48, 10))
        scale = min(frame.width() / max(np.ptp(x), 1e-6), frame.height() / max(np.ptp(y), 1e-6))
        px = frame.center().x() + (x - 0.5 * (x.min() + x.max())) * scale
        py = frame.center().y() - (y - 0.5 * (y.min() + y.max())) * scale
        line = self.electrodes["line"].to_numpy()
        return {str(n): np.column_stack([px, py])[line == n] for n in sorted(pd.unique(line), key=natural)}

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(self.theme.panel))
        painter.setPen(QColor(self.theme.line))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        for name, at in self.lines().items():
            ink = QColor(self.theme.lit if name in self.reversed else self.theme.text)
            painter.setPen(QPen(ink, 1.4))
            painter.drawPolyline([QPointF(*p) for p in at])
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ink)
            for place in at:
                painter.drawEllipse(QPointF(*place), 1.6, 1.6)
            painter.setBrush(QColor(self.theme.panel))
            painter.setPen(QPen(ink, 1.4))
            painter.drawEllipse(QPointF(*at[0]), 4.5, 4.5)
            if len(at) > 1:
                self._arrow(painter, at[-2], at[-1])
            away = at[0] - at[-1]
            away = away / max(float(np.hypot(*away)), 1e-9) * 15
            painter.setPen(ink)
            words = f"{name} ⇄" if name in self.reversed else name
            painter.drawText(
                QRectF(at[0][0] + away[0] - 40, at[0][1] + away[1] - 7, 80, 14), Qt.AlignmentFlag.AlignCenter, words
            )
        painter.end()

    @staticmethod
    def _arrow(painter: QPainter, a: np.ndarray, b: np.ndarray) -> None:
        along = (b - a) / max(float(np.hypot(*(b - a))), 1e-9)
        side = np.array([-along[1], along[0]])
        for sign in (1, -1):
            painter.drawLine(QPointF(*(b + along * 6)), QPointF(*(b - along * 2 + sign * side * 4)))

    def line_at(self, x: float, y: float) -> str:
        """The line near a place of the widget, '' for none."""
        best, name = 10.0, ""
        for line, at in self.lines().items():
            away = float(np.hypot(at[:, 0] - x, at[:, 1] - y).min())
            if away < best:
                best, name = away, line
        return name

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        name = self.line_at(event.position().x(), event.position().y())
        if name:
            self.clicked.emit(name)


class LayoutPreview(Preview):
    """The layout of the lines of the form's files."""

    def __init__(self, form: FormState) -> None:
        super().__init__(form)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.words = Label()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.view = LayoutView(form.ctx.theme)
        box.addWidget(self.view)
        box.addWidget(self.words)
        self.view.clicked.connect(self.turn)
        self._asked: object = None
        self.hide()

    def turn(self, line: str) -> None:
        """Turn a line round, or back."""
        field = self.form.fields["reverse"]
        assert isinstance(field, ListField)
        lines = list(field.value())
        field.set_value([n for n in lines if n != line] if line in lines else [*lines, line])
        field._touch()

    def update_preview(self) -> None:
        values, store, items = self.form.values(), self.form.ctx.store, self.form.items()
        if not values.get("readings") or store is None or items is None:
            self.hide()
            return
        asked = (repr(values), sorted(self.form.inputs().items()))
        if asked == self._asked:
            return
        try:
            params = self.form.operation.check(values)
        except LampError as error:
            self._say(str(error))
            return
        self._asked = asked
        run, inputs = self.form.operation.run, Inputs(items, store.crs)
        self.form.lane.call("layout", lambda progress: run(inputs, params, progress)["survey"], self._came)

    def _say(self, words: str) -> None:
        self.view.hide()
        self.words.setText(words)
        self.show()

    def _came(self, result: object) -> None:
        if not isinstance(result, ElectrodeSurvey):
            self._say(str(result))
            return
        facts = result.facts
        self.words.setText(
            f"{facts['Lines']} lines, {facts['Electrodes']} electrodes, {facts['Readings']} readings. Ring: first electrode. Click a line to turn it round."
        )
        self.view.show_lines(result.electrodes, set(self.form.fields["reverse"].value()))
        self.view.show()
        self.show()
