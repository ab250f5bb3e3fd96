"""Grade shells from composites."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pandas as pd

from ....compute.geology.shell_proposal import Proposal, held, proposal
from ....compute.geometry.orientations import plane_normal
from ....compute.geometry.sampling import bilinear
from ....declaring.operation import (
    Cost,
    Example,
    Input,
    Inputs,
    Maybe,
    Operation,
    Output,
    Params,
    Several,
    ground_slot,
    param,
)
from ....errors import InputError
from ....items.attributes import in_role, orientation
from ....items.base import Item
from ....items.fields import BlockModel, Grid, Surface
from ....items.points import PointSet
from ....numbers import parse_number
from ....progress import Progress
from ..units.model_units import INSIDE, fault_block, in_unit, model_slot, smoothly_at, unit_number

MOST_NODES = 12_000_000
SLOTS = ("shell", "second", "third", "fourth")


class GradeShell(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="composites")
    cutoff: float = param(..., "Cut-off", help="The shell encloses what is interpolated at or above this grade")
    further: Several = param(
        (),
        "Further cut-offs",
        editor="lines",
        help="Up to three, parted by semicolons: nested shells of the same field, which never cross",
    )
    unit: str = param(
        "", "Only in the unit", help="Of the model: composites outside of it take no part; all when empty"
    )
    fault: str = param(
        "", "Only at the fault", help="Of the model: composites on its other side take no part", more=True
    )
    fault_side: Literal["hangingwall", "footwall"] = param("hangingwall", "On its", more=True)
    top_cut: Maybe = param(None, "Top-cut", help="Grades above it count as it; none when empty", more=True)
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


def _points(inputs: Inputs, p: GradeShell) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places and grades of the composites that take part, and their rows."""
    item = inputs.need("composites", PointSet)
    table = item.table
    xyz = table[["x", "y", "z"]].to_numpy(float)
    v = table[p.attribute].to_numpy(float)
    good = np.isfinite(xyz).all(axis=1) & np.isfinite(v)
    if not good.any():
        raise InputError(f"no composite has a grade of {p.attribute} and a place", where=item.name)
    rows = np.flatnonzero(good)
    xyz, v = xyz[good], v[good]
    if p.top_cut is not None:
        v = np.minimum(v, p.top_cut)
    inside = np.ones(len(v), dtype=bool)
    if p.unit.strip():
        number = unit_number(inputs.maybe("model", BlockModel), p.unit)
        inside &= in_unit(inputs.need("model", BlockModel), number, xyz)
    if p.fault.strip():
        off = fault_block(inputs.maybe("model", BlockModel), p.fault, p.fault_side)
        inside &= smoothly_at(inputs.need("model", BlockModel), off, xyz) > 0
    if not inside.any():
        where = " of ".join(
            w
            for w in (
                p.unit.strip() and f"the unit '{p.unit}'",
                p.fault.strip() and f"the {p.fault_side} of '{p.fault}'",
            )
            if w
        )
        raise InputError(f"no composite lies in {where}", where=item.name)
    return xyz[inside], v[inside], rows[inside]


def cutoffs(p: GradeShell) -> list[float]:
    """Return the cut-offs of the shells from the lowest on.

    Raises
    ------
    InputError
        When one is no number, or there are too many.
    """
    found = sorted({p.cutoff, *(parse_number(word) for word in p.further)})
    if not np.isfinite(found).all():
        raise InputError("further cut-offs must be numbers")
    if len(found) > len(SLOTS):
        raise InputError(f"{len(found)} cut-offs are too many", fix=f"Give {len(SLOTS)} at most")
    return found


def _box(xyz: np.ndarray, p: GradeShell) -> tuple[np.ndarray, tuple[int, ...]]:
    low = np.floor((xyz.min(axis=0) - p.search_radius_m) / p.cell) * p.cell
    high = np.ceil((xyz.max(axis=0) + p.search_radius_m) / p.cell) * p.cell
    return low, tuple(int(n) for n in np.round((high - low) / p.cell) + 1)


