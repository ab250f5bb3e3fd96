"""What tells where units end: contacts and samples of holes, mapped contacts, what was drawn by hand, structural readings."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ....compute.geology import age_order as ao
from ....compute.geology.contacts import sided
from ....compute.geology.faults import Fault
from ....compute.geology.units.evidence import Evidence, carried_down, nearer, nothing, typed_normals
from ....compute.geology.units.mapped import contact_on_map
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
    parts.append(Evidence(*by_hand, np.full(count, "", dtype=object), *[np.ones(count, dtype=bool)] * 2))
    good = [np.isfinite(e.points).all(axis=1) for e in parts]
    points, values, contact, hole, firm, told = (
        np.concatenate([getattr(e, name)[g] for e, g in zip(parts, good, strict=True)])
        for name in ("points", "values", "contact", "hole", "firm", "told")
    )
    return Evidence(points, values if alone else nearer(points, values, contact), contact, hole, firm & contact, told)


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
    one = Evidence(log.places(hole, depth), value, value == 0.0, names, firm, np.zeros(len(value), dtype=bool))
    return [one.only(~np.isin(names, p.mended("doubtful", name)))]


def _on_faults(log: Logged, planes: Sequence[Fault], near: float) -> np.ndarray:
    """Which pairs of neighbouring runs meet at a fault: such a contact is the fault, and no unit's."""
    at = log.places(log.runs.hole[:-1], 0.5 * (log.runs.stop[:-1] + log.runs.start[1:]))
    out = np.zeros(len(at), dtype=bool)
    for plane in planes:
        out |= (np.abs(plane.off(at)) < near) & (plane.share(at) > 0)
    return out


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
        return nothing()
    xy, values = contact_on_map(one, other, box, p.cell, p.cap)
    at = np.column_stack([xy, height_at(of.ground, xy[:, 0], xy[:, 1])])
    deeper = _down_dip(at[values == 0.0], number, of, p)
    at, values = np.vstack([at, deeper]), np.concatenate([values, np.zeros(len(deeper))])
    return Evidence(
        at,
        values,
        values == 0.0,
        np.full(len(at), "", dtype=object),
        np.full(len(at), p.exact == "everything"),
        np.zeros(len(at), dtype=bool),
    )


def _down_dip(edge: np.ndarray, number: int, of: Sources, p: BuildModel) -> np.ndarray:
    """Places of a mapped contact carried down its dip: the one that was typed, else that of the readings around."""
    if not p.map_reach or not len(edge):
        return np.empty((0, 3))
    row = p.units[number]
    if row.dip is not None and row.dip_direction is not None and row.reach is None:
        return carried_down(edge, typed_normals(row.dip, row.dip_direction, len(edge)), p.map_reach)
    if len(of.readings.at) and (ao.laid_down(of.units[number].kind) or (row.reach is not None and row.dip is None)):
        normal, share = normals_near(edge, of.readings.at, of.readings.normals, max(p.map_reach, 4.0 * p.cell))
        return carried_down(edge[share > 0.1], normal[share > 0.1], p.map_reach)
    return np.empty((0, 3))
