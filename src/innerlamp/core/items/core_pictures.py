"""Pictures of core: photographs of boxes, each from one depth of a hole to another."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import pandas as pd

from .base import Bounds, Item, bounds_of


@dataclass(frozen=True, kw_only=True)
class CorePictures(Item):
    """Pictures along holes.

    Attributes
    ----------
    table
        One row a picture: hole, from_m, to_m, rows (of core in it, top to bottom, each from left to right; 0 when it is
        shown whole), file (its name), width and height in pixels as kept, and x, y, z of its middle (NaN when the hole
        has no path).
    data, starts
        JPEG files one after the other (uint8), and where each begins (n + 1 numbers).
    small, small_starts
        The same pictures, small, for logs seen from afar.
    """

    kind: ClassVar[str] = "core"
    title: ClassVar[str] = "Core pictures"
    table: pd.DataFrame
    data: np.ndarray
    starts: np.ndarray
    small: np.ndarray
    small_starts: np.ndarray
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)

    def jpeg(self, row: int, small: bool = False) -> bytes:
        """Return a picture as a JPEG file holds it."""
        data, starts = (self.small, self.small_starts) if small else (self.data, self.starts)
        return data[int(starts[row]) : int(starts[row + 1])].tobytes()

    @property
    def bounds(self) -> Bounds:
        return bounds_of(self.table["x"], self.table["y"], self.table["z"])

    @property
    def facts(self) -> dict[str, str]:
        metres = float((self.table["to_m"] - self.table["from_m"]).sum())
        facts = {
            "Pictures": f"{len(self.table):,}",
            "Holes": f"{self.table['hole'].nunique():,}",
            "Core": f"{metres:,.1f} m",
            "Size": f"{len(self.data) / 1e6:,.1f} MB",
        }
        return facts | ({"Findings": str(len(self.findings))} if len(self.findings) else {})


def row_parts(rows: int, start: float, stop: float) -> list[tuple[float, float]]:
    """Return from and to (m) of each row of core in a picture: the same length each, the first one the highest."""
    edges = np.linspace(start, stop, max(rows, 1) + 1)
    return [(a, b) for a, b in itertools.pairwise(edges.tolist())]
