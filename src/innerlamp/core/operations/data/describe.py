"""Saying what an attribute is: its unit and the quantity that it measures, where an import could not tell."""

from __future__ import annotations

import dataclasses

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.attributes import AnyQuantity
from ...items.base import Item
from ...items.electrodes import ElectrodeSurvey
from ...items.features import Features
from ...items.fields import BlockModel, Grid, Surface
from ...items.holes import HoleSet
from ...items.points import PointSet, SurveyLines
from ...progress import Progress

_KINDS = (HoleSet, PointSet, SurveyLines, ElectrodeSurvey, Features, BlockModel, Grid, Surface)


class DescribeAttribute(Params):
    attribute: str = param(..., "Attribute", editor="attribute", of="item")
    quantity: AnyQuantity = param(
        "auto", "Quantity", help="What it measures: decides colours, scale and digits, and which operations take it"
    )
    unit: str = param(
        "", "Unit", help="As it is written beside the values, which stay as they are; as before when empty"
    )


def _run(inputs: Inputs, p: DescribeAttribute, progress: Progress) -> dict[str, Item]:
    item = inputs["item"]
    if not isinstance(item, _KINDS):
        raise InputError("it has no attributes to describe", where=item.name)
    if p.attribute not in item.attributes:
        raise InputError(
            f"there is no attribute '{p.attribute}'", where=item.name, fix="It has: " + ", ".join(item.attributes)
        )
    if item.attributes[p.attribute].is_code and p.quantity not in ("auto", "code"):
        raise InputError(f"'{p.attribute}' holds texts, which measure nothing", where=item.name, fix="Take code")
    quantities = {n: q for n, q in item.quantities.items() if n != p.attribute}
    if p.quantity != "auto":
        quantities[p.attribute] = p.quantity
    made: Item
    if not p.unit:
        made = dataclasses.replace(item, quantities=quantities)
    elif isinstance(item, Grid | Surface):
        made = dataclasses.replace(item, quantities=quantities, unit=p.unit)
    else:
        made = dataclasses.replace(item, quantities=quantities, units={**item.units, p.attribute: p.unit})
    if p.quantity == "auto":
        made = made.told_by_headings()
    known = made.attributes[p.attribute]
    progress(1.0, f"{p.attribute}: {known.shown.label.lower()}" + (f", {known.unit}" if known.unit else ""))
    return {"item": made}


OPERATION = Operation(
    name="describe-attribute",
    example=Example({"item": "Soils"}, {"attribute": "Sn ppm", "quantity": "grade", "unit": "ppm"}),
    title="Describe an attribute",
    area="Data",
    help="Sets the quantity and the unit of an attribute. Values stay as they are; colours, scale and digits follow the quantity.",
    params=DescribeAttribute,
    run=_run,
    inputs=(Input("item", "Item", tuple(kind.kind for kind in _KINDS)),),
    outputs=(Output("item", "", "The same item"),),
    replaces={"item": "item"},
    instant=True,
)
