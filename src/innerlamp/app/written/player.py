"""A walk-through full screen: one view after the other with its caption."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.items.walk import Walk
from ..context.context import Context
from ..theme.plain import Label
from .stage_view import StageView


class Player(QWidget):
    """Right, Space and Page Down go on; Left and Page Up go back; Home and End; Esc leaves."""

    def __init__(self, ctx: Context, walk: Walk, first: int, left: Callable[[int], None]) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.walk, self.number, self._left = walk, first, left
        self.setWindowTitle(walk.name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.view = StageView(ctx)
        box.addWidget(self.view, 1)
        foot = QHBoxLayout()
        foot.setContentsMargins(18, 10, 18, 10)
        foot.setSpacing(14)
        self.caption = Label()
        self.caption.setTextFormat(Qt.TextFormat.PlainText)
        self.caption.setWordWrap(True)
        font = self.caption.font()
        font.setPointSizeF(font.pointSizeF() * 1.5)
        self.caption.setFont(font)
        foot.addWidget(self.caption, 1)
        self.count = Label()
        foot.addWidget(self.count)
        self.buttons = {}
        for words, step, tip in (("Back", -1, "Left or Page Up"), ("Next", 1, "Right, Space or Page Down")):
            button = QPushButton(words)
            button.setToolTip(tip)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _=False, step=step: self.go(self.number + step))
            foot.addWidget(button)
            self.buttons[words] = button
        leave = QPushButton("Leave")
        leave.setToolTip("Esc")
        leave.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        leave.clicked.connect(self.close)
        foot.addWidget(leave)
        box.addLayout(foot)

    def go(self, number: int) -> None:
        """Show a view; beyond the last one it stays there."""
        self.number = min(max(number, 0), len(self.walk.stops) - 1)
        stop = self.walk.views[self.number]
        self.view.show_stop(stop)
        self.caption.setText(stop.caption or stop.name)
        self.count.setText(f"{self.number + 1} of {len(self.walk.stops)}")
        self.buttons["Back"].setEnabled(self.number > 0)
        self.buttons["Next"].setEnabled(self.number + 1 < len(self.walk.stops))

    def event(self, event: QEvent) -> bool:
        # The window's own shortcuts do not reach here; keys that move between views are taken before buttons see them.
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and self._key(event):
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if not self._key(event):
            super().keyPressEvent(event)

    def _key(self, event: QKeyEvent) -> bool:
        key = Qt.Key(event.key())
        wanted = {
            Qt.Key.Key_Right: self.number + 1,
            Qt.Key.Key_Space: self.number + 1,
            Qt.Key.Key_PageDown: self.number + 1,
            Qt.Key.Key_Left: self.number - 1,
            Qt.Key.Key_PageUp: self.number - 1,
            Qt.Key.Key_Home: 0,
            Qt.Key.Key_End: len(self.walk.stops) - 1,
        }.get(key)
        if wanted is not None:
            self.go(wanted)
            return True
        if key == Qt.Key.Key_Escape:
            self.close()
            return True
        return False

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.view.close_view()
        self._left(self.number)
        super().closeEvent(event)
