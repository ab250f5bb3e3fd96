"""Long section: where holes pierce a tabular body, grade times thickness over its plane, and where it is open."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd

from ...compute.drilling import long_section as ls
from ...compute.geometry.axis_sets import mean_axis
from ...compute.geometry.orientations import dip_and_direction, plane_normal
from ...compute.geometry.sampling import bilinear
from ...compute.gridding.neighbours import inverse_distance
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, ground_slot, param
from ...errors import InputError
from ...geometry.mesh import TensorMesh
from ...importing.hole_paths import path_from
from ...items.attributes import Attribute, orientation
from ...items.base import Item
from ...items.features import LINE, Features, one_each
from ...items.fields import BlockModel, Grid
from ...items.holes import INTERCEPTS, HoleSet
from ...items.points import PointSet
from ...progress import Progress
from .of_holes import grades_of, planes_of

PRODUCT, THICKNESS, AWAY = "grade x thickness", "true thickness", "distance to piercing"
_MOST_CELLS = 250_000
_CARRIED = 100.0  # metres by which holes are carried on where no reach is given


class LongSectionParams(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="holes")
    dip: float | None = param(
        None, "Dip", unit="°", low=0.0, high=90.0, help="Of the body; with none the readings, else a plane fitted to it"
    )
    dip_direction: float | None = param(None, "Dip direction", unit="°", low=0.0, high=360.0)
    within: float = param(
        20.0, "Body lies within", unit="m", above=0.0, help="Of the plane: what holes have there belongs to it"
    )
    reach: float = param(
        80.0,
        "Reach",
        unit="m",
        above=0.0,
        help="Beyond it nothing is contoured, and a direction without a hole is open",
    )
    least: float | None = param(
        None,
        "Worth following from",
        help="Grade x thickness whose ends are listed; the median of what was found when empty",
    )
    cell: float = param(0.0, "Cell", unit="m", low=0.0, help="0 takes a twelfth of the reach", more=True)
    name: str = param("", "Name", help="Of the body; that of the holes when empty")


def _run(inputs: Inputs, p: LongSectionParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    table = grades_of(holes, p.attribute)
    if (known := holes.tables.get(INTERCEPTS)) is not None and table is known and "is" in table.columns:
        table = table[table["is"] == "intercept"]  # what they include is part of them
    drilled = inputs.maybe("drilled", HoleSet) or holes  # a set of intercepts has only the holes that have some
    path, index = path_from(drilled)
    end = _ends(drilled, index)
    grade = table[p.attribute].to_numpy(float)
    start, stop = (table[[f"{c}{k}" for c in "xyz"]].to_numpy(float) for k in (0, 1))
    middle, chord = 0.5 * (start + stop), stop - start
    length = np.linalg.norm(chord, axis=1)
    given = _given(inputs, p)
    plane = ls.fitted_plane(middle, np.nan_to_num(grade * length), *given, p.within)
    progress(0.2, f"Plane {plane.dip:.0f}° to {plane.dip_direction:03.0f}°")
    found = ls.pierced(path, end, plane, p.reach or _CARRIED)
    unit = holes.units.get(p.attribute, "")
    rows = _sums(
        p, index, table, plane, found, grade, middle, np.abs(chord @ plane.normal), _sampled(drilled, p.within), unit
    )
    if not (rows["is"] != "stops short").any():
        raise InputError("no hole pierces the plane of the body", where=holes.name, fix="Check its dip and direction")
    progress(0.5, f"{len(rows)} piercings")
    name = p.name or holes.name
    units = {p.attribute: unit, PRODUCT: f"{unit} m".strip(), THICKNESS: "m", "depth_m": "m", "missing": "m"}
    lengths = dict.fromkeys((THICKNESS, "depth_m", "missing"), "length")
    product = rows[PRODUCT].to_numpy(float)
    tested = np.isfinite(product)
    along, up, _ = plane.inside(rows[["x", "y", "z"]].to_numpy(float))
    positive = product[tested & (product > 0)]
    least = p.least if p.least is not None else float(np.median(positive)) if len(positive) else np.inf
    reach = p.reach or _usual(along[tested], up[tested])
    ends = _open(plane, rows, along, up, product, least, reach, inputs.maybe("ground", Grid))
    field, lines = _field(inputs, p, plane, reach, along[tested], up[tested], product[tested], units)
    progress(1.0, f"{len(ends)} open directions")
    crs = holes.crs
    return {
        "piercings": PointSet(
            name=f"{name}, piercings",
            crs=crs,
            table=rows.assign(**{"plane dip": plane.dip, "plane dip direction": plane.dip_direction}),
            units=units | {"plane dip": "°", "plane dip direction": "°"},
            quantities=lengths | {PRODUCT: "number", "plane dip": "angle", "plane dip direction": "angle"},
            content="piercings",
        ),
        "field": BlockModel(name=f"{name}, long section", crs=crs, mesh=field[0], properties=field[1], units=field[2]),
        "contours": Features(
            name=f"{name}, contours",
            crs=crs,
            table=pd.DataFrame({PRODUCT: [level for level, _ in lines]}),
            units={PRODUCT: units[PRODUCT]},
            roles={PRODUCT: "level"},
            **one_each([v[:, :2] for _, v in lines], LINE, [v[:, 2] for _, v in lines]),
        ),
        "open": PointSet(
            name=f"{name}, open directions",
            crs=crs,
            table=ends,
            units={PRODUCT: units[PRODUCT], "nearest": "m", "plunge": "°", "trend": "°"},
            quantities={"nearest": "length", PRODUCT: "number", "plunge": "angle", "trend": "angle"},
            content="directions",
        ),
    }


def _ends(holes: HoleSet, index: pd.Index) -> np.ndarray:
    deep = holes.stations.groupby("hole", observed=True)["depth_m"].max()
    return np.asarray(deep.reindex(index).fillna(0.0).to_numpy(float))


def _sampled(holes: HoleSet, within: float) -> Callable[[str, float], bool]:
    """Whether a hole was analysed near a depth (m): what was, and has no intercept, is barren; else it is not known.

    A set without samples of its own, only with intercepts, is taken as analysed throughout.
    """
    graded = [
        t[["hole", "from_m", "to_m"]]
        for name, t in holes.tables.items()
        if name != INTERCEPTS and any(holes.attributes.get(str(c), Attribute()).quantity == "grade" for c in t.columns)
    ]
    if not graded:
        throughout = INTERCEPTS in holes.tables
        return lambda *_: throughout
    rows = pd.concat([t.assign(hole=t["hole"].astype(str)) for t in graded])
    groups = {str(hole): part for hole, part in rows.groupby("hole")}

    def near(hole: str, depth: float) -> bool:
        mine = groups.get(hole)
        return mine is not None and bool(((mine["from_m"] <= depth + within) & (mine["to_m"] >= depth - within)).any())

    return near


def _given(inputs: Inputs, p: LongSectionParams) -> tuple[float | None, float | None]:
    if (p.dip is None) != (p.dip_direction is None):
        raise InputError(
            "the orientation of the body is given by half", fix="Give both dip and dip direction, or neither"
        )
    body = inputs.maybe("planes", PointSet)
    if p.dip is not None or body is None:
        return p.dip, p.dip_direction
    dip, to = planes_of(body)
    good = np.isfinite(dip) & np.isfinite(to)
    if not good.any():
        raise InputError("no reading has a dip and a direction", where=body.name)
    d, a = dip_and_direction(mean_axis(plane_normal(dip[good], to[good]))[None, :])
    return float(d[0]), float(a[0])


def _sums(
    p: LongSectionParams,
    index: pd.Index,
    table: pd.DataFrame,
    plane: ls.BodyPlane,
    found: ls.Pierced,
    grade: np.ndarray,
    middle: np.ndarray,
    thick: np.ndarray,
    sampled_at: Callable[[str, float], bool],
    unit: str,
) -> pd.DataFrame:
    """One row a hole: what it has of the body within reach of the plane, summed."""
    _, _, off = plane.inside(middle)
    near = np.isfinite(off) & (np.abs(off) <= p.within) & np.isfinite(grade)
    own = index.get_indexer(pd.Index(table["hole"]))
    rows: list[dict[str, Any]] = []
    at = {int(h): k for k, h in enumerate(found.hole)}
    for hole in sorted({*at, *own[near].tolist()}):
        mine = near & (own == hole)
        k = at.get(hole)
        t = float(thick[mine].sum())
        content = float((grade[mine] * thick[mine]).sum())
        short = k is not None and found.missing[k] > 0
        state = "stops short" if short and not mine.any() else "pierced"
        if state == "pierced" and not mine.any() and k is not None and not sampled_at(str(index[hole]), found.depth[k]):
            state = "not sampled"
        sampled = state == "pierced"
        place = found.xyz[k] if k is not None else middle[mine].mean(axis=0)
        mean = content / t if t > 0 else 0.0 if sampled else np.nan
        rows.append(
            {
                "hole": str(index[hole]),
                "is": state,
                "depth_m": float(found.depth[k])
                if k is not None
                else float(table["from_m"].to_numpy(float)[mine].min()),
                p.attribute: mean if sampled else np.nan,
                THICKNESS: t if sampled else np.nan,
                PRODUCT: content if sampled else np.nan,
                "missing": float(found.missing[k]) if k is not None and state == "stops short" else 0.0,
                "label": _label(
                    str(index[hole]), state, t, mean, unit, float(found.missing[k]) if k is not None else 0.0
                ),
                **dict(zip("xyz", place.tolist(), strict=True)),
            }
        )
    if not rows:
        raise InputError("no hole comes near the plane of the body", fix="Check its dip and direction")
    return pd.DataFrame(rows)


def _usual(along: np.ndarray, up: np.ndarray) -> float:
    """1.3 times the median distance to the next piercing, metres."""
    from scipy.spatial import cKDTree

    if len(along) < 2:
        return _CARRIED
    away, _ = cKDTree(np.column_stack([along, up])).query(np.column_stack([along, up]), k=2)
    return float(max(1.3 * np.median(away[:, 1]), 5.0))


def _label(hole: str, state: str, thickness: float, grade: float, unit: str, missing: float) -> str:
    if state == "stops short":
        return f"{hole}: {missing:.0f} m short"
    if state == "not sampled":
        return f"{hole}: not sampled"
    return f"{hole}: {thickness:.1f} m @ {grade:.3g} {unit}".rstrip() if thickness > 0 else f"{hole}: nil"


def _open(
    plane: ls.BodyPlane,
    rows: pd.DataFrame,
    along: np.ndarray,
    up: np.ndarray,
    product: np.ndarray,
    least: float,
    reach: float,
    ground: Grid | None,
) -> pd.DataFrame:
    """Places one reach out in the open directions, the best first; what would lie above the ground is left out."""
    out = []
    for each in ls.open_ends(along, up, product, least, reach):
        words, plunge, trend = ls.directions_in_words(plane, each.angle)
        a = np.radians(each.angle)
        place = plane.outside(
            np.array([along[each.row] + reach * np.cos(a)]), np.array([up[each.row] + reach * np.sin(a)])
        )[0]
        if ground is not None:
            top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, place[:1], place[1:2])[0]
            if np.isfinite(top) and place[2] > top:
                continue
        out.append(
            {
                "from hole": str(rows["hole"].iloc[each.row]),
                "direction": words,
                PRODUCT: float(product[each.row]),
                "nearest": each.nearest,
                "plunge": plunge,
                "trend": trend,
                **dict(zip("xyz", place.tolist(), strict=True)),
            }
        )
    columns = ["from hole", "direction", PRODUCT, "nearest", "plunge", "trend", "x", "y", "z"]
    return (
        pd.DataFrame(out, columns=columns).sort_values(PRODUCT, ascending=False, kind="stable").reset_index(drop=True)
    )


def _field(
    inputs: Inputs,
    p: LongSectionParams,
    plane: ls.BodyPlane,
    reach: float,
    along: np.ndarray,
    up: np.ndarray,
    product: np.ndarray,
    units: dict[str, str],
) -> tuple[tuple[TensorMesh, dict[str, np.ndarray], dict[str, str]], list[tuple[float, np.ndarray]]]:
    """A sheet of cells through the middle of the body that stands upright along its strike, and contours on its plane."""
    from scipy.spatial import cKDTree

    from ...compute.gridding.contouring import contours, even_levels, propose_interval

    rise = np.sin(np.radians(plane.dip))  # metres of height for one up the dip
    cell = p.cell or reach / 12.0
    left, right = along.min() - reach, along.max() + reach
    low, high = (up.min() - reach) * rise, (up.max() + reach) * rise
    nv, nw = (int(np.ceil((b - a) / cell)) for a, b in ((left, right), (low, high)))
    if float(nv) * nw > _MOST_CELLS:
        raise InputError(f"{nv} × {nw} cells are too many", fix="Take larger cells")
    if min(nv, nw) < 2:
        raise InputError(f"the plane is {nv} × {nw} cells of {cell:g} m", fix="Take smaller cells")
    s, h = left + (np.arange(nv) + 0.5) * cell, low + (np.arange(nw) + 0.5) * cell
    gs, gh = np.meshgrid(s, h, indexing="ij")
    away, _ = cKDTree(np.column_stack([along, up])).query(np.column_stack([gs.ravel(), gh.ravel() / rise]))
    values = inverse_distance(along, up, product, gs.ravel(), gh.ravel() / rise)
    values = np.where(away <= reach, values, np.nan).reshape(nv, nw)
    away = away.reshape(nv, nw)
    a = np.radians(plane.strike)
    first = np.array([np.cos(a), -np.sin(a)])  # the mesh's first axis lies to the right of its second
    second = np.array([np.sin(a), np.cos(a)])
    corner = plane.middle[:2] + left * second - 0.5 * cell * first
    mesh = TensorMesh(
        float(corner[0]),
        float(corner[1]),
        np.array([cell]),
        np.full(nv, cell),
        plane.strike,
        float(plane.middle[2] + low),
        np.full(nw, cell),
    )
    ground = inputs.maybe("ground", Grid)
    if ground is not None:
        x, y = (v.ravel() for v in mesh.plan_centres)
        top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, x, y)
        above = mesh.z_centres[None, :] > top[:, None]
        values, away = np.where(above, np.nan, values), np.where(above, np.nan, away)
    lines: list[tuple[float, np.ndarray]] = []
    if np.isfinite(values).any() and np.nanmax(values) > np.nanmin(values):
        levels = even_levels(values, propose_interval(values, 6))
        for each in contours(values.T, s, h, levels[levels > 0], 2.0 * cell):
            lines.append((each.level, plane.outside(each.xy[:, 0], each.xy[:, 1] / rise)))
    if not lines:  # one value everywhere: the outline of what is known stands for contours
        for each in contours(away.T, s, h, np.array([0.999 * reach])):
            lines.append((float(product.mean()), plane.outside(each.xy[:, 0], each.xy[:, 1] / rise)))
    properties = {PRODUCT: values[None, :, :], AWAY: away[None, :, :]}
    return (mesh, properties, {PRODUCT: units[PRODUCT], AWAY: "m"}), lines


OPERATION = Operation(
    name="long-section",
    example=Example(
        {"holes": "Sn intercepts", "drilled": "Emberlow holes", "ground": "Ground"},
        {"attribute": "Sn_pct", "dip": 80.0, "dip_direction": 152.0},
    ),
    title="Long section of a body",
    area="Drilling",
    help="Lays a plane through a vein or other tabular body, sums what each hole has of it to grade x true thickness, and contours that over the plane by inverse distance. Holes that stop short are told, and directions in which no hole has tested the ground beyond a good piercing are listed, the best first. Of intercepts those near the plane count, and holes that pierce it without one count as 0; of other holes all samples within it.",
    params=LongSectionParams,
    run=_run,
    inputs=(
        Input("holes", "Intercepts or drillholes", ("holes",)),
        Input(
            "planes",
            "Orientation",
            ("points",),
            optional=True,
            proposed=False,
            need=lambda e: orientation(e.attributes) is not None,
            help="Readings whose mean is the body's plane, such as the mean of a set",
        ),
        Input(
            "drilled",
            "All holes",
            ("holes",),
            optional=True,
            help="Of a set of intercepts the holes it was made from: those that pierce the body without one count as 0",
        ),
        ground_slot("Nothing is expected above it"),
    ),
    outputs=(
        Output("piercings", "points", "Piercings"),
        Output("field", "blocks", "Grade x thickness"),
        Output("contours", "features", "Contours"),
        Output("open", "points", "Open directions"),
    ),
)
