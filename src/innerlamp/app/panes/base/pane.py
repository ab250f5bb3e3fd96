"""What every pane has: it redraws items when they change, and lets go of everything when it is closed."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from ....core.project.records import Notice
from ...context.context import Context, Cursor, Selection
from ...theme.plain import Label


class Pane(QWidget):
    """Base of all panes.

    Subclasses draw in `draw` (all that is lit), `show_cursor`, `show_selection`. Redraws are
    gathered: many changes in a row give one redraw.
    """

    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    # Milliseconds before a redraw. They differ, so that panes draw one after the other and never hold the window together.
    delay: ClassVar[int] = 15

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.closed = False
        self._waits = False
        self.tools = QHBoxLayout()
        self.tools.setContentsMargins(0, 0, 0, 0)
        self.tools.setSpacing(6)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(0)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(self.delay)
        self._later.timeout.connect(self._draw_now)
        self._off: list[Callable[[], None]] = [
            ctx.project_changed.connect(self.on_project),
            ctx.items_changed.connect(self.on_items),
            ctx.loaded.connect(self.on_loaded),
            ctx.lit_changed.connect(self.redraw),
            ctx.legend_changed.connect(self.on_legend),
            ctx.section_changed.connect(self.on_section),
            ctx.view_changed.connect(self.redraw),
            ctx.theme_changed.connect(self.on_theme),
            ctx.cursor_changed.connect(self.show_cursor),
            ctx.selection_changed.connect(self.show_selection),
            ctx.selected_changed.connect(self.on_selected),
            ctx.go_to.connect(self.go_to),
        ]

    def redraw(self) -> None:
        """Draw soon."""
        if not self.closed:
            self._later.start()

    def _draw_now(self) -> None:
        # What nobody sees is drawn when it comes into view.
        self._waits = not self.isVisible()
        if not self.closed and not self._waits:
            self.draw()

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        super().showEvent(event)
        if self._waits:
            self.redraw()

    @property
    def settled(self) -> bool:
        """Whether nothing waits to be drawn."""
        return not self._later.isActive()

    def draw(self) -> None:
        """Draw everything that is lit."""

    def show_view(self, view: str) -> None:
        """Show one of the views that the pane offers, by its name."""

    def show_cursor(self, cursor: Cursor) -> None:
        """Show the shared cursor."""

    def show_selection(self, selection: Selection) -> None:
        """Show the shared selection."""

    def go_to(self, x: float, y: float, z: float) -> None:
        """Bring a place into view."""

    def fit(self) -> None:
        """Bring everything that is lit into view."""

    def on_project(self) -> None:
        self.redraw()

    def on_items(self, notice: Notice) -> None:
        if notice.removed or notice.replaced or notice.renamed or set(notice.added) & set(self.ctx.lit):
            self.redraw()

    def on_loaded(self, item: str) -> None:
        self.redraw()

    def on_legend(self, attribute: str) -> None:
        self.redraw()

    def on_section(self) -> None:
        pass

    def on_selected(self, item: str) -> None:
        pass

    def on_theme(self) -> None:
        self.redraw()

    def close_pane(self) -> None:
        """Let go of signals and drawing resources; the widget may be deleted afterwards."""
        self.closed = True
        self._later.stop()
        for off in self._off:
            off()
        self._off.clear()


class ItemPane(Pane):
    """Base of panes that show the selected item: they redraw when it, its rows or the selection change."""

    def show_selection(self, selection: Selection) -> None:
        self.redraw()

    def on_selected(self, item: str) -> None:
        self.redraw()

    def on_items(self, notice: Notice) -> None:
        self.redraw()


def overlay(parent: QWidget) -> QLabel:
    """Return a small label that lies over a drawing and lets the mouse through."""
    label = Label(parent)
    label.setObjectName("overlay")
    label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
    return label
