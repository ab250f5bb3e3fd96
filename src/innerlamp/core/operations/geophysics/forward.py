"""What a block model would be measured as."""

from __future__ import annotations

import numpy as np

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel
from ...items.points import PointSet
from ...progress import Progress


class GravityForward(Params):
    attribute: str = param(..., "Property", editor="attribute", of="model")
    factor: float = param(
        1000.0,
        "Density contrast of 1",
        unit="kg/m³",
        help="The property is multiplied by this to give kg/m³: 1000 for g/cm³, 1 for kg/m³; for other properties the contrast that a value of 1 stands for",
    )
    name: str = param("", "Name")


def _run_gravity(inputs: Inputs, p: GravityForward, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import prisms

    model, stations = inputs.need("model", BlockModel), inputs.need("stations", PointSet)
    mesh = model.mesh
    largest = max(float(mesh.u.max()), float(mesh.v.max()), float(np.diff(mesh.bounds[4:])[0]) / mesh.shape[2])
    table = stations.table
    obs = table[["x", "y", "z"]].to_numpy(float)
    good = np.isfinite(obs).all(axis=1)
    if not good.any():
        raise InputError("no station has a place and an elevation", where=stations.name)
    # A station at ground level may lie within a cell of the stepped top; the closed form holds there too.
    g = prisms.gravity_of(mesh, model.properties[p.attribute] * p.factor, obs[good], 6 * largest, progress)
    out = table[good].reset_index(drop=True).assign(computed_gravity=g)
    units = {**stations.units, "computed_gravity": "mGal"}
    return {
        "stations": PointSet(
            name=p.name or f"Gravity of {model.name}", crs=model.crs, table=out, units=units, content="stations"
        )
    }


GRAVITY = Operation(
    name="gravity-of-model",
    example=Example(
        {"model": "Susceptibility of Airborne magnetics", "stations": "Gravity stations"},
        {"attribute": "susceptibility", "factor": 6000.0},
    ),
    title="Gravity of a density model",
    area="Geophysics",
    help="Works out the downward attraction of a block model at stations (rectangular prisms).",
    params=GravityForward,
    run=_run_gravity,
    inputs=(Input("model", "Block model", ("blocks",)), Input("stations", "Gravity stations", ("points",))),
    outputs=(Output("stations", "points", "Stations with computed gravity"),),
)
