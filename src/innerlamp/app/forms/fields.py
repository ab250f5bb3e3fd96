"""Widgets for single parameters, chosen by what the parameter was declared as."""

from __future__ import annotations

import typing
from pathlib import Path
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from ...core.declaring.operation import FieldInfo, parted
from .. import settings


class FieldWidget(QWidget):
    """Base: a value as the operation takes it, and a signal when the user changes it."""

    changed = Signal()

    def __init__(self, info: FieldInfo) -> None:
        super().__init__()
        self.info = info
        self.touched = False
        self.row = QHBoxLayout(self)
        self.row.setContentsMargins(0, 0, 0, 0)
        self.row.setSpacing(3)
        tip = info.help
        if info.bounds_text:
            tip = f"{tip}{'. ' if tip else ''}Allowed: {info.bounds_text}{' ' + info.unit if info.unit else ''}"
        self.setToolTip(tip)

    def value(self) -> Any:
        raise RuntimeError("each field has a value of its own")

    def set_value(self, value: Any) -> None:
        raise RuntimeError("each field has a value of its own")

    def _touch(self) -> None:
        self.touched = True
        self.changed.emit()


class TextField(FieldWidget):
    """A line of text, also for numbers: the operation checks them and says what is wrong."""

    def __init__(self, info: FieldInfo) -> None:
        super().__init__(info)
        self.edit = QLineEdit()
        self.number = info.kind in (int, float) or float in typing.get_args(info.kind)
        if info.role == "date":
            self.edit.setPlaceholderText("year-month-day")
        self.edit.textEdited.connect(lambda _: self._touch())
        self.row.addWidget(self.edit)
        self.setFocusProxy(self.edit)
        if info.default is not None:
            self.set_value(info.default)

    def value(self) -> Any:
        text = self.edit.text().strip()
        return text.replace(",", ".") if self.number else text

    def set_value(self, value: Any) -> None:
        self.edit.setText(f"{value:g}" if isinstance(value, float) else str(value))


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

    def offer(self, attributes: dict[str, str], preferred: str = "") -> None:
        """Show the attributes of another item, keeping the choice where it still fits."""
        before = self.box.currentText()
        if self.info.role == "code":  # columns of texts have no unit
            attributes = {a: u for a, u in attributes.items() if not u}
            preferred = preferred if preferred in attributes else next(iter(attributes), "")
        self.box.clear()
        self.box.addItems(list(attributes))
        chosen = (
            before
            if before in attributes
            else preferred
            if preferred in attributes
            else next((a for a, u in attributes.items() if u), "")
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
            settings.save(settings.Settings(here.theme, here.last_project, str(Path(path).parent)))


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
            settings.save(settings.Settings(here.theme, here.last_project, str(Path(paths[0]).parent)))


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
    if info.role == "mapping":
        return MappingField(info)
    if info.role in ("picks", "rows"):
        return RowsField(info)
    if info.role == "lines":
        return ListField(info)
    if info.role == "files":
        return FilesField(info)
    if info.role == "file":
        return FileField(info)
    if info.role in ("attribute", "code"):
        return AttributeField(info)
    words = typing.get_args(info.kind)
    if words and all(isinstance(w, str) for w in words):
        return ChoiceField(info, words)
    return TextField(info)
