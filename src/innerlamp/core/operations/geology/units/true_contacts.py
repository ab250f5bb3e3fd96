"""The contacts of a model of units as fields of their own, read at any fineness; its blocks are read from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from ....compute.geology import age_order as ao
from ....compute.geology.bodies.model import (
    LEVEL,
    PAD,
    Contact,
    Frame,
    Lattice,
    Move,
    Piece,
    UnitModel,
    nodes_of,
    sampled,
    sampled_over,
)
from ....compute.geology.faults import Fault
from ....compute.geology.units.kept_fields import kept
from ....compute.geology.units.vein_bodies import Bodies
from ....compute.geology.veins import Vein, side_kept
from ....progress import Progress
from .covers import Cover, cover_of
from .fault_throws import cutting
from .given_surfaces import inside_of
from .model_extent import height_at
from .model_sources import Sources
from .unit_fields import COLUMNS, Found, covered, ending_vein, fitted, given_in, vein_found
from .unit_params import BuildModel
from .vein_fields import vein_bodies

_NODES, _FLAT_NODES = 250_000, 250_000  # of a field in space, and of one over a plane
_SAME = 0.01  # metres by which a boundary may pass the edge of the cells
_FAR = 1e4  # metres: as far as it matters how far something lies


@dataclass(frozen=True)
class Room:
    """The lattice of fields in space: it covers the model, and as far beyond as faults moved the ground."""

    low: np.ndarray
    high: np.ndarray
    origin: np.ndarray
    spacing: np.ndarray
    count: np.ndarray

    @property
    def nodes(self) -> np.ndarray:
        """Places (n, 3), the last axis fastest."""
        return nodes_of(self.origin, self.spacing, self.count)

    def lattice(self, values: np.ndarray) -> Lattice:
        """Return the field with values (n,) at the nodes."""
        bounded = np.clip(np.nan_to_num(values, posinf=_FAR, neginf=-_FAR), -_FAR, _FAR)
        return Lattice.through(self.origin, self.spacing, bounded.reshape(tuple(self.count)))


def room_of(of: Sources, p: BuildModel, faults: Sequence[Fault], most: int = _NODES) -> Room:
    """Return the lattice for a model: about as fine as its blocks, with `most` nodes at most."""
    west, east, south, north, bottom, top = of.mesh.bounds
    low, high = np.array([west, south, bottom]), np.array([east, north, top])
    beyond = sum((np.abs(f.slip) for f in faults), np.zeros(3))
    wide = high - low + 2.0 * beyond
    shape = np.array([1.0, 1.0, 0.7])
    # Blocks may be as coarse as somebody wants: contacts are not.
    finest = float((wide / shape).prod() / most) ** (1.0 / 3.0)
    step = max(min(0.4 * p.cell, 3.0 * finest), finest)
    spacing = np.minimum(step * shape, wide / 4.0)
    count = np.ceil(wide / spacing).astype(int) + 2 * PAD + 1
    return Room(low, high, low - beyond - PAD * spacing, spacing, count)


def true_contacts(
    of: Sources, p: BuildModel, faults: Sequence[Fault], progress: Progress, most: int = 0
) -> tuple[UnitModel, list[Found]]:
    """Return the contacts of a model, and for each unit but the background its contacts with their misfit.

    `most` bounds the values that each field is fitted to, and its lattice, for a coarse model.

    Raises
    ------
    InputError
        When nothing tells where a unit ends.
    """
    every = ao.series(of.units)
    room = room_of(of, p, faults, _NODES // 12 if most else _NODES)
    cut = {group[0]: cutting(group[0], faults, of, p) for group in every}
    bodies = {
        group[0]: vein_bodies(group[0], of, p, cut[group[0]])
        for group in every
        if of.units[group[0]].kind == "vein" and not p.units[group[0]].surface
    }
    contacts: list[Contact] = [_ground(of, room)]
    pieces = [Piece(-1, (0,))]
    beyond = _outline(p, room)
    if beyond is not None:
        contacts.append(beyond)
        pieces.append(Piece(-1, (1,)))
    made: dict[int, list[list[Contact]]] = {}
    out: dict[int, Found] = {}
    for turn, group in enumerate(every):
        part = progress.part(turn / len(every), (turn + 1) / len(every))
        first, names = group[0], [of.units[k].name for k in group]
        part(0.0, names[0])
        moved = tuple(k for k, f in enumerate(faults) if any(f is c for c in cut[first]))
        if given := given_in(group, of, p):
            for k in given:
                values = inside_of(p.units[k].surface.strip(), of.given, of.units[k].kind, room.nodes)
                made[k] = [[Contact(of.units[k].name, room.lattice(values))]]
                out[k] = Found(np.empty(0), pd.DataFrame(columns=COLUMNS), pd.DataFrame())
        elif of.units[first].kind == "overburden" and (cover := cover_of(first, of, p)) is not None:
            made[first] = [[_base(names[0], cover, of, room)]]
            out[first] = covered(first, cover, of, p, np.empty(0))
        elif first in bodies:
            made[first] = [
                [*_walls(names[0], vein, room, moved), *_ended(first, bodies, of, p, room, moved)]
                for vein in bodies[first].veins
            ]
            out[first] = vein_found(first, bodies, of, p, cut[first])
        else:
            found = fitted(group, of, p, room.nodes, cut[first], part, most)
            lattice = room.lattice(found[0].values)
            zero = found[0].shift
            for k, each in zip(group, found, strict=True):
                made[k] = [[Contact(of.units[k].name, lattice, 1.0, each.shift - zero, moved=moved)]]
                out[k] = each._replace(values=np.empty(0))  # the lattice has them
    for k in range(len(of.units) - 1):
        for piece in made[k]:
            start = len(contacts)
            contacts += piece
            pieces.append(Piece(k, tuple(range(start, len(contacts)))))
    model = UnitModel(
        tuple(u.name for u in of.units), tuple(contacts), tuple(pieces), room.low, room.high,
        tuple(_move(k, f, p, room) for k, f in enumerate(faults)),
    )  # fmt: skip
    return model, [out[k] for k in range(len(of.units) - 1)]


def _flat_spacing(room: Room, low: np.ndarray, high: np.ndarray, fine: float) -> float:
    area = float(np.prod(high - low))
    return max(fine, float(np.sqrt(area / _FLAT_NODES)))


def _ground(of: Sources, room: Room) -> Contact:
    """What lies above the ground is no unit."""
    low, high = room.low[:2], room.high[:2]
    fine = 0.25 * float(room.spacing[0])
    if not isinstance(of.ground, float | int):
        fine = min(max(0.5 * of.ground.dx, 0.1 * float(room.spacing[0])), float(room.spacing[0]))
    step = _flat_spacing(room, low, high, fine)
    lattice = sampled_over(lambda q: np.asarray(height_at(of.ground, q[:, 0], q[:, 1])), low, high, step)
    return Contact("", lattice, 1.0, frame=LEVEL)


def _outline(p: BuildModel, room: Room) -> Contact | None:
    """What lies beyond the boundary is no unit; None where the boundary is that of the box."""
    import shapely

    if not p.outline:
        return None
    ring = shapely.Polygon(p.outline)
    if not ring.is_valid:
        ring = shapely.make_valid(ring)
    if ring.contains(shapely.box(*room.low[:2], *room.high[:2]).buffer(-_SAME)):
        return None
    shapely.prepare(ring)
    edge = ring.boundary

    def beyond(at: np.ndarray) -> np.ndarray:
        columns, back = np.unique(at[:, :2], axis=0, return_inverse=True)
        points = shapely.points(columns)
        away = shapely.distance(points, edge)
        return np.asarray(np.where(shapely.intersects(ring, points), -away, away)[back.ravel()])

    step = _flat_spacing(room, room.low[:2], room.high[:2], 0.25 * float(room.spacing[0])) * 2.0
    spacing = np.array([step, step, float(room.high[2] - room.low[2]) / 2.0])
    return Contact("", sampled(beyond, room.low, room.high, spacing))


def _base(name: str, cover: Cover, of: Sources, room: Room) -> Contact:
    """A cover lies above its base."""
    low, high = room.low[:2], room.high[:2]
    step = _flat_spacing(room, low, high, 0.25 * float(room.spacing[0]))

    def base(flat: np.ndarray) -> np.ndarray:
        at = np.column_stack([flat, np.zeros(len(flat))])
        return -cover.inside(at, of)

    return Contact(name, sampled_over(base, low, high, step), 1.0, frame=LEVEL)


def _over(frame: Frame, room: Room) -> tuple[np.ndarray, np.ndarray]:
    """From where to where (2,) the box of the fields reaches in the coordinates of a plane."""
    beyond = room.low - (room.origin + PAD * room.spacing)
    low, high = room.low - beyond, room.high + beyond
    corners = np.array([(x, y, z) for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    local = (corners - frame.origin) @ frame.axes[:2].T
    return local.min(axis=0), local.max(axis=0)


def _walls(name: str, vein: Vein, room: Room, moved: tuple[int, ...]) -> list[Contact]:
    """Both walls of a vein, from its middle and its half thickness."""
    frame = Frame(vein.origin, vein.axes)
    low, high = _over(frame, room)
    step = _flat_spacing(room, low, high, 0.5 * float(room.spacing[0]))
    arrays = [vein.middle, vein.half, vein.extent]
    said = [a for f in arrays for a in (f.centres, f.weights, f.drift)]

    def make() -> tuple[np.ndarray, ...]:
        both = [sampled_over(at, low, high, step) for at in (vein.middle_at, vein.half_at)]
        return (*(b.weights for b in both), both[0].origin, both[0].spacing)

    middle, half, origin, spacing = kept(("walls", vein.least, step, low, high, vein.axes, vein.origin, *said), make)
    sheet, thick = Lattice(origin, spacing, middle), Lattice(origin, spacing, half)
    return [Contact(name, sheet, sign, 0.0, frame, thick, moved) for sign in (-1.0, 1.0)]


def _ended(
    number: int, bodies: dict[int, Bodies], of: Sources, p: BuildModel, room: Room, moved: tuple[int, ...]
) -> list[Contact]:
    """The middle of the vein at which a vein ends."""
    other = ending_vein(number, bodies, of, p)
    if other is None:
        return []
    at = bodies[other].veins[0]
    wall = _walls(of.units[number].name, at, room, moved)[0]
    return [replace(wall, sign=side_kept(at.off(bodies[number].centres)), thick=None)]


def _move(number: int, fault: Fault, p: BuildModel, room: Room) -> Move:
    frame = Frame(np.asarray(fault.point, float), fault.axes)
    bend = None
    if fault.bent is not None:
        from ....compute.geology.rbf import evaluate

        field = fault.bent
        low, high = _over(frame, room)
        step = _flat_spacing(room, low, high, 0.5 * float(room.spacing[0]))
        bend = sampled_over(
            lambda q: np.asarray(evaluate(field, np.column_stack([q, np.zeros(len(q))]))), low, high, step
        )
    names = [row.fault.strip() for row in p.faults]
    ends_at = p.faults[number].ends_at.strip()
    ends = tuple((names.index(ends_at), side) for _, side in fault.ends if ends_at in names)
    return Move(names[number], frame, fault.slip, bend, fault.length, fault.height, ends)
