"""What people put into a model by hand: lines and outlines drawn in sections or in 3D, picked points, single pushes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ....compute.geology.units.by_hand import Placed, along_path
from ....errors import InputError
from ....items.features import HOLE, POINT, RING, Features, is_closed, part_vertices, texts_of
from ....items.points import PointSet
from .logged_units import number_of
from .model_extent import height_at

if TYPE_CHECKING:
    from .model_sources import Sources
    from .unit_params import EditRow

_COLUMNS = ("body", "unit", "vein", "surface")  # where drawings name what they bound


def drawn_units(item: Features, column: str) -> np.ndarray:
    """Return the name that each feature of a drawing carries.

    Raises
    ------
    InputError
        When the drawing has no column that names what it bounds.
    """
    known = {str(c).lower(): str(c) for c in item.table.columns}
    found = column or next((known[c] for c in _COLUMNS if c in known), "")
    if not found:
        found = next((n for n, a in item.attributes.items() if a.is_code), "")
    if not found:
        raise InputError("the drawing has no column that names a unit", where=item.name, fix="Give its parts a unit")
    return texts_of(item, found)


def mapped_units(chart: Features, column: str) -> np.ndarray:
    """Return the unit of each feature of a map: of the column that was named, else of its first one of texts."""
    return texts_of(chart, column or next((n for n, a in chart.attributes.items() if a.is_code), ""))


def is_of(number: int, names: np.ndarray, of: Sources) -> np.ndarray:
    """Return which names are those of a unit: one of its codes, or its own."""
    return np.asarray((number_of(names, of.units, of.members) == number) | (names == of.units[number].name))


def placed(number: int, of: Sources, column: str, edits: Sequence[EditRow], step: float) -> Placed:
    """What was put in by hand for the contact of a unit; lines are taken every `step` metres."""
    parts: list[tuple[np.ndarray, np.ndarray]] = []
    name = of.units[number].name
    for item in of.drawn:
        mine = is_of(number, drawn_units(item, column), of)
        for k in np.flatnonzero((item.part_types != POINT) & mine[item.owner]):
            path, kind = _on_ground(part_vertices(item, int(k)), of), int(item.part_types[k])
            closed = kind in (RING, HOLE) or is_closed(path)
            parts.append(along_path(path, step, closed, kind == HOLE))
        for k in np.flatnonzero((item.part_types == POINT) & mine[item.owner]):
            at = _on_ground(part_vertices(item, int(k)), of)
            parts.append((at, np.zeros(len(at))))
    for points in of.picks:
        code = next((n for n, a in points.attributes.items() if a.is_code), "")
        if not code:
            raise InputError("the points have no column of units", where=points.name)
        rows = is_of(number, points.table[code].astype(str).to_numpy(dtype=object), of)
        at = _on_ground(points.table.loc[rows, ["x", "y", "z"]].to_numpy(float), of)
        inside = next((n for n in points.table.columns if str(n).lower() in ("inside", "inside_m")), None)
        value = np.zeros(len(at)) if inside is None else points.table.loc[rows, inside].to_numpy(float)
        parts.append((at, np.nan_to_num(value)))
    mine_too = [e for e in edits if e.surface.strip() == name]
    if mine_too:
        at = np.array([[e.east, e.north, e.elevation] for e in mine_too])
        parts.append((at, np.array([e.inside for e in mine_too])))
    at = np.vstack([np.empty((0, 3)), *(a for a, _ in parts)])
    values = np.concatenate([np.empty(0), *(v for _, v in parts)])
    good = np.isfinite(at).all(axis=1)
    return Placed(at[good], values[good], values[good] == 0.0)


def checked_edits(edits: Sequence[EditRow], units: Sequence[str]) -> None:
    """Refuse pushes of what is no unit.

    Raises
    ------
    InputError
        Names the unit.
    """
    for row in edits:
        if row.surface.strip() not in units:
            raise InputError(
                f"a push names '{row.surface}', which is no unit of the age order", fix="There are: " + ", ".join(units)
            )


def _on_ground(at: np.ndarray, of: Sources) -> np.ndarray:
    at = np.array(at, dtype=float)
    lost = ~np.isfinite(at[:, 2])
    at[lost, 2] = height_at(of.ground, at[lost, 0], at[lost, 1])
    return at


def lines_named(items: Sequence[Features | PointSet], name: str) -> np.ndarray:
    """Return the vertices (n, 3) of features, and points, whose name or any text is `name`; z is NaN where there is none."""
    parts = [np.empty((0, 3))]
    for item in items:
        table = item.table
        texts = [
            table[c].astype(str).str.strip() == name
            for c in table.columns
            if table[c].dtype.kind in "OUTS" or str(table[c].dtype) in ("category", "string", "str")
        ]
        rows = np.logical_or.reduce([t.to_numpy() for t in texts]) if texts else np.zeros(len(table), dtype=bool)
        if item.name == name:
            rows = np.ones(len(table), dtype=bool)
        if isinstance(item, PointSet):
            parts.append(table.loc[rows, ["x", "y", "z"]].to_numpy(float))
        else:
            parts += [part_vertices(item, k) for k in range(len(item.part_types)) if rows[item.owner[k]]]
    return np.vstack(parts)
