"""Widgets for single parameters, chosen by what the parameter was declared as."""

from __future__ import annotations

import dataclasses
import typing
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QPushButton

from ...core.declaring.operation import FieldInfo, parted
from ...core.items.attributes import Attribute
from ...core.numbers import number_or_none
from .. import settings
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


def widget_for(info: FieldInfo) -> FieldWidget:
    """Return the widget that fits a parameter."""
    if info.editor == "table":
        return TableField(info)
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
