"""The sheet of the page pane: its elements as they come out, and the mouse and the keys on them."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QWidget

from ....core.items.page import Element, Page
from ...context.context import Context
from ...pages import editing
from ...pages.writing import BLEED

_HANDLE = 7.0
_CORNERS = {"nw": (0.0, 0.0), "ne": (1.0, 0.0), "sw": (0.0, 1.0), "se": (1.0, 1.0)}


class Holder(Protocol):
    """What the sheet shows, and who is told what was done on it."""

    ctx: Context
    page: Page | None
    chosen: int
    sheet_number: int

    def image_of(self, number: int) -> QImage | None: ...
    def chosen_element(self) -> Element | None: ...
    def choose(self, number: int) -> None: ...
    def drag(self, way: str, dx: float, dy: float, done: bool) -> None: ...
    def remove(self) -> None: ...
    def turn(self, by: int) -> None: ...
    def forget(self, keep: bool = False) -> None: ...


class Sheet(QWidget):
    """The sheet with its elements; drags are told to the pane."""

    def __init__(self, parent: QWidget, pane: Holder) -> None:
        super().__init__(parent)
        self.pane = pane
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Page")
        self.setToolTip(
            "Click an element; drag moves it, its corners resize it, Shift and drag moves the ground under a map. Arrow keys move it by a millimetre, Delete removes it."
        )
        self._from: QPointF | None = None
        self._way = ""

    def scale(self) -> float:
        """Pixels a millimetre of the sheet."""
        page = self.pane.page
        if page is None:
            return 1.0
        return max(min((self.width() - 24) / page.width, (self.height() - 24) / page.height), 0.05)

    def corner(self) -> QPointF:
        """Where the sheet's top left is."""
        page, s = self.pane.page, self.scale()
        return (
            QPointF((self.width() - page.width * s) / 2, (self.height() - page.height * s) / 2) if page else QPointF()
        )

    def to_paper(self, place: QPointF) -> tuple[float, float]:
        """Millimetres from the sheet's top left."""
        at = (place - self.corner()) / self.scale()
        return at.x(), at.y()

    def rect_of(self, element: Element) -> QRectF:
        """An element on the widget."""
        s, o = self.scale(), self.corner()
        return QRectF(o.x() + element.x * s, o.y() + element.y * s, element.w * s, element.h * s)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        theme = self.pane.ctx.theme
        painter.fillRect(self.rect(), QColor(theme.line))
        page = self.pane.page
        if page is None:
            painter.setPen(QColor(theme.text))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "No page yet. Light what it is to show, then choose 'New page'.",
            )
            painter.end()
            return
        s = self.scale()
        sheet = QRectF(self.corner(), self.corner() + QPointF(page.width * s, page.height * s))
        painter.fillRect(sheet.translated(3, 3), QColor(0, 0, 0, 60))
        painter.fillRect(sheet, QColor("#FFFFFF"))
        painter.setClipRect(sheet)
        for number, element in enumerate(page.layout):
            if element.sheet != self.pane.sheet_number:
                continue
            rect = self.rect_of(element)
            image = self.pane.image_of(number)
            if image is not None:
                painter.drawImage(rect.adjusted(-BLEED * s, -BLEED * s, BLEED * s, BLEED * s), image)
            else:
                painter.setPen(QPen(QColor("#999999"), 1.0, Qt.PenStyle.DashLine))
                painter.drawRect(rect)
                painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, element.kind)
        painter.setClipping(False)
        chosen = self.pane.chosen_element()
        if chosen is not None:
            rect = self.rect_of(chosen)
            painter.setPen(QPen(QColor(theme.lit), 1.6))
            painter.drawRect(rect)
            painter.setBrush(QColor(theme.panel))
            for place in self.handles(chosen).values():
                painter.drawRect(QRectF(place.x() - _HANDLE / 2, place.y() - _HANDLE / 2, _HANDLE, _HANDLE))
        painter.end()

    def handles(self, element: Element) -> dict[str, QPointF]:
        """Places of the four handles of an element."""
        r = self.rect_of(element)
        return {
            name: QPointF(r.left() + fx * r.width(), r.top() + fy * r.height()) for name, (fx, fy) in _CORNERS.items()
        }

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        page, chosen = self.pane.page, self.pane.chosen_element()
        if page is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        self._from, self._way = event.position(), ""
        if chosen is not None:
            near = [n for n, p in self.handles(chosen).items() if (p - event.position()).manhattanLength() < 11]
            if near:
                self._way = near[0]
                return
        number = editing.element_at(page, *self.to_paper(event.position()), self.pane.sheet_number)
        self.pane.choose(number)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        found = self.pane.chosen_element()
        self._way = "" if found is None else "pan" if shift and found.kind == "map" else "move"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._from is not None and self._way:
            self.pane.drag(self._way, *self._shift(event), done=False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._from is not None and self._way and (event.position() - self._from).manhattanLength() > 2:
            self.pane.drag(self._way, *self._shift(event), done=True)
        self._from, self._way = None, ""

    def _shift(self, event: QMouseEvent) -> tuple[float, float]:
        assert self._from is not None
        at = (event.position() - self._from) / self.scale()
        return at.x(), at.y()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        far = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        step = {
            Qt.Key.Key_Left: (-far, 0.0),
            Qt.Key.Key_Right: (far, 0.0),
            Qt.Key.Key_Up: (0.0, -far),
            Qt.Key.Key_Down: (0.0, far),
        }.get(Qt.Key(event.key()))
        if step:
            self.pane.drag("move", *step, done=True)
        elif event.key() == Qt.Key.Key_Delete:
            self.pane.remove()
        elif event.key() == Qt.Key.Key_Tab and self.pane.page is not None:
            mine = [k for k, e in enumerate(self.pane.page.layout) if e.sheet == self.pane.sheet_number]
            if mine:
                self.pane.choose(next((k for k in mine if k > self.pane.chosen), mine[0]))
        elif event.key() in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.pane.turn(1 if event.key() == Qt.Key.Key_PageDown else -1)
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        self.pane.forget(keep=True)
