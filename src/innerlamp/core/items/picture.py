"""Pictures that lie on the map: scanned maps, air photos."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import pandas as pd

from .base import Bounds, Item, bounds_of


@dataclass(frozen=True, kw_only=True)
class Picture(Item):
    """A picture with its place.

    Attributes
    ----------
    pixels
        Shape (rows, columns, 4), uint8 red, green, blue and opacity; row 0 is the top.
    affine
        (a, b, c, d, e, f): easting is ``a col + b row + c`` and northing ``d col + e row + f`` in metres,
        with col and row counted from the outer corner of the first pixel.
    points
        Picked points where it was placed by hand: col, row, x, y and residual_m; else empty.
    """

    kind: ClassVar[str] = "picture"
    title: ClassVar[str] = "Pictures"
    pixels: np.ndarray
    affine: tuple[float, float, float, float, float, float]
    points: pd.DataFrame = field(default_factory=pd.DataFrame)
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def corners(self) -> np.ndarray:
        """Easting and northing of the four outer corners, shape (4, 2), from the top left clockwise."""
        a, b, c, d, e, f = self.affine
        rows, columns = self.pixels.shape[:2]
        at = np.array([(0, 0), (columns, 0), (columns, rows), (0, rows)], dtype=float)
        return np.column_stack([a * at[:, 0] + b * at[:, 1] + c, d * at[:, 0] + e * at[:, 1] + f])

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.corners[:, 0], self.corners[:, 1], [])

    @property
    def facts(self) -> dict[str, str]:
        rows, columns = self.pixels.shape[:2]
        a, _, _, d, _, _ = self.affine
        facts = {"Pixels": f"{columns:,} × {rows:,}", "Pixel size": f"{np.hypot(a, d):.3g} m"}
        if len(self.points):
            rms = float(np.sqrt(np.mean(np.square(self.points["residual_m"]))))
            facts["Placed by"] = f"{len(self.points)} points, residual {rms:.3g} m"
        return facts
