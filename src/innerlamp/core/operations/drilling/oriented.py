"""Structures measured in oriented core: to dip and direction, to sets, and to the depths at which other holes meet them."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...compute.drilling import desurvey, oriented
from ...compute.drilling.piercing import piercings, spreads_of
from ...compute.geometry.axis_sets import sets_of
from ...compute.geometry.orientations import dip_and_direction, plane_normal, plunge_and_trend
from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Whole, param
from ...errors import InputError
from ...findings import Findings
from ...importing.hole_paths import path_from
from ...items.attributes import orientation
from ...items.base import Item
from ...items.holes import HoleSet, hole_codes
from ...items.points import PointSet
from ...progress import Progress
from .of_holes import planes_of

FloatArray = NDArray[np.float64]
Convention = Literal[
    "alpha to the core's axis", "dip from the core's cross-section", "image log: dip and azimuth from the high side"
]
Line = Literal["by column", "bottom", "top"]

_NAMES = {
    "alpha": ("alpha", "alfa", "alpha angle", "alpha_deg", "tca", "core angle"),
    "beta": ("beta", "beta angle", "beta_deg"),
    "gamma": ("gamma", "gamma angle"),
    "line": ("reference line", "reference", "ref line", "orientation line", "line"),
    "quality": ("orientation quality", "ori quality", "mismatch", "orientation confidence", "quality"),
    "type": ("type", "structure", "feature", "structure type", "tipo", "kind"),
}


class OrientedParams(Params):
    table: str = param("", "Table of readings", help="That with alpha when empty")
    alpha: str = param("", "Alpha", unit="°", help="Column; by its heading when empty")
    beta: str = param("", "Beta", unit="°", help="Column, clockwise looking down the hole; by its heading when empty")
    gamma: str = param("", "Gamma", unit="°", help="Column of lineations; by its heading when empty", more=True)
    convention: Convention = param("alpha to the core's axis", "Angles are")
    line: Line = param(
        "by column", "Reference line along the", help="By column: its words bottom and top; bottom where it has none"
    )
    worst: Maybe = param(
        None, "Worst orientation", help="Readings whose orientation quality is a higher number are left out", more=True
    )
    name: str = param("", "Name", help="Oriented core when empty")


def _run(inputs: Inputs, p: OrientedParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    name, table, columns = _readings(holes, p)
    progress(0.2, "Turning angles")
    found = Findings()
    alpha, beta = _numbers(table, columns["alpha"]), _numbers(table, columns["beta"])
    gamma = _numbers(table, columns["gamma"])
    top = _top_lines(table, columns["line"], p)
    if p.convention != "alpha to the core's axis":
        alpha = 90.0 - alpha  # the angle was measured from the cross-section of the core
    if p.convention.startswith("image log"):
        top = np.ones(len(table), dtype=bool)
    path, index = path_from(holes)
    hole = hole_codes(table["hole"], index).astype(np.int64)
    depth = table["depth_m"].to_numpy(float)
    along = desurvey.direction_at(path, hole, depth)
    keep = _checked(table, alpha, beta, along, columns, p, found, name)
    beta = beta % 360.0
    normal = oriented.plane_normals(alpha, beta, along, top)
    dip, to = dip_and_direction(normal)
    xyz = desurvey.locate(path, hole, depth)
    out = pd.DataFrame({"hole": table["hole"].astype(str), "depth_m": depth})
    if columns["type"]:
        out["type"] = table[columns["type"]].fillna("").astype(str)
    out = out.assign(dip=dip, **{"dip direction": to}, alpha=alpha, beta=beta)
    if np.isfinite(gamma).any():
        line = oriented.line_directions(alpha, beta, gamma, along, top)
        plunge, trend = plunge_and_trend(line)
        out = out.assign(gamma=gamma, plunge=plunge, trend=trend)
    if columns["quality"]:
        out["orientation quality"] = table[columns["quality"]]
    out = out.assign(x=xyz[:, 0], y=xyz[:, 1], z=xyz[:, 2])
    if "line" in table.columns and columns["line"] != "line":
        out["file_line"] = table["line"]
    out = out[keep].reset_index(drop=True)
    if not len(out):
        first = found.frame()["what"].iloc[0] if len(found.frame()) else "no reading is left"
        raise InputError(f"no plane can be worked out: {first}", where=holes.name, fix="See the readings of the table")
    degrees = [c for c in ("dip", "dip direction", "alpha", "beta", "gamma", "plunge", "trend") if c in out]
    return {
        "structures": PointSet(
            name=p.name or "Oriented core",
            crs=holes.crs,
            table=out,
            units=dict.fromkeys(degrees, "°") | {"depth_m": "m"},
            quantities={"dip": "dip", "dip direction": "direction"} | dict.fromkeys(("alpha", "beta"), "angle"),
            content="structures",
            findings=found.frame(),
        )
    }


def _readings(holes: HoleSet, p: OrientedParams) -> tuple[str, pd.DataFrame, dict[str, str]]:
    """The table of readings with alpha, and the column of each role ('' where there is none)."""
    for name, table in holes.readings.items():
        if p.table and name != p.table:
            continue
        roles = {}
        for role, names in _NAMES.items():
            given = str(getattr(p, role, "")) if role in ("alpha", "beta", "gamma") else ""
            if given and given not in table.columns:
                raise InputError(
                    f"there is no column '{given}'", where=name, fix=f"It has: {', '.join(table.columns[:20])}"
                )
            known = {
                str(c).lower().split("(")[0].strip().replace("_", " "): str(c) for c in table.columns if c != "line"
            }
            roles[role] = given or next((known[n.replace("_", " ")] for n in names if n.replace("_", " ") in known), "")
        if roles["alpha"]:
            return name, table, roles
    raise InputError(
        f"there are no readings '{p.table}' with alpha" if p.table else "no table of readings has alpha",
        where=holes.name,
        fix="Bring in a table with hole, depth, alpha and beta, or name the column",
    )


def _numbers(table: pd.DataFrame, column: str) -> FloatArray:
    if not column:
        return np.full(len(table), np.nan)
    return pd.to_numeric(table[column], errors="coerce").to_numpy(float)


def _top_lines(table: pd.DataFrame, column: str, p: OrientedParams) -> NDArray[np.bool_]:
    if p.line != "by column" or not column:
        return np.full(len(table), p.line == "top")
    words = table[column].fillna("").astype(str).str.strip().str.lower()
    return words.str.startswith(("top", "t", "high", "arriba", "techo", "haut", "oben")).to_numpy()


def _checked(
    table: pd.DataFrame,
    alpha: FloatArray,
    beta: FloatArray,
    along: FloatArray,
    columns: dict[str, str],
    p: OrientedParams,
    found: Findings,
    name: str,
) -> NDArray[np.bool_]:
    """Which readings give a plane; why the others give none is found."""
    line = table["line"].to_numpy() if "line" in table.columns else np.zeros(len(table), dtype=int)
    hole, keep = table["hole"].astype(str).to_numpy(), np.ones(len(table), dtype=bool)

    def leave(bad: NDArray[np.bool_], what: list[str]) -> None:
        mine = bad & keep
        if mine.any():
            said = [w for w, on in zip(what, mine[bad], strict=True) if on]
            found.add("left out", said, "no plane", table=name, line=line[mine], hole=hole[mine])
            keep[mine] = False

    bad = ~np.isfinite(alpha) | (alpha < 0) | (alpha > 90)
    shown = 90.0 - alpha if p.convention != "alpha to the core's axis" else alpha
    leave(bad, [f"angle {a:g} to the core is not from 0 to 90°" if np.isfinite(a) else "no alpha" for a in shown[bad]])
    bad = np.isfinite(beta) & ((beta < -180) | (beta > 360))
    leave(bad, [f"beta {b:g} is not an angle around the core" for b in beta[bad]])
    bad = ~np.isfinite(beta) & ~np.isclose(alpha, 90.0)
    leave(bad, ["alpha only: the plane may lie in any direction around the core"] * int(bad.sum()))
    bad = np.asarray(~np.isfinite(along).all(axis=1))
    leave(bad, ["the hole has no path"] * int(bad.sum()))
    steep = (
        np.degrees(np.arcsin(np.clip(np.abs(np.nan_to_num(along[:, 2], nan=0.0)), 0, 1)))
        > 90.0 - oriented.NEAR_VERTICAL
    )
    bad = np.asarray(steep & ~np.isclose(alpha, 90.0))
    leave(bad, ["the hole is vertical here: its core has no bottom line"] * int(bad.sum()))
    if p.worst is not None and columns["quality"]:
        bad = np.asarray(_numbers(table, columns["quality"]) > p.worst)
        leave(bad, [f"orientation quality {q}" for q in table[columns["quality"]][bad]])
    return keep


class SetParams(Params):
    count: Whole = param(0, "Number of sets", low=0, high=12, help="0 proposes it")
    kind: str = param("", "Only of type", help="Such as vein; all when empty")
    farthest: float = param(
        90.0, "Farthest from the mean", unit="°", above=0.0, high=90.0, help="Others belong to no set"
    )
    name: str = param("", "Name", help="The readings' name with 'sets' when empty")


def _sets(inputs: Inputs, p: SetParams, progress: Progress) -> dict[str, Item]:
    item = inputs.need("readings", PointSet)
    dip, to = planes_of(item)
    wanted = np.isfinite(dip) & (np.isfinite(to) | (dip == 0))
    if p.kind:
        column = _type_column(item)
        if not column:
            raise InputError("the readings have no type", where=item.name, fix="Leave 'only of type' empty")
        wanted &= (item.table[column].astype(str) == p.kind).to_numpy()
        if not wanted.any():
            kinds = ", ".join(sorted(item.table[column].dropna().astype(str).unique())[:12])
            raise InputError(f"no reading is of type '{p.kind}'", where=item.name, fix=f"There are: {kinds}")
    progress(0.2, "Grouping")
    rows = np.flatnonzero(wanted)
    labels, found = sets_of(plane_normal(dip[rows], np.nan_to_num(to[rows])), p.count, p.farthest)
    if not found:
        raise InputError("no set is left", where=item.name, fix="Allow readings to lie farther from their mean")
    word = p.kind or "set"
    names = np.array([f"{word} {k + 1}" for k in range(len(found))], dtype=object)
    column_of = np.full(len(item.table), "", dtype=object)
    column_of[rows] = np.where(labels >= 0, names[labels], "none")
    table = item.table.drop(columns=["set"], errors="ignore").copy()
    # The sets come before other classes: they are what the stereonet and the map tell apart.
    table.insert(0, "set", column_of)
    means = np.array([s.mean for s in found])
    mean_dip, mean_to = dip_and_direction(means)
    xyz = item.table[["x", "y", "z"]].to_numpy(float)
    middle = np.array([np.nanmean(xyz[rows[labels == k]], axis=0) for k in range(len(found))])
    summary = pd.DataFrame(
        {
            "set": names,
            "readings": [s.count for s in found],
            "dip": mean_dip,
            "dip direction": mean_to,
            "spread": [s.spread for s in found],
            "cone of confidence": [s.cone for s in found],
            **{c: middle[:, k] for k, c in enumerate("xyz")},
        }
    )
    name = p.name or f"{item.name} sets"
    angle = dict.fromkeys(("dip", "dip direction", "spread", "cone of confidence"), "°")
    told = {"dip": "dip", "dip direction": "direction"}
    return {
        "sets": PointSet(
            name=name,
            crs=item.crs,
            table=table,
            units=dict(item.units),
            quantities=dict(item.quantities) | told,
            roles=dict(item.roles),
            content="structures",
        ),
        "means": PointSet(
            name=f"{name}, means",
            crs=item.crs,
            table=summary,
            units=angle,
            quantities=told | {"readings": "count", "spread": "angle", "cone of confidence": "angle"},
            content="structures",
        ),
    }


def _type_column(item: PointSet) -> str:
    known = {str(c).lower(): str(c) for c in item.table.columns}
    return next((known[n] for n in _NAMES["type"] if n in known), "")


class PierceParams(Params):
    reach: float = param(
        150.0, "Reach", unit="m", above=0.0, high=5000.0, help="From a reading to where another hole meets its plane"
    )
    angle: float = param(10.0, "Planes scatter by", unit="°", above=0.0, high=45.0, help="The spread of their set")
    near: float = param(10.0, "Logged within", unit="m", above=0.0, help="Of the predicted depth counts as found")
    name: str = param("", "Name", help="Predicted piercings when empty")


def _pierce(inputs: Inputs, p: PierceParams, progress: Progress) -> dict[str, Item]:
    item, holes = inputs.need("readings", PointSet), inputs.need("holes", HoleSet)
    if "hole" not in item.table.columns or "depth_m" not in item.table.columns:
        raise InputError("the readings are not of holes", where=item.name, fix="Take readings of oriented core")
    dip, to = planes_of(item)
    good = (
        np.isfinite(dip)
        & (np.isfinite(to) | (dip == 0))
        & np.isfinite(item.table[["x", "y", "z"]].to_numpy(float)).all(axis=1)
    )
    rows = np.flatnonzero(good)
    xyz = item.table[["x", "y", "z"]].to_numpy(float)[rows]
    normal = plane_normal(dip[rows], np.nan_to_num(to[rows]))
    path, index = path_from(holes)
    own = hole_codes(item.table["hole"].astype(str), index).astype(np.int64)[rows]
    depth = item.table["depth_m"].to_numpy(float)[rows]
    kind = _set_or_type(item)
    kinds = item.table[kind].fillna("").astype(str).to_numpy()[rows] if kind else np.full(len(rows), "")
    end = holes.collars["depth_m"].to_numpy(float)
    out: list[dict[str, object]] = []
    for hole in range(len(index)):
        progress(hole / len(index), f"Planes through {index[hole]}")
        others = np.flatnonzero((own != hole) & (kinds != "none"))
        hit, at = piercings(path, end, hole, xyz[others], normal[others])
        place = desurvey.locate(path, np.full(len(hit), hole), at)
        distance = np.linalg.norm(place - xyz[others[hit]], axis=1)
        near = distance <= p.reach
        which = others[hit[near]]
        lows, highs = spreads_of(path, end, hole, xyz[which], normal[which], p.angle)
        for k, deep, where, away, low, high in zip(
            which, at[near], place[near], distance[near].tolist(), lows.tolist(), highs.tolist(), strict=True
        ):
            mine = np.flatnonzero((own == hole) & (kinds == kinds[k]))
            nearest = mine[np.abs(depth[mine] - deep).argmin()] if len(mine) else -1
            logged = float(depth[nearest]) if nearest >= 0 else np.nan
            miss = logged - float(deep)
            out.append(
                {
                    "kind": kinds[k],
                    "from hole": str(index[own[k]]) if own[k] >= 0 else "",
                    "from depth_m": float(depth[k]),
                    "hole": str(index[hole]),
                    "depth_m": float(deep),
                    "least depth": low if np.isfinite(low) else 0.0,
                    "most depth": high if np.isfinite(high) else float(end[hole]),
                    "distance": away,
                    "logged depth": logged,
                    "misfit": miss,
                    "is": "found" if abs(miss) <= p.near else "not found",
                    "dip": float(dip[rows[k]]),
                    "dip direction": float(np.nan_to_num(to[rows[k]])),
                    **dict(zip("xyz", where.tolist(), strict=True)),
                }
            )
    if not out:
        raise InputError(f"no other hole meets a plane within {p.reach:g} m", where=item.name, fix="Lengthen the reach")
    lengths = ("from depth_m", "depth_m", "least depth", "most depth", "distance", "logged depth", "misfit")
    return {
        "piercings": PointSet(
            name=p.name or "Predicted piercings",
            crs=item.crs,
            table=pd.DataFrame(out),
            units=dict.fromkeys(lengths, "m") | {"dip": "°", "dip direction": "°"},
            quantities=dict.fromkeys(lengths, "length") | {"dip": "dip", "dip direction": "direction"},
            content="structures",
        )
    }


def _set_or_type(item: PointSet) -> str:
    return "set" if "set" in item.table.columns else _type_column(item)


ORIENT = Operation(
    name="orient-core",
    example=Example({"holes": "Emberlow holes"}, {}),
    title="Orient core readings",
    area="Drilling",
    help="Turns alpha and beta (gamma for lineations) of oriented core, or dip and azimuth of image logs, to dip and dip direction by the hole's direction at each depth. Readings that give no plane are listed with the reason.",
    params=OrientedParams,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("structures", "points", "Structural readings"),),
)

SETS = Operation(
    name="structural-sets",
    example=Example({"readings": "Structural readings"}, {}),
    title="Sets of planes",
    area="Drilling",
    help="Groups planes to sets by clustering their poles on the sphere; the number of sets is proposed and can be given. Each set's mean plane, spread and cone of confidence are a second item.",
    params=SetParams,
    run=_sets,
    inputs=(
        Input("readings", "Structural readings", ("points",), need=lambda e: orientation(e.attributes) is not None),
    ),
    outputs=(Output("sets", "points", "Readings by set"), Output("means", "points", "Mean planes")),
)

PIERCE = Operation(
    name="predict-piercings",
    example=Example({"readings": "@orient-core.structures", "holes": "Emberlow holes"}, {}, after=("orient-core",)),
    title="Planes to other holes",
    area="Drilling",
    help="Carries each plane that was measured in a hole to the other holes: the depth at which they should meet it, its range by the scatter of the set, and what was logged there.",
    params=PierceParams,
    run=_pierce,
    inputs=(
        Input("readings", "Oriented core", ("points",), need=lambda e: orientation(e.attributes) is not None),
        Input("holes", "Drillholes", ("holes",)),
    ),
    outputs=(Output("piercings", "points", "Predicted piercings"),),
)
