"""What a painter is told of the pane it draws for: small frozen records, one for each kind of view."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ....core.compute.geometry.planes import SectionPlane, Side, in_corridor
from ....core.items.section_look import Beside


@dataclass(frozen=True)
class MapView:
    """Seen from above, in metres east and north."""

    kind = "map"


@dataclass(frozen=True)
class SectionView:
    """A vertical section: metres along the line and elevation; what lies within `corridor` metres is drawn on it."""

    plane: SectionPlane
    corridor: float
    exaggeration: float = 1.0
    side: Side = "both sides"
    beside: tuple[Beside, ...] = ()
    depths: bool = False
    moving: bool = False  # while it is dragged very many bars and names are left out

    kind = "section"

    def near(self, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Distance along the section, distance behind it, and whether each place is drawn on it."""
        along, off = self.plane.to_plane(x, y)
        inside = in_corridor(off, self.corridor, self.side) & (along >= 0) & (along <= self.plane.length)
        return along, off, inside


@dataclass(frozen=True)
class SceneView:
    """In space, in metres from an origin.

    `draped` says whether grids of values are lit, which then stand for the ground.
    """

    place: tuple[float, float, float] = (0.0, 0.0, 0.0)
    draped: bool = False

    kind = "scene"

    @property
    def origin(self) -> np.ndarray:
        return np.array(self.place)


View = MapView | SectionView | SceneView
