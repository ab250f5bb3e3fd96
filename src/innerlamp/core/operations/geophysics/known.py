"""What is known of a model before it is inverted: bounds, a model from elsewhere, and measurements in drillholes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from ...compute.potential.meshing import spread_from
from ...declaring.operation import Input, Inputs, Maybe, Params, param
from ...errors import InputError
from ...items.fields import BlockModel
from ...items.holes import HoleSet, readings_with, table_with
from .cells import Cells

if TYPE_CHECKING:
    from ...compute.potential.inversion import Constraints

# What a value in a unit is multiplied by to be in that of the model (SI, or g/cm³).
_FACTORS = {"10⁻³ SI": 1e-3, "1e-3 SI": 1e-3, "10⁻⁵ SI": 1e-5, "10⁻⁶ cgs": 4e-6 * np.pi, "kg/m³": 1e-3}
SLOTS = (
    Input(
        "start",
        "Start or reference",
        ("blocks",),
        optional=True,
        proposed=False,
        help="A model of the same property, such as one from an earlier run",
    ),
    Input(
        "holes",
        "Measured in holes",
        ("holes",),
        optional=True,
        proposed=False,
        help="Drillholes with the property, measured on core or down the hole",
    ),
)


class KnownParams(Params):
    """Parameters of what is known."""

    measured: str = param(
        "",
        "Measured property",
        editor="attribute",
        of="holes",
        help="Of the holes: susceptibility or density",
        more=True,
    )
    background: float = param(
        0.0, "Background", unit="its own", help="What is 0 in the model, such as 2.67 g/cm³ for a density", more=True
    )
    hole_reach: float = param(
        0.0, "Reach of holes", unit="m", low=0.0, help="Distance at which a measurement counts little; 0 takes two cells", more=True
    )  # fmt: skip
    hole_weight: float = param(
        100.0, "Trust in holes", above=0.0, high=1e6, help="Weight of departures from what is measured", more=True
    )
    known: str = param(
        "", "Known property", editor="attribute", of="start", help="Of the start or reference model", more=True
    )
    role_of_known: Literal["reference", "start"] = param(
        "reference", "It is taken as", help="A reference draws the model to it, a start only saves time", more=True
    )
    trust: float = param(
        1.0, "Trust in the reference", above=0.0, high=1e6, help="Weight of departures from it", more=True
    )
    lower: Maybe = param(None, "Lowest value", help="Empty: 0 for susceptibility, no bound for others", more=True)
    upper: Maybe = param(None, "Highest value", help="Empty for no bound", more=True)


def known_of(inputs: Inputs, p: KnownParams, cells: Cells, components: int, lower: float, width: float) -> Constraints:
    """Return bounds, reference and start of the active cells; `lower` is the lowest value where none is asked for.

    Raises
    ------
    InputError
        When what is known has no such property, or does not lie below the readings.
    """
    from ...compute.potential.inversion import Constraints

    low = lower if p.lower is None else p.lower
    high = np.inf if p.upper is None else p.upper
    if components > 1:
        if "start" in inputs or "holes" in inputs:
            raise InputError("a magnetisation can't begin with what is known of one property")
        return Constraints(low, high)
    nothing = float(np.clip(0.0, low, high))
    reference, trust = np.full(cells.count, nothing), np.ones(cells.count)
    start = None
    places = cells.mesh.centres()[cells.active.ravel()]
    model = inputs.maybe("start", BlockModel)
    if model is not None:
        found = _of_model(model, p.known, places)
        there = np.isfinite(found)
        if p.role_of_known == "start":
            start = np.where(there, found, nothing)
        else:
            reference, trust = np.where(there, found, nothing), np.where(there, p.trust, 1.0)
    holes = inputs.maybe("holes", HoleSet)
    if holes is not None:
        at, values = _of_holes(holes, p)
        value, share = spread_from(cells.mesh, cells.active, at, values, p.hole_reach or 2.0 * width)
        if not share.any():
            raise InputError("no measurement lies in the cells below the readings", where=holes.name)
        reference = share * value + (1.0 - share) * reference
        trust = trust + p.hole_weight * share
    return Constraints(low, high, reference, trust, start)


def _of_model(model: BlockModel, name: str, places: np.ndarray) -> np.ndarray:
    name = name or next(iter(model.properties))
    if name not in model.properties:
        raise InputError(f"there is no property '{name}'", where=model.name)
    found = model.mesh.values_at(model.properties[name], *places.T)
    if not np.isfinite(found).any():
        raise InputError("it does not lie below the readings", where=model.name)
    return found


def _of_holes(holes: HoleSet, p: KnownParams) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) and values (n,) of what was measured, in the unit of the model."""
    if not p.measured:
        raise InputError("no measured property is chosen", where=holes.name, fix="Name it as 'measured'")
    found = table_with(holes, p.measured) or readings_with(holes, p.measured)
    if found is None:
        raise InputError(f"there is no '{p.measured}'", where=holes.name)
    table = found[1]
    values = table[p.measured].to_numpy(float) - p.background
    places = table[["x", "y", "z"]].to_numpy(float)
    good = np.isfinite(values) & np.isfinite(places).all(axis=1)
    if not good.any():
        raise InputError(f"'{p.measured}' has no values with a place", where=holes.name)
    return places[good], values[good] * _FACTORS.get(holes.attributes[p.measured].unit, 1.0)
