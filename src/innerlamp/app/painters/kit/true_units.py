"""Areas of units with their true contacts: on sections and on the ground, as outlines that stay sharp at any scale."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ....core.compute.geometry.planes import SectionPlane
from ....core.errors import LampError
from ....core.items.fields import BlockModel
from ....core.items.legend import Legend
from ....core.kept import KEPT
from ....core.operations.geology.units.model_units import contacts_of
from .colours import class_colour
from .unit_areas import UnitAreas, piece_of

if TYPE_CHECKING:  # compiled code is loaded only where contacts are drawn
    from ....core.compute.geology.bodies.model import UnitModel
    from ....core.compute.geology.bodies.outlines import Outlines
    from ....core.compute.geology.bodies.solids import Solids

FloatArray = NDArray[np.float64]
_NODES, _NODES_MOVING = 10_000, 2_500  # places that are looked at for a picture; contacts are exact between them
_OPACITY = 205


def true_contacts(item: BlockModel, attribute: str) -> UnitModel | None:
    """Return the contacts that a model is drawn by, None where its blocks are all there is."""
    if attribute != "unit":
        return None
    try:
        return contacts_of(item)
    except LampError:
        return None


def bodies_of(item: BlockModel, attribute: str) -> Solids | None:
    """Return the closed bodies of a model, None where its blocks are all there is."""
    model = true_contacts(item, attribute)
    if model is None:
        return None
    from ....core.compute.geology.bodies.stored import bodies_kept

    return bodies_kept(item.contacts, len(model.units))


def on_section(item: BlockModel, model: UnitModel, plane: SectionPlane, moving: bool) -> Outlines | None:
    """Return the areas of units on a section: metres along it and elevations; None where it passes the model by."""
    from ....core.compute.geology.bodies.outlines import over_plane
    from ....core.compute.geology.bodies.simplices import nodes_between

    along = np.linspace(0.0, plane.length, 2001)
    x, y = plane.to_map(along)
    inside = (x >= model.low[0]) & (x <= model.high[0]) & (y >= model.low[1]) & (y <= model.high[1])
    if inside.sum() < 2:
        return None
    first, last = along[inside][[0, -1]]
    wide, high = float(last - first), float(model.high[2] - model.low[2])
    step = float(np.sqrt(wide * high / (_NODES_MOVING if moving else _NODES)))

    def to_space(flat: FloatArray) -> FloatArray:
        east, north = plane.to_map(flat[:, 0])
        there = (east >= model.low[0] - 1e-6) & (east <= model.high[0] + 1e-6)
        there &= (north >= model.low[1] - 1e-6) & (north <= model.high[1] + 1e-6)
        return np.column_stack([np.where(there, east, np.nan), north, flat[:, 1]])

    def to_plane(at: FloatArray) -> FloatArray:
        return np.column_stack([plane.to_plane(at[:, 0], at[:, 1])[0], at[:, 2]])

    def make() -> Outlines:
        u = nodes_between(float(first), float(last), step)
        v = nodes_between(float(model.low[2]), float(model.high[2]), step)
        bends = plane.corners[1:-1]
        u = np.unique(np.concatenate([u, bends[(bends > first) & (bends < last)]]))
        return over_plane(model, u, v, to_space, to_plane)

    return KEPT.of(("units on a section", id(item), plane, moving), make, owner=item)


def on_map(item: BlockModel, model: UnitModel, hidden: frozenset[str]) -> Outlines:
    """Return the areas of units on the ground; those that are switched off are looked through."""
    from ....core.compute.geology.bodies.outlines import on_ground
    from ....core.compute.geology.bodies.simplices import nodes_between

    off = {k for k, name in enumerate(model.units[:-1]) if name in hidden}
    seen = dataclasses.replace(model, pieces=tuple(p for p in model.pieces if p.unit not in off)) if off else model

    def make() -> Outlines:
        wide, long = (float(w) for w in (model.high - model.low)[:2])
        step = float(np.sqrt(wide * long / (2 * _NODES)))
        x, y = (nodes_between(float(model.low[k]), float(model.high[k]), step) for k in (0, 1))
        return on_ground(seen, x, y, model.ground_at)

    return KEPT.of(("units on the ground", id(item), tuple(sorted(off))), make, owner=item)


def areas(outlines: Outlines, names: tuple[str, ...], legend: Legend, z: float) -> list[UnitAreas]:
    """Return the areas of the units that are not switched off, each with its colour and pattern."""
    out = []
    for unit, name in enumerate(names):
        rings = np.flatnonzero(outlines.units == unit)
        if name in legend.hidden or not len(rings):
            continue
        parts, joined = [], []
        for k in rings.tolist():
            ring = outlines.rings[outlines.start[k] : outlines.start[k + 1]]
            if len(ring) < 3:
                continue
            parts.append(outlines.places[np.append(ring, ring[0])])
            ends = np.ones(len(ring) + 1, dtype=np.int32)
            ends[-1] = 0
            joined.append(ends)
        if not parts:
            continue
        piece = piece_of(np.ascontiguousarray(np.vstack(parts)), np.concatenate(joined))
        out.append(UnitAreas([piece], class_colour(legend, name), legend.patterns.get(name, "plain"), z, _OPACITY))
    return out
