"""Grade against distance from a contact between two rocks."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling.cells import rock_runs
from ...compute.drilling.contacts import distances_to_contacts, profile
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...findings import Findings
from ...items.base import Item, numeric_columns
from ...items.holes import INTERVAL_ROLES, HoleSet, hole_codes, table_with
from ...items.points import PointSet
from ...progress import Progress


class ContactParams(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="holes")
    code: str = param(..., "Rock column", editor="code", of="holes")
    first: Several = param(
        ..., "First rocks", editor="lines", help="Codes, parted by semicolons; distances in them are negative"
    )
    second: Several = param(
        ..., "Second rocks", editor="lines", help="Codes, parted by semicolons; distances in them are positive"
    )
    reach: float = param(50.0, "Reach", unit="m", above=0.0, help="Along the hole, to both sides")
    width: float = param(5.0, "Classes of", unit="m", above=0.0, help="Of distance, for the mean of each")
    name: str = param("", "Name", help="Grade and rocks when empty")


def _run(inputs: Inputs, p: ContactParams, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    grades, log = table_with(holes, p.attribute), table_with(holes, p.code)
    if grades is None or p.attribute not in numeric_columns(grades[1], INTERVAL_ROLES):
        raise InputError(f"'{p.attribute}' is not a grade of these holes", where=holes.name)
    if log is None:
        raise InputError(f"'{p.code}' is not logged in these holes", where=holes.name)
    index = pd.Index(holes.collars["hole"].astype(str))
    table, rocks = grades[1], log[1]
    codes = rocks[p.code].fillna("").astype(str).to_numpy(dtype=object)
    known = sorted(set(codes) - {""})
    for code in (*p.first, *p.second):
        if code not in known:
            raise InputError(
                f"no interval is logged as '{code}'", where=holes.name, fix=f"There are: {', '.join(known[:20])}"
            )
    h, a, b, rock = rock_runs(
        hole_codes(rocks["hole"], index).astype(np.int64),
        rocks["from_m"].to_numpy(float),
        rocks["to_m"].to_numpy(float),
        codes,
    )
    one, two = np.isin(rock, p.first), np.isin(rock, p.second)
    touch = (h[1:] == h[:-1]) & (np.abs(a[1:] - b[:-1]) < 0.5)
    down, up = one[:-1] & two[1:] & touch, two[:-1] & one[1:] & touch
    at = np.flatnonzero(down | up)
    if not len(at):
        raise InputError("these rocks touch in no hole", where=holes.name, fix="Choose rocks that follow each other")
    progress(0.4, "Distances")
    hole = hole_codes(table["hole"], index).astype(np.int64)
    start, stop = table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)
    middle = 0.5 * (start + stop)
    distance = distances_to_contacts(hole, middle, h[at], b[at], down[at])
    side = _rock_at(hole, middle, h, a, b, one, two)
    # Beyond the next contact another rock begins: what lies in neither of the two does not belong here.
    use = (np.abs(distance) <= p.reach) & (side != 0) & (np.sign(distance) == side)
    if not use.any():
        raise InputError("no sample lies within the reach of a contact", where=holes.name, fix="Lengthen the reach")
    grade = table[p.attribute].to_numpy(float)
    middles, mean, error, count = profile(distance[use], grade[use], (stop - start)[use], p.width)
    means = dict(
        zip(np.floor(middles / p.width).astype(int).tolist(), zip(mean, error, count, strict=True), strict=True)
    )
    out = table.loc[use, ["hole", "from_m", "to_m", p.attribute, "x", "y", "z"]].reset_index(drop=True)
    out["hole"] = out["hole"].astype(str)
    out.insert(3, "distance", distance[use])
    classes = [means.get(int(k), (np.nan, np.nan, 0)) for k in np.floor(distance[use] / p.width)]
    out.insert(4, "mean of class", [c[0] for c in classes])
    found = Findings()
    unit = holes.units.get(p.attribute, "")
    for m, g, e, n in zip(middles, mean, error, count, strict=True):
        words = f"{m - p.width / 2:+g} to {m + p.width / 2:+g} m: {g:.4g} {unit} ± {e:.2g}, {n} samples"
        found.add("note", words, "mean of a class of distance", table="contact profile")
    return {
        "profile": PointSet(
            name=p.name or f"{p.attribute} at {' '.join(p.first)} against {' '.join(p.second)}",
            crs=holes.crs,
            table=out,
            units={"from_m": "m", "to_m": "m", "distance": "m", p.attribute: unit, "mean of class": unit},
            quantities={
                "distance": "length",
                p.attribute: holes.attributes[p.attribute].quantity,
                "mean of class": "number",
            },
            roles={"from_m": "from", "to_m": "to"},
            content="samples",
            findings=found.frame(),
        )
    }


def _rock_at(
    hole: np.ndarray, middle: np.ndarray, h: np.ndarray, a: np.ndarray, b: np.ndarray, one: np.ndarray, two: np.ndarray
) -> np.ndarray:
    """-1 in a first rock, 1 in a second, 0 in others, at each place."""
    scale = float(max(b.max(), np.nanmax(middle))) + 1.0
    k = np.searchsorted(h * scale + a, hole * scale + middle, "right") - 1
    near = np.clip(k, 0, len(h) - 1)
    inside = (k >= 0) & (h[near] == hole) & (middle < b[near])
    return np.where(inside & one[near], -1, np.where(inside & two[near], 1, 0))


OPERATION = Operation(
    name="contact-profile",
    example=Example(
        {"holes": "Emberlow holes"},
        {"attribute": "Sn_ppm", "code": "Rock", "first": ("SLATE", "CARB"), "second": ("GREIS",)},
    ),
    title="Grade from a contact",
    area="Drilling",
    help="Gives each sample its distance along the hole from the contact of two rocks, and the mean grade by class of distance: whether grades change at the contact at once or little by little. Plot distance against grade in a chart.",
    params=ContactParams,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("profile", "points", "Samples by distance"),),
)
