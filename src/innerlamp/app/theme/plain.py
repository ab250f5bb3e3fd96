"""Words from outside as words: Qt takes a text that begins like markup for markup, and would fetch what it names.

All labels of the window are `Label`; tooltips and axis titles that hold names of data go through the functions here.
"""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget


class Label(QLabel):
    """A label that shows its text as it is; who writes markup of their own says so with `setTextFormat`."""

    def __init__(self, text: str | QWidget = "", parent: QWidget | None = None) -> None:
        super().__init__(text if isinstance(text, QWidget) else parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText("" if isinstance(text, QWidget) else text)


def plain_tip(text: str) -> str:
    """Return a tooltip that shows a text as it is."""
    if "<" not in text and "&" not in text:  # Qt would not take it for markup
        return text
    return f'<p style="white-space:pre-wrap">{escape(text)}</p>'


def axis_words(text: str) -> str:
    """Return a text for the title of a plot's axis, which is always markup."""
    return escape(text)
