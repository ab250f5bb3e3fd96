"""The tools in the head of a pane: what does not fit stands in a menu at the end, whole, and works there as well."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QToolButton, QVBoxLayout, QWidget

_SPACE = 6


class HeadTools(QWidget):
    """A row of tools. None is ever drawn narrower than it asks to be; those without room are in the menu."""

    def __init__(self, layout: QHBoxLayout) -> None:
        super().__init__()
        self.widgets: list[QWidget] = []
        while layout.count():
            item = layout.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                self.widgets.append(widget)
        self.more = QToolButton(self)
        self.more.setText("⋯")
        self.more.setAutoRaise(True)
        self.more.setToolTip("What does not fit into this head")
        self.more.setAccessibleName("More tools of this pane")
        self.more.clicked.connect(self.open_menu)
        self.menu = QFrame(self, Qt.WindowType.Popup)
        self.menu.setObjectName("paneMenu")
        self.menu.setFrameShape(QFrame.Shape.StyledPanel)
        self.column = QVBoxLayout(self.menu)
        self.column.setContentsMargins(8, 8, 8, 8)
        self.column.setSpacing(6)
        self._arranging = False
        for widget in self.widgets:
            hidden = widget.isHidden() and widget.testAttribute(Qt.WidgetAttribute.WA_WState_ExplicitShowHide)
            widget.setParent(self)
            widget.setVisible(not hidden)
            widget.installEventFilter(self)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)

    @property
    def put_away(self) -> list[QWidget]:
        """The tools that are in the menu now."""
        return [w for w in self.widgets if w.parentWidget() is self.menu and not w.isHidden()]

    def sizeHint(self) -> QSize:  # noqa: N802
        shown = [w.sizeHint() for w in self.widgets if not w.isHidden()]
        width = sum(s.width() for s in shown) + _SPACE * max(len(shown) - 1, 0)
        return QSize(width, max((s.height() for s in shown), default=24))

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(self.more.sizeHint().width() if self.widgets else 0, self.sizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self.arrange()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        kinds = (QEvent.Type.ShowToParent, QEvent.Type.HideToParent, QEvent.Type.LayoutRequest, QEvent.Type.FontChange)
        if not self._arranging and event.type() in kinds:
            self.updateGeometry()
            self.arrange()
        return False

    def event(self, event: QEvent) -> bool:
        # A tool that asks for more room, such as a count that grew.
        if event.type() == QEvent.Type.LayoutRequest:
            self.arrange()
        return super().event(event)

    def arrange(self) -> None:
        """Put the tools that fit side by side, and the others into the menu."""
        if self._arranging:
            return
        self._arranging = True
        try:
            wanted = [w for w in self.widgets if not w.isHidden()]
            widths = [w.sizeHint().width() for w in wanted]
            room = self.width()
            fit = len(wanted)
            if sum(widths) + _SPACE * max(len(widths) - 1, 0) > room:
                room -= self.more.sizeHint().width() + _SPACE
                used, fit = 0, 0
                for width in widths:
                    used += width + (_SPACE if fit else 0)
                    if used > room:
                        break
                    fit += 1
            x = 0
            for number, (widget, width) in enumerate(zip(wanted, widths, strict=True)):
                home = self if number < fit else self.menu
                if widget.parentWidget() is not home:
                    self.column.removeWidget(widget)
                    widget.setParent(home)
                    if home is self.menu:
                        self.column.addWidget(widget)
                    widget.show()
                if home is self:
                    height = min(widget.sizeHint().height(), self.height())
                    widget.setGeometry(x, (self.height() - height) // 2, width, height)
                    x += width + _SPACE
            self.more.setVisible(fit < len(wanted))
            size = self.more.sizeHint()
            self.more.setGeometry(
                self.width() - size.width(), (self.height() - size.height()) // 2, size.width(), size.height()
            )
            if fit == len(wanted):
                self.menu.hide()
        finally:
            self._arranging = False

    def open_menu(self) -> None:
        """Show the tools that are put away below the button."""
        if not self.put_away:
            return
        self.menu.adjustSize()
        corner = self.more.mapToGlobal(QPoint(self.more.width() - self.menu.width(), self.more.height()))
        self.menu.move(corner)
        self.menu.show()
