"""What a painter is told of the pane it draws for: small frozen records, one for each kind of view."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.compute.geometry.planes import SectionPlane


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

    kind = "section"


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
