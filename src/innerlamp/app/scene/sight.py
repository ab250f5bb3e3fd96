"""From pixels of the 3D pane to places in space and back: what lies there, the line of sight, and where it meets planes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from PySide6.QtCore import QPoint
from vtkmodules.vtkRenderingCore import vtkCellPicker, vtkProp3D, vtkRenderer

_GRAZING = np.sin(
    np.radians(2.0)
)  # a line of sight flatter than this against a plane says nothing of where it meets it


class Shown(Protocol):
    """A widget with a size in pixels of the desktop."""

    def height(self) -> int: ...

    def devicePixelRatioF(self) -> float: ...  # noqa: N802


@dataclass(frozen=True)
class Line:
    """A line of sight: a place on it (east, north, up, metres) and its direction away from the viewer, a unit vector."""

    start: np.ndarray
    way: np.ndarray

    def on_plane(self, place: np.ndarray, normal: np.ndarray) -> np.ndarray | None:
        """Return where it meets a plane through a place; None when it runs along it, or meets it behind the viewer."""
        across = float(self.way @ normal) / max(float(np.linalg.norm(normal)), 1e-12)
        if abs(across) < _GRAZING:
            return None
        far = float((place - self.start) @ normal) / float(self.way @ normal)
        return self.start + far * self.way if far > 0 else None

    def near_line(self, place: np.ndarray, way: np.ndarray) -> float | None:
        """Return how far along another line (a place and a unit vector) it passes nearest; None when they are parallel."""
        lean = float(self.way @ way)
        if 1.0 - lean**2 < _GRAZING**2:
            return None
        between = self.start - place
        return (float(between @ way) - lean * float(between @ self.way)) / (1.0 - lean**2)


class Sight:
    """What is under a pixel of a view, in coordinates of the ground.

    Parameters
    ----------
    origin, factor
        Return the origin of the scene (m) and its vertical exaggeration.
    """

    def __init__(
        self, renderer: vtkRenderer, canvas: Shown, origin: Callable[[], np.ndarray], factor: Callable[[], float]
    ) -> None:
        self._renderer, self._canvas, self._origin, self._factor = renderer, canvas, origin, factor
        self._picker = vtkCellPicker()
        self._picker.SetTolerance(0.004)

    def _true(self, scene: np.ndarray) -> np.ndarray:
        return np.asarray(scene / [1.0, 1.0, self._factor()] + self._origin())

    def in_scene(self, xyz: np.ndarray) -> np.ndarray:
        """Return places (n, 3) as the scene has them: from its origin on, stretched upwards."""
        return np.asarray((xyz - self._origin()) * [1.0, 1.0, self._factor()])

    def _device(self, point: QPoint) -> tuple[float, float]:
        ratio = self._canvas.devicePixelRatioF()
        return point.x() * ratio, (self._canvas.height() - point.y()) * ratio

    def place_at(self, point: QPoint) -> np.ndarray | None:
        """Return easting, northing and elevation of what is drawn at a pixel; None for nothing."""
        if not self._picker.Pick(*self._device(point), 0, self._renderer):
            return None
        return self._true(np.array(self._picker.GetPickPosition()))

    def picked(self, among: Iterable[vtkProp3D]) -> bool:
        """Return whether what was picked last is one of some graphics."""
        found = self._picker.GetViewProp()
        return any(found is prop for prop in among)

    def line(self, point: QPoint) -> Line:
        """Return the line of sight through a pixel."""
        ends = []
        for depth in (0.0, 1.0):
            self._renderer.SetDisplayPoint(*self._device(point), depth)
            self._renderer.DisplayToWorld()
            x, y, z, w = self._renderer.GetWorldPoint()
            ends.append(self._true(np.array([x, y, z]) / (w or 1.0)))
        way = ends[1] - ends[0]
        return Line(ends[0], way / max(float(np.linalg.norm(way)), 1e-12))

    def pixels(self, xyz: np.ndarray) -> np.ndarray:
        """Return the pixels (n, 2) of the canvas at which places (n, 3) are seen; NaN for what lies behind the viewer."""
        camera, (width, height) = self._renderer.GetActiveCamera(), self._renderer.GetSize()
        matrix = camera.GetCompositeProjectionTransformMatrix(width / max(height, 1), -1.0, 1.0)
        m = np.array([[matrix.GetElement(i, j) for j in range(4)] for i in range(4)])
        at = self.in_scene(np.asarray(xyz, dtype=float).reshape(-1, 3))
        clip = np.column_stack([at, np.ones(len(at))]) @ m.T
        w = np.where(clip[:, 3] > 1e-9, clip[:, 3], np.nan)
        ratio = self._canvas.devicePixelRatioF()
        return np.column_stack(
            [
                (clip[:, 0] / w + 1.0) * 0.5 * width / ratio,
                self._canvas.height() - (clip[:, 1] / w + 1.0) * 0.5 * height / ratio,
            ]
        )
