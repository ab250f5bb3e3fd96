"""Grades of blocks from composites, in all cells or in those of one unit."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from .... import limits
from ....compute.expression import condition
from ....compute.gridding.variogram import Shape, Structure
from ....declaring.operation import Cost, Example, Input, Inputs, Maybe, Operation, Output, Params, Several, param
from ....errors import InputError
from ....geometry.mesh import Mesh, TensorMesh
from ....items.attributes import in_role
from ....items.base import Item
from ....items.fields import BlockModel
from ....items.points import PointSet
from ....numbers import parse_number
from ....progress import Progress
from ..units.model_units import in_unit, unit_number
from .block_columns import columns_of_blocks


class EstimateBlocks(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="composites")
    method: Literal["kriging", "inverse distance", "nearest"] = param("kriging", "Method")
    unit: str = param(
        "", "Only in the unit", help="Of the model: blocks and composites outside of it take no part; all when empty"
    )
    where: str = param(
        "",
        "Only blocks where",
        help="A condition on the properties of the model, such as [off East fault] > 0: other blocks, and composites in them, take no part",
        more=True,
    )
    cell: float = param(20.0, "Block size", unit="m", above=0.0, help="Where no model gives the cells")
    cell_z: float = param(10.0, "Block height", unit="m", above=0.0)
    reach: float = param(100.0, "Search radius", unit="m", above=0.0, help="Along the main direction")
    azimuth: float = param(
        0.0, "Strike", unit="°", low=0.0, high=360.0, help="Of the plane of continuity, right-hand rule"
    )
    dip: float = param(90.0, "Dip", unit="°", low=0.0, high=90.0)
    ratio: float = param(
        1.0, "Continuity in the plane", low=1.0, high=50.0, help="How much farther grade reaches than across it"
    )
    pitch: float = param(0.0, "Pitch", unit="°", low=-90.0, high=180.0, more=True)
    ratio_across: float = param(
        0.0, "Continuity across the pitch", unit="times", low=0.0, high=50.0, help="0 is as along it", more=True
    )
    nugget: float = param(
        0.0, "Nugget", unit="of the sill", low=0.0, high=1.0, help="Part of the variance of the composites"
    )
    shape: Shape = param("spherical", "Variogram")
    range: float = param(80.0, "Range", unit="m", above=0.0, help="Along the main direction")
    across: int = param(
        4,
        "Points across a block",
        low=1,
        high=20,
        help="A block is kriged as a volume: the mean of so many points along each axis in plan",
        more=True,
    )
    upward: int = param(
        2, "Points up a block", low=1, high=20, help="So many along its height; one point of all is a point", more=True
    )
    power: float = param(2.0, "Power of distance", unit="power", above=0.0, high=10.0, more=True)
    least: int = param(3, "Least samples", low=1, high=500, more=True)
    most: int = param(24, "Most samples", low=1, high=500, more=True)
    octant: int = param(0, "Most of an octant", low=0, high=100, help="0 for no octants", more=True)
    passes: Several = param(
        ("1", "2"),
        "Passes",
        editor="lines",
        help="Times the search radius, one after the other, parted by semicolons",
        more=True,
    )
    top_cut: Maybe = param(None, "Top-cut", help="Grades above it count as it; none when empty", more=True)
    density: float = param(2.7, "Density", unit="t/m³", above=0.0, help="For tonnes")
    cutoffs: Several = param((), "Cut-offs", editor="lines", help="For tonnes and grades, parted by semicolons")
    name: str = param("", "Name")


def _numbers(words: tuple[str, ...], what: str) -> tuple[float, ...]:
    out = tuple(parse_number(word) for word in words)
    if not np.isfinite(out).all():
        raise InputError(f"{what} must be numbers")
    return out


def _samples(inputs: Inputs, p: EstimateBlocks) -> tuple[np.ndarray, np.ndarray]:
    item = inputs.need("composites", PointSet)
    if p.attribute not in item.table:
        raise InputError(f"there is no grade '{p.attribute}'", where=item.name)
    at, values = item.table[["x", "y", "z"]].to_numpy(float), item.table[p.attribute].to_numpy(float)
    good = np.isfinite(at).all(axis=1) & np.isfinite(values)
    if not good.any():
        raise InputError(f"no composite has a grade of {p.attribute} and a place", where=item.name)
    at, values = at[good], values[good]
    _, first = np.unique(np.round(at, 3), axis=0, return_index=True)  # of two at one place the first
    at, values = at[first], values[first]
    return at, values if p.top_cut is None else np.minimum(values, p.top_cut)


def _cells(inputs: Inputs, p: EstimateBlocks, at: np.ndarray) -> tuple[Mesh, np.ndarray]:
    """The blocks, and which of them are estimated."""
    model = inputs.maybe("model", BlockModel)
    if model is None:
        if p.unit:
            unit_number(None, p.unit)
        if p.where.strip():
            raise InputError("a condition is given, but no model that could meet it", fix="Give the model of units")
        low, high = at.min(axis=0) - p.reach, at.max(axis=0) + p.reach
        step = np.array([p.cell, p.cell, p.cell_z])
        low = np.floor(low / step) * step
        count = np.maximum(np.ceil((high - low) / step), 2).astype(int)
        limits.afford(float(np.prod(count.astype(float))), 120.0, "blocks", "Take larger blocks")
        mesh: Mesh = TensorMesh.even(
            (float(low[0]), float(low[1]), float(low[2])),
            (p.cell, p.cell, p.cell_z),
            (int(count[0]), int(count[1]), int(count[2])),
        )
        return mesh, np.ones(mesh.shape, dtype=bool)
    wanted = model.present
    if p.unit:
        wanted = model.properties["unit"] == unit_number(model, p.unit)
    wanted = np.asarray(wanted).copy()
    if p.where.strip():
        cells = np.argwhere(wanted)
        met = condition(p.where, columns_of_blocks(model, cells), len(cells))
        wanted[tuple(cells[~met].T)] = False
    return model.mesh, wanted


def _run(inputs: Inputs, p: EstimateBlocks, progress: Progress) -> dict[str, Item]:
    from ....compute.geology import estimation as es
    from ....compute.geology.rbf import Ellipsoid

    source = inputs.need("composites", PointSet)
    at, values = _samples(inputs, p)
    mesh, wanted = _cells(inputs, p, at)
    model = inputs.maybe("model", BlockModel)
    if (p.unit or p.where.strip()) and model is not None:
        if p.where.strip():
            inside = mesh.values_at(wanted.astype(float), *at.T) == 1.0
        else:  # composites are parted at the contacts, not at the faces of blocks
            inside = in_unit(model, unit_number(model, p.unit), at)
        if not inside.any():
            raise InputError(
                f"no composite lies in the unit '{p.unit}'"
                if p.unit
                else "no composite lies in blocks that meet the condition",
                where=source.name,
            )
        at, values = at[inside], values[inside]
    if not wanted.any():
        raise InputError("no block is to be estimated", where=model.name if model else "")
    ellipsoid = Ellipsoid(p.azimuth, p.dip, p.ratio, p.ratio_across or p.ratio, p.pitch)
    search = es.Search(ellipsoid, p.reach, p.least, p.most, p.octant, _numbers(p.passes, "passes"))
    sill = float(np.var(values)) or 1.0
    variogram = es.Variogram(p.nugget * sill, (Structure(p.shape, (1.0 - p.nugget) * sill, p.range),))
    cells = np.argwhere(wanted)
    i, j, k = cells.T
    low, high = mesh.levels(i, j, k)
    sizes = np.column_stack([mesh.u[i], mesh.v[j], high - low])
    parts = (p.across, p.across, p.upward)
    blocks = es.Blocks(sizes, np.array(mesh.axes), parts) if max(parts) > 1 else None
    found = es.estimate(
        at, values, mesh.centres(cells), search, p.method, variogram, p.power, progress.part(0.05, 0.95), blocks
    )
    unit = source.attributes[p.attribute].unit

    def boxed(each: np.ndarray) -> np.ndarray:
        box = np.full(mesh.shape, np.nan)
        box[wanted] = np.where(found.passed > 0, each, np.nan)
        return box

    properties = {p.attribute: boxed(found.grade), "samples": boxed(found.samples), "pass": boxed(found.passed)}
    units = {p.attribute: unit}
    if p.method == "kriging":
        properties["kriging variance"] = boxed(found.variance)
        properties["kriging efficiency"] = boxed(found.efficiency)
        properties["slope of regression"] = boxed(found.slope)
    made = BlockModel(
        name=p.name or f"{p.attribute} by {p.method}",
        crs=source.crs,
        mesh=mesh,
        properties=properties,
        units=units,
        quantities={p.attribute: source.attributes[p.attribute].quantity},
    )
    done = found.passed > 0
    if not done.any():
        raise InputError("no block finds enough samples", fix="Take a larger search radius, or fewer least samples")
    volume = mesh.volumes(cells)
    words = [
        f"{int(done.sum()):,} of {len(done):,} blocks, mean {float(np.average(found.grade[done], weights=volume[done])):.4g} {unit}"
        f" (composites {float(values.mean()):.4g})"
    ]
    for cutoff, tonnes, mean in es.grade_and_tonnage(found.grade, volume, p.density, _numbers(p.cutoffs, "cut-offs")):
        words.append(f"from {cutoff:g}: {tonnes / 1e6:,.3f} Mt at {mean:.4g}" if tonnes else f"from {cutoff:g}: none")
    progress(1.0, "; ".join(words))
    return {"model": made}


def _estimate(inputs: Inputs, p: EstimateBlocks) -> Cost:
    at, _ = _samples(inputs, p)
    mesh, wanted = _cells(inputs, p, at)
    count = float(wanted.sum())
    each = 2e-6 + (p.most**3 / 3.0e9 + p.most * p.across**2 * p.upward * 1.5e-8 if p.method == "kriging" else 1e-6)
    nx, ny, nz = mesh.shape
    return Cost(
        f"{nx} × {ny} × {nz} blocks, {count:,.0f} to estimate from {len(at):,} composites",
        mesh.size * 6e-5 + count * 1e-4 + 60,
        1.0 + count * each * len(_numbers(p.passes, "passes")),
    )


def _suggest(inputs: Inputs) -> dict[str, Any]:
    item = inputs.maybe("composites", PointSet)
    grades = [] if item is None else [n for n, a in item.attributes.items() if not a.is_code and not a.role]
    return {"attribute": grades[0]} if grades else {}


OPERATION = Operation(
    name="estimate-blocks",
    example=Example(
        {"composites": "Sn_ppm composites 6 m"},
        {"attribute": "Sn_ppm", "cell": 50.0, "cell_z": 25.0, "reach": 120.0, "cutoffs": ["500", "1000"]},
    ),
    title="Estimate grades of blocks",
    area="Geology",
    help="Estimates a grade in blocks by ordinary kriging of the blocks as volumes, with their variance, the efficiency of kriging and the slope of regression, by inverse distance or the nearest composite, with a search ellipsoid, octants and passes, in all cells or in those of one unit of a model, and gives tonnes and grades above cut-offs.",
    params=EstimateBlocks,
    run=_run,
    inputs=(
        Input("composites", "Composites", ("points",), need=lambda e: bool(in_role(e.attributes, "from"))),
        Input(
            "model",
            "Cells and units",
            ("blocks",),
            optional=True,
            proposed=False,
            help="A model of units, whose cells are taken",
        ),
    ),
    outputs=(Output("model", "blocks", "Grades"),),
    estimate=_estimate,
    suggest=_suggest,
)
