"""What stays in the corners of the 3D pane: a scale that holds at the view's centre, and a compass that turns with it."""

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

from ...core.numbers import round_length
from ..painters.space.polydata import polydata

_LONGEST = 110.0  # pixels
_LEFT, _BOTTOM = 10.0, 34.0


def corner_caption(renderer: vtkRenderer, ratio: float = 1.0) -> vtkTextActor:
    """Put words at the bottom left of a view, and return them."""
    out = vtkTextActor()
    out.GetTextProperty().SetFontSize(round(12 * ratio))
    out.GetTextProperty().SetFontFamilyToArial()
    out.GetPositionCoordinate().SetCoordinateSystemToNormalizedViewport()
    out.GetPositionCoordinate().SetValue(0.012, 0.015)
    renderer.AddViewProp(out)
    return out


def dress_words(words: vtkTextActor, ink: QColor, back: QColor) -> None:
    """Give words the colour of a theme's text on its ground, so that they can be read before whatever is drawn."""
    prop = words.GetTextProperty()
    prop.SetColor(ink.redF(), ink.greenF(), ink.blueF())
    prop.SetBackgroundColor(back.redF(), back.greenF(), back.blueF())
    prop.SetBackgroundOpacity(0.72)


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

    def dress(self, ink: QColor, back: QColor) -> None:
        """Take the colours of the theme's text and of what lies behind it."""
        self._bar.GetProperty().SetColor(ink.redF(), ink.greenF(), ink.blueF())
        dress_words(self._words, ink, back)

    def update(self, height: int, ratio: float = 1.0) -> None:
        """Fit the bar to the camera; `height` is that of the pane in pixels, `ratio` theirs to those of the desktop."""
        camera = self._renderer.GetActiveCamera()
        if height < 2:
            return
        metre = 2.0 * camera.GetDistance() * np.tan(np.radians(camera.GetViewAngle() / 2)) / height
        self.metres = round_length(_LONGEST * ratio * metre)
        left, bottom, long = _LEFT * ratio, _BOTTOM * ratio, self.metres / metre
        ends = np.array(
            [[left, bottom, 0], [left + long, bottom, 0]]
            + [[left + f * long, bottom + d * ratio, 0] for f in (0, 1) for d in (-4, 4)],
            dtype=np.float32,
        )
        self._bar.GetProperty().SetLineWidth(2.0 * ratio)
        self._words.SetPosition(left, bottom + 5 * ratio)
        self._mapper.SetInputData(polydata(ends, lines=np.array([[0, 1], [2, 3], [4, 5]])))
        length = f"{self.metres / 1000:g} km" if self.metres >= 1000 else f"{self.metres:g} m"
        self._words.SetInput(f"{length} at the centre")


class CornerCompass:
    """A level ring with a needle to grid north, in the upper right corner, seen as the camera sees the scene."""

    _RADIUS = 26.0  # pixels
    _INSET = 46.0

    def __init__(self, renderer: vtkRenderer) -> None:
        self._renderer = renderer
        self._parts: dict[str, tuple[vtkActor2D, vtkPolyDataMapper2D]] = {}
        for name in ("ring", "north", "south"):
            pixels = vtkCoordinate()
            pixels.SetCoordinateSystemToDisplay()
            mapper, shape = vtkPolyDataMapper2D(), vtkActor2D()
            mapper.SetTransformCoordinate(pixels)
            mapper.SetInputData(vtkPolyData())
            shape.SetMapper(mapper)
            shape.GetProperty().SetLineWidth(1.5)
            self._parts[name] = shape, mapper
        self._words = vtkTextActor()
        self._words.SetInput("N")
        self._words.GetTextProperty().SetFontSize(12)
        self._words.GetTextProperty().SetBold(True)
        self._words.GetTextProperty().SetFontFamilyToArial()
        self._words.GetTextProperty().SetJustificationToCentered()
        self._words.GetTextProperty().SetVerticalJustificationToCentered()
        self.needle = (0.0, 0.0)
        for prop in (*(shape for shape, _ in self._parts.values()), self._words):
            prop.PickableOff()
            renderer.AddViewProp(prop)

    def dress(self, ink: QColor, faint: QColor) -> None:
        """Take the colours of the theme."""
        for name, colour in (("ring", faint), ("north", ink), ("south", faint)):
            self._parts[name][0].GetProperty().SetColor(colour.redF(), colour.greenF(), colour.blueF())
        self._words.GetTextProperty().SetColor(ink.redF(), ink.greenF(), ink.blueF())

    def update(self, width: int, height: int, ratio: float = 1.0) -> None:
        """Turn the needle as the camera stands; the size is that of the pane in pixels, `ratio` as of the scale."""
        camera = self._renderer.GetActiveCamera()
        ahead = np.array(camera.GetDirectionOfProjection())
        up = np.array(camera.GetViewUp())
        right = np.cross(ahead, up)
        right /= max(float(np.linalg.norm(right)), 1e-9)
        up = np.cross(right, ahead)
        radius, inset = self._RADIUS * ratio, self._INSET * ratio

        def seen(east: float, north: float) -> tuple[float, float]:
            level = np.array([east, north, 0.0])
            return float(level @ right) * radius, float(level @ up) * radius

        cx, cy = width - inset, height - inset
        turn = np.linspace(0.0, 2 * np.pi, 37)
        ring = np.array(
            [(cx + x, cy + y, 0.0) for x, y in (seen(np.sin(a), np.cos(a)) for a in turn)], dtype=np.float32
        )
        self._parts["ring"][1].SetInputData(polydata(ring, lines=np.arange(37)[None, :]))
        for name, sign in (("north", 1.0), ("south", -1.0)):
            corners = [seen(0.0, sign * 0.95), seen(0.22, 0.0), seen(-0.22, 0.0)]
            points = np.array([(cx + x, cy + y, 0.0) for x, y in corners], dtype=np.float32)
            self._parts[name][1].SetInputData(polydata(points, faces=np.array([[0, 1, 2]])))
        self.needle = seen(0.0, 1.0)
        # The letter keeps off the ring even where the needle points at the viewer.
        x, y = seen(0.0, 1.36)
        self._words.SetPosition(cx + x, cy + y)