def _trend(inputs: Inputs, p: GradeShell) -> Any:
    """The trend that bends, of readings or of a surface; None without one."""
    from ....compute.geology import trends

    item = inputs.get("trend")
    if item is None:
        return None
    if p.ratio <= 1.0:
        raise InputError(
            "a trend is given, but grade reaches no farther along it", fix="Raise 'Continuity in the plane'"
        )
    if isinstance(item, PointSet):
        dip, direction = orientation(item.attributes) or ("", "")
        if not dip:
            raise InputError("the readings have no dip and dip direction", where=item.name)
        at = item.table[["x", "y", "z", dip, direction]].to_numpy(float)
        at = at[np.isfinite(at).all(axis=1)]
        return trends.of_planes(at[:, :3], plane_normal(at[:, 3], at[:, 4]), p.ratio)
    surface = inputs.need("trend", Surface)
    return trends.of_surface(surface.vertices, surface.triangles, p.ratio)


def _field(inputs: Inputs, p: GradeShell, xyz: np.ndarray, v: np.ndarray, progress: Progress) -> Any:
    from ....compute.geology import rbf, scalar_fields

    lift = _trend(inputs, p)
    if lift is None:
        ellipsoid = rbf.Ellipsoid(p.azimuth, p.dip, p.ratio, p.ratio_across or p.ratio, p.pitch)
        return rbf.fit(xyz, v, nugget=p.smoothing, ellipsoid=ellipsoid, progress=progress)
    nothing = np.empty((0, 3))
    return scalar_fields.fit_with_planes(
        xyz, v, nothing, nothing, drift="constant", nugget=p.smoothing, lift=lift, progress=progress
    )


def _run(inputs: Inputs, p: GradeShell, progress: Progress) -> dict[str, Item]:
    from scipy.spatial import cKDTree

    from ....compute.geology import rbf
    from ....compute.geology.shells import closed_shell

    source = inputs.need("composites", PointSet)
    xyz, v, taken = _points(inputs, p)
    grades = v
    levels = cutoffs(p)
    if not v.max() >= levels[0]:
        raise InputError(
            f"no composite reaches the cut-off {levels[0]:g}; the highest is {v.max():.3g}",
            where=source.name,
            fix="Lower the cut-off",
        )
    low, shape = _box(xyz, p)
    if np.prod(shape) > MOST_NODES:
        raise InputError(f"the field would have {np.prod(shape):,} nodes", fix="Take a larger cell size")
    if p.transform == "log":
        if levels[0] <= 0:
            raise InputError("a log transform needs a cut-off above 0", fix="Take transform none")
        floor = max(float(v[v > 0].min()), levels[0] * 1e-3) if (v > 0).any() else levels[0] * 1e-3
        v, passed = np.log(np.maximum(v, floor)), [float(np.log(c)) for c in levels]
    else:
        passed = levels
    field = _field(inputs, p, xyz, v, progress.part(0.0, 0.4))
    axes = [low[k] + p.cell * np.arange(shape[k]) for k in range(3)]
    nodes = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    away, _ = cKDTree(xyz).query(nodes, distance_upper_bound=p.search_radius_m)
    near = np.isfinite(away)
    found = np.full(len(nodes), -np.inf)
    if (
        len(xyz) > rbf.BY_PARTS and field.lift is None
    ):  # all nodes by blocks are sooner done than those nearby one by one
        whole = rbf.evaluate_lattice(
            field, low, (p.cell,) * 3, (shape[0], shape[1], shape[2]), progress.part(0.4, 0.95)
        )
        found[near] = whole.ravel()[near]
    else:
        found[near] = rbf.evaluate(field, nodes[near], progress.part(0.4, 0.95))
    # The shell ends where composites are too far: the smaller of grade excess and remaining distance decides.
    spread = float(np.std(v)) or 1.0
    limit = np.full(len(nodes), -1.0)
    limit[near] = (p.search_radius_m - away[near]) / p.search_radius_m
    limit *= 4 * spread
    ground = inputs.maybe("ground", Grid)
    if ground is not None:
        top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, nodes[:, 0], nodes[:, 1])
        below = np.where(np.isfinite(top), top - nodes[:, 2], np.inf)
        limit = np.minimum(limit, below / p.cell * spread)
    model = inputs.maybe("model", BlockModel)
    if p.unit.strip() and model is not None:
        limit = np.minimum(limit, _inside_unit(model, p.unit.strip(), nodes) / p.cell * spread)
    if p.fault.strip() and model is not None:
        off = smoothly_at(model, fault_block(model, p.fault, p.fault_side), nodes)
        limit = np.minimum(limit, np.nan_to_num(off, nan=-1.0) / p.cell * spread)
    progress(0.96, "Closing the surface")
    known = source.attributes[p.attribute]
    out: dict[str, Item] = {}
    words: list[str] = []
    rows: list[dict[str, float]] = []
    for slot, cutoff, level in zip(SLOTS, levels, passed, strict=False):
        values = np.minimum(np.maximum(found - level, -10 * spread), limit).reshape(shape)
        if not (values > 0).any() and out:
            words.append(f"none from {cutoff:g}")
            continue
        if not (values > 0).any():
            better = _better(source, taken, xyz, grades >= cutoff)
            way = (
                f"Try {better.words}, told from {better.basis}"
                if better
                else "Take a smaller cell than the runs above it"
            )
            raise InputError(
                f"the shell is empty: at no node {p.cell:g} m apart the field reaches {cutoff:g}, though"
                f" {int((grades >= cutoff).sum()):,} composites do",
                where=source.name,
                fix=way,
            )
        vertices, triangles, volume = closed_shell(values, (low[0], low[1], low[2]), p.cell)
        told = _holds(source, taken, inside_of(values, low, p.cell, xyz), grades, cutoff, xyz)
        name = f"{p.attribute} ≥ {cutoff:g}"
        if p.name:
            name = p.name if len(levels) == 1 else f"{p.name} {cutoff:g} {known.unit}".rstrip()
        out[slot] = Surface(
            name=name,
            crs=source.crs,
            vertices=vertices,
            triangles=triangles,
            closed=True,
            volume_m3=volume,
            told=told,
            attribute=p.attribute,
            unit=known.unit,
            quantities={p.attribute: known.quantity},
            level=cutoff,
        )
        rows.append({"volume": volume, **dilution(values, low, p.cell, xyz, grades, cutoff)})
        words.append(_told(rows[-1], known.unit) + "".join(f". {k}: {v}" for k, v in told.items()))
    table = pd.DataFrame(rows).assign(**dict(zip("xyz", xyz.mean(axis=0).tolist(), strict=True)))
    means = dict.fromkeys(("cut-off", "mean in", "mean out"), known.unit)
    out["dilution"] = PointSet(
        name=f"{p.name or f'{p.attribute} shells'}, dilution",
        crs=source.crs,
        table=table,
        units={"volume": "m³", **means, "waste": "%", "lost": "%"},
        content="classes",
    )
    progress(1.0, "; ".join(words))
    return out


