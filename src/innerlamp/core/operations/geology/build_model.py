"""A model of geological units from holes, the map and structural readings."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, Literal

import numpy as np
import pandas as pd

from ... import limits
from ...compute.drilling.desurvey import locate
from ...compute.geology import age_order as ao
from ...compute.geology.contacts import pairs, sided
from ...compute.geology.faults import Fault, checked, step_across, taken_back, with_throw
from ...compute.geometry.orientations import plane_normal
from ...compute.geometry.sampling import bilinear
from ...compute.potential.meshing import draped_under
from ...declaring.operation import (
    Cost,
    Example,
    Input,
    Inputs,
    Maybe,
    Operation,
    Output,
    Params,
    Places,
    Row,
    ground_slot,
    param,
)
from ...errors import InputError
from ...geometry.mesh import DrapedMesh, TensorMesh
from ...items.attributes import orientation
from ...items.base import Item
from ...items.features import Features, texts_of
from ...items.fields import BlockModel, Grid
from ...items.holes import HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress
from .logged_units import Logged, UnitRow, logged, number_of, proposed_order, units_of

_MOST = 3_000_000  # cells
INSIDE = "inside "  # begins the name of the property that says how far inside of a unit a cell lies
_MAPPED = 1_500  # places of the map for each field at most


class FaultRow(Row):
    fault: str = param(..., "Fault")
    east: float = param(..., "Easting", unit="m", help="Of a place on it; the middle of one that dies out")
    north: float = param(..., "Northing", unit="m")
    elevation: Maybe = param(None, "Elevation", unit="m", help="The ground's when empty")
    dip: float = param(..., "Dip", unit="°")
    dip_direction: float = param(..., "Dip direction", unit="°")
    throw: Maybe = param(None, "Throw", unit="m", help="Down on the hangingwall; looked for when empty")
    along: float = param(0.0, "Along strike", unit="m", help="To the left of the dip direction")
    length: Maybe = param(None, "Length", unit="m", help="From tip to tip; it goes through when empty")


class BuildModel(Params):
    attribute: str = param("", "Logged units", editor="code", of="holes", help="The column of rocks or units")
    units: tuple[UnitRow, ...] = param(
        (), "Age order", editor="table", help="Units from the youngest to the oldest, with the kind of their contact"
    )
    faults: tuple[FaultRow, ...] = param(
        (),
        "Faults",
        editor="table",
        help="From the youngest to the oldest; without a throw the one is found that fits best",
        more=True,
    )
    most_throw: float = param(
        200.0, "Largest throw", unit="m", above=0.0, help="Up to which a throw is looked for", more=True
    )
    cell: float = param(25.0, "Cell size", unit="m", above=0.0)
    cell_z: float = param(10.0, "Cell height", unit="m", above=0.0)
    outline: Places = param((), "Boundary", editor="area", help="Of the model in plan; round the holes when empty")
    margin: float = param(
        150.0, "Margin round the holes", unit="m", low=0.0, help="Where no boundary is given", more=True
    )
    base: Maybe = param(None, "Base of the model", unit="m", help="Elevation; 50 m below the deepest hole when empty")
    flat: Maybe = param(None, "Flat ground at", unit="m", help="Where no ground surface is given", more=True)
    step: float = param(4.0, "Step along holes", unit="m", above=0.0, help="Between samples near contacts", more=True)
    cap: float = param(
        40.0,
        "Reach of a side",
        unit="m",
        above=0.0,
        help="Farther from a contact a sample only tells its side",
        more=True,
    )
    smoothing: float = param(
        0.5,
        "Smoothing",
        unit="m",
        low=0.0,
        help="0 honours every contact; more lets surfaces pass them smoothly",
        more=True,
    )
    field: Literal["between its values", "smooth"] = param(
        "between its values",
        "Fields are",
        help="Those between their values never swing out; smooth ones follow curved contacts with fewer holes, but go far out where nothing holds them",
        more=True,
    )
    map_units: str = param("", "Units of the map", editor="attribute", of="map", help="Its column of units", more=True)
    vein_least: float = param(0.5, "Least thickness of veins", unit="m", low=0.0, more=True)
    vein_reach: float = param(
        80.0, "Veins end beyond holes at", unit="m", above=0.0, help="Where no hole says so before", more=True
    )
    left_out: str = param(
        "",
        "Holes left out",
        help="Names, * for any letters, parted by semicolons: the model is held against them",
        more=True,
    )
    name: str = param("", "Name")


@dataclass(frozen=True)
class Evidence:
    """What a field is fitted to: places (n, 3), metres inside, and which of them are contacts in holes."""

    points: np.ndarray
    values: np.ndarray
    contact: np.ndarray
    hole: np.ndarray


@dataclass(frozen=True)
class Readings:
    """Planes: places (n, 3), upward normals (n, 3)."""

    at: np.ndarray
    normals: np.ndarray


def _run(inputs: Inputs, p: BuildModel, progress: Progress) -> dict[str, Item]:
    units, members = units_of(p.units)
    holes = inputs.maybe("holes", HoleSet)
    chart = inputs.maybe("map", Features)
    if holes is None and chart is None:
        raise InputError("a model needs holes or a map")
    log = logged(holes, p.attribute, units, members) if holes is not None else None
    left = _left_out(log, p)
    used = log.without(left) if log is not None and len(left) else log
    mesh = _mesh(inputs, p, log)
    ground = _ground(inputs, p)
    progress(0.05, "Contacts")
    readings = _readings(inputs, ground)
    places = mesh.centres()
    there = mesh.thickness.ravel() > 0 if isinstance(mesh, DrapedMesh) else np.ones(mesh.size, dtype=bool)
    fields: list[np.ndarray] = [np.empty(0)] * (len(units) - 1)
    contacts: list[pd.DataFrame] = []
    every = ao.series(units)
    faults, told = _faults(units, used, chart, members, ground, mesh, p, progress.part(0.05, 0.2))
    places_then = taken_back(places, faults)
    for turn, group in enumerate(every):
        part = progress.part(0.2 + 0.7 * turn / len(every), 0.2 + 0.7 * (turn + 1) / len(every))
        made = _group(group, units, used, chart, members, readings, ground, mesh, p, places_then, faults, part)
        for number, (values, table) in zip(group, made, strict=True):
            fields[number] = values
            contacts.append(table)
    unit, margins = ao.combined(fields)
    inside = there & _within(p, places)
    numbers = np.where(inside, unit.astype(float), np.nan).reshape(mesh.shape)
    names = tuple(u.name for u in units)
    crs = (holes or chart).crs  # type: ignore[union-attr]
    model = BlockModel(
        name=p.name or (f"Units of {holes.name}" if holes is not None else f"Units of {chart.name}"),  # type: ignore[union-attr]
        crs=crs,
        mesh=mesh,
        properties={
            "unit": numbers,
            **{
                f"{INSIDE}{u.name}": np.where(inside, m, np.nan).astype(np.float32).reshape(mesh.shape)
                for u, m in zip(units, margins, strict=True)
            },
        },
        units={"unit": "", **{f"{INSIDE}{u.name}": "m" for u in units}},
        names={"unit": names},
        members=members,
    )
    out: dict[str, Item] = {"model": model}
    table = pd.concat(contacts, ignore_index=True) if contacts else pd.DataFrame()
    if len(table):
        out["contacts"] = PointSet(
            name=f"Contacts of {model.name}", crs=crs, table=table, units={"misfit": "m"}, content="readings"
        )
    progress(1.0, "; ".join([_told(units, model, log, used, left, table), *told]))
    return out


def _left_out(log: Logged | None, p: BuildModel) -> np.ndarray:
    words = [w.strip() for w in p.left_out.split(";") if w.strip()]
    if log is None or not words:
        return np.empty(0, dtype=np.int64)
    found = [k for k, name in enumerate(log.names) if any(fnmatch.fnmatchcase(str(name), w) for w in words)]
    if not found:
        raise InputError(f"no hole is called '{p.left_out}'", fix="Look at the names of the holes")
    if len(found) == len(log.names):
        raise InputError("all holes are left out", fix="Leave some in")
    return np.array(found, dtype=np.int64)


def _ground(inputs: Inputs, p: BuildModel) -> Grid | float:
    dem = inputs.maybe("ground", Grid)
    if dem is not None:
        return dem
    if p.flat is None:
        raise InputError("neither a ground surface nor the elevation of flat ground is given")
    return p.flat


def _height(ground: Grid | float, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    if isinstance(ground, float | int):
        return np.full(np.shape(x), float(ground))
    x, y = np.clip(x, ground.x0, ground.x[-1]), np.clip(y, ground.y0, ground.y[-1])
    return bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, x, y)


def _mesh(inputs: Inputs, p: BuildModel, log: Logged | None) -> DrapedMesh:
    """Columns cut at the ground, round the holes or in the boundary."""
    if p.outline:
        at = np.array(p.outline)
        margin = 0.0
    elif log is not None:
        at, margin = log.path.position[:, :2], p.margin
    else:
        b = inputs["map"].bounds
        at, margin = np.array([[b[0], b[2]], [b[1], b[3]]]), 0.0
    if len(at) < 2 or not np.isfinite(at).all():
        raise InputError("the model has no extent", fix="Give a boundary")
    low, high = at.min(axis=0) - margin, at.max(axis=0) + margin
    low, high = np.floor(low / p.cell) * p.cell, np.ceil(high / p.cell) * p.cell
    nx, ny = (max(int(n), 2) for n in np.round((high - low) / p.cell))
    ground = _ground(inputs, p)
    x, y = low[0] + (np.arange(nx) + 0.5) * p.cell, low[1] + (np.arange(ny) + 0.5) * p.cell
    tops = _height(ground, *np.meshgrid(x, y, indexing="ij"))
    if not np.isfinite(tops).any():
        raise InputError("the ground surface does not lie over the model")
    tops = np.where(np.isfinite(tops), tops, np.nanmean(tops))
    deepest = float(log.path.position[:, 2].min()) - 50.0 if log is not None else float(tops.min()) - 500.0
    base = deepest if p.base is None else p.base
    top = float(np.ceil(tops.max() / p.cell_z) * p.cell_z)
    if base >= float(tops.min()):
        raise InputError(f"the base of the model at {base:,.0f} m lies above the ground")
    nz = int(np.ceil((top - base) / p.cell_z))
    limits.afford(float(nx) * ny * nz, 200.0, "cells of the model", "Take larger cells")
    if nx * ny * nz > _MOST:
        raise InputError(f"the model would have {nx * ny * nz:,} cells", fix="Take larger cells, or a smaller boundary")
    whole = TensorMesh.even((low[0], low[1], top - nz * p.cell_z), (p.cell, p.cell, p.cell_z), (nx, ny, nz))
    return draped_under(whole, tops)


def _within(p: BuildModel, places: np.ndarray) -> np.ndarray:
    if not p.outline:
        return np.ones(len(places), dtype=bool)
    import shapely

    shape = shapely.Polygon(p.outline) if len(p.outline) > 2 else None
    if shape is None or not shape.is_valid:
        raise InputError("the boundary crosses itself, or has less than three corners", fix="Move its corners")
    shapely.prepare(shape)
    return np.asarray(shapely.contains_xy(shape, places[:, 0], places[:, 1]))


def _readings(inputs: Inputs, ground: Grid | float) -> Readings:
    item = inputs.maybe("structures", PointSet)
    if item is None:
        return Readings(np.empty((0, 3)), np.empty((0, 3)))
    columns = item.table[[*(orientation(item.attributes) or ()), "x", "y", "z"]].to_numpy(float)
    bad = (columns[:, 0] < 0) | (columns[:, 0] > 90)
    if bad.any():
        raise InputError(
            f"{int(bad.sum())} readings have a dip that is not from 0 to 90°, such as row {int(np.flatnonzero(bad)[0]) + 1}",
            where=item.name,
        )
    z = np.where(np.isfinite(columns[:, 4]), columns[:, 4], _height(ground, columns[:, 2], columns[:, 3]))
    at = np.column_stack([columns[:, 2:4], z])
    good = np.isfinite(at).all(axis=1) & np.isfinite(columns[:, :2]).all(axis=1)
    return Readings(at[good], plane_normal(columns[good, 0], columns[good, 1]))


# ---- fields


def _group(
    group: list[int],
    units: list[ao.Unit],
    log: Logged | None,
    chart: Features | None,
    members: dict[str, str],
    readings: Readings,
    ground: Grid | float,
    mesh: DrapedMesh,
    p: BuildModel,
    places: np.ndarray,
    faults: Sequence[Fault],
    progress: Progress,
) -> list[tuple[np.ndarray, pd.DataFrame]]:
    """Metres inside of the contact of each unit of a series at places before faults, and its contacts with their misfit."""
    if units[group[0]].kind == "vein":
        return [_vein(group[0], units, log, p, places, faults)]
    found = [_evidence(k, units, log, chart, members, ground, mesh, p, faults) for k in group]
    row = p.units[group[0]]
    for number, each in zip(group, found, strict=True):
        if not (each.values > 0).any() or not (each.values < 0).any():
            side = "outside" if (each.values > 0).any() else "inside"
            raise InputError(
                f"nothing tells where '{units[number].name}' ends: there is no place {side} of it",
                fix="Look at its codes and its place in the age order",
            )
    from ...compute.geology import rbf, scalar_fields

    # Layers of one series are levels of one field: each base is moved to the same zero by its mean distance.
    shifts = _levels(found)
    if len(found) > 1:
        found = [_for_series(e, k == 0, k == len(found) - 1, p.cap) for k, e in enumerate(found)]
    points, values, contact = _thinned(*_one_set(found, shifts, faults))
    smooth = p.field == "smooth"
    nugget = np.where(contact, p.smoothing, p.smoothing + 0.05 * np.abs(values)) * (0.1 if smooth else 1.0)
    near = readings if ao.laid_down(units[group[0]].kind) else Readings(readings.at[:0], readings.normals[:0])
    limit = max((rbf.LARGEST - len(points)) // 6, 0)
    most = min(limit, len(near.at), 300)
    keep = np.linspace(0, max(len(near.at) - 1, 0), most).astype(np.int64)
    field = scalar_fields.fit_with_planes(
        points,
        values,
        taken_back(near.at[keep], faults),
        near.normals[keep],
        nugget=nugget,
        ellipsoid=_ellipsoid(row),
        plane_nugget=0.02 if smooth else 0.2,
        power=3 if smooth else 1,
        progress=progress.part(0.0, 0.4),
    )
    at = rbf.evaluate(field, places, progress.part(0.4, 1.0))
    out = []
    for number, each, shift in zip(group, found, shifts, strict=True):
        rows = np.flatnonzero(each.contact)
        off = rbf.evaluate(field, taken_back(each.points[rows], faults)) + shift
        table = pd.DataFrame(
            {
                "x": each.points[rows, 0],
                "y": each.points[rows, 1],
                "z": each.points[rows, 2],
                "surface": units[number].name,
                "misfit": off,
                "hole": each.hole[rows],
            }
        )
        out.append((at + shift, table))
    return out


def _one_set(
    found: Sequence[Evidence], shifts: Sequence[float], faults: Sequence[Fault]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places before the faults, values in the field that a series shares, and which are contacts."""
    return (
        taken_back(np.vstack([e.points for e in found]), faults),
        np.concatenate([e.values - s for e, s in zip(found, shifts, strict=True)]),
        np.concatenate([e.contact for e in found]),
    )


