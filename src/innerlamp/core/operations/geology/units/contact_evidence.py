"""What tells where units end: contacts and samples of holes, mapped contacts, what was drawn by hand, structural readings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ....compute.geology import age_order as ao
from ....compute.geology.contacts import sided
from ....compute.geology.faults import Fault, taken_back
from ....compute.geometry.orientations import plane_normal
from ....compute.geometry.structural_field import normals_near
from ....declaring.operation import Inputs
from ....errors import InputError
from ....items.attributes import orientation
from ....items.features import Features
from ....items.fields import Grid
from ....items.points import PointSet
from ....items.signs import plane_sign
from .hand_evidence import mapped_units, placed
from .logged_units import Logged, number_of
from .model_extent import height_at
from .model_sources import Readings, Sources
from .unit_params import BuildModel

_FARTHER = 4.0  # times: a smooth field goes on by how far its contact is, where others only need its side
_MAPPED = 1_500  # places of the map for each field at most


@dataclass(frozen=True)
class Evidence:
    """What a field is fitted to: places (n, 3), metres inside, which are contacts, their hole, and which must be honoured."""

    points: np.ndarray
    values: np.ndarray
    contact: np.ndarray
    hole: np.ndarray
    firm: np.ndarray

    def only(self, rows: np.ndarray) -> Evidence:
        """Return some of it, given as a mask."""
        return Evidence(self.points[rows], self.values[rows], self.contact[rows], self.hole[rows], self.firm[rows])


def readings(inputs: Inputs, ground: Grid | float, kinds: str = "") -> Readings:
    """Return the planes of the slot `structures`; their normals point to where layers get younger.

    Parameters
    ----------
    kinds
        What the readings are of, such as "bedding"; by default bedding alone where the readings say what they are of.

    Raises
    ------
    InputError
        When a dip is impossible, or no reading is of that kind.
    """
    each = [_planes_of(item, ground, kinds) for item in inputs.all("structures", PointSet)]
    if kinds.strip() and each and not any(len(r.at) for r in each):
        raise InputError(f"no structural reading is of '{kinds}'", where=inputs.all("structures", PointSet)[0].name)
    return Readings(
        np.vstack([np.empty((0, 3)), *(r.at for r in each)]), np.vstack([np.empty((0, 3)), *(r.normals for r in each)])
    )


def _planes_of(item: PointSet, ground: Grid | float, kinds: str) -> Readings:
    columns = item.table[[*(orientation(item.attributes) or ()), "x", "y", "z"]].to_numpy(float)
    bad = (columns[:, 0] < 0) | (columns[:, 0] > 90)
    if bad.any():
        raise InputError(
            f"{int(bad.sum())} readings have a dip that is not from 0 to 90°, such as row {int(np.flatnonzero(bad)[0]) + 1}",
            where=item.name,
        )
    words = np.full(len(item.table), "", dtype=object)
    for name, attribute in item.attributes.items():
        if attribute.is_code:
            words = words + " " + item.table[name].fillna("").astype(str).to_numpy(dtype=object)
    words = np.array([str(w).lower() for w in words], dtype=object)
    wanted = np.ones(len(words), dtype=bool)
    if kinds.strip():
        wanted = np.array([kinds.strip().lower() in w for w in words], dtype=bool)
    elif any(w.strip() for w in words):
        told = np.array([plane_sign(w) for w in words], dtype=object)
        bedding = np.isin(told, ["tick", "overturned"])
        wanted = bedding if bedding.any() else wanted
    z = np.where(np.isfinite(columns[:, 4]), columns[:, 4], height_at(ground, columns[:, 2], columns[:, 3]))
    at = np.column_stack([columns[:, 2:4], z])
    good = np.isfinite(at).all(axis=1) & np.isfinite(columns[:, :2]).all(axis=1) & wanted
    normal = plane_normal(columns[:, 0], columns[:, 1])
    turned = np.array([plane_sign(w) == "overturned" for w in words], dtype=bool)
    normal[turned] *= -1.0  # an overturned limb gets younger downwards
    return Readings(at[good], normal[good])


def one_set(found: Sequence[Evidence], shifts: Sequence[float], faults: Sequence[Fault]) -> Evidence:
    """Return the evidence of a series as one: places before the faults, values in the field that its bases share."""
    return Evidence(
        taken_back(np.vstack([e.points for e in found]), faults),
        np.concatenate([e.values - s for e, s in zip(found, shifts, strict=True)]),
        *(np.concatenate([getattr(e, name) for e in found]) for name in ("contact", "hole", "firm")),
    )


def levels(found: Sequence[Evidence]) -> list[float]:
    """How far above the first base each base of a series lies, in metres along the field."""
    shifts = [0.0]
    for before, here in pairwise(found):
        # The thickness of a layer: what its own contacts lie from the base above, where a hole has both.
        upper, lower = before.points[before.contact], here.points[here.contact]
        thick = [
            float(np.min(np.linalg.norm(lower[here.hole[here.contact] == name] - place, axis=1)))
            for place, name in zip(upper, before.hole[before.contact], strict=True)
            if (here.hole[here.contact] == name).any()
        ]
        shifts.append(shifts[-1] + (float(np.median(thick)) if thick else 10.0))
    return shifts


def for_series(one: Evidence, youngest: bool, oldest: bool, cap: float) -> Evidence:
    """What a base tells of a field that it shares: beyond the cap only the outer bases tell their outer side."""
    far = np.abs(one.values) >= cap * (1 - 1e-9)
    keep = ~far | (youngest & (one.values > 0)) | (oldest & (one.values < 0))
    return one.only(keep)


def thinned(whole: Evidence, most: int = 0) -> Evidence:
    """Return at most as many values as are solved at once: contacts first, of the rest an even part."""
    from ....compute.geology.rbf import LARGEST

    most = most or int(0.7 * LARGEST)
    if len(whole.points) <= most:
        return whole
    rest = np.flatnonzero(~whole.contact)
    kept = np.flatnonzero(whole.contact)
    if len(kept) > most:
        kept = kept[np.linspace(0, len(kept) - 1, most // 2).astype(int)]
    rows = np.zeros(len(whole.points), dtype=bool)
    rows[kept] = True
    rows[rest[np.linspace(0, len(rest) - 1, min(most - len(kept), len(rest))).astype(int)]] = True
    return whole.only(rows)


def evidence(number: int, of: Sources, p: BuildModel, planes: Sequence[Fault] = (), alone: bool = False) -> Evidence:
    """What tells where a unit ends; with `alone` distances are those along the own hole."""
    parts: list[Evidence] = []
    log, units = of.log, of.units
    if log is not None:
        parts += _drilled(number, of, log, p, planes)
    if of.chart is not None and units[number].kind != "vein":
        parts.append(_mapped(number, of, of.chart, p))
    by_hand = placed(number, of, p.line_units, p.edits, max(0.5 * p.cell, 1.0))
    count = len(by_hand.points)
    parts.append(Evidence(*by_hand, np.full(count, "", dtype=object), np.ones(count, dtype=bool)))
    good = [np.isfinite(e.points).all(axis=1) for e in parts]
    points, values, contact, hole, firm = (
        np.concatenate([getattr(e, name)[g] for e, g in zip(parts, good, strict=True)])
        for name in ("points", "values", "contact", "hole", "firm")
    )
    return Evidence(points, values if alone else _nearer(points, values, contact), contact, hole, firm & contact)


def _nothing() -> Evidence:
    return Evidence(np.empty((0, 3)), np.empty(0), np.empty(0, bool), np.empty(0, object), np.empty(0, bool))


def _drilled(number: int, of: Sources, log: Logged, p: BuildModel, planes: Sequence[Fault]) -> list[Evidence]:
    """Contacts and samples of holes for a unit, without those that are doubted."""
    name = of.units[number].name
    upper, lower = log.unit[:-1], log.unit[1:]
    # Each pair of units feeds one surface, and no other: that of the younger, or the one that it was given to.
    mine = of.feeds[upper, lower] == number
    mine &= ~_on_faults(log, planes, 0.5 * p.step)
    side = ao.sides(of.units, number, log.unit)
    cap = p.cap if p.follow(number) != "smooth" else _FARTHER * p.cap
    samples = sided(log.runs, side, p.step, cap, mine)
    holes, depths, values = [samples.hole], [samples.depth], [samples.value]
    # A pair that was given to another surface than the younger's lies on that surface all the same.
    moved = mine & log.runs.touch() & (side[:-1] * side[1:] >= 0)
    holes.append(log.runs.hole[:-1][moved])
    depths.append(0.5 * (log.runs.stop[:-1] + log.runs.start[1:])[moved])
    values.append(np.zeros(int(moved.sum())))
    hole, depth, value = np.concatenate(holes), np.concatenate(depths), np.concatenate(values)
    names = np.array([*map(str, log.names), ""], dtype=object)[hole]
    firm = np.isin(names, p.mended("honour", name)) | (p.exact != "nothing")
    one = Evidence(log.places(hole, depth), value, value == 0.0, names, firm)
    return [one.only(~np.isin(names, p.mended("doubtful", name)))]


def _on_faults(log: Logged, planes: Sequence[Fault], near: float) -> np.ndarray:
    """Which pairs of neighbouring runs meet at a fault: such a contact is the fault, and no unit's."""
    at = log.places(log.runs.hole[:-1], 0.5 * (log.runs.stop[:-1] + log.runs.start[1:]))
    out = np.zeros(len(at), dtype=bool)
    for plane in planes:
        out |= (np.abs(plane.off(at)) < near) & (plane.share(at) > 0)
    return out


