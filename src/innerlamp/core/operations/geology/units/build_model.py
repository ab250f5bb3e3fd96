"""A model of geological units from holes, the map and structural readings."""

from __future__ import annotations

import dataclasses
import fnmatch
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ....compute.drilling.drilled_part import cell_for, main_group
from ....compute.geology import age_order as ao
from ....compute.geology.contacts import pairs
from ....compute.geology.faults import Fault
from ....declaring.operation import (
    Cost,
    Example,
    Input,
    Inputs,
    Operation,
    Output,
    Sketch,
    ground_slot,
    structures_slot,
)
from ....errors import InputError
from ....geometry.mesh import DrapedMesh
from ....items.base import Item
from ....items.features import Features
from ....items.fields import BlockModel
from ....items.holes import HoleSet, table_with
from ....items.points import PointSet
from ....progress import SILENT, Progress
from .agreement import agreement, share
from .contact_evidence import readings
from .contact_table import NONE, feeds, touching
from .fault_throws import faults_of, throw_map
from .given_surfaces import given_by_name
from .hand_evidence import checked_edits
from .logged_units import Logged, logged, proposed_order, units_of
from .model_extent import coarser, ground_of, mesh_of, within
from .model_sources import Sources
from .model_units import INSIDE, OFF
from .unit_fields import COLUMNS
from .unit_params import BuildModel

_COARSE = 6_000  # cells of the model that is seen first


if TYPE_CHECKING:
    from ....compute.geology.bodies.model import UnitModel


def sources_of(inputs: Inputs, p: BuildModel) -> tuple[Sources, Logged | None, np.ndarray]:
    """Return what a model is made of, all that was logged, and the numbers of the holes that were left out.

    Raises
    ------
    InputError
        When parameters or inputs do not go together.
    """
    units, members = units_of(p.units)
    names = [u.name for u in units]
    checked_edits(p.edits, names)
    for row in p.mends:
        if row.surface.strip() not in ("", *names):
            raise InputError(f"a hole is to be mended for '{row.surface}', which is no unit of the age order")
    holes = inputs.maybe("holes", HoleSet)
    chart = inputs.maybe("map", Features)
    if holes is None and chart is None:
        raise InputError("a model needs holes or a map")
    log = logged(holes, p.attribute, units, members) if holes is not None else None
    if log is not None:
        known = set(map(str, log.names))
        for row in p.mends:
            if row.hole.strip() not in known:
                raise InputError(
                    f"the hole '{row.hole}' that is to be mended is not there", where=holes.name if holes else ""
                )
    left = _left_out(log, p)
    used = log.without(left) if log is not None and len(left) else log
    ground = ground_of(inputs, p)
    of = Sources(
        units, members, used, chart, readings(inputs, ground, p.planes), ground, mesh_of(inputs, p, log), feeds(p.contacts, units),
        inputs.all("lines", Features), inputs.all("picks", PointSet), given_by_name(inputs), inputs.all("traces", Item),
    )  # fmt: skip
    return of, log, left


def model_from(
    of: Sources,
    p: BuildModel,
    mesh: DrapedMesh,
    contacts: UnitModel,
    name: str,
    crs: str,
    faults: Sequence[Fault] = (),
    bodies: bool = False,
) -> BlockModel:
    """Return the model of units: its contacts, its bodies when asked for, and blocks read from them, with how far off its faults cells lie."""
    from ....compute.geology.bodies.stored import bodies_apart, taken_apart

    at = mesh.centres()
    offs = {f"{OFF}{row.fault.strip()}": fault.off(at) for row, fault in zip(p.faults, faults, strict=False)}
    # Cut columns have their middles within themselves, but fields are smooth: what is a hand's breadth in the air is not.
    margins = contacts.margins(at, ground=False)
    unit = margins.argmax(axis=1)
    inside = (mesh.thickness.ravel() > 0) & within(p, at)
    numbers = np.where(inside, unit.astype(float), np.nan).reshape(mesh.shape)
    rules, arrays = taken_apart(contacts, numbers)
    if bodies:
        from ....compute.geology.bodies.solids import solids

        arrays |= bodies_apart(solids(contacts))
    return BlockModel(
        name=name,
        crs=crs,
        mesh=mesh,
        properties={
            "unit": numbers,
            **{
                f"{INSIDE}{u.name}": np.where(inside, m, np.nan).astype(np.float32).reshape(mesh.shape)
                for u, m in zip(of.units, margins.T, strict=True)
            },
            **{n: np.where(inside, v, np.nan).astype(np.float32).reshape(mesh.shape) for n, v in offs.items()},
        },
        units={"unit": "", **{f"{INSIDE}{u.name}": "m" for u in of.units}, **dict.fromkeys(offs, "m")},
        names={"unit": tuple(u.name for u in of.units)},
        members=of.members,
        contacts=arrays,
        rules=rules,
    )


