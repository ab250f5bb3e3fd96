"""The legend in a pane that fills the centre: a small sheet that a hand can move."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ..context.context import Context
from .legends import Legends

KINDS = ("map", "section", "scene")
_WIDE, _EDGE, _STEP = 226, 12, 12


class PaneLegend(Legends):
    """Legends of what is lit, over a pane; dragged with the mouse, moved by the arrow keys when it has the keyboard."""

    def __init__(self, ctx: Context, over: QWidget) -> None:
        super().__init__(ctx)
        self.setParent(over)
        # Over a pane of OpenGL only a window of its own is seen.
        self.setAttribute(Qt.WidgetAttribute.WA_NativeWindow)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setToolTip("Drag the legend to where it hides nothing")
        self.setAccessibleName("Legend")
        self.setFixedWidth(_WIDE)
        # Distance of its right lower corner from that of the pane, so that it stays when the pane is resized.
        self._inset = QPoint(_EDGE, _EDGE + 22)
        self._grip: QPointF | None = None
        self.fill()

    def fill(self) -> None:
        super().fill()
        self.setVisible(bool(self.shown))
        self.settle_in()

    def settle_in(self) -> None:
        """Stand where it was put, wholly within the pane."""
        over = self.parentWidget()
        if over is None:
            return
        x = over.width() - self._inset.x() - self.width()
        y = over.height() - self._inset.y() - self.height()
        self.move(max(0, min(x, over.width() - self.width())), max(0, min(y, over.height() - self.height())))
        self.raise_()

    def _take(self, corner: QPoint) -> None:
        over = self.parentWidget()
        if over is not None:
            self._inset = QPoint(over.width() - corner.x() - self.width(), over.height() - corner.y() - self.height())
            self.settle_in()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._grip = event.position()
        self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._grip is not None:
            self._take((QPointF(self.pos()) + event.position() - self._grip).toPoint())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._grip = None
        self.setCursor(Qt.CursorShape.OpenHandCursor)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {
            Qt.Key.Key_Left: QPoint(-_STEP, 0),
            Qt.Key.Key_Right: QPoint(_STEP, 0),
            Qt.Key.Key_Up: QPoint(0, -_STEP),
            Qt.Key.Key_Down: QPoint(0, _STEP),
        }.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self._take(self.pos() + step)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self.ctx.theme.panel))
        painter.setPen(QPen(QColor(self.ctx.theme.line), 1.0))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()
        super().paintEvent(event)
