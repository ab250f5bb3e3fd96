"""Diurnal correction of magnetic survey lines by a base-station file."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ...compute.potential.diurnal import diurnal, seconds_of
from ...declaring.operation import Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats import dates, rawtable, tables_in
from ...items.base import Item
from ...items.points import SurveyLines
from ...progress import Progress


class DiurnalCorrection(Params):
    attribute: str = param(..., "Reading", editor="attribute", of="lines", help="Total field as it was read")
    base: str = param(
        ..., "Base-station table", editor="file", help="Date, time and total field at a place that stood still"
    )
    datum: float = param(
        0.0,
        "Datum",
        unit="nT",
        low=0.0,
        help="Level of the base station that counts as no variation; 0 takes the median of its record",
    )
    gap: float = param(
        600.0,
        "Longest gap",
        unit="s",
        above=0.0,
        help="Readings in a longer gap of the base record are left without a corrected value",
    )
    name: str = param("", "Name of the corrected reading", help="The reading's name and 'corrected' when empty")


def _column(columns: list[str], words: tuple[str, ...]) -> str:
    return next((c for c in columns for w in words if c.strip().lower().startswith(w)), "")


def _run(inputs: Inputs, p: DiurnalCorrection, progress: Progress) -> dict[str, Item]:
    lines = inputs.need("lines", SurveyLines)
    table = lines.table
    clock = _column(list(table.columns), ("time", "utc", "hh"))
    if not clock:
        raise InputError(
            "the lines have no column of times", where=lines.name, fix="Import them with their time column"
        )
    found = Findings()
    raw = tables_in.read(p.base, found, "base")
    names = list(raw.layout.columns)
    base_clock, base_date = _column(names, ("time", "utc", "hh")), _column(names, ("date", "day"))
    field = next(
        (
            c
            for c in names
            if c not in (base_clock, base_date) and np.isfinite(rawtable.numbers(raw.cells.column(c))[0]).any()
        ),
        "",
    )
    if not base_clock or not field:
        raise InputError("the base table needs a column of times and one of readings", where=raw.file)
    progress(0.3, "Joining by time")
    day = (
        np.array(dates.read_dates(raw.text(base_date).tolist(), raw.line, found, raw.file, "base"))
        if base_date
        else np.full(len(raw.line), "")
    )
    ours = table["date"].astype(str).to_numpy() if "date" in table.columns and base_date else np.full(len(table), "")
    base_time = seconds_of(day.tolist(), raw.text(base_clock).tolist())
    time = seconds_of(ours.tolist(), table[clock].astype(str).tolist())
    readings, _ = rawtable.numbers(raw.cells.column(field), raw.layout.decimal_comma)
    variation, datum = diurnal(time, base_time, readings, p.datum or float("nan"), p.gap)
    corrected = table[p.attribute].to_numpy(float) - variation
    lost = np.isfinite(table[p.attribute].to_numpy(float)) & ~np.isfinite(corrected)
    if lost.all():
        raise InputError("no reading falls within the base record", where=raw.file, fix="Check dates and times of both")
    if lost.any():
        found.add(
            "look",
            "no base reading at this time",
            "left without a corrected value",
            file=raw.file,
            table="lines",
            line=table["file_line"].to_numpy()[lost] if "file_line" in table else 0,
        )
    name = p.name or f"{p.attribute} corrected"
    progress(
        1.0,
        f"Datum {datum:.1f} nT, variation {np.nanmin(variation):+.1f} to {np.nanmax(variation):+.1f} nT, {int(lost.sum())} readings without base",
    )
    return {
        "lines": dataclasses.replace(
            lines,
            table=table.assign(**{name: corrected}),
            units={**lines.units, name: "nT"},
            findings=pd.concat([lines.findings, found.frame()], ignore_index=True),
        )
    }


OPERATION = Operation(
    name="diurnal-correction",
    title="Take off the daily variation",
    area="Geophysics",
    help="Joins a base-station record by date and time and takes its variation off the readings; raw and corrected stay side by side.",
    params=DiurnalCorrection,
    run=_run,
    inputs=(Input("lines", "Magnetic survey lines", ("lines",)),),
    outputs=(Output("lines", "lines", "Lines with the corrected reading"),),
    replaces={"lines": "lines"},
)
