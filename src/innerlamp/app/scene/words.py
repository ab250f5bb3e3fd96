"""Words in 3D: which of them show where they would lie on each other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QRectF
from vtkmodules.vtkRenderingCore import vtkCamera, vtkProp3D

from ..painters.kit.room import Space


def is_words(prop: vtkProp3D) -> bool:
    """Whether a prop is a text that faces the viewer."""
    return bool(prop.IsA("vtkBillboardTextActor3D"))


def faded_prop(prop: vtkProp3D, opacity: float) -> None:
    """Give a prop a share of the opacity that it was drawn with."""
    shading = prop.GetTextProperty() if is_words(prop) else prop.GetProperty()
    if not hasattr(prop, "full_opacity"):
        prop.full_opacity = shading.GetOpacity()
    shading.SetOpacity(prop.full_opacity * opacity)


def part_labels(labels: Sequence[vtkProp3D], camera: vtkCamera, size: tuple[int, int], ratio: float) -> None:
    """Hide texts that would lie on earlier ones; `size` is the view in pixels, `ratio` theirs to those of the desktop."""
    width, height = size
    if not labels or height < 2:
        return
    matrix = camera.GetCompositeProjectionTransformMatrix(width / height, -1.0, 1.0)
    places = np.array([(*p.GetPosition(), 1.0) for p in labels])
    seen = places @ np.array([[matrix.GetElement(i, j) for j in range(4)] for i in range(4)]).T
    at = seen[:, :2] / np.where(np.abs(seen[:, 3:]) > 1e-9, seen[:, 3:], 1e-9)
    x, y = 0.5 * (at[:, 0] + 1.0) * width, 0.5 * (1.0 - at[:, 1]) * height
    space = Space(QRectF(-50, -50, width + 100, height + 100))
    for prop, px, py, depth in zip(labels, x, y, seen[:, 3], strict=True):
        high = prop.GetTextProperty().GetFontSize() * ratio
        wide = 0.62 * high * len(prop.GetInput() or "")
        free = depth > 0 and space.take(QRectF(px - wide / 2, py - high, wide, 1.2 * high))
        prop.SetVisibility(bool(free))