def _faults(
    units: list[ao.Unit],
    log: Logged | None,
    chart: Features | None,
    members: dict[str, str],
    ground: Grid | float,
    mesh: DrapedMesh,
    p: BuildModel,
    progress: Progress,
) -> tuple[list[Fault], list[str]]:
    """The faults with their throws, and what is said of those that were looked for."""
    made: list[Fault] = []
    words: list[str] = []
    for row in p.faults:
        z = row.elevation
        z = float(_height(ground, np.array([row.east]), np.array([row.north]))[0]) if z is None else z
        at = np.array([row.east, row.north, z])
        length = np.inf if row.length is None else row.length
        made.append(checked(Fault(at, row.dip, row.dip_direction, row.throw or 0.0, row.along, length)))
        west, east, south, north = mesh.bounds[:4]
        corners = np.array([(x, y, k) for x in (west, east) for y in (south, north) for k in mesh.bounds[4:]])
        off = made[-1].off(corners)
        if off.min() > 0 or off.max() < 0:
            raise InputError(
                f"the fault '{row.fault}' lies outside of the model", fix="Look at its place, dip and direction"
            )
    wanted = [k for k, row in enumerate(p.faults) if row.throw is None]
    if not wanted:
        return made, words
    # Layers tell a throw: what was laid down flat goes on across the fault, once it is taken back.
    layers = [k for k, u in enumerate(units) if u.kind in ("conformable base", "unconformity")]
    found = [_evidence(k, units, log, chart, members, ground, mesh, p, made, alone=True) for k in layers]
    sets = [e.points[e.contact] for e in found]
    for turn, k in enumerate(wanted):
        progress(turn / len(wanted), f"Throw of {p.faults[k].fault}")
        here = k

        def rough(fault: Fault, here: int = here) -> float:
            others = [*made[:here], fault, *made[here + 1 :]]
            return step_across([(fault.off(at), taken_back(at, others)) for at in sets])

        if not np.isfinite(rough(made[k])):
            raise InputError(
                f"the throw of '{p.faults[k].fault}' can't be told: no layer is met on both sides of it",
                fix="Give its throw",
            )
        made[k] = with_throw(made[k], rough, p.most_throw)
        words.append(f"throw of {p.faults[k].fault} {made[k].throw:.0f} m, heave {made[k].heave:.0f} m")
    return made, words


