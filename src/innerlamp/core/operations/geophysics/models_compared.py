"""Two models held against each other cell by cell."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel
from ...progress import Progress
from .solving import SEEN


class Compared(Params):
    first_property: str = param("", "Property of the first", editor="attribute", of="first")
    second_property: str = param(
        "", "Property of the second", editor="attribute", of="second", help="The same as of the first when empty"
    )
    second_is: Literal["as it is", "scaled to the first"] = param(
        "as it is",
        "The second is taken",
        help="Scaled by the factor that brings it nearest to the first, for other units or properties",
    )
    seen_from: float = param(
        1.0,
        "Cells seen from",
        unit="%",
        low=0.0,
        high=100.0,
        help="Figures are of cells whose sensitivity, where the first model has one, is at least this share of the largest",
    )
    name: str = param("", "Name")


def _property(model: BlockModel, name: str) -> str:
    name = name or next(iter(model.properties), "")
    if name not in model.properties:
        raise InputError(
            f"there is no property '{name}'", where=model.name, fix="There are: " + ", ".join(model.properties)
        )
    return name


def _run(inputs: Inputs, p: Compared, progress: Progress) -> dict[str, Item]:
    one, other = inputs.need("first", BlockModel), inputs.need("second", BlockModel)
    if one.crs != other.crs:
        raise InputError("the models have different coordinate systems", where=other.name)
    first = _property(one, p.first_property)
    second = _property(other, p.second_property or (first if first in other.properties else ""))
    if (first in one.names) != (second in other.names):
        raise InputError(
            "units can only be compared with units", where=other.name, fix="Choose a property of the same sort"
        )
    if first in one.names:
        return _units(one, other, first, second, p, progress)
    ours = one.properties[first].astype(float)
    places = one.mesh.centres()
    theirs = other.mesh.values_at(other.properties[second], *places.T).reshape(one.mesh.shape)
    known = np.isfinite(ours) & np.isfinite(theirs)
    if known.sum() < 2:
        raise InputError("the models have no cells in common", where=other.name)
    seen = known.copy()
    sensitivity = next((n for n in one.properties if n.endswith(SEEN)), "")
    if sensitivity:
        seen &= np.nan_to_num(one.properties[sensitivity]) >= p.seen_from
    if seen.sum() < 2:
        raise InputError(
            f"no cell in common is seen from {p.seen_from:g} % on", where=one.name, fix="Lower 'cells seen from'"
        )
    volume = one.mesh.volumes().reshape(one.mesh.shape)[seen]
    a, b = ours[seen], theirs[seen]
    factor = 1.0
    scaled = p.second_is == "scaled to the first"
    if scaled:
        square = float(np.sum(volume * b * b))
        if square == 0:
            raise InputError("the second model is 0 everywhere, and can't be scaled", where=other.name)
        factor = float(np.sum(volume * a * b)) / square
    difference = np.where(known, ours - factor * theirs, np.nan)
    weight = volume / volume.sum()
    off = difference[seen]
    mean, spread = float(weight @ off), float(np.sqrt(weight @ off**2))
    likeness = _correlation(a, b, weight)
    unit = one.units.get(first, "")
    model = BlockModel(
        name=p.name or f"{one.name} less {other.name}",
        crs=one.crs,
        mesh=one.mesh,
        properties={"difference": difference, "first": np.where(known, ours, np.nan), "second": theirs},
        units={"difference": unit, "first": unit, "second": other.units.get(second, "")},
    )
    progress(
        1.0,
        f"{int(seen.sum()):,} cells: correlation {likeness:.3f}, mean difference {mean:.3g} {unit}, root mean square {spread:.3g} {unit}"
        + (f", second times {factor:.3g}" if scaled else ""),
    )
    return {"model": model}


def _units(
    one: BlockModel, other: BlockModel, first: str, second: str, p: Compared, progress: Progress
) -> dict[str, Item]:
    """Which cells have another unit, and how the volume of each unit changed from the second model to the first."""
    places = one.mesh.centres()
    numbers = other.mesh.values_at(other.properties[second], *places.T).reshape(one.mesh.shape)
    now, before = one.named(first, one.properties[first]), other.named(second, numbers)
    known = (now != "") & (before != "")
    if not known.any():
        raise InputError("the models have no cells in common", where=other.name)
    volume = one.mesh.volumes().reshape(one.mesh.shape)
    changed = known & (now != before)
    words = [f"{100.0 * float(volume[changed].sum() / volume[known].sum()):.1f} % of the volume has another unit"]
    for name in one.names[first]:
        was, has = (float(volume[known & (side == name)].sum()) / 1e6 for side in (before, now))
        if was != has:
            words.append(f"{name} {was:,.2f} to {has:,.2f} million m³")
    progress(1.0, "; ".join(words))
    model = BlockModel(
        name=p.name or f"{one.name} against {other.name}",
        crs=one.crs,
        mesh=one.mesh,
        properties={"change": np.where(known, (~changed).astype(float), np.nan), "unit": one.properties[first]},
        units={},
        names={"change": ("another unit", "the same"), "unit": one.names[first]},
    )
    return {"model": model}


def _correlation(a: np.ndarray, b: np.ndarray, weight: np.ndarray) -> float:
    """Correlation with weights that add to 1; 0 where one does not vary."""
    da, db = a - weight @ a, b - weight @ b
    size = float(np.sqrt((weight @ da**2) * (weight @ db**2)))
    return float(weight @ (da * db)) / size if size > 0 else 0.0


COMPARE = Operation(
    name="compare-models",
    example=Example(
        {"first": "Susceptibility of Airborne magnetics", "second": "@invert-gravity.model"},
        {"first_property": "susceptibility", "second_property": "density_contrast", "second_is": "scaled to the first"},
        after=("invert-gravity",),
    ),
    title="Compare two models",
    area="Geophysics",
    help="Takes the second model off the first cell by cell, on the cells of the first, and says how far they agree: correlation, mean and spread of the difference by volume, where the readings see the cells. Of models of units it tells which cells have another unit, and how the volumes changed.",
    params=Compared,
    run=_run,
    inputs=(Input("first", "First model", ("blocks",)), Input("second", "Second model", ("blocks",))),
    outputs=(Output("model", "blocks", "Difference"),),
)
