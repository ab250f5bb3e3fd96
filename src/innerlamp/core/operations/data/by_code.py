"""Giving numbers to codes: densities by rock, recoveries by machine, ages by unit."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
import pandas as pd

from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Row, param
from ...errors import InputError
from ...importing.corrections import with_table
from ...items.attributes import AnyQuantity
from ...items.base import Item
from ...items.features import Features
from ...items.holes import HoleSet, readings_with, table_with
from ...items.points import PointSet
from ...progress import Progress

_MOST_CODES = 200


class CodeValue(Row):
    code: str = param(..., "Code")
    value: Maybe = param(None, "Value")


class ValuesByCode(Params):
    attribute: str = param(..., "Code column", editor="code", of="item")
    name: str = param(..., "Name of the column", help="Such as density; a column of that name is replaced")
    unit: str = param("", "Unit", help="Such as g/cm³")
    quantity: AnyQuantity = param("auto", "Quantity", help="What the values measure; auto goes by name and unit")
    values: tuple[CodeValue, ...] = param(
        (), "Values", editor="table", help="One row a code; codes without one get none"
    )


def _table(item: HoleSet | PointSet | Features, attribute: str) -> tuple[str, pd.DataFrame]:
    """Name and table that hold a column."""
    if not isinstance(item, HoleSet):
        return "", item.table
    hit = table_with(item, attribute) or readings_with(item, attribute)
    if hit is None:
        raise InputError(f"there is no column '{attribute}'", where=item.name)
    return hit


def _run(inputs: Inputs, p: ValuesByCode, progress: Progress) -> dict[str, Item]:
    item = inputs.need("item", HoleSet, PointSet, Features)
    name = p.name.strip()
    if not name or name == p.attribute or name in ("x", "y", "z", "hole", "from_m", "to_m", "depth_m", "line"):
        raise InputError(f"'{p.name}' can't be the name of the new column", fix="Choose another name")
    rows = [row for row in p.values if row.value is not None]
    if not rows:
        raise InputError("no code has a value", where=item.name, fix="Fill in the table")
    codes = [row.code.strip() for row in rows]
    twice = sorted({c for c in codes if codes.count(c) > 1})
    if twice:
        raise InputError(f"the code '{twice[0]}' stands in the table twice", fix="Keep one of them")
    place, table = _table(item, p.attribute)
    if p.attribute not in table.columns:
        raise InputError(f"there is no column '{p.attribute}'", where=item.name)
    known = dict(zip(codes, (row.value for row in rows), strict=True))
    values = table[p.attribute].astype("object").map(lambda c: known.get(str(c).strip(), np.nan)).astype(float)
    if values.isna().all():
        raise InputError(f"no row has one of these codes in '{p.attribute}'", where=item.name)
    new = table.assign(**{name: values})
    said = {n: q for n, q in item.quantities.items() if n != name}
    if p.quantity != "auto":
        said[name] = p.quantity
    told = dataclasses.replace(item, units={**item.units, name: p.unit}, quantities=said)
    progress(1.0, f"{int(values.notna().sum()):,} of {len(values):,} rows have a value")
    return {"item": with_table(told, place, new).told_by_headings()}


def _suggest(inputs: Inputs) -> dict[str, Any]:
    """Propose a row for each code of the first column of codes, most frequent first."""
    item = inputs.get("item")
    if not isinstance(item, HoleSet | PointSet | Features):
        return {}
    column = next((n for n, a in item.attributes.items() if a.is_code), "")
    if not column:
        return {}
    counts = _table(item, column)[1][column].dropna().astype(str).value_counts()
    return {"values": [{"code": code} for code in counts.index[:_MOST_CODES]]}


OPERATION = Operation(
    name="values-by-code",
    example=Example(
        {"item": "Emberlow holes"},
        {
            "attribute": "Rock",
            "name": "density",
            "unit": "g/cm³",
            "values": [{"code": "GRAN", "value": 2.62}, {"code": "SLATE", "value": 2.74}],
        },
    ),
    title="Give values to codes",
    area="Data",
    help="Adds a column of numbers by a table of codes: the density of each rock, for example.",
    params=ValuesByCode,
    run=_run,
    inputs=(Input("item", "Drillholes, samples or map", ("holes", "points", "features")),),
    outputs=(Output("item", "", "The same item with the column"),),
    replaces={"item": "item"},
    suggest=_suggest,
)
