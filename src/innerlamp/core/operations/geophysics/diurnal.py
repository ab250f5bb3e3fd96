"""Diurnal correction of magnetic survey lines by a base-station file."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ...compute.potential.diurnal import diurnal, seconds_of
from ...declaring.operation import Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats.tables.dates import DayOrder
from ...importing.base_record import placed, read_base
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
    day_order: DayOrder = param(
        "auto", "Dates like 03/04/2023 are", help="auto goes by the rest of the column", more=True
    )
    name: str = param("", "Name of the corrected reading", help="The reading's name and 'corrected' when empty")


def _run(inputs: Inputs, p: DiurnalCorrection, progress: Progress) -> dict[str, Item]:
    lines = inputs.need("lines", SurveyLines)
    table = lines.table
    clock = "time" if "time" in table.columns else ""
    if not clock:
        raise InputError(
            "the lines have no column of times", where=lines.name, fix="Import them with their time column"
        )
    found = Findings()
    record = read_base(p.base, p.day_order, found)
    progress(0.3, "Joining by time")
    days = table["date"].astype(str).to_numpy() if "date" in table.columns else np.full(len(table), "")
    dated = bool((days != "").any())
    time = seconds_of(days.tolist(), table[clock].astype(str).tolist())
    time = np.where((days == "") & dated, np.nan, time)
    base_time, time = placed(record, time, dated, found)
    variation, datum = diurnal(time, base_time, record.field, p.datum or float("nan"), p.gap)
    corrected = table[p.attribute].to_numpy(float) - variation
    lost = np.isfinite(table[p.attribute].to_numpy(float)) & ~np.isfinite(corrected)
    if lost.all():
        raise InputError(
            "no reading falls within the base record", where=record.file, fix="Check dates and times of both"
        )
    inside = (time >= base_time.min()) & (time <= base_time.max())
    at = table["file_line"].to_numpy() if "file_line" in table else np.zeros(len(table), dtype=np.int64)
    for rows, what in (
        (lost & inside, "no base reading at this time: a gap of the base record"),
        (lost & ~inside & np.isfinite(time), "reading was made before or after the base record"),
        (lost & ~np.isfinite(time), "reading has no time"),
    ):
        if rows.any():
            done = "left without a corrected value"
            found.add("look", what, done, file=record.file, table="lines", line=at[rows])
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
    title="Diurnal correction",
    area="Geophysics",
    help="Joins a base-station record by date and time and takes its variation off the readings; raw and corrected stay side by side.",
    params=DiurnalCorrection,
    run=_run,
    inputs=(Input("lines", "Magnetic survey lines", ("lines",)),),
    outputs=(Output("lines", "lines", "Lines with the corrected reading"),),
    replaces={"lines": "lines"},
)
