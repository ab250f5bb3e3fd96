"""Holes as other things: lines in space, points at depths, and places at depths that are asked for."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd

from ...compute.drilling import desurvey
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...importing.hole_paths import path_from
from ...items.base import Item
from ...items.features import LINE, Features, one_each
from ...items.holes import HoleSet
from ...items.points import PointSet
from ...progress import Progress

MOST_POINTS = 5_000_000


class LineParams(Params):
    step: float = param(10.0, "Vertex each", unit="m", above=0.0, help="Along the hole, besides its ends")
    name: str = param("", "Name", help="The holes' name with 'traces' when empty")


def _lines(inputs: Inputs, p: LineParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    hole, depth, end = _depths(holes, p.step)
    path, index = path_from(holes)
    xyz = desurvey.locate(path, hole, depth)
    starts = np.flatnonzero(np.concatenate([[True], hole[1:] != hole[:-1]]))
    parts = np.split(xyz, starts[1:])
    facts = holes.collars.drop(columns=[c for c in ("x", "y", "z", "line") if c in holes.collars]).reset_index(
        drop=True
    )
    facts = facts.assign(hole=index.to_numpy(), depth_m=end)
    return {
        "lines": Features(
            name=p.name or f"{holes.name} traces",
            crs=holes.crs,
            table=facts,
            units={"depth_m": "m"},
            **one_each([part[:, :2] for part in parts], LINE, [part[:, 2] for part in parts]),
        )
    }


class PointParams(Params):
    step: float = param(
        10.0, "Point each", unit="m", above=0.0, help="Along the hole; not used where depths are asked for"
    )
    depths: Several = param(
        (),
        "Or at depths",
        editor="lines",
        help="Hole and depth, parted by semicolons: EMB001 120; EMB002 33.5",
        more=True,
    )
    name: str = param("", "Name", help="The holes' name with 'points' when empty")


def _points(inputs: Inputs, p: PointParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    path, index = path_from(holes)
    hole, depth = _asked(holes, p, index) if p.depths else _depths(holes, p.step)[:2]
    xyz, along = desurvey.locate(path, hole, depth), desurvey.direction_at(path, hole, depth)
    table = pd.DataFrame(
        {
            "hole": index.to_numpy()[hole],
            "depth_m": depth,
            "azimuth": np.degrees(np.arctan2(along[:, 0], along[:, 1])) % 360.0,
            "inclination": np.degrees(np.arcsin(np.clip(along[:, 2], -1.0, 1.0))),
            "x": xyz[:, 0],
            "y": xyz[:, 1],
            "z": xyz[:, 2],
        }
    )
    return {
        "points": PointSet(
            name=p.name or f"{holes.name} points",
            crs=holes.crs,
            table=table,
            units={"depth_m": "m", "azimuth": "°", "inclination": "°"},
            quantities={"depth_m": "length", "azimuth": "angle", "inclination": "angle"},
            content="places",
        )
    }


def _depths(holes: HoleSet, step: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Hole and depth of points each so many metres, with both ends; and the ends."""
    end = np.nan_to_num(holes.collars["depth_m"].to_numpy(float))
    count = np.ceil(end / step - 1e-9).astype(np.int64) + 1
    if count.sum() > MOST_POINTS:
        raise InputError(f"that would make {count.sum():,} points", where=holes.name, fix="Take a longer step")
    hole = np.repeat(np.arange(len(end)), count)
    k = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    return hole, np.minimum(k * step, end[hole]), end


def _asked(holes: HoleSet, p: PointParams, index: pd.Index) -> tuple[np.ndarray, np.ndarray]:
    code, depth = [], []
    names = [str(n) for n in index]
    ends = dict(zip(index, holes.collars["depth_m"].to_numpy(float), strict=True))
    for text in p.depths:
        found = re.fullmatch(r"\s*(.+?)[\s,:]+(\d+(?:[.,]\d+)?)\s*m?\s*", text)
        if found is None:
            raise InputError(f"'{text}' is not a hole and a depth", fix="Write EMB001 120; EMB002 33.5")
        name, at = found.group(1), float(found.group(2).replace(",", "."))
        if name not in ends:
            raise InputError(f"there is no hole '{name}'", where=holes.name)
        if at > ends[name] + 1e-6:
            raise InputError(f"{name} ends at {ends[name]:g} m, above {at:g} m", where=holes.name)
        code.append(names.index(name))
        depth.append(at)
    return np.array(code, dtype=np.int64), np.array(depth)


LINES = Operation(
    name="holes-as-lines",
    example=Example({"holes": "Emberlow holes"}, {}),
    title="Holes as lines",
    area="Drilling",
    help="Writes each hole as a line in space with the facts of its collar, to be drawn, exported or worked with as map features.",
    params=LineParams,
    run=_lines,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("lines", "features", "Traces of the holes"),),
)

POINTS = Operation(
    name="holes-as-points",
    example=Example({"holes": "Emberlow holes"}, {"depths": ("EMB001 120", "EMB002 33.5")}),
    title="Holes as points",
    area="Drilling",
    help="Gives easting, northing and elevation, azimuth and inclination along holes: each so many metres, or at depths that are asked for.",
    params=PointParams,
    run=_points,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("points", "points", "Points along the holes"),),
)
