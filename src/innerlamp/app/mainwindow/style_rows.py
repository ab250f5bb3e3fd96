"""Parts of the card: symbols and labels of points; colours, patterns and age order of units."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QColorDialog,
    QComboBox,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QSlider,
    QToolButton,
    QWidget,
)

from ...core.errors import InputError
from ...core.items.holes import HoleSet, table_with
from ...core.items.legend import Legend, is_line
from ...core.items.points import PointSet
from ...core.items.signs import PATTERNS
from ...core.numbers import parse_number
from ...core.project.records import Entry
from ..context.context import Context
from ..painters.kit.unit_areas import draw_pattern
from ..theme.plain import Label, plain_tip

_NONE = "none"


def choice(name: str, columns: list[str], now: str, tip: str, chosen: Callable[[str], None]) -> QComboBox:
    """Return a choice of a column or none."""
    box = QComboBox()
    box.setObjectName(name)
    box.addItems([_NONE, *columns])
    box.setCurrentText(now or _NONE)
    box.setToolTip(tip)
    box.setMinimumContentsLength(6)
    box.textActivated.connect(lambda text: chosen("" if text == _NONE else text))
    return box


def symbol_rows(ctx: Context, form: QFormLayout, entry: Entry, item: PointSet) -> None:
    """Add rows for shape, size and labels of points to a form."""
    style = ctx.style(entry.id)
    numbers = [a for a in entry.attributes if a in item.table and item.table[a].dtype.kind in "fiu"]
    texts = [a for a in entry.attributes if a in item.table and item.table[a].dtype.kind not in "fiu"]

    def choose(field: str) -> Callable[[str], None]:
        return lambda text: ctx.restyle(entry.id, replace(ctx.style(entry.id), **{field: text}))  # type: ignore[arg-type]

    if texts:
        form.addRow(
            "Shape by",
            choice(
                "shapeBy",
                texts,
                style.shape_by,
                "Each class of this column gets a symbol of its own",
                choose("shape_by"),
            ),
        )
    form.addRow(
        "Size by",
        choice("sizeBy", numbers, style.size_by, "Circles whose area grows with this column", choose("size_by")),
    )
    labels = QHBoxLayout()
    labels.addWidget(
        choice(
            "labelBy", texts + numbers, style.label_by, "Written beside points where there is space", choose("label_by")
        ),
        2,
    )
    least = QLineEdit("" if style.label_from is None else f"{style.label_from:g}")
    least.setObjectName("labelFrom")
    least.setPlaceholderText("from")
    least.setToolTip("Numbers below this value are not written")

    def typed() -> None:
        try:
            value = parse_number(least.text()) if least.text().strip() else None
        except InputError as error:
            ctx.say(str(error), "bad")
            return
        if value != ctx.style(entry.id).label_from:
            ctx.restyle(entry.id, replace(ctx.style(entry.id), label_from=value))

    least.editingFinished.connect(typed)
    labels.addWidget(least, 1)
    form.addRow("Labels", labels)


def width_row(ctx: Context, form: QFormLayout, entry: Entry, item: HoleSet) -> None:
    """Add the row for the width of holes to a form."""
    numbers = [a for a, known in entry.attributes.items() if not known.is_code and table_with(item, a) is not None]

    def choose(text: str) -> None:
        ctx.restyle(entry.id, replace(ctx.style(entry.id), size_by=text))

    tip = "Widens holes in 3D, and makes the bars of sections, by this column; colour stays that of the one above"
    form.addRow("Width by", choice("widthBy", numbers, ctx.style(entry.id).size_by, tip, choose))


class OpacitySlider(QSlider):
    """How much of an item covers what lies under it, in percent; each stop of the hand is one change."""

    def __init__(self, ctx: Context, entry: Entry) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.ctx, self.id = ctx, entry.id
        self.setObjectName("opacity")
        self.setRange(5, 100)
        self.setSingleStep(5)
        self.setPageStep(20)
        self.setValue(round(entry.style.opacity * 100))
        self._tip()
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(200)
        self._rest.timeout.connect(self._set)
        self.valueChanged.connect(self._moved)
        self.sliderReleased.connect(self._set)

    def _moved(self) -> None:
        self._tip()
        self._rest.start()

    def _tip(self) -> None:
        self.setToolTip(plain_tip(f"Opacity: {self.value()} %"))

    def _set(self) -> None:
        if self.isSliderDown():
            return
        self._rest.stop()
        style = self.ctx.style(self.id)
        if round(style.opacity * 100) != self.value():
            self.ctx.restyle(self.id, replace(style, opacity=self.value() / 100.0))


def swatch(colour: str, pattern: str, wide: int = 22, high: int = 14) -> QIcon:
    """Return a small picture of a unit's colour and pattern."""
    picture = QPixmap(wide, high)
    picture.fill(QColor(colour))
    painter = QPainter(picture)
    draw_pattern(painter, pattern, QRectF(0, 0, wide, high), QPointF(-3.0, -3.0), QColor(colour).darker(190))
    painter.end()
    return QIcon(picture)


