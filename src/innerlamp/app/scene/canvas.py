"""VTK's widget as panes use it: it asks its owner for a frame instead of drawing one itself."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import QWidget
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor


class Owner(Protocol):
    """A widget that draws frames when it has time."""

    def render_soon(self) -> None: ...


class Canvas(QVTKRenderWindowInteractor):  # type: ignore[misc]  # the library has no types
    """VTK's widget, but for drawing at once inside Qt's paint event, which would hold up the window."""

    def __init__(self, parent: QWidget, owner: Owner) -> None:
        self.owner = owner
        super().__init__(parent)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        self.owner.render_soon()
