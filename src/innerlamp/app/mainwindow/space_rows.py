"""Rows of the card for how an item stands in 3D: its form, contour lines, height above the ground, slices."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QHBoxLayout, QLineEdit, QSlider

from ...core.errors import InputError
from ...core.items.attributes import is_ground
from ...core.items.base import Item
from ...core.items.fields import BlockModel, Surface
from ...core.items.holes import HoleSet
from ...core.items.style import FORMS
from ...core.items.tracks import columns_of, kinds_for
from ...core.numbers import parse_number
from ...core.project.records import Entry
from ..context.context import Context
from ..painters.kit.fading import sensitivity_of
from ..theme.plain import plain_tip
from .style_rows import choice

_FORM_TIPS = {
    "surface": "A surface as a skin, with the edges of its triangles, as wires alone, or with a picture draped on it: the one that is lit, else the last of the project",
    "grid": "Laid on the ground, or standing above it as high as its values are",
    "blocks": "Cells from the cut-off up, those within the ends of the ramp, three slices, a slice at any plane, or the surface of the cut-off",
    "holes": "Intervals as tubes, as lines, or as markers at their middles, whose shape may tell a second column",
}
# A model of units has no cut-off and no ramp.
_UNIT_FORMS = {"from the cut-off": "as bodies", "slices": "slices", "slice at a plane": "slice at a plane"}
_UNIT_TIP = "Units as bodies, the background only where nothing else is drawn; three slices, or a slice at any plane"
# The numbers of a plane: name, what it is, lowest and highest.
_PLANE = (
    ("planeDip", "Dip of the slice in degrees, from level (0) to upright (90)", 0.0, 90.0),
    ("planeTowards", "Dip direction of the slice in degrees from north", 0.0, 360.0),
    ("planeOff", "Metres by which the slice is moved up along its normal, from the middle of the model", -1e5, 1e5),
)
_SIDES = ("first axis", "second axis", "height")


def space_rows(ctx: Context, form: QFormLayout, entry: Entry, item: Item) -> None:
    """Add the rows that an item has."""
    ground = entry.kind == "grid" and is_ground(entry.attributes)
    style = ctx.style(entry.id)

    def change(**values: Any) -> None:
        ctx.restyle(entry.id, replace(ctx.style(entry.id), **values))

    if entry.kind in FORMS and not ground and not (isinstance(item, HoleSet) and not item.tables):
        forms = FORMS[entry.kind]
        units = isinstance(item, BlockModel) and ctx.attribute_of(entry) in item.names
        shown = _UNIT_FORMS if units else {f: f for f in forms}
        box = QComboBox()
        box.setObjectName("form3d")
        box.addItems(list(shown.values()))
        box.setCurrentText(shown.get(style.form or forms[0], shown[forms[0]]))
        box.setToolTip(_UNIT_TIP if units else _FORM_TIPS[entry.kind])
        box.setMinimumContentsLength(6)
        # The last signal of a choice: the card is made anew by it.
        names = {words: name for name, words in shown.items()}
        box.textActivated.connect(lambda text: change(form="" if names[text] == forms[0] else names[text]))
        form.addRow("In 3D", box)
    if ground or isinstance(item, Surface):
        tip = "Contour lines in 3D, each so many metres of elevation"
        form.addRow("Contours, m", _number(ctx, "every3d", style.every, tip, 0.0, lambda v: change(every=v)))
    if entry.kind == "grid" and not ground:
        tip = "Metres by which it stands above the ground in 3D"
        form.addRow("Raised, m", _number(ctx, "raised3d", style.raised, tip, -1e5, lambda v: change(raised=v)))
    if isinstance(item, BlockModel) and sensitivity_of(item, ctx.attribute_of(entry)):
        fade = QCheckBox("fade what is not seen")
        fade.setObjectName("faded")
        fade.setChecked(style.faded)
        fade.setToolTip("Cells that the readings can hardly see (sensitivity below some percent) are drawn faintly")
        fade.clicked.connect(lambda on: change(faded=on))
        form.addRow("", fade)
    if entry.kind == "blocks" and style.form == "slices":
        row = QHBoxLayout()
        for axis, name in enumerate(_SIDES):
            row.addWidget(_SliceSlider(ctx, entry, axis, name))
        form.addRow("Slices", row)
    if entry.kind == "blocks" and style.form == "slice at a plane":
        row = QHBoxLayout()
        for k, (name, tip, low, high) in enumerate(_PLANE):
            row.addWidget(
                _number(ctx, name, style.plane[k], tip, low, partial(_plane, ctx, entry, k), high, show_zero=True)
            )
        form.addRow("Plane", row)
    if isinstance(item, HoleSet) and style.form == "markers":
        texts = [c for c in columns_of(item) if "rock" in kinds_for(item, c)]
        tip = "Each class of this column gets a solid of its own"
        form.addRow("Shape by", choice("shapeBy", texts, style.shape_by, tip, lambda text: change(shape_by=text)))


def _plane(ctx: Context, entry: Entry, k: int, value: float) -> None:
    style = ctx.style(entry.id)
    numbers = list(style.plane)
    numbers[k] = value
    ctx.restyle(entry.id, replace(style, plane=(numbers[0], numbers[1], numbers[2])))


def _number(
    ctx: Context,
    name: str,
    now: float,
    tip: str,
    low: float,
    take: Callable[[float], None],
    high: float = 1e5,
    show_zero: bool = False,
) -> QLineEdit:
    edit = QLineEdit(f"{now:g}" if now or show_zero else "")
    edit.setObjectName(name)
    edit.setPlaceholderText("none")
    edit.setToolTip(tip)

    def typed() -> None:
        try:
            value = parse_number(edit.text()) if edit.text().strip() else 0.0
        except InputError as error:
            ctx.say(str(error), "bad")
            return
        if not low <= value <= high:
            ctx.say(f"It must be from {low:,.0f} to {high:,.0f}, not {value:g}.".replace(",", " "), "bad")
        elif value != now:
            take(value)

    edit.editingFinished.connect(typed)
    return edit


class _SliceSlider(QSlider):
    """Where a slice lies; each stop of the hand is one change."""

    def __init__(self, ctx: Context, entry: Entry, axis: int, name: str) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.ctx, self.id, self.axis = ctx, entry.id, axis
        self.setObjectName(f"slice{axis}")
        self.setAccessibleName(f"Slice across the {name}")
        self.setToolTip(plain_tip(f"Where the slice across the {name} lies, in percent of the model"))
        self.setRange(0, 100)
        self.setPageStep(10)
        self.setValue(round(100 * entry.style.slices[axis]))
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(200)
        self._rest.timeout.connect(self._set)
        self.valueChanged.connect(lambda _: self._rest.start())
        self.sliderReleased.connect(self._set)

    def _set(self) -> None:
        self._rest.stop()
        style = self.ctx.style(self.id)
        shares = list(style.slices)
        if round(100 * shares[self.axis]) != self.value():
            shares[self.axis] = self.value() / 100.0
            self.ctx.restyle(self.id, replace(style, slices=(shares[0], shares[1], shares[2])))
