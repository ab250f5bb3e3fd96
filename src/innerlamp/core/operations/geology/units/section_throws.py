"""Throw and heave of faults where a section crosses them."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....declaring.operation import Example, Input, Inputs, Operation, Output, Params, Places, param
from ....errors import InputError
from ....items.base import Item
from ....items.points import PointSet
from ....progress import Progress

_SLIP = ("slip_east", "slip_north", "throw")


class ThrowsOnSection(Params):
    line: Places = param(..., "Section", help="Its ends: easting northing; easting northing")
    corridor: float = param(
        60.0, "Corridor", unit="m", above=0.0, help="Places of the fault within it count, both sides together"
    )
    name: str = param("", "Name")


def _run(inputs: Inputs, p: ThrowsOnSection, progress: Progress) -> dict[str, Item]:
    source = inputs.need("throws", PointSet)
    missing = [c for c in ("fault", *_SLIP) if c not in source.table]
    if missing:
        raise InputError(
            "the points are no throws on faults", where=source.name, fix="Choose those that 'build-units' made"
        )
    if len(p.line) != 2:
        raise InputError("a section has two ends", fix="Give easting northing; easting northing")
    first, last = np.array(p.line[0]), np.array(p.line[1])
    length = float(np.linalg.norm(last - first))
    if not length > 0:
        raise InputError("the ends of the section are one place")
    way = (last - first) / length
    table = source.table
    away = table[["x", "y"]].to_numpy(float) - first
    along, off = away @ way, away @ np.array([way[1], -way[0]])
    near = (np.abs(off) <= 0.5 * p.corridor) & (along >= 0) & (along <= length)
    if not near.any():
        raise InputError("the section crosses no fault", where=source.name, fix="Move it, or widen its corridor")
    rows, words = [], []
    for name, part in table[near].groupby("fault", sort=False):
        slip = part[list(_SLIP)].to_numpy(float)
        heave = slip[:, :2] @ way
        mean = [float(v) for v in (slip[:, 2].mean(), heave.mean())]
        words.append(f"{name}: throw {mean[0]:.1f} m, heave in the section {abs(mean[1]):.1f} m")
        rows.append(part.assign(**{"heave in the section": np.abs(heave), "distance": along[part.index]}))
    made = pd.concat(rows, ignore_index=True)
    progress(1.0, "; ".join(words))
    return {
        "throws": PointSet(
            name=p.name or f"{source.name}, on a section",
            crs=source.crs,
            table=made,
            units={**source.units, "heave in the section": "m", "distance": "m"},
            content="readings",
        )
    }


OPERATION = Operation(
    name="throws-on-section",
    example=Example({"throws": "Throws of Emberlow geology"}, {"line": "503450 5602700; 504400 5602100"}),
    title="Throws on a section",
    area="Geology",
    help="Throw and heave of faults along a section: the vertical part of their movement, and the level part as the section shows it, at the places of the faults near it. For charts of throw over elevation, too.",
    params=ThrowsOnSection,
    run=_run,
    inputs=(Input("throws", "Throws on faults", ("points",), need=lambda e: {"throw", "heave"} <= set(e.attributes)),),
    outputs=(Output("throws", "points", "Throws near the section"),),
)