def _inside_unit(model: BlockModel, unit: str, nodes: np.ndarray) -> np.ndarray:
    """Metres inside of a unit at nodes; half a metre either way where the model only tells which cells it has."""
    margin = model.properties.get(f"{INSIDE}{unit}")
    values = (
        margin
        if margin is not None
        else np.where(model.properties["unit"] == model.names["unit"].index(unit), 0.5, -0.5)
    )
    return np.asarray(np.nan_to_num(smoothly_at(model, values.astype(float), nodes), nan=-1.0))


def inside_of(values: np.ndarray, low: np.ndarray, cell: float, xyz: np.ndarray) -> np.ndarray:
    """Return which places (n, 3) lie in a shell, from its values at nodes, above 0 inside."""
    from scipy.ndimage import map_coordinates

    known = np.where(np.isfinite(values), values, -1e9)
    return np.asarray(map_coordinates(known, ((xyz - low) / cell).T, order=1, mode="nearest") > 0)


def _lengths(source: PointSet, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Number of the hole, depth and length of composites; one metre each where they say none."""
    table = source.table.iloc[rows]
    start, end = (in_role(source.attributes, r) for r in ("from", "to"))
    if not start or not end:
        return np.arange(len(rows)), np.zeros(len(rows)), np.ones(len(rows))
    a, b = table[start].to_numpy(float), table[end].to_numpy(float)
    hole = pd.factorize(table["hole"])[0] if "hole" in table else np.arange(len(rows))
    return hole.astype(np.int64), a, np.where(b > a, b - a, 1.0)


def _better(source: PointSet, rows: np.ndarray, xyz: np.ndarray, rich: np.ndarray) -> Proposal | None:
    """What would hold the composites that are rich."""
    return proposal(xyz, *_lengths(source, rows), rich, MOST_NODES)


def _holds(
    source: PointSet, rows: np.ndarray, inside: np.ndarray, grades: np.ndarray, cutoff: float, xyz: np.ndarray
) -> dict[str, str]:
    """What a shell holds of the composites at or above its cut-off; where that is less than half, what would hold them."""
    metres, metal = held(inside, _lengths(source, rows)[2], grades, cutoff)
    if not np.isfinite(metres):
        return {}
    told = {"Holds": f"{100 * metres:.0f} % of metres above, {100 * metal:.0f} % of metal"}
    better = _better(source, rows, xyz, grades >= cutoff) if metres < 0.5 else None
    if better is not None:
        told["Try"] = f"{better.words} ({better.basis})"
    return told


def dilution(
    values: np.ndarray, low: np.ndarray, cell: float, xyz: np.ndarray, grades: np.ndarray, cutoff: float
) -> dict[str, float]:
    """Return what a shell holds of its composites, and both kinds of mistake, in percent.

    `values` are those of the shell at its nodes, above 0 inside. `waste` are composites in it below the cut-off, `lost` those at
    or above it that it leaves outside.
    """
    inside = inside_of(values, low, cell, xyz)
    rich = grades >= cutoff

    def mean(of: np.ndarray) -> float:
        return float(of.mean()) if len(of) else float("nan")

    return {
        "cut-off": cutoff,
        "composites in": float(inside.sum()),
        "mean in": mean(grades[inside]),
        "mean out": mean(grades[~inside]),
        "waste": 100.0 * mean(~rich[inside]),
        "lost": 100.0 * mean(~inside[rich]),
    }


def _told(row: dict[str, float], unit: str) -> str:
    words = f"from {row['cut-off']:g} {unit}".rstrip() + f": {row['volume'] / 1e6:,.3f} million m³"
    if row["composites in"]:
        words += f", mean {row['mean in']:.4g} in {row['composites in']:,.0f} composites, {row['waste']:.1f} % of them below the cut-off"
    if np.isfinite(row["mean out"]):
        words += f", mean {row['mean out']:.4g} outside"
    if np.isfinite(row["lost"]):
        words += f", {row['lost']:.1f} % of those above left outside"
    return words


def _estimate(inputs: Inputs, p: GradeShell) -> Cost:
    xyz, _, _ = _points(inputs, p)
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
    values = item.table[grades[0]].to_numpy(float)
    xyz = item.table[["x", "y", "z"]].to_numpy(float)
    rows = np.flatnonzero(np.isfinite(values) & np.isfinite(xyz).all(axis=1))
    if not len(rows):
        return {}
    cutoff = float(f"{np.percentile(values[rows], 90):.2g}")
    better = _narrow(item, rows, xyz[rows], values[rows] >= cutoff)
    return {"attribute": grades[0], "cutoff": cutoff, **better}


def _narrow(item: PointSet, rows: np.ndarray, xyz: np.ndarray, rich: np.ndarray) -> dict[str, Any]:
    """Cell, search and continuity for runs that are narrower than a usual cell."""
    found = _better(item, rows, xyz, rich)
    usual = GradeShell.model_fields["cell"].default
    if found is None or found.width >= usual:
        return {}
    told = {
        "cell": found.cell,
        "search_radius_m": found.search_radius_m,
        "ratio": found.ratio,
        "smoothing": found.smoothing,
    }
    return told | ({"azimuth": float(found.azimuth), "dip": float(found.dip)} if found.ratio > 1 else {})


OPERATION = Operation(
    name="grade-shell",
    renamed={"reach": "search_radius_m"},
    example=Example(
        {"composites": "Sn_ppm composites 6 m", "ground": "Ground"},
        {"attribute": "Sn_ppm", "cutoff": 800.0, "cell": 25.0},
    ),
    title="Build a grade shell",
    area="Geology",
    help="Interpolates composites in space with a radial-basis field and encloses what lies at or above a cut-off, or at several, in closed surfaces, all over or inside of one unit. Says what each holds, and what it leaves outside. With a ground surface shells end there.",
    params=GradeShell,
    run=_run,
    reads=("composites",),
    inputs=(
        Input("composites", "Composites", ("points",), need=lambda e: bool(in_role(e.attributes, "from"))),
        ground_slot(),
        model_slot(optional=True),
        Input(
            "trend",
            "Trend that bends",
            ("points", "surface"),
            optional=True,
            proposed=False,
            help="Structural readings, or a surface such as a vein or a folded bed: grade reaches along it instead of a plane",
        ),
    ),
    outputs=(
        Output("shell", "surface", "Grade shell"),
        Output("second", "surface", "Second shell"),
        Output("third", "surface", "Third shell"),
        Output("fourth", "surface", "Fourth shell"),
        Output("dilution", "points", "Dilution, a row for each shell"),
    ),
    estimate=_estimate,
    suggest=_suggest,
)
