"""Grade against distance from a contact between two rocks."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling.contacts import distances_to_contacts, profile
from ...compute.drilling.logged import logged_at
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...findings import Findings
from ...items.base import Item
from ...items.holes import HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress
from .of_holes import grades_of, runs_of, spans


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
    table, log = grades_of(holes, p.attribute), table_with(holes, p.code)
    if log is None:
        raise InputError(f"'{p.code}' is not logged in these holes", where=holes.name)
    index = pd.Index(holes.collars["hole"].astype(str))
    h, a, b, rock = runs_of(log[1], p.code, index)
    known = sorted(set(rock))
    for code in (*p.first, *p.second):
        if code not in known:
            raise InputError(
                f"no interval is logged as '{code}'", where=holes.name, fix=f"There are: {', '.join(known[:20])}"
            )
    one, two = np.isin(rock, p.first), np.isin(rock, p.second)
    touch = (h[1:] == h[:-1]) & (np.abs(a[1:] - b[:-1]) < 0.5)
    down, up = one[:-1] & two[1:] & touch, two[:-1] & one[1:] & touch
    at = np.flatnonzero(down | up)
    if not len(at):
        raise InputError("these rocks touch in no hole", where=holes.name, fix="Choose rocks that follow each other")
    progress(0.4, "Distances")
    hole, start, stop = spans(table, index)
    middle = 0.5 * (start + stop)
    distance = distances_to_contacts(hole, middle, h[at], b[at], down[at])
    here = logged_at(table, log[1], p.code)
    side = np.where(np.isin(here, p.first), -1, np.where(np.isin(here, p.second), 1, 0))
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
