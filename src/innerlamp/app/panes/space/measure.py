"""Measuring in 3D: two points give a line, three a plane; drawn in the scene and said in words."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QToolButton
from vtkmodules.vtkRenderingCore import vtkProp3D, vtkRenderer, vtkTextActor

from ....core.compute.geometry.measuring import line_between, plane_through
from ....core.errors import LampError
from ...painters.space.actors import actor
from ...painters.space.polydata import polydata
from ...scene.marks import dress_words

_TOP = 0.955  # of the height of the view


def measure_switch(toggled: Callable[[bool], None]) -> QToolButton:
    """Return the switch that turns measuring on and off."""
    button = QToolButton()
    button.setText("Measure")
    button.setCheckable(True)
    button.setToolTip("Click two points for distance, plunge and trend, a third one for the plane (M)")
    button.toggled.connect(toggled)
    return button


class Measure:
    """Up to three places; a fourth begins anew."""

    def __init__(self, renderer: vtkRenderer) -> None:
        self._renderer = renderer
        self.points: list[np.ndarray] = []
        self._props: list[vtkProp3D] = []
        self._text = vtkTextActor()
        self._text.GetTextProperty().SetFontSize(13)
        self._text.GetTextProperty().SetFontFamilyToArial()
        self._text.GetTextProperty().SetVerticalJustificationToTop()
        self._text.GetPositionCoordinate().SetCoordinateSystemToNormalizedViewport()
        self._text.GetPositionCoordinate().SetValue(0.012, _TOP)
        self._text.PickableOff()
        renderer.AddViewProp(self._text)

    @property
    def words(self) -> str:
        """What was measured."""
        if not self.points:
            return ""
        if len(self.points) == 1:
            x, y, z = self.points[0]
            return f"{x:.1f} E  {y:.1f} N  {z:.1f} m; click a second point"
        line = line_between(self.points[0], self.points[1])
        down = "down" if line.plunge >= 0 else "up"
        said = f"{line.length:.1f} m, {line.plan:.1f} m in plan, {abs(line.plunge):.1f}° {down} towards {line.trend:05.1f}°"
        if len(self.points) == 2:
            return f"{said}; a third point gives a plane"
        try:
            dip, to = plane_through(*self.points)
        except LampError as error:
            return str(error)
        return f"plane {dip:.1f}° towards {to:05.1f}°, strike {(to - 90.0) % 360.0:05.1f}°"

    def add(self, place: np.ndarray) -> None:
        """Take a place (easting, northing, elevation in metres)."""
        self.points = [*([] if len(self.points) == 3 else self.points), np.asarray(place, dtype=float)]

    def clear(self) -> None:
        """Forget all places."""
        self.points = []

    def draw(self, origin: np.ndarray, factor: float, colour: QColor, ink: QColor, back: QColor) -> None:
        """Draw the places with their lines, relative to the scene's origin and stretched upwards by a factor."""
        for prop in self._props:
            self._renderer.RemoveViewProp(prop)
        self._props.clear()
        self._text.SetInput(self.words)
        dress_words(self._text, ink, back)
        if not self.points:
            return
        at = (np.array(self.points) - origin) * [1.0, 1.0, factor]
        self._props.append(actor(polydata(at, vertices=True), colour, point_size=11, shaded=False))
        if len(at) > 1:
            ends = np.array([[0, 1]] if len(at) == 2 else [[0, 1], [1, 2], [2, 0]])
            lines = actor(polydata(at, lines=ends), colour, shaded=False)
            lines.GetProperty().SetLineWidth(2.5)
            self._props.append(lines)
        if len(at) == 3:
            self._props.append(actor(polydata(at, faces=np.array([[0, 1, 2]])), colour, opacity=0.35, shaded=False))
        for prop in self._props:
            prop.PickableOff()
            self._renderer.AddViewProp(prop)