def _nearer(points: np.ndarray, values: np.ndarray, contact: np.ndarray) -> np.ndarray:
    """Values with the distance to the nearest contact of any hole where that is less than along the own one."""
    from scipy.spatial import cKDTree

    if not contact.any():
        return values
    away, _ = cKDTree(points[contact]).query(points)
    return np.where(contact, 0.0, np.sign(values) * np.minimum(np.abs(values), away))


def _mapped(number: int, of: Sources, chart: Features, p: BuildModel) -> Evidence:
    """Places of the map on the ground with their distance to the unit's mapped contact."""
    import shapely

    from ....formats.shapes.features import polygons_of

    names = mapped_units(chart, p.map_units)
    shapes = polygons_of(chart)
    side = ao.sides(of.units, number, number_of(names[[row for row, _ in shapes]], of.units, of.members))
    box = shapely.box(*np.array(of.mesh.bounds)[[0, 2, 1, 3]])
    one, other = (
        shapely.union_all([s for (_, s), k in zip(shapes, side, strict=True) if k == wanted]).intersection(box)
        for wanted in (1, -1)
    )
    if one.is_empty:
        return _nothing()
    every = max(2.0 * p.cell, float(np.sqrt(box.area / _MAPPED)))
    across = np.arange(box.bounds[0] + every / 2, box.bounds[2], every)
    along = np.arange(box.bounds[1] + every / 2, box.bounds[3], every)
    x, y = (v.ravel() for v in np.meshgrid(across, along))
    contact = shapely.intersection(one.boundary, other.buffer(0.5))
    points = shapely.points(x, y)
    inside, outside = shapely.contains(one, points), shapely.contains(other, points)
    away = shapely.distance(points, contact) if not contact.is_empty else np.full(len(x), np.inf)
    value = np.where(inside, 1.0, -1.0) * np.minimum(np.where(np.isfinite(away), away, p.cap), p.cap)
    keep = (inside | outside) & (np.abs(value) > 0)
    lines = [g for g in shapely.get_parts(contact) if g.geom_type == "LineString" and g.length > 0]
    on = [
        np.array([line.interpolate(s).coords[0] for s in np.arange(every / 4, line.length, every / 2)]).reshape(-1, 2)
        for line in lines
    ]
    edge = np.vstack(on) if on else np.empty((0, 2))
    xy = np.vstack([np.column_stack([x[keep], y[keep]]), edge])
    at = np.column_stack([xy, height_at(of.ground, xy[:, 0], xy[:, 1])])
    values = np.concatenate([value[keep], np.zeros(len(edge))])
    deeper = _down_dip(at[int(keep.sum()) :], number, of, p)
    at, values = np.vstack([at, deeper]), np.concatenate([values, np.zeros(len(deeper))])
    on = values == 0.0
    return Evidence(at, values, on, np.full(len(at), "", dtype=object), np.full(len(at), p.exact == "everything"))