def _levels(found: Sequence[Evidence]) -> list[float]:
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


def _for_series(one: Evidence, youngest: bool, oldest: bool, cap: float) -> Evidence:
    """What a base tells of a field that it shares: beyond the cap only the outer bases tell their outer side."""
    far = np.abs(one.values) >= cap * (1 - 1e-9)
    keep = ~far | (youngest & (one.values > 0)) | (oldest & (one.values < 0))
    return Evidence(one.points[keep], one.values[keep], one.contact[keep], one.hole[keep])


def _thinned(points: np.ndarray, values: np.ndarray, contact: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """At most as many values as are solved at once: contacts first, of the rest an even part."""
    from ...compute.geology.rbf import LARGEST

    most = int(0.7 * LARGEST)
    if len(points) <= most:
        return points, values, contact
    rest = np.flatnonzero(~contact)
    kept = np.flatnonzero(contact)
    if len(kept) > most:
        kept = kept[np.linspace(0, len(kept) - 1, most // 2).astype(int)]
    rows = np.sort(np.concatenate([kept, rest[np.linspace(0, len(rest) - 1, most - len(kept)).astype(int)]]))
    return points[rows], values[rows], contact[rows]


def _ellipsoid(row: UnitRow) -> Any:
    from ...compute.geology.rbf import Ellipsoid

    if row.dip is None or row.dip_direction is None or row.reach is None:
        return None
    return Ellipsoid((row.dip_direction - 90.0) % 360.0, row.dip, row.reach, row.reach)


def _evidence(
    number: int,
    units: list[ao.Unit],
    log: Logged | None,
    chart: Features | None,
    members: dict[str, str],
    ground: Grid | float,
    mesh: DrapedMesh,
    p: BuildModel,
    planes: Sequence[Fault] = (),
    alone: bool = False,
) -> Evidence:
    """What tells where a unit ends; with `alone` distances are those along the own hole."""
    parts: list[Evidence] = []
    if log is not None:
        # A contact feeds the surface of the younger of its two units, and no other.
        mine = np.minimum(log.unit[:-1], log.unit[1:]) == number
        mine &= ~_on_faults(log, planes, 0.5 * p.step)
        samples = sided(log.runs, ao.sides(units, number, log.unit), p.step, p.cap, mine)
        at = log.places(samples.hole, samples.depth)
        names = np.array([*map(str, log.names), ""], dtype=object)[samples.hole]
        parts.append(Evidence(at, samples.value, samples.contact, names))
    if chart is not None and units[number].kind != "vein":
        parts.append(_mapped(number, units, chart, members, ground, mesh, p))
    good = [np.isfinite(e.points).all(axis=1) for e in parts]
    points, values, contact, hole = (
        np.concatenate([getattr(e, name)[g] for e, g in zip(parts, good, strict=True)])
        for name in ("points", "values", "contact", "hole")
    )
    return Evidence(points, values if alone else _nearer(points, values, contact), contact, hole)


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


def _mapped(
    number: int,
    units: list[ao.Unit],
    chart: Features,
    members: dict[str, str],
    ground: Grid | float,
    mesh: DrapedMesh,
    p: BuildModel,
) -> Evidence:
    """Places of the map on the ground with their distance to the unit's mapped contact."""
    import shapely

    from ...formats.features import polygons_of

    column = p.map_units or next((n for n, a in chart.attributes.items() if a.is_code), "")
    names = texts_of(chart, column)
    shapes = polygons_of(chart)
    side = ao.sides(units, number, number_of(names[[row for row, _ in shapes]], units, members))
    box = shapely.box(*np.array(mesh.bounds)[[0, 2, 1, 3]])
    one, other = (
        shapely.union_all([s for (_, s), k in zip(shapes, side, strict=True) if k == wanted]).intersection(box)
        for wanted in (1, -1)
    )
    nothing = Evidence(np.empty((0, 3)), np.empty(0), np.empty(0, dtype=bool), np.empty(0, dtype=object))
    if one.is_empty:
        return nothing
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
    z = _height(ground, xy[:, 0], xy[:, 1])
    return Evidence(
        np.column_stack([xy, z]),
        np.concatenate([value[keep], np.zeros(len(edge))]),
        np.concatenate([np.zeros(int(keep.sum()), dtype=bool), np.ones(len(edge), dtype=bool)]),
        np.full(len(xy), "", dtype=object),
    )


def _vein(
    number: int, units: list[ao.Unit], log: Logged | None, p: BuildModel, places: np.ndarray, faults: Sequence[Fault]
) -> tuple[np.ndarray, pd.DataFrame]:
    from ...compute.geology.veins import fit_vein

    name, row = units[number].name, p.units[number]
    if log is None:
        raise InputError(f"the vein '{name}' needs holes")
    mine = np.flatnonzero(log.unit == number)
    others = np.flatnonzero(log.unit > number)
    if not len(mine):
        raise InputError(f"no hole has the vein '{name}'", fix="Look at its codes")
    top, foot = (log.places(log.runs.hole[mine], d[mine]) for d in (log.runs.start, log.runs.stop))
    without = tuple(log.places(log.runs.hole[others], d[others]) for d in (log.runs.start, log.runs.stop))
    normal = None
    if row.dip is not None and row.dip_direction is not None:
        normal = plane_normal(np.array([row.dip]), np.array([row.dip_direction]))[0]
    top_then, foot_then, first, last = (taken_back(w, faults) for w in (top, foot, *without))
    vein = fit_vein(top_then, foot_then, (first, last), normal, p.vein_least, p.vein_reach)
    walls = np.vstack([top, foot])
    hole = np.tile(np.array([*map(str, log.names)], dtype=object)[log.runs.hole[mine]], 2)
    table = pd.DataFrame(
        {
            "x": walls[:, 0],
            "y": walls[:, 1],
            "z": walls[:, 2],
            "surface": name,
            "misfit": vein.value(taken_back(walls, faults)),
            "hole": hole,
        }
    )
    return vein.value(places), table


# ---- what comes out


def agreement(model: BlockModel, log: Logged, holes: np.ndarray | None = None, step: float = 1.0) -> pd.DataFrame:
    """Return metres of holes by logged and modelled unit, one row for each hole and pair: hole, logged, modelled, metres."""
    rows = np.arange(len(log.runs.hole)) if holes is None else np.flatnonzero(np.isin(log.runs.hole, holes))
    length = (log.runs.stop - log.runs.start)[rows]
    count = np.maximum(np.ceil(length / step).astype(np.int64), 1)
    run = np.repeat(rows, count)
    nth = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    depth = log.runs.start[run] + (nth + 0.5) * np.repeat(length / count, count)
    at = locate(log.path, log.runs.hole[run], depth)
    found = model.mesh.values_at(model.properties["unit"], *at.T)
    table = pd.DataFrame(
        {
            "hole": np.array([*map(str, log.names)], dtype=object)[log.runs.hole[run]],
            "logged": log.runs.unit[run],
            "modelled": model.named("unit", found),
            "metres": np.repeat(length / count, count),
        }
    )
    table = table[table["modelled"] != ""]
    return table.groupby(["hole", "logged", "modelled"], sort=False)["metres"].sum().reset_index()


def share(table: pd.DataFrame) -> float:
    """Return the part of metres in percent in which the model has what was logged."""
    total = float(table["metres"].sum())
    return 100.0 * float(table["metres"][table["logged"] == table["modelled"]].sum()) / total if total else float("nan")


def _told(
    units: list[ao.Unit],
    model: BlockModel,
    log: Logged | None,
    used: Logged | None,
    left: np.ndarray,
    table: pd.DataFrame,
) -> str:
    values, volume = model.properties["unit"], model.mesh.volumes().reshape(model.mesh.shape)
    whole = float(volume[np.isfinite(values)].sum())
    shares = [f"{u.name} {100.0 * float(volume[values == k].sum()) / whole:.1f} %" for k, u in enumerate(units)]
    words = ["volumes: " + ", ".join(shares)]
    if used is not None and log is not None:
        words.append(f"{share(agreement(model, used)):.1f} % of the metres in holes agree")
        if len(left):
            words.append(f"{share(agreement(model, log, left)):.1f} % in the {len(left)} that were left out")
        if log.strangers:
            some = ", ".join(f"{code} ({metres:,.0f} m)" for code, metres in list(log.strangers.items())[:4])
            words.append(f"codes of no unit: {some}")
        top = pairs(used.runs).iloc[0]
        words.append(f"most frequent contact {top['upper']} over {top['lower']}, {top['count']} times")
    if len(table):
        words.append(f"contacts are off by {float(table['misfit'].abs().median()):.1f} m (median)")
    return "; ".join(words)


def _estimate(inputs: Inputs, p: BuildModel) -> Cost:
    units, members = units_of(p.units)
    holes = inputs.maybe("holes", HoleSet)
    log = logged(holes, p.attribute, units, members) if holes is not None else None
    mesh = _mesh(inputs, p, log)
    nx, ny, nz = mesh.shape
    notes = []
    if log is not None:
        table = pairs(log.runs)
        notes = [f"{r.upper} over {r.lower}: {r.count} times" for r in table.head(6).itertuples()]
        notes += [
            f"the code {code} belongs to no unit ({metres:,.0f} m)" for code, metres in list(log.strangers.items())[:4]
        ]
    count = 4000.0 if log is None else 6.0 * len(log.runs.hole) * p.cap / p.step / 4
    fields = len(ao.series(units))
    count = min(count, 6000.0)
    seconds = fields * (mesh.size * count / 8e8 + (count / 6000.0) ** 3 * 12.0 + 0.3)
    from ...declaring.operation import Sketch

    places = np.empty((0, 3)) if log is None else log.places(log.runs.hole, log.runs.start)
    return Cost(
        f"{nx} × {ny} × {nz} cells, {len(units)} units in {fields} fields",
        mesh.size * 2.5e-4 + count**2 * 2.4e-5 + 100,
        seconds,
        tuple(notes),
        Sketch(mesh, places),
    )


def _suggest(inputs: Inputs) -> dict[str, Any]:
    holes = inputs.maybe("holes", HoleSet)
    if holes is None:
        return {}
    from ...items.tracks import columns_of, kinds_for

    column = next((c for c in columns_of(holes) if "rock" in kinds_for(holes, c)), "")
    hit = table_with(holes, column) if column else None
    if hit is None:
        return {}
    log = hit[1]
    known = log[column].fillna("").astype(str).str.strip() != ""
    metres = (log["to_m"] - log["from_m"])[known].groupby(log[column][known].astype(str)).sum()
    return {"attribute": column} | ({"units": proposed_order(metres)} if 2 <= len(metres) <= 40 else {})


OPERATION = Operation(
    name="build-units",
    example=Example(
        {"holes": "Emberlow holes", "ground": "Ground"},
        {
            "attribute": "Rock",
            "cell": 50.0,
            "cell_z": 25.0,
            "step": 10.0,
            "units": [
                {"unit": "Till", "kind": "overburden", "codes": "TILL"},
                {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN; GREIS; CLAY"},
                {"unit": "Country rock", "kind": "background", "codes": "*"},
            ],
        },
    ),
    title="Build a model of units",
    area="Geology",
    help="Makes volumes of geological units from logged intervals, mapped units and structural readings: each contact is a smooth field, conformable layers share one so that they do not cross, and the age order says who cuts whom. Contacts are listed with how far the surface passes them.",
    params=BuildModel,
    run=_run,
    reads=("holes",),
    inputs=(
        Input("holes", "Drillholes", ("holes",), optional=True),
        ground_slot(),
        Input("map", "Geological map", ("features",), optional=True, proposed=False, help="Polygons of units"),
        Input(
            "structures",
            "Structural readings",
            ("points",),
            optional=True,
            proposed=False,
            need=lambda e: orientation(e.attributes) is not None,
            help="Bedding for layers that were laid down",
        ),
    ),
    outputs=(Output("model", "blocks", "Model of units"), Output("contacts", "points", "Contacts with their misfit")),
    estimate=_estimate,
    suggest=_suggest,
)
