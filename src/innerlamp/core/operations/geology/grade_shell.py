"""Grade shells from composites."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from ...compute.geometry.sampling import bilinear
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, ground_slot, param
from ...errors import InputError
from ...items.attributes import in_role
from ...items.base import Item
from ...items.fields import Grid, Surface
from ...items.points import PointSet
from ...progress import Progress

MOST_NODES = 12_000_000


class GradeShell(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="composites")
    cutoff: float = param(..., "Cut-off", help="The shell encloses what is interpolated at or above this grade")
    cell: float = param(
        15.0,
        "Cell size",
        unit="m",
        above=0.0,
        help="Distance at which the field is worked out; smaller shows more detail",
    )
    search_radius_m: float = param(
        60.0, "Search radius", unit="m", above=0.0, help="The shell stays within this distance of composites"
    )
    transform: Literal["none", "log"] = param(
        "log", "Transform", help="log keeps single rich samples from swelling the shell"
    )
    smoothing: float = param(5.0, "Smoothing", unit="m", low=0.0, help="0 honours every composite")
    azimuth: float = param(
        0.0,
        "Strike",
        unit="°",
        low=0.0,
        high=360.0,
        help="Strike of the plane of continuity, clockwise from grid north, right-hand rule",
    )
    dip: float = param(90.0, "Dip", unit="°", low=0.0, high=90.0, help="Dip of that plane, down to the right of strike")
    ratio: float = param(
        1.0,
        "Continuity in the plane",
        low=1.0,
        high=20.0,
        help="How much farther grade reaches in the plane than across it",
    )
    pitch: float = param(
        0.0,
        "Pitch",
        unit="°",
        low=-90.0,
        high=180.0,
        help="Of the shoots: angle in that plane from strike down to the direction in which grade reaches farthest",
        more=True,
    )
    ratio_across: float = param(
        0.0,
        "Continuity across the pitch",
        unit="times",
        low=0.0,
        high=20.0,
        help="In the plane, across the pitch, how much farther grade reaches than across the plane; 0 is as along it",
        more=True,
    )
    name: str = param("", "Name", help="Attribute and cut-off when empty")


def _points(item: PointSet, p: GradeShell) -> tuple[np.ndarray, np.ndarray]:
    table = item.table
    xyz = table[["x", "y", "z"]].to_numpy(float)
    v = table[p.attribute].to_numpy(float)
    good = np.isfinite(xyz).all(axis=1) & np.isfinite(v)
    if not good.any():
        raise InputError(f"no composite has a grade of {p.attribute} and a place", where=item.name)
    return xyz[good], v[good]


def _box(xyz: np.ndarray, p: GradeShell) -> tuple[np.ndarray, tuple[int, ...]]:
    low = np.floor((xyz.min(axis=0) - p.search_radius_m) / p.cell) * p.cell
    high = np.ceil((xyz.max(axis=0) + p.search_radius_m) / p.cell) * p.cell
    return low, tuple(int(n) for n in np.round((high - low) / p.cell) + 1)


def _run(inputs: Inputs, p: GradeShell, progress: Progress) -> dict[str, Item]:
    from scipy.spatial import cKDTree

    from ...compute.geology import rbf
    from ...compute.geology.shells import closed_shell

    source = inputs.need("composites", PointSet)
    xyz, v = _points(source, p)
    if not v.max() >= p.cutoff:
        raise InputError(
            f"no composite reaches the cut-off {p.cutoff:g}; the highest is {v.max():.3g}",
            where=source.name,
            fix="Lower the cut-off",
        )
    low, shape = _box(xyz, p)
    if np.prod(shape) > MOST_NODES:
        raise InputError(f"the field would have {np.prod(shape):,} nodes", fix="Take a larger cell size")
    if p.transform == "log":
        if p.cutoff <= 0:
            raise InputError("a log transform needs a cut-off above 0", fix="Take transform none")
        floor = max(float(v[v > 0].min()), p.cutoff * 1e-3) if (v > 0).any() else p.cutoff * 1e-3
        v, level = np.log(np.maximum(v, floor)), float(np.log(p.cutoff))
    else:
        level = p.cutoff
    ellipsoid = rbf.Ellipsoid(p.azimuth, p.dip, p.ratio, p.ratio_across or p.ratio, p.pitch)
    field = rbf.fit(xyz, v, nugget=p.smoothing, ellipsoid=ellipsoid, progress=progress.part(0.0, 0.4))
    axes = [low[k] + p.cell * np.arange(shape[k]) for k in range(3)]
    nodes = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    away, _ = cKDTree(xyz).query(nodes, distance_upper_bound=p.search_radius_m)
    near = np.isfinite(away)
    values = np.full(len(nodes), -np.inf)
    if len(xyz) > rbf.BY_PARTS:  # all nodes by blocks are sooner done than those nearby one by one
        whole = rbf.evaluate_lattice(
            field, low, (p.cell,) * 3, (shape[0], shape[1], shape[2]), progress.part(0.4, 0.95)
        )
        values[near] = whole.ravel()[near] - level
    else:
        values[near] = rbf.evaluate(field, nodes[near], progress.part(0.4, 0.95)) - level
    # The shell ends where composites are too far: the smaller of grade excess and remaining distance decides.
    spread = float(np.std(v)) or 1.0
    limit = np.full(len(nodes), -1.0)
    limit[near] = (p.search_radius_m - away[near]) / p.search_radius_m
    values = np.minimum(np.maximum(values, -10 * spread), limit * 4 * spread)
    ground = inputs.maybe("ground", Grid)
    if ground is not None:
        top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, nodes[:, 0], nodes[:, 1])
        below = np.where(np.isfinite(top), top - nodes[:, 2], np.inf)
        values = np.minimum(values, below / p.cell * spread)
    progress(0.96, "Closing the surface")
    vertices, triangles, held = closed_shell(values.reshape(shape), (low[0], low[1], low[2]), p.cell)
    known = source.attributes[p.attribute]
    name = p.name or f"{p.attribute} ≥ {p.cutoff:g}"
    return {
        "shell": Surface(
            name=name,
            crs=source.crs,
            vertices=vertices,
            triangles=triangles,
            closed=True,
            volume_m3=held,
            attribute=p.attribute,
            unit=known.unit,
            quantities={p.attribute: known.quantity},
            level=p.cutoff,
        )
    }


def _estimate(inputs: Inputs, p: GradeShell) -> Cost:
    xyz, _ = _points(inputs.need("composites", PointSet), p)
    _, shape = _box(xyz, p)
    nodes, n = float(np.prod(shape)), float(len(xyz))
    words = f"{len(xyz):,} composites, {shape[0]} × {shape[1]} × {shape[2]} nodes"
    if n > 3_000:  # by parts; see compute.geology.large_fields
        return Cost(words, n * 4e-3 + nodes * 6e-5 + 100, 10.0 * n * n / 8e8 + n * 2e-4 + nodes * n / 1e10 + 2)
    return Cost(words, n**2 * 8e-6 + nodes * 4e-5, nodes * n / 6e8 + 1)


def _suggest(inputs: Inputs) -> dict[str, Any]:
    item = inputs.maybe("composites", PointSet)
    if item is None or item.content != "composites":
        return {}
    grades = [n for n, a in item.attributes.items() if not a.is_code and not a.role]
    if not grades:
        return {}
    v = item.table[grades[0]].dropna().to_numpy()
    return {"attribute": grades[0], "cutoff": float(f"{np.percentile(v, 90):.2g}")} if len(v) else {}


OPERATION = Operation(
    name="grade-shell",
    renamed={"reach": "search_radius_m"},
    example=Example(
        {"composites": "Sn_ppm composites 6 m", "ground": "Ground"},
        {"attribute": "Sn_ppm", "cutoff": 800.0, "cell": 25.0},
    ),
    title="Build a grade shell",
    area="Geology",
    help="Interpolates composites in space with a radial-basis field and encloses what lies at or above a cut-off in a closed surface. With a ground surface the shell ends there.",
    params=GradeShell,
    run=_run,
    reads=("composites",),
    inputs=(
        Input("composites", "Composites", ("points",), need=lambda e: bool(in_role(e.attributes, "from"))),
        ground_slot(),
    ),
    outputs=(Output("shell", "surface", "Grade shell"),),
    estimate=_estimate,
    suggest=_suggest,
)
