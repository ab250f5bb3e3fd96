"""Widgets for single parameters, chosen by what the parameter was declared as."""

from __future__ import annotations

import dataclasses
import typing
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout

from ...core.declaring.operation import FieldInfo, parted
from ...core.items.attributes import Attribute
from ...core.numbers import number_or_none
from ..base import settings
from ..context.context import Area, Context
from ..theme.plain import Label, plain_tip
from .field_base import FieldWidget, as_text
from .table_field import TableField


class TextField(FieldWidget):
    """A line of text, also for numbers: the operation checks them and says what is wrong."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.edit = QLineEdit()
        kinds = typing.get_args(info.kind)
        self.number = info.kind in (int, float) or float in kinds
        self.may_lack = type(None) in kinds
        if info.editor == "date":
            self.edit.setPlaceholderText("year-month-day")
        self.edit.textEdited.connect(lambda _: self._touch())
        self.row.addWidget(self.edit)
        self.setFocusProxy(self.edit)
        if info.default is not None:
            self.set_value(info.default)

    def value(self) -> Any:
        text = self.edit.text().strip()
        if not text and self.may_lack:
            return None
        value = number_or_none(text) if self.number else None
        return (
            text if value is None else repr(value).removesuffix(".0")
        )  # what is no number is refused by the operation, in its words

    def set_value(self, value: Any) -> None:
        self.edit.setText(as_text(value))


class ChoiceField(FieldWidget):
    """One of a few words."""

    def __init__(self, info: FieldInfo, words: tuple[str, ...]) -> None:
        super().__init__(info)
        self.box = QComboBox()
        self.box.addItems(list(words))
        self.box.setMinimumContentsLength(8)
        if info.default is not None:
            self.box.setCurrentText(str(info.default))
        self.box.activated.connect(lambda _: self._touch())
        self.row.addWidget(self.box)
        self.setFocusProxy(self.box)

    def value(self) -> Any:
        return self.box.currentText()

    def set_value(self, value: Any) -> None:
        self.box.setCurrentText(str(value))


class AttributeField(ChoiceField):
    """One of the attributes of the item in an input slot."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info, ())

    def offer(self, attributes: Mapping[str, Attribute], preferred: str = "") -> None:
        """Show the attributes of another item, keeping the choice where it still fits."""
        before = self.box.currentText()
        if self.info.editor == "code":  # columns of texts have no unit
            attributes = {a: known for a, known in attributes.items() if known.is_code}
            preferred = preferred if preferred in attributes else next(iter(attributes), "")
        self.box.clear()
        self.box.addItems(list(attributes))
        chosen = (
            before
            if before in attributes
            else preferred
            if preferred in attributes
            else next((a for a, known in attributes.items() if known.unit), "")
        )
        if chosen:
            self.box.setCurrentText(chosen)


class FileField(FieldWidget):
    """A path, typed or looked for."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.edit = QLineEdit()
        self.edit.setPlaceholderText("path" if info.required else "none")
        self.edit.textChanged.connect(lambda _: self._touch())
        self.button = QPushButton("…")
        self.button.setObjectName("small")
        self.button.setFixedWidth(26)
        self.button.setToolTip("Look for the file")
        self.button.clicked.connect(self._look)
        self.row.addWidget(self.edit)
        self.row.addWidget(self.button)
        self.setFocusProxy(self.edit)

    def value(self) -> Any:
        return self.edit.text().strip()

    def set_value(self, value: Any) -> None:
        self.edit.setText(str(value))

    def _look(self) -> None:
        here = settings.load()
        start = str(Path(self.value()).parent) if self.value() else here.last_folder
        path, _ = QFileDialog.getOpenFileName(self, self.info.label, start)
        if path:
            self.edit.setText(path)
            settings.save(dataclasses.replace(here, last_folder=str(Path(path).parent)))


def joined(values: Any) -> str:
    """Return values as one text, parted by semicolons."""
    return "; ".join(str(v) for v in values)


class FilesField(FileField):
    """Several paths, parted by semicolons, typed or looked for."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.edit.setPlaceholderText("none; several with ;")

    def value(self) -> Any:
        return list(parted(self.edit.text()))

    def set_value(self, value: Any) -> None:
        self.edit.setText(joined(value))

    def _look(self) -> None:
        here = settings.load()
        paths, _ = QFileDialog.getOpenFileNames(self, self.info.label, here.last_folder)
        if paths:
            self.set_value([*self.value(), *paths])
            settings.save(dataclasses.replace(here, last_folder=str(Path(paths[0]).parent)))


