"""Where two models stand out together: bodies, their volumes, and how far the models overlap."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel
from ...items.points import PointSet
from ...progress import Progress


class Coincidence(Params):
    first_property: str = param(..., "Property of the first", editor="attribute", of="first")
    first_from: float = param(..., "It stands out from", unit="its own", help="Below 0 what is lower stands out")
    second_property: str = param(..., "Property of the second", editor="attribute", of="second")
    second_from: float = param(..., "It stands out from", unit="its own", help="Below 0 what is lower stands out")
    smallest: float = param(0.0, "Smallest body", unit="m³", low=0.0, help="Bodies below it are left out")
    name: str = param("", "Name")


def _stands_out(values: np.ndarray, limit: float) -> np.ndarray:
    return np.asarray((values < limit if limit < 0 else values >= limit) & np.isfinite(values))


def _run(inputs: Inputs, p: Coincidence, progress: Progress) -> dict[str, Item]:
    from ...compute.potential.bodies import bodies, dice, middle_of

    one, other = inputs.need("first", BlockModel), inputs.need("second", BlockModel)
    if one.crs != other.crs:
        raise InputError("the models have different coordinate systems", where=other.name)
    centres = one.mesh.centres()
    theirs = other.mesh.values_at(other.properties[p.second_property], *centres.T).reshape(one.mesh.shape)
    ours = one.properties[p.first_property]
    a, b = _stands_out(ours, p.first_from), _stands_out(theirs, p.second_from)
    known = np.isfinite(ours) & np.isfinite(theirs)
    if not known.any():
        raise InputError("the models have no cell in common", where=other.name)
    a, b = a & known, b & known
    for chosen, model, name, limit in (
        (a, one, p.first_property, p.first_from),
        (b, other, p.second_property, p.second_from),
    ):
        if not chosen.any():
            raise InputError(
                f"no cell of '{name}' stands out from {limit:g}", where=model.name, fix="Take another limit"
            )
    volumes = one.mesh.volumes().reshape(one.mesh.shape)
    places = centres.reshape(*one.mesh.shape, 3)
    number, found = bodies(a & b, volumes, places, p.smallest)
    kind = np.where(known, 1.0 * a + 2.0 * b, np.nan)
    stem = p.name or f"{one.name} and {other.name}"
    model = BlockModel(
        name=stem,
        crs=one.crs,
        mesh=one.mesh,
        properties={"stands_out": kind, "body": np.where(number > 0, number.astype(float), np.nan)},
        units={},
    )
    apart = middle_of(a, volumes, places) - middle_of(b, volumes, places)
    overlap = dice(a, b, volumes)
    # Names of their own: the few bodies are not what the colours of the models should go by.
    names = [f"mean {p.first_property}", f"mean {p.second_property}"]
    names[1] += ", second" if names[1] == names[0] else ""
    rows = [
        {
            "x": body.middle[0],
            "y": body.middle[1],
            "z": body.middle[2],
            "body": body.number,
            "volume": body.volume / 1e6,
            "top": body.top,
            names[0]: float(np.average(ours[number == body.number], weights=volumes[number == body.number])),
            names[1]: float(np.average(theirs[number == body.number], weights=volumes[number == body.number])),
        }
        for body in found
    ]
    if not rows:
        raise InputError(
            f"nothing stands out in both: overlap {overlap:.2f}, {np.linalg.norm(apart):,.0f} m apart",
            where=stem,
            fix="Lower the limits",
        )
    table = pd.DataFrame(rows)
    units: dict[str, Any] = {"volume": "million m³", "top": "m", names[0]: one.units.get(p.first_property, "")}
    units[names[1]] = other.units.get(p.second_property, "")
    middles = PointSet(name=f"Bodies of {stem}", crs=one.crs, table=table, units=units, content="readings")
    progress(
        1.0,
        f"{len(found):,} bodies of {volumes[number > 0].sum() / 1e6:,.2f} million m³; overlap {overlap:.2f} (1 the same),"
        f" middles {np.linalg.norm(apart):,.0f} m apart",
    )
    return {"model": model, "bodies": middles}


COINCIDENCE = Operation(
    name="coincidence",
    example=Example(
        {"first": "Susceptibility of Airborne magnetics", "second": "@invert-gravity.model"},
        {
            "first_property": "susceptibility",
            "first_from": 0.005,
            "second_property": "density_contrast",
            "second_from": 0.02,
        },
        after=("invert-gravity",),
    ),
    title="Where two models coincide",
    area="Geophysics",
    help="Finds the cells in which two models stand out together, such as dense and magnetic rock, and gives the bodies that they form with volume and middle. 'stands_out' is 1 where only the first does, 2 where only the second does, 3 where both do.",
    params=Coincidence,
    run=_run,
    inputs=(Input("first", "First model", ("blocks",)), Input("second", "Second model", ("blocks",))),
    outputs=(Output("model", "blocks", "Where they coincide"), Output("bodies", "points", "Bodies")),
)