def _run(inputs: Inputs, p: BuildModel, progress: Progress) -> dict[str, Item]:
    from .true_contacts import true_contacts

    p = p.switched
    of, log, left = sources_of(inputs, p)
    source = inputs.maybe("holes", HoleSet) or inputs.need("map", Features)
    name = p.name or f"Units of {source.name}"
    faults, told = faults_of(of, p, progress.part(0.05, 0.2))
    if of.mesh.size > _COARSE:
        # What is seen while the fine one is made: larger cells, fewer values.
        coarse = coarser(inputs, p, log, of.mesh.size / _COARSE)
        first, _ = true_contacts(of, p, faults, SILENT, most=800)
        progress.show(model_from(of, p, coarse, first, f"{name}, coarse", source.crs))
    made, found = true_contacts(of, p, faults, progress.part(0.2, 0.9))
    model = model_from(of, p, of.mesh, made, name, source.crs, faults, bodies=True)
    out: dict[str, Item] = {"model": model}
    contacts, misses = (
        pd.concat([t for t in tables if len(t)], ignore_index=True) if any(map(len, tables)) else pd.DataFrame()
        for tables in ([f.contacts for f in found], [f.misses for f in found])
    )
    if len(contacts):
        out["contacts"] = PointSet(
            name=f"Contacts of {name}", crs=source.crs, table=contacts, units={"misfit": "m"}, content="readings"
        )
    if log is not None:  # empty when none is missed: what hangs from it, and a list that was long, follow
        rows = (
            misses
            if len(misses)
            else pd.DataFrame(columns=[*COLUMNS, "what", "distance"]).astype(dict.fromkeys("xyz", float))
        )
        rows = rows.sort_values("distance", ascending=False).reset_index(drop=True)
        out["misses"] = PointSet(
            name=f"Holes that {name} misses",
            crs=source.crs,
            table=rows.astype({"misfit": float, "distance": float}),
            units={"misfit": "m", "distance": "m"},
            content="readings",
        )
    throws = throw_map(faults, p, of)
    if len(throws):
        out["throws"] = PointSet(
            name=f"Throws of {name}",
            crs=source.crs,
            table=throws,
            units=dict.fromkeys(("throw", "heave", "slip_east", "slip_north", "along"), "m"),
            content="readings",
        )
    if len(misses):
        told.append(
            f"{len(misses)} times a hole is passed by more than {p.tolerance:g} m, worst {rows['hole'].iloc[0]}"
        )
    progress(1.0, "; ".join([_told(of.units, model, log, of.log, left, contacts), *told]))
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


# ---- what comes out


def _told(
    units: list[ao.Unit],
    model: BlockModel,
    log: Logged | None,
    used: Logged | None,
    left: np.ndarray,
    table: pd.DataFrame,
) -> str:
    from ....compute.geology.bodies.stored import bodies_kept

    bodies = bodies_kept(model.contacts, len(units))
    volume = bodies.volumes if bodies is not None else np.zeros(len(units))
    shares = [f"{u.name} {100.0 * float(v) / float(volume.sum()):.1f} %" for u, v in zip(units, volume, strict=True)]
    words = ["volumes: " + ", ".join(shares)]
    if used is not None and log is not None:
        words.append(f"{share(agreement(model, used)):.1f} % of the metres in holes agree")
        if len(left):
            words.append(f"{share(agreement(model, log, left)):.1f} % in the {len(left)} that were left out")
        if log.strangers:
            some = ", ".join(f"{code} ({metres:,.0f} m)" for code, metres in list(log.strangers.items())[:4])
            words.append(f"codes of no unit: {some}")
        for top in pairs(used.runs).head(1).itertuples():
            words.append(f"most frequent contact {top.upper} over {top.lower}, {top.count} times")
    if len(table):
        words.append(f"contacts are off by {float(table['misfit'].abs().median()):.1f} m (median)")
    return "; ".join(words)


