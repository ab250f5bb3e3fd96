"""The ground surface as a function of place, for imports that lack elevations."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ...compute.geometry.sampling import bilinear
from ...items.fields import Grid

# From eastings and northings (n,) in metres to elevations (n,) in metres, NaN beyond the grid.
Level = Callable[[np.ndarray, np.ndarray], np.ndarray]


def level_of(ground: Grid) -> Level:
    """Return the elevation of a ground surface at any place, read between its cell centres."""

    def level(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        return bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, x, y)

    return level