class UnitList(QWidget):
    """Classes in age order, the youngest on top: a click on the colour changes it, the arrows move a unit."""

    def __init__(self, ctx: Context, legend: Legend, patterns: bool) -> None:
        super().__init__()
        self.ctx, self.legend = ctx, legend
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(4)
        grid.setVerticalSpacing(2)
        if patterns:
            words = Label("Units, youngest first")
            words.setObjectName("faint")
            grid.addWidget(words, 0, 0, 1, 6)
        names = [n for n in legend.ordered if not is_line(legend, n)]  # lines have signs of their own
        for row, name in enumerate(names, start=1):
            pattern = legend.patterns.get(name, "plain")
            there = QCheckBox()
            there.setObjectName(f"show_{name}")
            there.setChecked(name not in legend.hidden)
            there.setToolTip(plain_tip(f"Show {name}, in all panes"))
            there.setAccessibleName(f"Show {name}")
            there.clicked.connect(lambda on, name=name: self.show_class(name, bool(on)))
            grid.addWidget(there, row, 0)
            colour = QToolButton()
            colour.setObjectName(f"colour_{name}")
            colour.setIcon(swatch(legend.classes[name], pattern))
            colour.setIconSize(QSize(22, 14))
            colour.setToolTip(plain_tip(f"Change the colour of {name}"))
            colour.setAccessibleName(f"Colour of {name}")
            colour.clicked.connect(lambda _=False, name=name: self._pick(name))
            grid.addWidget(colour, row, 1)
            label = Label(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, 44 if patterns else 150))
            label.setToolTip(plain_tip(name))
            grid.addWidget(label, row, 2)
            if not patterns:
                continue
            box = QComboBox()
            box.setObjectName(f"pattern_{name}")
            box.addItems(list(PATTERNS))
            box.setCurrentText(pattern)
            box.setToolTip(plain_tip(f"Pattern of {name} on maps and pages"))
            box.setMinimumContentsLength(4)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.textActivated.connect(lambda text, name=name: self.set_pattern(name, text))
            grid.addWidget(box, row, 3)
            for column, (sign, step, tip) in enumerate((("▲", -1, "younger"), ("▼", 1, "older")), start=4):
                move = QToolButton()
                move.setObjectName(f"{tip}_{name}")
                move.setText(sign)
                move.setFixedWidth(20)
                move.setToolTip(plain_tip(f"{name} is {tip}"))
                move.setEnabled(0 <= row - 1 + step < len(names))
                move.clicked.connect(lambda _=False, name=name, step=step: self.move_unit(name, step))
                grid.addWidget(move, row, column)
        grid.setColumnStretch(2, 1)

    def show_class(self, name: str, on: bool) -> None:
        """Switch a class on or off, in all panes."""
        rest = tuple(h for h in self.legend.hidden if h != name)
        self.ctx.set_legend(replace(self.legend, hidden=rest if on else (*rest, name)))

    def set_colour(self, name: str, colour: str) -> None:
        """Give a unit another colour, in all panes."""
        self.ctx.set_legend(replace(self.legend, classes={**self.legend.classes, name: colour}))

    def _pick(self, name: str) -> None:
        chosen = QColorDialog.getColor(QColor(self.legend.classes[name]), self, f"Colour of {name}")
        if chosen.isValid():
            self.set_colour(name, chosen.name())

    def set_pattern(self, name: str, pattern: str) -> None:
        """Give a unit another pattern."""
        self.ctx.set_legend(replace(self.legend, patterns={**self.legend.patterns, name: pattern}))

    def move_unit(self, name: str, step: int) -> None:
        """Move a unit in the age order."""
        names = self.legend.ordered
        at = names.index(name)
        names.insert(at + step, names.pop(at))
        self.ctx.set_legend(replace(self.legend, order=tuple(names)))
