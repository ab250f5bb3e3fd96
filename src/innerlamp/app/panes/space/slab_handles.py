"""Handles of the slab in 3D: the one in its middle moves it across, those at its ends turn it about its middle."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint
from PySide6.QtGui import QColor
from vtkmodules.vtkRenderingCore import vtkProp3D

from ....core.compute.geometry.planes import SectionPlane, turned
from ...painters.space.actors import actor
from ...painters.space.polydata import polydata
from ...scene.sight import Sight

GRAB = 11.0  # pixels
_FLAT = 0.17  # sine of the angle below which a level plane is seen too flat to point at


class SlabHandles:
    """Where the handles stand, which one is held, and where the section goes with it."""

    def __init__(self, sight: Sight) -> None:
        self.sight = sight
        self.places = np.empty((0, 3))  # the middle, then both ends
        self.held = -1
        self._from: SectionPlane | None = None
        self._grip = 0.0

    def stand(self, plane: SectionPlane | None, top: float) -> None:
        """Stand on a straight section at an elevation; None takes them away."""
        if plane is None or plane.bends:
            self.places = np.empty((0, 3))
            return
        ends = plane.places
        xy = np.vstack([ends.mean(axis=0), ends])
        self.places = np.column_stack([xy, np.full(3, top)])

    def graphics(self, colour: QColor) -> list[vtkProp3D]:
        """Return what shows them in the scene."""
        if not len(self.places):
            return []
        at = self.sight.in_scene(self.places)
        out: list[vtkProp3D] = []
        for rows, size in (([0], 17), ([1, 2], 13)):
            dots = actor(polydata(at[rows], vertices=True), colour, point_size=size, shaded=False)
            dots.GetProperty().SetRenderPointsAsSpheres(len(rows) == 2)
            out.append(dots)
        return out

    def grab(self, point: QPoint, plane: SectionPlane | None) -> bool:
        """Take the handle under a pixel; returns whether there is one."""
        self.held = -1
        if plane is None or not len(self.places):
            return False
        away = np.linalg.norm(self.sight.pixels(self.places) - [point.x(), point.y()], axis=1)
        if not np.isfinite(away).any() or np.nanmin(away) > GRAB:
            return False
        self.held, self._from = int(np.nanargmin(away)), plane
        if self.held == 0:
            self._grip = self.sight.line(point).near_line(self.places[0], behind(plane)) or 0.0
        return True

    def let_go(self) -> None:
        """Hold nothing any more."""
        self.held, self._from = -1, None

    def dragged(self, point: QPoint) -> SectionPlane | None:
        """Return the section with the held handle under a pixel; None where the line of sight says nothing of it."""
        plane, line = self._from, self.sight.line(point)
        if plane is None:
            return None
        middle = np.array([*plane.places.mean(axis=0), self.places[0, 2]])
        if self.held == 0:
            far = line.near_line(middle, behind(plane))
            return None if far is None or abs(far) > 1e6 else plane.stepped(far - self._grip)
        end = np.array([*plane.places[self.held - 1], middle[2]])
        at: np.ndarray | None
        if abs(line.way[2]) > _FLAT:
            at = line.on_plane(middle, np.array([0.0, 0.0, 1.0]))
        else:
            far = line.near_line(end, behind(plane))
            at = None if far is None else end + far * behind(plane)
        if at is None or np.linalg.norm(at[:2] - middle[:2]) < 1e-3:
            return None
        before, after = end[:2] - middle[:2], at[:2] - middle[:2]
        turn = np.degrees(np.arctan2(*after) - np.arctan2(*before))
        return turned(plane, float((turn + 180.0) % 360.0 - 180.0))


def behind(plane: SectionPlane) -> np.ndarray:
    """Return the level unit vector (east, north, up) that points behind a straight section."""
    a = np.radians(plane.azimuth)
    return np.array([-np.cos(a), np.sin(a), 0.0])
