"""The table of panes: up to four linked panes, each of any kind, any of them filling the centre."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QSplitter, QToolButton, QVBoxLayout, QWidget

from ..context import Context
from ..panes.base import Pane
from ..panes.table import PANES
from .pane_head import HeadTools

# What a pane says in a project that holds nothing yet, by its kind.
EMPTY = {
    "map": "Nothing is here yet.\nDrop files or a folder on the window, or bring them in with Ctrl+I.",
    "scene": "Here stands in space what is lit on the shelf.",
    "section": "Here a section shows what lies beside a line that is drawn on the map.",
    "table": "Here are the rows of the selected item.",
    "": "Here is something to see once the project holds items.",
}
DEFAULT = ("map", "scene", "section", "table")


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
        self.fill.setToolTip(f"Fill the centre with this pane, or give the others back (Alt+{number + 1})")
        self.fill.clicked.connect(lambda: self.centre.toggle_fill(self.number))
        self.row.addWidget(self.fill)
        box.addWidget(head)
        self.holder = QVBoxLayout()
        box.addLayout(self.holder, 1)
        self.empty = QLabel()
        self.empty.setObjectName("empty")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        self.empty.setMargin(16)
        self.holder.addWidget(self.empty)
        self.show_kind(kind)
        ctx.project_changed.connect(self.show_whether_empty)
        ctx.items_changed.connect(lambda _: self.show_whether_empty())

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

    def show_kind(self, kind: str) -> None:
        """Show another kind of pane here."""
        if self.pane is not None:
            if self.pane.kind == kind:
                return
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

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() == QEvent.Type.FocusIn:
            self.centre.set_current(self.number)
        return False


class Centre(QWidget):
    """Two by two panes between splitters."""

    def __init__(self, ctx: Context, kinds: tuple[str, ...] = DEFAULT) -> None:
        super().__init__()
        self.ctx = ctx
        self.frames = [PaneFrame(ctx, kind, number, self) for number, kind in enumerate(kinds)]
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.rows = QSplitter(Qt.Orientation.Vertical)
        self.lines = [QSplitter(Qt.Orientation.Horizontal) for _ in range(2)]
        for number, frame in enumerate(self.frames):
            self.lines[number // 2].addWidget(frame)
        for line in self.lines:
            line.setHandleWidth(4)
            line.setChildrenCollapsible(False)
            line.setSizes([500, 500])
            self.rows.addWidget(line)
        self.rows.setHandleWidth(4)
        self.rows.setSizes([500, 430])
        box.addWidget(self.rows)
        self.filled = -1
        self.current = 0
        ctx.wish.connect(self.show_view)

    def show_view(self, kind: str, view: str) -> None:
        """Show a kind of pane with a view of it: where it is already, else in the last frame that is not in use."""
        frame = next((f for f in self.frames if f.pane is not None and f.pane.kind == kind), None)
        if frame is None:
            frame = next(f for f in reversed(self.frames) if f.number != self.current)
            frame.show_kind(kind)
        if self.filled not in (-1, frame.number):
            self.toggle_fill(self.filled)
        if frame.pane is not None:
            frame.pane.show_view(view)

    def pane(self, kind: str) -> Pane | None:
        """The first pane of a kind."""
        return next((f.pane for f in self.frames if f.pane is not None and f.pane.kind == kind), None)

    def panes(self) -> list[Pane]:
        return [f.pane for f in self.frames if f.pane is not None]

    def set_current(self, number: int) -> None:
        self.current = number
        for frame in self.frames:
            frame.setProperty("current", frame.number == number)
            frame.style().unpolish(frame)
            frame.style().polish(frame)

    def toggle_fill(self, number: int) -> None:
        """Let one pane fill the centre, or show all again."""
        self.filled = -1 if self.filled == number else number
        for frame in self.frames:
            frame.setVisible(self.filled in (-1, frame.number))
            frame.fill.setChecked(self.filled == frame.number)
        for row, line in enumerate(self.lines):
            line.setVisible(self.filled == -1 or self.filled // 2 == row)

    def fit_all(self) -> None:
        for pane in self.panes():
            pane.fit()

    def close_all(self) -> None:
        for pane in self.panes():
            pane.close_pane()

    def state(self) -> dict[str, object]:
        """What to remember of the layout."""
        kinds = [f.pane.kind if f.pane else DEFAULT[f.number] for f in self.frames]
        return {"kinds": kinds, "rows": self.rows.sizes(), "lines": [line.sizes() for line in self.lines]}

    def restore(self, state: dict[str, object]) -> None:
        """Take a remembered layout."""
        kinds = state.get("kinds")
        if isinstance(kinds, list) and len(kinds) == len(self.frames) and all(k in PANES for k in kinds):
            for frame, kind in zip(self.frames, kinds, strict=True):
                frame.show_kind(str(kind))
        rows, lines = state.get("rows"), state.get("lines")
        if isinstance(rows, list) and len(rows) == 2 and min(rows) > 40:
            self.rows.setSizes([int(v) for v in rows])
        if isinstance(lines, list) and len(lines) == 2:
            for line, sizes in zip(self.lines, lines, strict=True):
                if isinstance(sizes, list) and len(sizes) == 2 and min(sizes) > 40:
                    line.setSizes([int(v) for v in sizes])
