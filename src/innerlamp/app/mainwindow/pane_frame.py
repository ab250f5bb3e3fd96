"""A pane with its head: what it shows, its tools, and what can be done with its place among the others."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QMenu, QToolButton, QVBoxLayout, QWidget

from ...core.project.records import Notice
from ..context.context import Context
from ..panes.base.pane import Pane
from ..panes.table import PANES
from ..theme.plain import Label, plain_tip
from .pane_head import HeadTools
from .pane_legend import KINDS as LEGEND_KINDS
from .pane_legend import PaneLegend

# What a pane says in a project that holds nothing yet, by its kind.
EMPTY = {
    "map": "Nothing is here yet.\nDrop files or a folder on the window, or bring them in with Ctrl+I.",
    "scene": "Here stands in space what is lit on the shelf.",
    "section": "Here a section shows what lies beside a line that is drawn on the map.",
    "table": "Here are the rows of the selected item.",
    "": "Here is something to see once the project holds items.",
}


Move = tuple[str, Callable[[], object], bool]


class Centre(Protocol):
    """What a frame asks of the table of panes."""

    def toggle_fill(self, number: int) -> None:
        """Let one pane fill the centre, or show all again."""

    def set_current(self, number: int) -> None:
        """Tell which pane has the keyboard."""

    def tell_legend(self) -> None:
        """Say whether a pane shows the legend itself."""

    def moves(self, frame: PaneFrame) -> list[Move]:
        """What can be done with the place of a pane: words, what does it, and whether it is possible now."""
        ...


class PaneFrame(QFrame):
    """A pane with its head: kind, tools, fill button."""

    def __init__(self, ctx: Context, kind: str, number: int, centre: Centre) -> None:
        super().__init__()
        self.setObjectName("pane")
        self.setMinimumSize(180, 120)  # what a narrow head has no room for is in its menu
        self.ctx, self.number, self.centre = ctx, number, centre
        self.pane: Pane | None = None
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        box.setSpacing(0)
        head = QFrame()
        head.setObjectName("paneHead")
        self.row = QHBoxLayout(head)
        self.row.setContentsMargins(4, 2, 4, 2)
        self.row.setSpacing(6)
        self.choice = QComboBox()
        for name, (title, _) in PANES.items():
            self.choice.addItem(title, name)
        self.choice.setToolTip("What this pane shows")
        self.choice.setCurrentIndex(list(PANES).index(kind))
        self.choice.activated.connect(lambda _: self.show_kind(str(self.choice.currentData())))
        self.row.addWidget(self.choice)
        self.tools = HeadTools(QHBoxLayout())
        self.row.addWidget(self.tools, 1)
        self.fill = QToolButton()
        self.fill.setText("⤢")
        self.fill.setCheckable(True)
        self.fill.setAutoRaise(True)
        self.fill.clicked.connect(lambda: self.centre.toggle_fill(self.number))
        self.row.addWidget(self.fill)
        self.place = QToolButton()
        self.place.setObjectName("place")
        self.place.setText("⊞")
        self.place.setAutoRaise(True)
        self.place.setStyleSheet("QToolButton::menu-indicator { image: none; }")
        self.place.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.place.setToolTip("Split this pane, change its place with another, or close it")
        self.place.setAccessibleName("Place of this pane")
        menu = QMenu(self.place)
        menu.aboutToShow.connect(lambda: self._fill_menu(menu))
        self.place.setMenu(menu)
        self.row.addWidget(self.place)
        self.renumber(number)
        self.legend: PaneLegend | None = None
        box.addWidget(head)
        self.holder = QVBoxLayout()
        box.addLayout(self.holder, 1)
        self.empty = Label()
        self.empty.setObjectName("empty")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        self.empty.setMargin(16)
        self.holder.addWidget(self.empty)
        self.show_kind(kind)
        self._off = [
            ctx.project_changed.connect(self.show_whether_empty),
            ctx.items_changed.connect(self._on_items),
        ]

    def _on_items(self, notice: Notice) -> None:
        self.show_whether_empty()

    def release(self) -> None:
        """Let go of the pane and of all signals; the widget may be deleted afterwards."""
        self.show_legend(False)
        if self.pane is not None:
            self.pane.close_pane()
        for off in self._off:
            off()
        self._off.clear()

    def show_legend(self, wanted: bool) -> None:
        """Show the legend in the pane, where it is of a kind that has one, or take it away."""
        if self.legend is not None:
            self.legend.release()
            self.legend = None
        if wanted and self.pane is not None and self.pane.kind in LEGEND_KINDS:
            self.legend = PaneLegend(self.ctx, self.pane)
            self.legend.settle_in()
        self.centre.tell_legend()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        if self.legend is not None:
            self.legend.settle_in()

    def renumber(self, number: int) -> None:
        """Take a new number among the panes."""
        self.number = number
        key = f" (Alt+{number + 1})" if number < 9 else ""
        self.fill.setToolTip(plain_tip(f"Fill the centre with this pane, or give the others back{key}"))

    def _fill_menu(self, menu: QMenu) -> None:
        menu.clear()
        for words, act, possible in self.centre.moves(self):
            action = menu.addAction(words)
            action.setEnabled(possible)
            action.triggered.connect(lambda _=False, act=act: act())

    def show_whether_empty(self) -> None:
        """In a project without items say what to do first, in place of empty axes."""
        if self.pane is None:
            return
        empty = self.ctx.store is not None and not self.ctx.entries()
        if empty == self.empty.isHidden():
            self.empty.setText(EMPTY.get(self.pane.kind, EMPTY[""]))
            self.empty.setVisible(empty)
            self.pane.setVisible(not empty)
            self.tools.setEnabled(not empty)

    def show_kind(self, kind: str, anew: bool = False) -> None:
        """Show another kind of pane here, or with `anew` the same kind as when it was new."""
        if self.pane is not None:
            if self.pane.kind == kind and not anew:
                return
            self.show_legend(False)
            self.pane.close_pane()
            self.pane.hide()
            self.holder.removeWidget(self.pane)
            self.pane.deleteLater()
        self.choice.setCurrentIndex(list(PANES).index(kind))
        self.pane = PANES[kind][1](self.ctx)
        self.holder.addWidget(self.pane)
        old = self.tools
        self.tools = HeadTools(self.pane.tools)
        self.row.replaceWidget(old, self.tools)
        self.row.setStretchFactor(self.tools, 1)
        old.hide()
        old.deleteLater()
        for child in [self.pane, *self.pane.findChildren(QWidget)]:
            child.installEventFilter(self)
        self.empty.hide()
        self.show_whether_empty()
        self.show_legend(self.fill.isChecked())

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.FocusIn:
            self.centre.set_current(self.number)
        return False
