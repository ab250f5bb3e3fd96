"""Legends of everything that is lit: one bar an attribute, the same for all panes."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from ...core.items.attributes import is_ground
from ...core.items.legend import Legend, is_line, value_at
from ...core.items.signs import LINE_SIGNS, line_sign
from ...core.project.records import Notice
from ..context.context import Context
from ..painters.kit.colours import class_colour, colour_at
from ..painters.kit.unit_areas import draw_pattern
from ..painters.map.line_signs import draw_signed_line

_BAR, _CLASS, _WIDE = 36, 14, 210


def draw_class(painter: QPainter, legend: Legend, name: str, box: QRectF, ink: QColor) -> None:
    """Draw the sample of a class: its line sign when its name is that of one, else colour and pattern."""
    painter.save()
    if is_line(legend, name):
        sign = line_sign(name)
        middle = box.center().y()
        draw_signed_line(painter, np.array([[box.left(), middle], [box.right(), middle]]), LINE_SIGNS[sign], ink)
    else:
        painter.fillRect(box, class_colour(legend, name))
        painter.setClipRect(box, Qt.ClipOperation.IntersectClip)
        draw_pattern(
            painter, legend.patterns.get(name, "plain"), box, box.topLeft(), class_colour(legend, name).darker(190)
        )
    painter.restore()


class Legends(QWidget):
    """Draws the legend of every attribute that a lit item is coloured by."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.shown: list[Legend] = []
        self.owners: dict[str, list[str]] = {}
        self._partings = [
            ctx.project_changed.connect(self.fill),
            ctx.lit_changed.connect(self.fill),
            ctx.legend_changed.connect(self._on_one),
            ctx.loaded.connect(self._on_one),
            ctx.theme_changed.connect(self._repaint),
            ctx.items_changed.connect(self._on_items),
        ]

    def _repaint(self) -> None:
        self.update()

    def _on_items(self, notice: Notice) -> None:
        self.fill()

    def _on_one(self, _: object) -> None:
        self.fill()

    def release(self) -> None:
        """Hear of nothing any more and go."""
        for part in self._partings:
            part()
        self.hide()
        self.setParent(None)
        self.deleteLater()

    def fill(self) -> None:
        """Collect the legends again."""
        found: dict[str, Legend] = {}
        self.owners = {}
        for entry in self.ctx.lit_entries():
            if entry.kind in ("surface", "targets") or is_ground(entry.attributes):
                continue
            attribute = self.ctx.attribute_of(entry)
            item = self.ctx.item(entry.id) if attribute in entry.attributes else None
            if item is not None:
                legend = self.ctx.legend(attribute, item)
                if legend.classes and len(legend.classes) > 16:
                    continue
                found.setdefault(attribute, legend)
                self.owners.setdefault(attribute, []).append(entry.name)
        self.shown = list(found.values())
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def _height(self, legend: Legend) -> int:
        if not legend.classes:
            return _BAR + 8
        columns = self._columns(legend)
        return 18 + _CLASS * ((len(legend.classes) + columns - 1) // columns) + 4

    def _columns(self, legend: Legend) -> int:
        """How many names of classes stand beside each other: three where they are short."""
        font = self.font()
        font.setPointSizeF(7.5)
        metrics = QFontMetricsF(font)
        longest = max(metrics.horizontalAdvance(name) for name in legend.classes)
        return 3 if longest + 20 <= _WIDE / 3 else 2

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(230, sum(self._height(g) for g in self.shown) + (6 if self.shown else 0))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        ink, faint = QColor(self.ctx.theme.text), QColor(self.ctx.theme.faint)
        font = painter.font()
        font.setPointSizeF(7.5)
        painter.setFont(font)
        y, left, wide = 3.0, 8.0, self.width() - 16.0
        for legend in self.shown:
            painter.setPen(ink)
            scale = {"log": ", log", "quantile": ", by rank"}.get(legend.scale, "") if not legend.classes else ""
            title = legend.label + scale
            painter.drawText(QRectF(left, y, wide, 14), Qt.AlignmentFlag.AlignLeft, title)
            used = painter.fontMetrics().horizontalAdvance(title) + 8.0
            painter.setPen(faint)
            owners = painter.fontMetrics().elidedText(
                ", ".join(self.owners.get(legend.attribute, [])), Qt.TextElideMode.ElideRight, int(wide - used)
            )
            painter.drawText(QRectF(left + used, y, wide - used, 14), Qt.AlignmentFlag.AlignRight, owners)
            painter.setPen(ink)
            if legend.classes:
                columns = self._columns(legend)
                each = wide / columns
                for number, name in enumerate(legend.ordered):
                    cx, cy = left + (number % columns) * each, y + 17 + _CLASS * (number // columns)
                    draw_class(painter, legend, name, QRectF(cx, cy, 13, 10), ink)
                    painter.setPen(ink)
                    words = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(each - 20))
                    painter.drawText(QRectF(cx + 17, cy - 2, each - 18, 13), Qt.AlignmentFlag.AlignLeft, words)
            else:
                if legend.scale == "classes" and legend.breaks:
                    self._blocks(painter, legend, QRectF(left, y + 15, wide, 10), faint)
                    y += self._height(legend)
                    continue
                for k in range(int(wide)):
                    painter.fillRect(QRectF(left + k, y + 15, 1.5, 10), colour_at(legend, k / wide))
                painter.setPen(faint)
                for place, align in (
                    (0.0, Qt.AlignmentFlag.AlignLeft),
                    (0.5, Qt.AlignmentFlag.AlignHCenter),
                    (1.0, Qt.AlignmentFlag.AlignRight),
                ):
                    painter.drawText(QRectF(left, y + 26, wide, 12), align, legend.tick(value_at(legend, place)))
            y += self._height(legend)
        painter.end()

    @staticmethod
    def _blocks(painter: QPainter, legend: Legend, bar: QRectF, ink: QColor) -> None:
        """One block a class, with the break between two written below their border."""
        count = len(legend.breaks) + 1
        step = bar.width() / count
        for k in range(count):
            painter.fillRect(
                QRectF(bar.left() + k * step, bar.top(), step - 1.0, bar.height()), colour_at(legend, k / (count - 1))
            )
        painter.setPen(ink)
        for k, value in enumerate(legend.breaks, start=1):
            painter.drawText(
                QRectF(bar.left() + k * step - 30, bar.bottom() + 1, 60, 12),
                Qt.AlignmentFlag.AlignHCenter,
                legend.tick(value),
            )