class MappingField(FieldWidget):
    """Holds a mapping that a preview edits."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.mapping: dict[str, Any] = {}

    def value(self) -> Any:
        return self.mapping

    def set_value(self, value: Any) -> None:
        self.mapping = dict(value)


class ListField(TextField):
    """Several words, parted by semicolons."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.edit.setPlaceholderText("none; several with ;")

    def value(self) -> Any:
        return list(parted(self.edit.text()))

    def set_value(self, value: Any) -> None:
        self.edit.setText(joined(value))


class RowsField(MappingField):
    """Holds a list that a preview or a pane fills in."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.rows: list[Any] = []

    def value(self) -> Any:
        return self.rows

    def set_value(self, value: Any) -> None:
        self.rows = list(value)


class AreaField(FieldWidget):
    """Corners of an area that is drawn and reshaped in the panes while the form is open."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.corners: tuple[tuple[float, float], ...] = ()
        self.words = Label()
        self.words.setMinimumWidth(60)
        self.draw = QPushButton("Draw")
        self.draw.setCheckable(True)
        self.draw.setToolTip(
            "Click corners on the map; Enter or a double click ends. Then drag corners, edges or the whole"
        )
        self.box = QPushButton("Box")
        self.box.setToolTip("A box over the middle of the survey, to be dragged")
        self.clear = QPushButton("Clear")
        self.clear.setToolTip("Take the whole survey")
        column = QVBoxLayout()
        column.setSpacing(2)
        buttons = QHBoxLayout()
        buttons.setSpacing(3)
        for button in (self.draw, self.box, self.clear):
            button.setObjectName("small")
            buttons.addWidget(button)
        column.addLayout(buttons)
        column.addWidget(self.words)
        self.row.addLayout(column)
        self.draw.clicked.connect(self._draw)
        self.clear.clicked.connect(lambda: self._take(()))
        self._off: Callable[[], None] | None = None
        self._ctx: Context | None = None
        self._tell()

    def bind(self, ctx: Context, around: Callable[[], tuple[float, ...] | None]) -> None:
        """Stand for the area of a window; `around` gives the bounds of the survey."""
        self._ctx = ctx
        ctx.set_area(Area(self.corners))
        self._off = ctx.area_changed.connect(self._changed_there)
        self.box.clicked.connect(lambda: self._boxed(around()))

    def let_go(self) -> None:
        """The form is closed: panes show no area any more."""
        if self._off is not None and self._ctx is not None:
            self._off()
            self._ctx.set_area(None)

    def value(self) -> Any:
        return [list(corner) for corner in self.corners]

    def set_value(self, value: Any) -> None:
        self.corners = tuple((float(x), float(y)) for x, y in value)
        if self._ctx is not None:
            self._ctx.set_area(Area(self.corners))
        self._tell()

    def _draw(self, on: bool) -> None:
        if self._ctx is not None:
            self._ctx.set_area(Area(() if on else self.corners, on))
            if on:
                self._ctx.say("Area: click its corners on the map; Enter or a double click ends it, Esc leaves.")

    def _boxed(self, bounds: tuple[float, ...] | None) -> None:
        if bounds is None or not np.isfinite(bounds[:4]).all():
            return
        west, east, south, north = bounds[:4]
        a, b = 0.25 * (east - west), 0.25 * (north - south)
        low, high = (round(west + a), round(south + b)), (round(east - a), round(north - b))
        self._take(((low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1])))

    def _take(self, corners: tuple[tuple[float, float], ...]) -> None:
        if self._ctx is not None:
            self._ctx.set_area(Area(corners))
        else:
            self.corners = corners
            self._tell()

    def _changed_there(self) -> None:
        area = self._ctx.area if self._ctx is not None else None
        if area is None:
            return
        self.draw.setChecked(area.drawing)
        if area.corners != self.corners and not (area.drawing and not area.corners):
            self.corners = area.corners
            self._tell()
            self._touch()

    def _tell(self) -> None:
        if len(self.corners) < 3:
            self.words.setText("whole survey")
            return
        x, y = np.array(self.corners).T
        size = 0.5 * abs(float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))))
        self.words.setText(f"{size / 1e6:,.2f} km²")
        self.words.setToolTip(plain_tip(f"{len(self.corners)} corners"))


def widget_for(info: FieldInfo) -> FieldWidget:
    """Return the widget that fits a parameter."""
    if info.editor == "table":
        return TableField(info)
    if info.editor == "area":
        return AreaField(info)
    if info.editor == "mapping":
        return MappingField(info)
    if info.editor in ("picks", "rows"):
        return RowsField(info)
    if info.editor == "lines":
        return ListField(info)
    if info.editor == "files":
        return FilesField(info)
    if info.editor == "file":
        return FileField(info)
    if info.editor in ("attribute", "code"):
        return AttributeField(info)
    words = typing.get_args(info.kind)
    if words and all(isinstance(w, str) for w in words):
        return ChoiceField(info, words)
    return TextField(info)
