"""What the widgets of all parameters have in common."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ...core.declaring.operation import FieldInfo


def as_text(value: Any) -> str:
    """Return a value as it is typed: lists parted by semicolons, their rows by blanks, numbers with all of their digits."""
    if isinstance(value, list | tuple):
        return "; ".join(
            " ".join(as_text(v) for v in row) if isinstance(row, list | tuple) else as_text(row) for row in value
        )
    return "" if value is None else f"{value:.15g}" if isinstance(value, float) else str(value)


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