def _estimate(inputs: Inputs, p: BuildModel) -> Cost:
    p = p.switched
    units, members = units_of(p.units)
    holes = inputs.maybe("holes", HoleSet)
    log = logged(holes, p.attribute, units, members) if holes is not None else None
    mesh = mesh_of(inputs, p, log)
    nx, ny, nz = mesh.shape
    notes = []
    pairs_fed: tuple[tuple[str, str, int, str], ...] = ()
    if log is not None:
        pairs_fed = tuple(touching(log.runs, log.unit, units, feeds(p.contacts, units)))
        lost = [f"{one} and {other} ({many} times)" for one, other, many, fed in pairs_fed if fed == NONE]
        notes = [f"contacts that feed no surface: {', '.join(lost[:4])}"] if lost else []
        notes += [
            f"the code {code} belongs to no unit ({metres:,.0f} m)" for code, metres in list(log.strangers.items())[:4]
        ]
    count = 4000.0 if log is None else 6.0 * len(log.runs.hole) * p.cap / p.step / 4
    fields = len(ao.series(units))
    count = min(count, 6000.0)
    seconds = fields * (mesh.size * count / 8e8 + (count / 6000.0) ** 3 * 4.0 + 0.2)
    places = np.empty((0, 3)) if log is None else log.places(log.runs.hole, log.runs.start)
    return Cost(
        f"{nx} × {ny} × {nz} cells, {len(units)} units in {fields} fields",
        mesh.size * 2.5e-4 + count**2 * 2.4e-5 + 100,
        seconds,
        tuple(notes),
        Sketch(mesh, places),
        pairs_fed,
    )


_PROPOSED = 400_000  # cells that a proposal has at most


def _suggest(inputs: Inputs) -> dict[str, Any]:
    holes = inputs.maybe("holes", HoleSet)
    if holes is None:
        return {}
    from ....items.tracks import columns_of, kinds_for

    column = next((c for c in columns_of(holes) if "rock" in kinds_for(holes, c)), "")
    hit = table_with(holes, column) if column else None
    where = _where(holes)
    if hit is None:
        return where
    log = hit[1]
    known = log[column].fillna("").astype(str).str.strip() != ""
    metres = (log["to_m"] - log["from_m"])[known].groupby(log[column][known].astype(str)).sum()
    if not 2 <= len(metres) <= 40:
        return {"attribute": column, **where}
    rows = proposed_order(metres)
    covered = any(row["kind"] == "overburden" for row in rows)
    return {"attribute": column, "units": rows, "layers": "follow the ground" if covered else "are level", **where}


def _where(holes: HoleSet) -> dict[str, Any]:
    """Boundary round the part that was drilled, where single holes lie far off, and cells that suit its size."""
    if not len(holes.stations):
        return {}
    group = main_group(holes.collars["x"].to_numpy(float), holes.collars["y"].to_numpy(float))
    mine = set(holes.collars["hole"].astype(str)[group])
    inside = holes.stations["hole"].astype(str).isin(mine)
    xyz = holes.stations.loc[inside, ["x", "y", "z"]].to_numpy(float)
    xyz = xyz[np.isfinite(xyz).all(axis=1)]
    if not len(xyz):
        return {}
    margin = float(BuildModel.model_fields["margin"].default)
    (west, south, low), (east, north, high) = xyz.min(axis=0), xyz.max(axis=0)
    cell = cell_for(east - west + 2 * margin, north - south + 2 * margin, high - low + 50.0, _PROPOSED)
    sizes = {"cell": cell, "cell_z": 0.4 * cell}
    if group.all():
        return sizes
    west, south = (float(np.floor((v - margin) / cell) * cell) for v in (west, south))
    east, north = (float(np.ceil((v + margin) / cell) * cell) for v in (east, north))
    return {**sizes, "outline": [(west, south), (east, south), (east, north), (west, north)]}


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
        dataclasses.replace(
            structures_slot("Bedding for layers that were laid down, also of oriented core"), many=True
        ),
        Input(
            "lines",
            "Drawn lines",
            ("features",),
            optional=True,
            proposed=False,
            many=True,
            help="Lines and outlines drawn in sections or in 3D, contour lines: each lies on the contact of the unit that it names",
        ),
        Input(
            "picks",
            "Picked points",
            ("points",),
            optional=True,
            proposed=False,
            many=True,
            help="Points with a column of units on whose contact they lie; a column 'inside' gives metres inside",
        ),
        Input(
            "surfaces",
            "Given surfaces",
            ("grid", "surface"),
            optional=True,
            proposed=False,
            many=True,
            help="Contacts from elsewhere, which rows of the age order name",
        ),
        Input(
            "traces",
            "Traces of faults",
            ("features", "points", "surface"),
            optional=True,
            proposed=False,
            many=True,
            help="Traces, points or surfaces, named as in the list of faults",
        ),
    ),
    outputs=(
        Output("model", "blocks", "Model of units"),
        Output("contacts", "points", "Contacts with their misfit"),
        Output("misses", "points", "Holes that it misses"),
        Output("throws", "points", "Throws on its faults"),
    ),
    estimate=_estimate,
    suggest=_suggest,
)
