"""Correcting values, leaving rows out, flagging spikes, and lifting any of it again."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

from ...compute.expression import condition
from ...compute.statistics.spikes import isolated
from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Row, Whole, param
from ...errors import InputError
from ...importing import corrections, row_keys
from ...items.base import Item
from ...items.points import SurveyLines
from ...progress import Progress
from .computed import columns_of


class MeantRow(Row):
    of: str = param("", "Hole or line")
    start: Maybe = param(None, "From", unit="m", help="Depth of a reading or start of an interval")
    end: Maybe = param(None, "To", unit="m")
    x: Maybe = param(None, "Easting", unit="m")
    y: Maybe = param(None, "Northing", unit="m")
    file_line: Whole = param(0, "Line of file", help="Tells rows apart that hold the same; 0 where it is not known")
    row: str = param("", "Digest", help="Of what the row held when it was chosen; it tells rows at one place apart")
    was: str = param("", "Was", help="What stood there when the correction was made; empty: not looked at")


class Correct(Params):
    table: str = param("", "Table", help="For drillholes: collar, survey, assay, ...; else empty")
    meant: tuple[MeantRow, ...] = param(
        (),
        "Rows",
        editor="table",
        help="By hole and depths, or by place: they are found again in a file that comes in anew",
    )
    rows: tuple[int, ...] = param(
        (),
        "Row numbers",
        editor="rows",
        help="Of the table as it is now, counted from 0; kept by what the rows hold",
        more=True,
    )
    where: str = param("", "Rows where", help="For example: hole = 'EMB009' and from_m = 12")
    action: Literal["set value", "empty value", "leave out row"] = param("set value", "Do")
    column: str = param("", "Column", help="What is changed; not needed where rows are left out")
    value: str = param("", "New value")
    why: str = param(..., "Why", help="The reason, kept on record with your name and the time")
    who: str = param("", "Who", help="Your user name when empty", more=True)


class Lift(Params):
    numbers: str = param("all", "Corrections", help="Their numbers, parted by semicolons, or all")
    who: str = param("", "Who", help="Your user name when empty", more=True)


class ExcludeSpikes(Params):
    attribute: str = param(..., "Reading", editor="attribute", of="lines")
    half_width: Whole = param(5, "Readings on each side", low=1, high=500)
    limit: float = param(
        6.0,
        "Limit",
        unit="deviations",
        above=0.0,
        help="Times the noise of the line; 3 is strict. What a steep anomaly does is no spike",
    )
    become: Literal["empty", "between neighbours"] = param("empty", "Spikes become")
    who: str = param("", "Who", help="Your user name when empty", more=True)


def _numbered(name: str, table: pd.DataFrame, numbers: Sequence[int]) -> np.ndarray:
    rows = np.array(sorted(set(numbers)), dtype=np.int64)
    if len(rows) and (rows[0] < 0 or rows[-1] >= len(table)):
        raise InputError(f"there is no row {int(rows[-1])}", where=name, fix=f"The table has {len(table):,} rows")
    return rows


def _key(meant: MeantRow) -> row_keys.RowKey:
    return row_keys.RowKey(meant.of, meant.start, meant.end, meant.x, meant.y, meant.row, meant.file_line)


def _rows_meant(name: str, table: pd.DataFrame, p: Correct) -> np.ndarray:
    """Rows that are still as they were when the correction was made, without those that hold the new value already."""
    find = row_keys.Finder(table, name)
    numeric = p.column in table and pd.api.types.is_numeric_dtype(table[p.column])
    rows = []
    for meant in p.meant:
        row = find.row(_key(meant))
        if meant.was and p.action != "leave out row" and p.column in table:
            now = corrections.packed(table[p.column].iloc[row])
            if now != meant.was:
                new = corrections.packed(
                    corrections.fitting(p.value if p.action == "set value" else None, numeric, p.column)
                )
                if now == new:
                    continue  # the file was put right
                raise InputError(
                    f"{p.column} of {_key(meant).words} was {meant.was} when it was corrected and is {now} now",
                    where=name,
                    fix="Correct it anew, or drop the change",
                )
        rows.append(row)
    return np.array(sorted(set(rows)), dtype=np.int64)


def _pinned(item: Item, params: dict[str, Any]) -> dict[str, Any]:
    """Name rows by what they hold, with what stands in the column that is changed."""
    if params["where"].strip() or not (params["rows"] or params["meant"]):
        return params
    table = corrections.table_named(item, params["table"])
    find = row_keys.Finder(table, item.name)
    if params["rows"]:
        rows = _numbered(item.name, table, params["rows"]).tolist()
    else:
        rows = [find.row(_key(MeantRow(**m))) for m in params["meant"]]
    return {**params, "rows": [], "meant": meant_rows(table, rows, params["column"])}


def meant_rows(table: pd.DataFrame, rows: Sequence[int], column: str = "") -> list[dict[str, Any]]:
    """Return rows of a table as the parameter `meant` has them, with what stands in a column."""
    was = [corrections.packed(v) for v in table[column].iloc[list(rows)]] if column in table else [""] * len(rows)
    return [{**dataclasses.asdict(key), "was": w} for key, w in zip(row_keys.keys_of(table, rows), was, strict=True)]


def _run_correct(inputs: Inputs, p: Correct, progress: Progress) -> dict[str, Item]:
    item = inputs["item"]
    table = corrections.table_named(item, p.table)
    if p.where.strip():
        rows = np.flatnonzero(condition(p.where, columns_of(table), len(table)))
    elif p.meant:
        rows = _rows_meant(item.name, table, p)
        if not len(rows):
            progress(1.0, "all of it stands in the file already")
            return {"item": item}
    else:
        rows = _numbered(item.name, table, p.rows)
    values = None if p.action == "leave out row" else [p.value if p.action == "set value" else None] * len(rows)
    out = corrections.changed(item, p.table, rows, p.column, values, p.why, p.who)
    progress(1.0, f"{len(rows):,} rows " + ("left out" if values is None else "corrected"))
    return {"item": out}


def _run_lift(inputs: Inputs, p: Lift, progress: Progress) -> dict[str, Item]:
    item = inputs["item"]
    layer: pd.DataFrame = item.corrections  # type: ignore[attr-defined]
    if p.numbers.strip().lower() == "all":
        numbers = [int(n) for n in layer["number"][layer["lifted"] == ""]] if len(layer) else []
        if not numbers:
            raise InputError("there is no correction to lift", where=item.name)
    else:
        try:
            numbers = [int(n) for n in p.numbers.replace(",", ";").split(";") if n.strip()]
        except ValueError as error:
            raise InputError(f"'{p.numbers}' is not a list of numbers", fix="Write for example 3; 5") from error
        if not numbers:
            raise InputError("no correction is named", fix="Write for example 3; 5, or all")
    out = corrections.lifted(item, numbers, p.who)
    progress(1.0, f"{len(numbers):,} corrections lifted")
    return {"item": out}


def _run_spikes(inputs: Inputs, p: ExcludeSpikes, progress: Progress) -> dict[str, Item]:
    lines = inputs.need("lines", SurveyLines)
    values = lines.table[p.attribute].to_numpy(float)
    spikes, medians = np.zeros(len(values), dtype=bool), values.copy()
    for rows in lines.table.groupby("line", sort=False).indices.values():
        spikes[rows], medians[rows] = isolated(values[rows], p.half_width, p.limit)
    rows = np.flatnonzero(spikes)
    if not len(rows):
        raise InputError("no reading is a spike by this window and limit", where=lines.name, fix="Lower the limit")
    new = [float(v) for v in medians[rows]] if p.become == "between neighbours" else [None] * len(rows)
    why = f"spike: away from its neighbours, limit {p.limit:g}"
    out = corrections.changed(lines, "", rows, p.attribute, new, why, p.who)
    progress(1.0, f"{len(rows):,} spikes of {len(values):,} readings")
    return {"lines": out}


_ITEM = Input("item", "Drillholes, samples, lines or electrodes", corrections.KINDS)

CORRECT = Operation(
    name="correct",
    example=Example(
        {"item": "Soils"},
        {"where": "[Sn ppm] > 70", "column": "Sn ppm", "action": "empty value", "why": "contaminated"},
    ),
    title="Correct or leave out rows",
    area="Data",
    help="Changes values or leaves rows out, on record with the reason; what was imported can be put back. The item gets a new version, and what hangs from it is made again.",
    params=Correct,
    run=_run_correct,
    inputs=(_ITEM,),
    outputs=(Output("item", "", "The item, corrected"),),
    replaces={"item": "item"},
    pin=_pinned,
)
LIFT = Operation(
    name="lift-corrections",
    example=Example({"item": "Soils"}, {}, after=("correct",)),
    title="Lift corrections",
    area="Data",
    help="Takes corrections back: what was imported stands there again. They stay on record as lifted.",
    params=Lift,
    run=_run_lift,
    inputs=(_ITEM,),
    outputs=(Output("item", "", "The item without them"),),
    replaces={"item": "item"},
)
SPIKES = Operation(
    name="exclude-spikes",
    example=Example({"lines": "Airborne magnetics"}, {"attribute": "RAW_TMI_nT", "limit": 4.0}),
    title="Take spikes out",
    area="Data",
    help="Finds spikes along lines by a Hampel filter and takes them out, each as a correction that can be lifted.",
    params=ExcludeSpikes,
    version=2,
    upgrade=lambda params, _: {
        **params,
        "become": "between neighbours" if params.get("become") == "local median" else params.get("become", "empty"),
    },
    run=_run_spikes,
    inputs=(Input("lines", "Survey lines", ("lines",)),),
    outputs=(Output("lines", "lines", "The lines without spikes"),),
    replaces={"lines": "lines"},
)