def _down_dip(edge: np.ndarray, number: int, of: Sources, p: BuildModel) -> np.ndarray:
    """Places of a mapped contact carried down its dip: the one that was typed, else that of the readings around."""
    if not p.map_reach or not len(edge):
        return np.empty((0, 3))
    row = p.units[number]
    if row.dip is not None and row.dip_direction is not None and row.reach is None:
        normal = np.repeat(plane_normal(np.array([row.dip]), np.array([row.dip_direction])), len(edge), axis=0)
        told = np.ones(len(edge), dtype=bool)
    elif len(of.readings.at) and (ao.laid_down(of.units[number].kind) or (row.reach is not None and row.dip is None)):
        normal, share = normals_near(edge, of.readings.at, of.readings.normals, max(p.map_reach, 4.0 * p.cell))
        told = share > 0.1
    else:
        return np.empty((0, 3))
    normal = np.where(normal[:, 2:] < 0, -normal, normal)[told]
    level = np.hypot(normal[:, 0], normal[:, 1])
    steep = level > 0.02  # what lies flat has no way down
    normal, level, at = normal[steep], level[steep], edge[told][steep]
    down = np.column_stack([normal[:, :2] * (normal[:, 2] / level)[:, None], -level])
    ways = p.map_reach * np.array([0.15, 0.35, 0.65, 1.0])
    return np.asarray((at[None, :, :] + ways[:, None, None] * down[None, :, :]).reshape(-1, 3))
