"""Inversion of magnetic survey lines for susceptibility, and gravity of a density model."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import pandas as pd

from ... import limits
from ...compute.geometry.sampling import bilinear
from ...compute.potential import meshing
from ...compute.potential.mainfield import MainField, main_field
from ...crs import grid_convergence, to_lonlat
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, ground_slot, param
from ...errors import InputError
from ...geometry.mesh import DrapedMesh, TensorMesh
from ...items.base import Item
from ...items.fields import BlockModel, Grid
from ...items.points import PointSet, SurveyLines
from ...progress import Progress

LARGEST_BYTES = 6_000_000_000


class InvertMagnetics(Params):
    attribute: str = param(
        ...,
        "Reading",
        editor="attribute",
        of="lines",
        help="Total-field anomaly, or total field from which the main field is taken off",
    )
    cell: float = param(50.0, "Cell size", unit="m", above=0.0)
    cell_z: float = param(25.0, "Cell height", unit="m", above=0.0)
    depth: float = param(600.0, "Depth of model", unit="m", above=0.0, help="Below the lowest ground")
    padding: int = param(4, "Padding", unit="cells", low=0, high=20, help="Cells beyond the data on each side")
    spacing: float = param(
        0.0,
        "Data spacing",
        unit="m",
        low=0.0,
        help="One reading is used for each square of this side; 0 takes the cell size",
    )
    date: str = param("", "Date of survey", editor="date", help="For the main field; the survey's own when empty")
    noise: float = param(
        0.0,
        "Noise",
        unit="nT",
        low=0.0,
        help="0 estimates it from fourth differences along the lines and adds 1 nT for what cells can't show",
    )
    relative: float = param(
        2.0, "Relative noise", unit="%", low=0.0, high=50.0, help="Added part of each reading's size"
    )
    trend: Literal["none", "constant", "plane"] = param("plane", "Regional", help="Fitted along with the model")
    smoothness: float = param(
        0.0,
        "Smoothness",
        unit="m",
        low=0.0,
        help="Length over which the model is held smooth; 0 takes the cell size",
        more=True,
    )
    exponent: float = param(
        0.45,
        "Depth weighting",
        low=0.0,
        high=1.0,
        help="Power of the sensitivity weighting: higher puts sources deeper",
        more=True,
    )
    target: float = param(
        1.0, "Target misfit", above=0.0, help="Mean squared residual in units of the noise", more=True
    )
    iterations: int = param(40, "Most iterations", low=1, high=200, more=True)


@dataclass(frozen=True)
class _Plan:
    rows: np.ndarray
    table: pd.DataFrame
    values: np.ndarray
    mesh: DrapedMesh
    near: int
    active: np.ndarray


def _plan(inputs: Inputs, p: InvertMagnetics) -> _Plan:
    lines, dem = inputs.need("lines", SurveyLines), inputs.need("ground", Grid)
    table = lines.table
    values = table[p.attribute].to_numpy(float)
    x, y, z = (table[c].to_numpy(float) for c in ("x", "y", "z"))
    good = np.isfinite(values) & np.isfinite(x) & np.isfinite(y) & np.isfinite(z)
    if good.sum() < 10:
        raise InputError(
            f"{int(good.sum())} readings have a value and a place; at least ten are needed", where=lines.name
        )
    rows = np.flatnonzero(good)
    rows = rows[meshing.thin_by_cell(x[rows], y[rows], p.spacing or p.cell)]
    floor, top = float(np.nanmin(dem.values)), float(np.nanmax(dem.values))
    wide, long = float(np.ptp(x[rows])) + 2 * p.padding, float(np.ptp(y[rows])) + 2 * p.padding
    limits.afford(
        wide / p.cell * long / p.cell * (p.depth + top - floor) / p.cell_z, 100.0, "cells", "Take larger cells"
    )
    mesh = meshing.mesh_under(
        (x[rows].min(), x[rows].max(), y[rows].min(), y[rows].max()), top, p.cell, p.cell_z, p.depth, p.padding, floor
    )
    obs = table[["x", "y", "z"]].to_numpy(float)[rows]
    ground = _column_ground(mesh, dem)
    # Readings nearer to the ground than a cell see where the cells end: their columns begin under them.
    clearance = min(1.0, 0.25 * p.cell_z)
    tops, lowered = meshing.tops_below(mesh, ground, obs, clearance)
    draped = meshing.draped_under(mesh, tops)
    return _Plan(rows, table, values, draped, int(lowered.sum()), draped.thickness > 0)


def _column_ground(mesh: TensorMesh, dem: Grid) -> np.ndarray:
    """Mean ground of each column (nx, ny); beyond the edge of the DEM the nearest ground goes on."""
    gx, gy = mesh.plan_centres
    parts = []
    for share in (-1 / 3, 0.0, 1 / 3):
        for other in (-1 / 3, 0.0, 1 / 3):
            bx = np.clip(gx + share * mesh.u[0], dem.x0, dem.x[-1])
            by = np.clip(gy + other * mesh.v[0], dem.y0, dem.y[-1])
            parts.append(bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, bx, by))
    stack = np.stack(parts)
    known = np.isfinite(stack)
    total = np.where(known, stack, 0.0).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
    return np.where(known.any(axis=0), total, float(np.nanmean(dem.values)))


def _field(lines: SurveyLines, p: InvertMagnetics, x: float, y: float, z: float) -> tuple[MainField, float]:
    date = p.date or lines.date
    if not date:
        raise InputError(
            "the date of the survey is not known", where=lines.name, fix="Give it as 'date', such as 2024-05-17"
        )
    lon, lat = to_lonlat(lines.crs, x, y)
    field = main_field(float(lon), float(lat), z, date)
    return field, field.declination - grid_convergence(lines.crs, x, y)


def _run(inputs: Inputs, p: InvertMagnetics, progress: Progress) -> dict[str, Item]:
    from threadpoolctl import threadpool_limits

    from ...compute.potential import inversion, linear, prisms

    lines = inputs.need("lines", SurveyLines)
    plan = _plan(inputs, p)
    mesh, rows = plan.mesh, plan.rows
    obs = plan.table[["x", "y", "z"]].to_numpy(float)[rows]
    height = obs[:, 2] - _ground_at(inputs.need("ground", Grid), obs)
    if np.nanmin(height) <= 0:
        raise InputError(
            f"{int(np.sum(height <= 0))} readings lie below the ground surface",
            where=lines.name,
            fix="Check that their elevation is that of the sensor, in metres",
        )
    close = int(np.sum(height < p.cell_z))
    field, declination = _field(lines, p, *obs.mean(axis=0))
    data = plan.values[rows]
    if np.median(data) > 0.5 * field.intensity:
        data = data - field.intensity
    cells = int(plan.active.sum())
    if 4.0 * cells * len(rows) > LARGEST_BYTES:
        raise InputError(
            f"{cells:,} cells and {len(rows):,} readings need {4e-9 * cells * len(rows):.1f} GB",
            fix="Take larger cells or a wider data spacing",
        )
    noise = _noise(lines, plan, p, data)
    near = 6.0 * max(p.cell, p.cell_z)
    kernel = prisms.magnetic_kernel(
        mesh,
        obs,
        field.inclination,
        declination,
        field.intensity,
        plan.active,
        near,
        dtype=np.float32,
        progress=progress.part(0.0, 0.2),
    )
    centred = (obs - obs.mean(axis=0)) / 1000.0
    trend = {
        "none": None,
        "constant": np.ones((len(obs), 1)),
        "plane": np.column_stack([np.ones(len(obs)), centred[:, :2]]),
    }[p.trend]
    with threadpool_limits(2):
        result = inversion.invert(
            linear.Dense(kernel),
            data,
            noise,
            mesh,
            plan.active,
            smoothness=p.smoothness or p.cell,
            exponent=p.exponent,
            target=p.target,
            trend=trend,
            max_iterations=p.iterations,
            progress=progress.part(0.2, 0.98),
        )
    box = np.full(mesh.shape, np.nan)
    box[plan.active] = result.model
    stem = lines.name
    blocks = BlockModel(
        name=f"Susceptibility of {stem}",
        crs=lines.crs,
        mesh=mesh,
        properties={"susceptibility": box},
        units={"susceptibility": "SI"},
    )
    out = pd.DataFrame(
        {
            "line": plan.table["line"].to_numpy()[rows],
            "x": obs[:, 0],
            "y": obs[:, 1],
            "z": obs[:, 2],
            "observed": data,
            "noise": noise,
            "predicted": result.predicted,
            "residual": data - result.predicted,
        }
    )
    units = dict.fromkeys(("observed", "noise", "predicted", "residual"), "nT")
    fit = SurveyLines(
        name=f"Fit of {stem}",
        crs=lines.crs,
        table=out,
        units=units,
        roles={n: n for n in ("noise", "predicted", "residual")},
        date=p.date or lines.date,
    )
    reached = "reached" if result.reached else "not reached: the noise may be set too low"
    progress(
        1.0,
        f"Misfit {result.chi2:.2f}, target {reached}"
        + (f"; {close:,} of {len(obs):,} readings are within a cell's height of the ground" if close else "")
        + ("; above 0.1 SI bodies demagnetise themselves: true values are higher" if result.model.max() > 0.1 else "")
        + (f"; {plan.near:,} lie so low that the top of their column was cut" if plan.near else ""),
        iteration=len(result.history),
        misfit=result.chi2,
        target=p.target,
    )
    return {"model": blocks, "fit": fit}


def _ground_at(dem: Grid, obs: np.ndarray) -> np.ndarray:
    return bilinear(dem.values, dem.x0, dem.y0, dem.dx, dem.dy, obs[:, 0], obs[:, 1])


def _noise(lines: SurveyLines, plan: _Plan, p: InvertMagnetics, data: np.ndarray) -> np.ndarray:
    level = p.noise
    if level == 0.0:
        codes = pd.factorize(plan.table["line"])[0].astype(np.int64)
        level = meshing.line_noise(plan.values, codes)
        if not np.isfinite(level):
            raise InputError(
                "the noise can't be estimated from so few readings a line",
                where=lines.name,
                fix="Give a noise level in nT",
            )
        level = float(np.hypot(level, 1.0))
    return np.asarray(np.hypot(level, p.relative / 100.0 * np.abs(data - np.median(data))))


def _estimate(inputs: Inputs, p: InvertMagnetics) -> Cost:
    plan = _plan(inputs, p)
    cells, n = int(plan.active.sum()), len(plan.rows)
    size = 4e-6 * cells * n
    nx, ny, nz = plan.mesh.shape
    text = f"{nx} × {ny} × {nz} cells ({cells:,} below ground), {n:,} readings, noise " + (
        f"{p.noise:g} nT" if p.noise else "estimated"
    )
    return Cost(text, size + 200, 2 + cells * n * 5e-8)


def _suggest(inputs: Inputs) -> dict[str, Any]:
    lines = inputs.maybe("lines", SurveyLines)
    if lines is None:
        return {}
    readings = [name for name, a in lines.attributes.items() if a.quantity == "magnetic field"]
    # An anomaly or levelled reading, if there is one, is nearer to what is wanted than a raw one.
    readings.sort(key=lambda name: not any(word in name.lower() for word in ("anom", "resid", "level", "corr")))
    return {"attribute": readings[0]} if readings else {}


INVERT = Operation(
    name="invert-magnetics",
    example=Example({"lines": "Airborne magnetics", "ground": "Ground"}, {"attribute": "TMI_ANOM_nT", "cell": 150.0}),
    title="Invert magnetics for susceptibility",
    area="Geophysics",
    help="Finds the smoothest non-negative susceptibility under the ground that explains the readings to within their noise. The main field is that of the IGRF at the survey's place and date.",
    params=InvertMagnetics,
    run=_run,
    reads=("lines",),
    inputs=(
        Input("lines", "Magnetic survey lines", ("lines",)),
        ground_slot(optional=False),
    ),
    outputs=(Output("model", "blocks", "Susceptibility model"), Output("fit", "lines", "Predicted data and residual")),
    estimate=_estimate,
    suggest=_suggest,
)


class GravityForward(Params):
    attribute: str = param(..., "Property", editor="attribute", of="model")
    factor: float = param(
        1000.0,
        "Density contrast of 1",
        unit="kg/m³",
        help="The property is multiplied by this to give kg/m³: 1000 for g/cm³, 1 for kg/m³; for other properties the contrast that a value of 1 stands for",
    )
    name: str = param("", "Name")


def _run_gravity(inputs: Inputs, p: GravityForward, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import prisms

    model, stations = inputs.need("model", BlockModel), inputs.need("stations", PointSet)
    mesh = model.mesh
    largest = max(float(mesh.u.max()), float(mesh.v.max()), float(np.diff(mesh.bounds[4:])[0]) / mesh.shape[2])
    table = stations.table
    obs = table[["x", "y", "z"]].to_numpy(float)
    good = np.isfinite(obs).all(axis=1)
    if not good.any():
        raise InputError("no station has a place and an elevation", where=stations.name)
    # A station at ground level may lie within a cell of the stepped top; the closed form holds there too.
    g = prisms.gravity_of(mesh, model.properties[p.attribute] * p.factor, obs[good], 6 * largest, progress)
    out = table[good].reset_index(drop=True).assign(computed_gravity=g)
    units = {**stations.units, "computed_gravity": "mGal"}
    return {
        "stations": PointSet(
            name=p.name or f"Gravity of {model.name}", crs=model.crs, table=out, units=units, content="stations"
        )
    }


GRAVITY = Operation(
    name="gravity-of-model",
    example=Example(
        {"model": "Susceptibility of Airborne magnetics", "stations": "Gravity stations"},
        {"attribute": "susceptibility", "factor": 6000.0},
    ),
    title="Gravity of a density model",
    area="Geophysics",
    help="Works out the downward attraction of a block model at stations (rectangular prisms).",
    params=GravityForward,
    run=_run_gravity,
    inputs=(Input("model", "Block model", ("blocks",)), Input("stations", "Gravity stations", ("points",))),
    outputs=(Output("stations", "points", "Stations with computed gravity"),),
)
