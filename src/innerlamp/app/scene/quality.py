"""How the 3D pane draws: smooth edges, transparency in the right order, less while it moves."""

from __future__ import annotations

import math

from PySide6.QtGui import QColor
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

_PEELS = 4
_SOFTWARE = (
    "llvmpipe",
    "softpipe",
    "swrast",
    "software",
    "swiftshader",
)  # Mesa's and others' renderers on the processor


class Quality:
    """Switches of a renderer between a still picture and one that moves."""

    def __init__(self, renderer: vtkRenderer, window: vtkRenderWindow) -> None:
        self.renderer = renderer
        self.window = window
        self.moving = False
        self.shadows: bool | None = None  # in hollows; None until the machine's graphics are known
        window.SetMultiSamples(0)  # four times faster in software; edges are smoothed afterwards instead
        window.SetAlphaBitPlanes(1)
        renderer.SetMaximumNumberOfPeels(_PEELS)
        renderer.SetOcclusionRatio(0.02)
        renderer.SetUseFXAA(True)
        renderer.SetUseDepthPeeling(True)

    def still(self) -> None:
        """Draw as well as the machine can."""
        self.moving = False
        self._shade_hollows()
        self.renderer.SetUseFXAA(True)
        self.renderer.SetUseDepthPeeling(True)

    def move(self) -> None:
        """Draw as fast as the machine can."""
        self.moving = True
        self.renderer.SetUseSSAO(False)
        self.renderer.SetUseFXAA(False)
        self.renderer.SetUseDepthPeeling(False)

    def _shade_hollows(self) -> None:
        """Soft shadow where light from the sky hardly comes: only on graphics hardware, it doubles a frame in software."""
        if self.shadows is None:
            told = str(self.window.ReportCapabilities()).lower()
            if "renderer" in told:  # else nothing is drawn yet
                self.shadows = not any(word in told for word in _SOFTWARE)
        if self.shadows:
            camera = self.renderer.GetActiveCamera()
            seen = 2.0 * camera.GetDistance() * math.tan(math.radians(camera.GetViewAngle() / 2.0))
            self.renderer.SetSSAORadius(0.05 * seen)
            self.renderer.SetSSAOBias(0.001 * seen)
            self.renderer.SetSSAOKernelSize(48)
            self.renderer.SSAOBlurOn()
        self.renderer.SetUseSSAO(bool(self.shadows))


def quiet_background(renderer: vtkRenderer, canvas: QColor, dark: bool) -> None:
    """From the colour of the ground below to that of the sky above, both near to the canvas."""
    ground = canvas.lighter(118) if dark else canvas.darker(107)
    ground = QColor.fromHslF(0.10, 0.16 if dark else 0.22, ground.lightnessF())
    sky = QColor.fromHslF(0.58, 0.20 if dark else 0.30, 0.16 if dark else 0.955)
    renderer.GradientBackgroundOn()
    renderer.SetBackground(ground.redF(), ground.greenF(), ground.blueF())
    renderer.SetBackground2(sky.redF(), sky.greenF(), sky.blueF())
