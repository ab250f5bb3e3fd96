"""A model of geological units from holes, the map and structural readings."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from ...compute.geology import age_order as ao
from ...compute.geology.contacts import pairs
from ...compute.geology.faults import Fault, taken_back
from ...compute.geometry.orientations import plane_normal
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Sketch, ground_slot, structures_slot
from ...errors import InputError
from ...items.base import Item
from ...items.features import Features
from ...items.fields import BlockModel
from ...items.holes import HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress
from .agreement import agreement, share
from .contact_evidence import Readings, Sources, evidence, for_series, levels, one_set, readings, thinned
from .fault_throws import faults_of
from .logged_units import Logged, UnitRow, logged, proposed_order, units_of
from .model_extent import ground_of, mesh_of, within
from .unit_params import BuildModel

INSIDE = "inside "  # begins the name of the property that says how far inside of a unit a cell lies


def _run(inputs: Inputs, p: BuildModel, progress: Progress) -> dict[str, Item]:
    units, members = units_of(p.units)
    holes = inputs.maybe("holes", HoleSet)
    chart = inputs.maybe("map", Features)
    if holes is None and chart is None:
        raise InputError("a model needs holes or a map")
    log = logged(holes, p.attribute, units, members) if holes is not None else None
    left = _left_out(log, p)
    used = log.without(left) if log is not None and len(left) else log
    mesh = mesh_of(inputs, p, log)
    ground = ground_of(inputs, p)
    progress(0.05, "Contacts")
    read = readings(inputs, ground)
    places = mesh.centres()
    fields: list[np.ndarray] = [np.empty(0)] * (len(units) - 1)
    contacts: list[pd.DataFrame] = []
    every = ao.series(units)
    of = Sources(units, members, used, chart, read, ground, mesh)
    faults, told = faults_of(of, p, progress.part(0.05, 0.2))
    places_then = taken_back(places, faults)
    for turn, group in enumerate(every):
        part = progress.part(0.2 + 0.7 * turn / len(every), 0.2 + 0.7 * (turn + 1) / len(every))
        made = _group(group, of, p, places_then, faults, part)
        for number, (values, table) in zip(group, made, strict=True):
            fields[number] = values
            contacts.append(table)
    unit, margins = ao.combined(fields)
    inside = (mesh.thickness.ravel() > 0) & within(p, places)
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


# ---- fields


def _group(
    group: list[int], of: Sources, p: BuildModel, places: np.ndarray, faults: Sequence[Fault], progress: Progress
) -> list[tuple[np.ndarray, pd.DataFrame]]:
    """Metres inside of the contact of each unit of a series at places before faults, and its contacts with their misfit."""
    units = of.units
    if units[group[0]].kind == "vein":
        return [_vein(group[0], of, p, places, faults)]
    found = [evidence(k, of, p, faults) for k in group]
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
    shifts = levels(found)
    if len(found) > 1:
        found = [for_series(e, k == 0, k == len(found) - 1, p.cap) for k, e in enumerate(found)]
    points, values, contact = thinned(*one_set(found, shifts, faults))
    smooth = p.field == "smooth"
    nugget = np.where(contact, p.smoothing, p.smoothing + 0.05 * np.abs(values)) * (0.1 if smooth else 1.0)
    near = of.readings if ao.laid_down(units[group[0]].kind) else Readings(of.readings.at[:0], of.readings.normals[:0])
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


def _ellipsoid(row: UnitRow) -> Any:
    from ...compute.geology.rbf import Ellipsoid

    if row.dip is None or row.dip_direction is None or row.reach is None:
        return None
    return Ellipsoid((row.dip_direction - 90.0) % 360.0, row.dip, row.reach, row.reach)


def _vein(
    number: int, of: Sources, p: BuildModel, places: np.ndarray, faults: Sequence[Fault]
) -> tuple[np.ndarray, pd.DataFrame]:
    from ...compute.geology.veins import fit_vein

    name, row, log = of.units[number].name, p.units[number], of.log
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
    mesh = mesh_of(inputs, p, log)
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
        structures_slot("Bedding for layers that were laid down"),
    ),
    outputs=(Output("model", "blocks", "Model of units"), Output("contacts", "points", "Contacts with their misfit")),
    estimate=_estimate,
    suggest=_suggest,
)
