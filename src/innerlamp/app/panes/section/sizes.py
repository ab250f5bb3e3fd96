"""The row of a section that ties its scale, extents and vertical exaggeration: one is typed, the others follow."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from ....core.compute.geometry.frame_sizes import FrameSizes
from ....core.errors import LampError
from ....core.numbers import number_or_none
from ...context.context import Context
from ...theme.plain import Label
from ..base.plot import MetrePlot

_TIPS = {
    "scale": ("Scale 1 :", "Scale along the section on this screen; both extents follow, the exaggeration stays"),
    "left": ("from", "Metres from A at the left side; scale and elevations follow"),
    "right": ("to", "Metres from A at the right side; scale and elevations follow"),
    "low": ("m, elevation", "Elevation at the bottom in metres; the exaggeration follows"),
    "high": ("to", "Elevation at the top in metres; the exaggeration follows"),
    "factor": ("m, vertical ×", "Vertical exaggeration; the elevations follow, the scale stays"),
}


class SectionSizes(QWidget):
    """Six numbers, two of them free: they follow the mouse as well."""

    def __init__(self, ctx: Context, plot: MetrePlot) -> None:
        super().__init__()
        self.ctx, self.plot = ctx, plot
        self.fields: dict[str, QLineEdit] = {}
        row = QHBoxLayout(self)
        row.setContentsMargins(6, 2, 6, 4)
        row.setSpacing(4)
        for name, (words, tip) in _TIPS.items():
            label, edit = Label(words), QLineEdit()
            edit.setObjectName(f"section_{name}")
            edit.setToolTip(tip)
            edit.setMinimumWidth(48)
            edit.setMaximumWidth(84)
            edit.editingFinished.connect(lambda name=name: self._typed(name))
            label.setBuddy(edit)
            row.addWidget(label)
            row.addWidget(edit, 1)
            self.fields[name] = edit
        row.addStretch(1)
        plot.getViewBox().sigRangeChanged.connect(lambda *_: self.show_sizes())
        self.hide()

    def sizes(self) -> FrameSizes:
        """What the section shows now; the frame's size is that of the screen's own millimetres."""
        box = self.plot.getViewBox()
        (left, right), (low, high) = box.viewRange()
        metre = 0.0254 / max(float(self.plot.logicalDpiX()), 1.0)
        return FrameSizes(max(box.width(), 1.0) * metre, max(box.height(), 1.0) * metre, left, right, low, high)

    def open(self, on: bool) -> None:
        """Show or hide the row."""
        self.setVisible(on)
        self.show_sizes()

    def _numbers(self) -> dict[str, str]:
        now = self.sizes()
        return {
            "scale": f"{now.scale:.0f}",
            "left": f"{round(now.left)}",
            "right": f"{round(now.right)}",
            "low": f"{round(now.low)}",
            "high": f"{round(now.high_at)}",
            "factor": f"{now.exaggeration:.3g}",
        }

    def show_sizes(self) -> None:
        """Let the numbers say what is seen; one that is being typed is left alone."""
        if self.isVisible():
            for name, text in self._numbers().items():
                edit = self.fields[name]
                if not (edit.hasFocus() and edit.isModified()):
                    edit.setText(text)

    def _typed(self, name: str) -> None:
        edit, now = self.fields[name], self.sizes()
        if not edit.isModified():
            return
        edit.setModified(False)
        value = number_or_none(edit.text())
        acts: dict[str, Callable[[float], FrameSizes]] = {
            "scale": now.with_scale,
            "left": lambda v: now.with_distances(v, now.right),
            "right": lambda v: now.with_distances(now.left, v),
            "low": lambda v: now.with_elevations(v, now.high_at),
            "high": lambda v: now.with_elevations(now.low, v),
            "factor": now.with_exaggeration,
        }
        try:
            if value is None:
                raise LampError(f"'{edit.text().strip()}' is not a number.")
            self._show(acts[name](value))
        except LampError as error:
            self.ctx.say(str(error), "bad")
        self.show_sizes()

    def _show(self, made: FrameSizes) -> None:
        factor = made.exaggeration
        self.plot.getViewBox().setAspectLocked(True, 1.0 / factor)
        if abs(factor - self.ctx.section_exaggeration) > 1e-6 * factor:
            self.ctx.set_exaggeration(round(factor, 6))
        self.plot.setRange(xRange=(made.left, made.right), yRange=(made.low, made.high_at), padding=0)
