"""Structural readings gridded as vectors: the way of layers at even places, to be looked at before a model goes by it."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ....compute.geometry.orientations import dip_and_direction
from ....compute.geometry.structural_field import normals_near
from ....declaring.operation import (
    Example,
    Inputs,
    Operation,
    Output,
    Params,
    Places,
    ground_slot,
    param,
    structures_slot,
)
from ....errors import InputError
from ....items.base import Item
from ....items.fields import Grid
from ....items.points import PointSet
from ....progress import Progress
from .contact_evidence import readings
from .model_extent import height_at

_MOST = 20_000


class GridReadings(Params):
    spacing: float = param(200.0, "Spacing", unit="m", above=0.0, help="Of the places that get a plane")
    reach: float = param(400.0, "Reach", unit="m", above=0.0, help="Distance at which a reading counts 1/e")
    planes: str = param(
        "", "Readings of", help="Such as bedding; bedding alone when empty, where readings say what they are of"
    )
    agree: float = param(
        30.0,
        "Agree by",
        unit="%",
        low=0.0,
        high=100.0,
        help="Places where readings go more ways than this are left empty",
    )
    outline: Places = param((), "Boundary", editor="area", help="Round the readings when empty")
    name: str = param("", "Name")


def _run(inputs: Inputs, p: GridReadings, progress: Progress) -> dict[str, Item]:
    source = inputs.need("structures", PointSet)
    ground: Grid | float = inputs.maybe("ground", Grid) or 0.0
    read = readings(inputs, ground, p.planes)
    if len(read.at) < 3:
        raise InputError(f"{len(read.at)} readings are too few", where=source.name, fix="Three are needed")
    around = np.array(p.outline) if p.outline else read.at[:, :2]
    low, high = np.floor(around.min(axis=0) / p.spacing), np.ceil(around.max(axis=0) / p.spacing)
    if np.prod(high - low + 1) > _MOST:
        raise InputError(f"there would be {np.prod(high - low + 1):,.0f} places", fix="Take a wider spacing")
    x, y = (v.ravel() for v in np.meshgrid(*(np.arange(low[k], high[k] + 1) * p.spacing for k in (0, 1))))
    at = np.column_stack([x, y, height_at(ground, x, y)])
    flat = np.column_stack([read.at[:, :2], np.full(len(read.at), np.nan)])
    normal, share = normals_near(at, flat, read.normals, p.reach)
    keep = (share >= p.agree / 100.0) & np.isfinite(at).all(axis=1)
    if not keep.any():
        raise InputError(
            "no place has readings that agree", where=source.name, fix="Raise the reach, or lower 'agree by'"
        )
    up = np.where(normal[:, 2:] < 0, -normal, normal)[keep]
    dip, direction = dip_and_direction(up)
    table = pd.DataFrame(
        {
            "x": at[keep, 0],
            "y": at[keep, 1],
            "z": at[keep, 2],
            "dip": dip,
            "dip direction": direction,
            "agreement": 100.0 * share[keep],
        }
    )
    progress(1.0, f"{int(keep.sum()):,} places from {len(read.at):,} readings")
    return {
        "planes": PointSet(
            name=p.name or f"{source.name}, gridded",
            crs=source.crs,
            table=table,
            units={"dip": "°", "dip direction": "°", "agreement": "%"},
            quantities={"dip": "dip", "dip direction": "direction"},
            content="structures",
        )
    }


OPERATION = Operation(
    name="grid-readings",
    example=Example({"structures": "Structural readings", "ground": "Ground"}, {"spacing": 500.0, "reach": 600.0}),
    title="Grid structural readings",
    area="Geology",
    help="Means of structural readings at even places, as directions and not as numbers, so that 359 and 1 degrees are near each other; left empty where readings go all ways. Look at the signs on the map before a model takes them.",
    params=GridReadings,
    run=_run,
    inputs=(
        dataclasses.replace(structures_slot("Readings with dip and dip direction"), optional=False, proposed=True),
        ground_slot(),
    ),
    outputs=(Output("planes", "points", "Planes at even places"),),
)
