"""A 3D view of a stop of a walk-through that can be turned: in its pane, and full screen."""

from __future__ import annotations

from typing import Any

import vtkmodules.vtkInteractionStyle
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401 - registers the OpenGL classes
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget
from vtkmodules.vtkInteractionStyle import vtkInteractorStyleTrackballCamera
from vtkmodules.vtkRenderingCore import vtkRenderer

from ...core.items.walk import Stop
from ..context.context import Context
from ..context.seen import SeenContext
from ..scene.canvas import Canvas
from .scenery import Scenery
from .stage import Camera, camera_of, staged


class StageView(QWidget):
    """Shows one stop; left drag turns, middle drag shifts, the wheel zooms."""

    def __init__(self, ctx: Context) -> None:
        super().__init__()
        self.ctx = ctx
        self.stop: Stop | None = None
        self.closed = False
        self.frames = 0  # drawn so far
        self._begun = False
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.canvas = Canvas(self, self)
        box.addWidget(self.canvas)
        self.renderer = vtkRenderer()
        self.window_ = self.canvas.GetRenderWindow()
        self.window_.SetMultiSamples(0)
        self.window_.SetAlphaBitPlanes(1)
        self.window_.AddRenderer(self.renderer)
        self.interactor = self.window_.GetInteractor()
        self.interactor.SetInteractorStyle(vtkInteractorStyleTrackballCamera())
        self.scenery = Scenery(self.renderer, ctx.theme)
        self._frame = QTimer(self)
        self._frame.setSingleShot(True)
        self._frame.setInterval(30)
        self._frame.timeout.connect(self._render_now)
        self._observers = [
            self.interactor.AddObserver("StartInteractionEvent", lambda *_: self.renderer.SetUseDepthPeeling(False)),
            self.interactor.AddObserver("EndInteractionEvent", lambda *_: self._rest()),
        ]
        self.canvas.installEventFilter(self)

    def show_stop(self, stop: Stop) -> None:
        """Show a stop as it was kept."""
        same = self.stop is not None and (stop.lit, stop.colour_by, stop.exaggeration) == (
            self.stop.lit,
            self.stop.colour_by,
            self.stop.exaggeration,
        )
        self.stop = stop
        seen = SeenContext(self.ctx, stop.lit, stop.colour_by, self.ctx.theme)
        if not same or self.scenery.stage is None:
            self.scenery.show(staged(seen), stop.exaggeration)
        aspect = max(self.width(), 1) / max(self.height(), 1)
        self.scenery.look(camera_of(stop, seen.lit_entries(), self.ctx.entries(), aspect))
        self.render_soon()

    def camera(self) -> Camera | None:
        """Where the camera stands now."""
        return self.scenery.camera() if self.scenery.stage is not None else None

    def drawn_items(self) -> list[str]:
        """Names of what is shown."""
        stage = self.scenery.stage
        return [p.entry.name for p in stage.placed if p.props] if stage is not None else []

    def render_soon(self) -> None:
        """Draw one frame soon."""
        if not self.closed and not self._frame.isActive():
            self._frame.start()

    @property
    def settled(self) -> bool:
        """Whether nothing waits to be drawn."""
        return not self._frame.isActive()

    def _rest(self) -> None:
        self.renderer.SetUseDepthPeeling(True)
        self.render_soon()

    def _render_now(self) -> None:
        if self.closed or not self.isVisible() or not self._begun:
            return
        self.scenery.follow(*self.window_.GetSize())
        self.window_.Render()
        self.frames += 1

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if event.type() in (QEvent.Type.KeyPress, QEvent.Type.ShortcutOverride):
            event.ignore()  # keys are the owner's
            return event.type() == QEvent.Type.KeyPress and self._pass_on(event)
        return False

    def _pass_on(self, event: Any) -> bool:
        owner = self.window() if self.window().windowFlags() & Qt.WindowType.Window else self
        owner.keyPressEvent(event)
        return True

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        super().showEvent(event)
        if not self._begun:
            self._begun = True
            self.interactor.Initialize()
        self.render_soon()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self.render_soon()

    def close_view(self) -> None:
        """Let the graphics go."""
        if self.closed:
            return
        self.closed = True
        self._frame.stop()
        for observer in self._observers:
            self.interactor.RemoveObserver(observer)
        self.canvas.removeEventFilter(self)
        self.renderer.RemoveAllViewProps()
        self.window_.Finalize()
        self.canvas.close()
