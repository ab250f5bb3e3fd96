"""Computed columns: a safe expression over the columns of a table, with a unit."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ...compute.expression import evaluate
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...importing.corrections import with_table
from ...items.attributes import AnyQuantity
from ...items.base import Item
from ...items.holes import INTERVAL_PLACES, HoleSet
from ...items.points import PointSet, SurveyLines
from ...progress import Progress

_PLACES = {"hole", "from_m", "to_m", "line", "x", "y", "z", *INTERVAL_PLACES}


class ComputeColumn(Params):
    table: str = param(
        "",
        "Table",
        help="For drillholes: assay, lithology, ...; empty takes the first that has all columns of the expression",
    )
    name: str = param(..., "Name of the column")
    expression: str = param(
        ...,
        "Expression",
        help="For example: Sn_ppm / 10000 + Cu_pct * 0.4. Names with spaces stand in brackets: [Sn ppm]",
    )
    unit: str = param("", "Unit of the result")
    quantity: AnyQuantity = param(
        "auto", "Quantity of the result", help="What it measures; auto goes by its unit", more=True
    )


def table_names(item: Item) -> list[str]:
    """Names of the tables of an item that can hold a computed column; '' for the only one."""
    return [*item.tables, *item.readings] if isinstance(item, HoleSet) else [""]


def rows_of(item: HoleSet | PointSet | SurveyLines, name: str) -> pd.DataFrame:
    """Return a table of an item by name.

    Raises
    ------
    InputError
        When there is none of that name.
    """
    if isinstance(item, HoleSet):
        tables = {**item.tables, **item.readings}
        if name not in tables:
            raise InputError(f"there is no table '{name}'", where=item.name, fix="There are: " + ", ".join(tables))
        return tables[name]
    return item.table


def columns_of(table: pd.DataFrame) -> dict[str, np.ndarray]:
    """Columns as an expression sees them: numbers as float64, everything else as objects."""
    out = {}
    for column in table.columns:
        series = table[column]
        out[str(column)] = (
            series.to_numpy(float) if pd.api.types.is_numeric_dtype(series) else series.to_numpy(dtype=object)
        )
    return out


def _run(inputs: Inputs, p: ComputeColumn, progress: Progress) -> dict[str, Item]:
    item = inputs.need("item", HoleSet, PointSet, SurveyLines)
    if not p.name.strip() or p.name in _PLACES:
        raise InputError(f"'{p.name}' can't be the name of a computed column", fix="Choose another name")
    name = p.table or _first_that_fits(item, p.expression)
    table = rows_of(item, name)
    progress(0.3, "Computing")
    value = evaluate(p.expression, columns_of(table), len(table))
    if value.dtype == bool:
        value = value.astype(float)
    if value.dtype.kind not in "fOUS":
        raise InputError("the expression gives neither numbers nor texts", where=p.expression[:60])
    new = table.assign(
        **{p.name.strip(): value if value.dtype.kind == "f" else pd.Series(value, index=table.index).astype("object")}
    )
    units = {**item.units, p.name.strip(): p.unit}
    said = item.quantities if p.quantity == "auto" else {**item.quantities, p.name.strip(): p.quantity}
    return {"item": with_table(dataclasses.replace(item, units=units, quantities=said), name, new)}


def _first_that_fits(item: HoleSet | PointSet | SurveyLines, expression: str) -> str:
    problem: InputError | None = None
    for name in table_names(item):
        try:
            evaluate(expression, columns_of(rows_of(item, name).head(1)), len(rows_of(item, name).head(1)))
            return name
        except InputError as error:
            problem = problem or error
    raise problem or InputError("the item has no table", where=item.name)


OPERATION = Operation(
    name="compute-column",
    example=Example({"item": "Soils"}, {"name": "Sn in %", "expression": "[Sn ppm] / 10000", "unit": "%"}),
    title="Compute a column",
    area="Data",
    help="Adds a column worked out from others by an expression. The item gets a new version; what hangs from it is made again.",
    params=ComputeColumn,
    run=_run,
    inputs=(Input("item", "Drillholes, samples or lines", ("holes", "points", "lines")),),
    outputs=(Output("item", "", "The item with the new column"),),
    replaces={"item": "item"},
)
