"""Overburden: what lies on the ground, told by how thick it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ....compute.geology.contacts import covered
from .hand_evidence import placed
from .model_extent import height_at
from .model_sources import Sources
from .unit_params import BuildModel

if TYPE_CHECKING:
    from ....compute.geology import rbf


@dataclass(frozen=True)
class Cover:
    """Depth of the base of a cover below the ground, as a field in plan, and the places (n, 3) and holes that told it."""

    depth: rbf.RadialField
    points: np.ndarray
    hole: np.ndarray

    def inside(self, at: np.ndarray, of: Sources) -> np.ndarray:
        """Return metres (n,) above the base at places (n, 3)."""
        from ....compute.geology import rbf

        flat = np.column_stack([at[:, :2], np.zeros(len(at))])
        base = height_at(of.ground, at[:, 0], at[:, 1]) - np.maximum(rbf.evaluate(self.depth, flat), 0.0)
        return np.asarray(at[:, 2] - base)


def cover_of(number: int, of: Sources, p: BuildModel) -> Cover | None:
    """Return the cover of a unit and those younger, None where fewer than five places tell its base."""
    name = of.units[number].name
    at, holes = [np.empty((0, 3))], [np.empty(0, dtype=object)]
    if of.log is not None:
        hole, down, met = covered(of.log.runs, of.log.unit, number)
        names = np.array([*map(str, of.log.names)], dtype=object)[hole] if len(hole) else np.empty(0, dtype=object)
        sure = met & ~np.isin(names, p.mended("doubtful", name))
        places = of.log.places(hole[sure], down[sure]) if sure.any() else np.empty((0, 3))
        at.append(places)
        holes.append(np.where(down[sure] > 0, names[sure], ""))
    by_hand = placed(number, of, p.line_units, p.edits, max(0.5 * p.cell, 1.0))
    at.append(by_hand.points[by_hand.contact])
    holes.append(np.full(int(by_hand.contact.sum()), "", dtype=object))
    points, hole_names = np.vstack(at), np.concatenate(holes)
    good = np.isfinite(points).all(axis=1)
    points, hole_names = points[good], hole_names[good]
    if len(points) < 5:
        return None
    from ....compute.geology import rbf

    thick = np.maximum(height_at(of.ground, points[:, 0], points[:, 1]) - points[:, 2], 0.0)
    flat = np.column_stack([points[:, :2], np.zeros(len(points))])
    field = rbf.fit(flat, thick, drift="constant", nugget=10.0 * p.smoothing)
    met_there = hole_names != ""
    return Cover(field, points[met_there | (thick > 0)], hole_names[met_there | (thick > 0)])
