"""Scale in the corner of the 3D pane, always readable: a bar that holds at the distance of the view's centre."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QColor
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkRenderingCore import (
    vtkActor2D,
    vtkCoordinate,
    vtkPolyDataMapper2D,
    vtkRenderer,
    vtkTextActor,
)

from ..painters.polydata import polydata
from .base import round_length

_LONGEST = 110.0  # pixels
_LEFT, _BOTTOM = 10.0, 34.0


class CornerScale:
    """A scale bar with its length in words, above the caption of the pane."""

    def __init__(self, renderer: vtkRenderer) -> None:
        self._renderer = renderer
        self.metres = 0.0
        self._bar = vtkActor2D()
        self._mapper = vtkPolyDataMapper2D()
        pixels = vtkCoordinate()
        pixels.SetCoordinateSystemToDisplay()
        self._mapper.SetTransformCoordinate(pixels)
        self._mapper.SetInputData(vtkPolyData())
        self._bar.SetMapper(self._mapper)
        self._bar.GetProperty().SetLineWidth(2.0)
        self._words = vtkTextActor()
        self._words.GetTextProperty().SetFontSize(12)
        self._words.GetTextProperty().SetFontFamilyToArial()
        self._words.SetPosition(_LEFT, _BOTTOM + 5)
        for prop in (self._bar, self._words):
            prop.PickableOff()
            renderer.AddViewProp(prop)

    @property
    def words(self) -> str:
        """What the bar says."""
        return str(self._words.GetInput() or "")

    def dress(self, ink: QColor) -> None:
        """Take the colour of the theme's text."""
        for prop in (self._bar.GetProperty(), self._words.GetTextProperty()):
            prop.SetColor(ink.redF(), ink.greenF(), ink.blueF())

    def update(self, height: int) -> None:
        """Fit the bar to the camera; `height` is that of the pane in pixels."""
        camera = self._renderer.GetActiveCamera()
        if height < 2:
            return
        metre = 2.0 * camera.GetDistance() * np.tan(np.radians(camera.GetViewAngle() / 2)) / height
        self.metres = round_length(_LONGEST * metre)
        long = self.metres / metre
        ends = np.array(
            [[_LEFT, _BOTTOM, 0], [_LEFT + long, _BOTTOM, 0]]
            + [[_LEFT + f * long, _BOTTOM + d, 0] for f in (0, 1) for d in (-4, 4)],
            dtype=np.float32,
        )
        self._mapper.SetInputData(polydata(ends, lines=np.array([[0, 1], [2, 3], [4, 5]])))
        length = f"{self.metres / 1000:g} km" if self.metres >= 1000 else f"{self.metres:g} m"
        self._words.SetInput(f"{length} at the centre")
