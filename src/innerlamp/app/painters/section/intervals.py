"""Intervals along holes as a section sees them: those in its corridor, their ends, what lies at right angles to them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ....core.compute.drilling.beside import room_beside
from ....core.items.holes import INTERVAL_PLACES, hole_codes
from ....core.kept import KEPT
from ..kit.views import SectionView

FloatArray = NDArray[np.float64]
Index = NDArray[np.int64]
FADING = (1.0, 0.7, 0.45)  # opacity by thirds of the corridor, from the section outwards
STATION = ("x", "y", "z")


@dataclass(frozen=True)
class Near:
    """The intervals of a table in the corridor: their rows, how far off they lie in thirds, their ends as they are seen."""

    rows: Index
    third: Index
    start: FloatArray
    stop: FloatArray

    def only(self, keep: NDArray[np.bool_]) -> Near:
        """Return some of them."""
        return Near(self.rows[keep], self.third[keep], self.start[keep], self.stop[keep])


def intervals_near(view: SectionView, table: pd.DataFrame) -> Near:
    """Return the intervals of a table whose middle lies in the corridor."""
    all_places = places(table)
    _, off, inside = view.near(all_places[0], all_places[1])
    rows = np.flatnonzero(inside)
    p = all_places[:, rows]
    third = np.minimum(np.abs(off[rows]) / max(view.corridor, 1e-9) * len(FADING), len(FADING) - 1).astype(int)
    # Both ends belong to the straight piece that is nearest to the middle: no interval is torn at a bend.
    which = view.plane.nearest_piece(p[0], p[1]) if view.plane.bends else None
    a0, _ = view.plane.to_plane(p[3], p[4], which)
    a1, _ = view.plane.to_plane(p[6], p[7], which)
    return Near(rows, third, np.column_stack([a0, p[5]]), np.column_stack([a1, p[8]]))


def aside(by: Near, exaggeration: float, sign: float = 1.0) -> FloatArray:
    """Return a step (n, 2) of a metre on the screen at right angles to each interval, to the right (1) or the left (-1)."""
    scale = np.array([1.0, exaggeration])
    run = (by.stop - by.start) * scale
    length = np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)
    step = np.column_stack([-run[:, 1], run[:, 0]]) / length[:, None]
    step *= np.where(step[:, :1] * sign < 0, -1.0, 1.0)
    return np.asarray(step / scale)


def rooms(count: int, hole: Index, along: FloatArray, z: FloatArray, near: NDArray[np.bool_]) -> dict[str, FloatArray]:
    """Return how far each of ``count`` holes is from the next to its left and right; infinite in the last place.

    ``hole`` (numbers), ``along``, ``z`` and ``near`` are of the stations of all holes.
    """
    code, names = pd.factorize(hole[near])
    out = {}
    for side, free in zip(("left", "right"), room_beside(code, along[near], z[near]), strict=True):
        out[side] = np.full(count + 1, np.inf)
        out[side][names] = free
    return out


def _kept(table: pd.DataFrame, what: str, make: Callable[[], np.ndarray]) -> np.ndarray:
    """Arrays of the tables that are drawn: each step to the next section asks for them again."""
    return KEPT.of(("intervals", id(table), what), make, owner=table)


def places(table: pd.DataFrame, names: tuple[str, ...] = INTERVAL_PLACES) -> np.ndarray:
    """Return places of rows, shape (number of names, n)."""
    return _kept(table, names[-1], lambda: np.stack([table[c].to_numpy(float) for c in names]))


def codes(table: pd.DataFrame, index: pd.Index) -> np.ndarray:
    """Return the number of the hole of each row; -1, the last of what is looked up, for one that is not there."""
    return _kept(table, "hole", lambda: np.asarray(hole_codes(table["hole"], index)))
