"""A stage in a renderer: its props with a vertical exaggeration, axes, scale, compass and caption, which follow the camera."""

from __future__ import annotations

from typing import Any

from PySide6.QtGui import QColor
from vtkmodules.vtkRenderingCore import vtkRenderer

from ..scene.axes import SceneAxes
from ..scene.cameras import camera_as_data, looking_words, set_camera
from ..scene.marks import CornerCompass, CornerScale, corner_caption, dress_words
from ..scene.quality import quiet_background
from ..scene.words import is_words, part_labels
from ..theme.theme import Theme
from .stage import Camera, Stage


class Scenery:
    """What stands in a renderer; `ratio` makes words and lines larger, as a picture of many pixels needs."""

    def __init__(self, renderer: vtkRenderer, theme: Theme, ratio: float = 1.0) -> None:
        self.renderer, self.theme, self.ratio = renderer, theme, ratio
        self.stage: Stage | None = None
        self.factor = 1.0
        self._props: list[Any] = []
        self._words: list[Any] = []
        renderer.SetUseFXAA(True)
        renderer.SetUseDepthPeeling(True)
        renderer.SetMaximumNumberOfPeels(6)
        back, ink = QColor(theme.canvas), QColor(theme.text)
        quiet_background(renderer, back, dark=back.lightnessF() < 0.5)
        self._axes = SceneAxes(renderer)
        self._scale, self._compass = CornerScale(renderer), CornerCompass(renderer)
        self._scale.dress(ink, back)
        self._compass.dress(ink, QColor(theme.faint))
        self._caption = corner_caption(renderer, ratio)
        dress_words(self._caption, ink, back)

    def show(self, stage: Stage, factor: float) -> None:
        """Show a stage at a vertical exaggeration, instead of the one before."""
        for prop in (*self._props, *self._words):
            self.renderer.RemoveViewProp(prop)
        self.stage, self.factor, self._props, self._words = stage, factor, [], []
        for prop in (p for placed in stage.placed for p in placed.props):
            if is_words(prop):
                x, y, z = prop.GetPosition()
                prop.SetPosition(x, y, z * factor)
                font = prop.GetTextProperty()
                font.SetFontSize(round(font.GetFontSize() * self.ratio))
                self._words.append(prop)
            else:
                prop.SetScale(1.0, 1.0, factor)
                look = prop.GetProperty()
                look.SetLineWidth(look.GetLineWidth() * self.ratio)
                look.SetPointSize(look.GetPointSize() * self.ratio)
                self._props.append(prop)
        # Translucent surfaces are drawn in the order of the props: words added last stay readable.
        for prop in (*self._props, *self._words):
            self.renderer.AddViewProp(prop)

    def look(self, camera: Camera) -> None:
        """Put the camera where it was kept."""
        assert self.stage is not None
        set_camera(self.renderer.GetActiveCamera(), list(camera), self.stage.origin, self.factor)

    def camera(self) -> Camera:
        """Where the camera stands now."""
        assert self.stage is not None
        return tuple(camera_as_data(self.renderer.GetActiveCamera(), self.stage.origin, self.factor))

    def follow(self, width: int, height: int) -> None:
        """Let everything that depends on the camera follow it; the view's size in pixels."""
        if self.stage is None:
            return
        lens, theme, stage = self.renderer.GetActiveCamera(), self.theme, self.stage
        self.renderer.ResetCameraClippingRange()
        self._scale.update(height, self.ratio)
        self._compass.update(width, height, self.ratio)
        box = (stage.low - stage.origin, stage.high - stage.origin)
        self._axes.update(box, stage.origin, self.factor, QColor(theme.text), QColor(theme.canvas))
        self._caption.SetInput(looking_words(lens, self.factor))
        numbers = self._axes.labels()
        for prop in numbers:
            if not hasattr(prop, "plain_size"):
                prop.plain_size = prop.GetTextProperty().GetFontSize()
            prop.GetTextProperty().SetFontSize(round(prop.plain_size * self.ratio))
        part_labels([*self._words, *numbers], lens, (width, height), 1.0)  # the fonts are scaled already
