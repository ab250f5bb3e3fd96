"""What stands above a section, as numbers: the plan of its corridor, and profiles of grids along it. Screen and paper share it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ....core.compute.geometry.sampling import bilinear
from ....core.items.fields import Grid
from ....core.items.holes import HoleSet
from ....core.items.legend import without_unit
from ....core.project.records import Entry
from ...context.sight import Sight
from ..kit.views import SectionView

FloatArray = NDArray[np.float64]
REACH = 1.5  # corridors to each side that the plan shows


@dataclass(frozen=True)
class StripHoles:
    """Holes in the plan of a corridor, in metres along the section and behind it.

    `pieces` (2 n, 2) are ends of parts of traces, two by two; `collars` (m, 2) have `names`.
    """

    pieces: FloatArray
    collars: FloatArray
    names: list[str]


def strip_holes(item: HoleSet, view: SectionView) -> StripHoles:
    """Return what of holes lies in the plan of a section's corridor."""
    s, width = item.stations, REACH * view.corridor
    along, off = view.plane.to_plane(s["x"].to_numpy(float), s["y"].to_numpy(float))
    hole = s["hole"].to_numpy()
    near = np.abs(off) <= width
    same = (hole[1:] == hole[:-1]) & near[1:] & near[:-1] & (np.abs(np.diff(along)) < 500.0)
    at = np.column_stack([along, off])
    pieces = np.stack([at[:-1][same], at[1:][same]], axis=1).reshape(-1, 2)
    c = item.collars
    a, o = view.plane.to_plane(c["x"].to_numpy(float), c["y"].to_numpy(float))
    there = (np.abs(o) <= width) & (a >= 0) & (a <= view.plane.length)
    return StripHoles(pieces, np.column_stack([a, o])[there], c["hole"].astype(str).to_numpy()[there].tolist())


def panel_grids(ctx: Sight, names: Sequence[str]) -> list[tuple[Entry, Grid]]:
    """Return the grids that panels name, by id or name, in their order; what is not there is passed over."""
    entries: Iterable[Entry] = [e for e in ctx.entries() if e.kind == "grid"]
    return [
        (e, item)
        for name in names
        for e in entries
        if name in (e.id, e.name) and isinstance(item := ctx.item(e.id), Grid)
    ]


def profile(view: SectionView, grid: Grid) -> tuple[FloatArray, FloatArray]:
    """Return metres along a section and the values of a grid there, NaN beside it."""
    count = int(np.clip(view.plane.length / grid.dx * 2, 50, 4000))
    along = np.linspace(0.0, view.plane.length, count)
    x, y = view.plane.to_map(along)
    return along, bilinear(grid.values, grid.x0, grid.y0, grid.dx, grid.dy, x, y)


def profile_range(values: FloatArray) -> tuple[float, float]:
    """Return the ends of a profile's axis: its values with a little room."""
    known = values[np.isfinite(values)]
    if not len(known):
        return 0.0, 1.0
    low, high = float(known.min()), float(known.max())
    room = 0.08 * (high - low) if high > low else 0.5 * max(abs(low), 1.0)
    return low - room, high + room


def profile_title(grid: Grid) -> str:
    """Return what a panel says of its grid."""
    unit = f" ({grid.unit})" if grid.unit else ""
    return f"{grid.name}: {without_unit(grid.attribute, grid.unit)}{unit}"
