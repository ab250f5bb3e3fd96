"""What the mouse does in 3D before the camera gets it: handles of the slab, the sketch, measuring, pointing."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QMouseEvent

from ...context.context import Context
from ..base.area_handles import SceneArea
from .draw import SceneDraw
from .slab_handles import SlabHandles

_STILL = 4  # pixels that a click may move


class SceneHands:
    """Takes the events of the canvas; `measure` and `point` are called with the pixel of a click and of a double click."""

    def __init__(
        self,
        ctx: Context,
        handles: SlabHandles,
        area: SceneArea,
        drawing: SceneDraw,
        measuring: Callable[[], bool],
        measure: Callable[[QPoint], None],
        point: Callable[[QPoint], None],
    ) -> None:
        self.ctx, self.handles, self.area, self.drawing = ctx, handles, area, drawing
        self._measuring, self._measure, self._point = measuring, measure, point
        self._pressed = QPoint()
        self._twice = False

    def take(self, event: QMouseEvent) -> bool:
        """Take an event; returns whether the camera must not have it."""
        at, kind = event.position().toPoint(), event.type()
        left = event.button() == Qt.MouseButton.LeftButton
        if self.handles.held >= 0:
            return self._drag(at, kind == QEvent.Type.MouseButtonRelease and left)
        if self.area.held >= 0:
            self.area.drag(at, kind == QEvent.Type.MouseButtonRelease and left)
            return True
        if kind == QEvent.Type.MouseMove:
            if event.buttons() == Qt.MouseButton.NoButton:
                self.drawing.moved(at)
            return False
        if kind == QEvent.Type.MouseButtonDblClick:
            self._twice = True  # the release that follows is no click of its own
            if self.drawing.isVisible():
                self.drawing.clicked(at, True)
            else:
                self._point(at)
            return True
        if kind == QEvent.Type.MouseButtonPress and left:
            self._pressed = at
            self._twice = False
            return self.area.grab(at) or self.handles.grab(at, self.ctx.section)
        if kind == QEvent.Type.MouseButtonRelease and left:
            clicked = not self._twice and (at - self._pressed).manhattanLength() < _STILL
            self._twice = False
            if clicked and self.drawing.isVisible():
                self.drawing.clicked(at, False)
            elif clicked and self._measuring():
                self._measure(at)
        return False  # a drag still turns the scene

    def _drag(self, at: QPoint, done: bool) -> bool:
        plane = self.handles.dragged(at)
        if done:
            self.handles.let_go()
        if plane is not None and plane != self.ctx.section:
            self.ctx.set_section(plane)
        return True
