"""Lines, polygons and points of a map: geology, contours, boundaries, with attributes."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import pandas as pd

from .base import Bounds, FloatArray, Item, bounds_of, class_columns, numeric_columns

POINT, LINE, RING, HOLE = 0, 1, 2, 3


@dataclass(frozen=True, kw_only=True)
class Features(Item):
    """Features of one map, each of one or several parts.

    Attributes
    ----------
    table
        One row a feature: its attributes.
    vertices
        Shape (n, 3), metres; z is NaN where the file has none.
    starts
        Shape (p + 1,): part k has the vertices ``starts[k]:starts[k + 1]``.
    owner
        Shape (p,): row of the feature that a part belongs to.
    role
        Shape (p,): POINT, LINE, RING (outer ring of a polygon) or HOLE (ring cut out of the ring before it).
    """

    kind: ClassVar[str] = "features"
    title: ClassVar[str] = "Map features"
    table: pd.DataFrame
    vertices: FloatArray
    starts: np.ndarray
    owner: np.ndarray
    role: np.ndarray
    units: dict[str, str] = field(default_factory=dict)
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(*self.vertices.T) if len(self.vertices) else super().bounds

    @property
    def attributes(self) -> dict[str, str]:
        names = class_columns(self.table) + numeric_columns(self.table)
        return {name: self.units.get(name, "") for name in names}

    @property
    def facts(self) -> dict[str, str]:
        kinds = {"Points": (POINT,), "Lines": (LINE,), "Polygons": (RING,)}
        facts = {"Features": f"{len(self.table):,}"}
        for name, roles in kinds.items():
            count = int(np.isin(self.role, roles).sum())
            if count:
                facts[name] = f"{count:,}"
        return facts


def segment_starts(item: Features) -> np.ndarray:
    """Return the vertices from which a piece runs to the next one, leaving out the steps from part to part."""
    inside = np.ones(max(len(item.vertices) - 1, 0), dtype=bool)
    inside[item.starts[1:-1] - 1] = False
    return np.flatnonzero(inside)


def part_vertices(item: Features, part: int) -> FloatArray:
    """Return the vertices (n, 3) of one part."""
    return item.vertices[item.starts[part] : item.starts[part + 1]]
