"""Importing survey lines: one file for all lines or one a line, with dates, times and fiducials."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc

from ...compute.geometry.lines import line_names
from ...compute.potential.mainfield import parse_date
from ...declaring.operation import Example, Inputs, Operation, Output, Params, Several, ground_slot, param
from ...errors import InputError
from ...findings import Findings
from ...formats.tables import dates, tables_in
from ...formats.tables.dates import DayOrder
from ...formats.tables.rawtable import RawTable
from ...importing.detection import CellRules
from ...importing.gaps import zeros_are_gaps
from ...importing.reading import LengthUnit, attributes, mapped, number_column, title
from ...items.base import Item
from ...items.fields import Grid
from ...items.points import SurveyLines
from ...progress import Progress
from .ground import level_of
from .import_places import places, tell_places
from .systems import system_of_table, unit_of_heights


class ImportLines(Params):
    file: str = param(..., "Table", editor="file", help="One row a reading")
    more: Several = param(
        (),
        "Further tables",
        editor="files",
        help="When there is one file a line: the other files, parted by semicolons",
    )
    name: str = param("", "Name", help="The file's name when empty")
    columns: dict[str, str] = param(
        {}, "Columns", editor="mapping", help="Role to column; what is not given is guessed from the headings"
    )
    line_from: Literal["auto", "column", "file name"] = param(
        "auto", "Line is named by", help="auto takes the line column where there is one"
    )
    date: str = param("", "Date of survey", editor="date", help="Year-month-day; taken from the date column when empty")
    day_order: DayOrder = param("auto", "Dates like 03/04/2023 are", help="auto goes by the rest of the column")
    height_unit: LengthUnit = unit_of_heights()
    coordinates: str = system_of_table()
    above_ground: float = param(
        0.0,
        "Sensor above ground",
        unit="m",
        help="Where readings have no elevation and a ground surface is given",
        more=True,
    )


def _one(
    file: str, name: str, p: ImportLines, crs: str, found: Findings
) -> tuple[RawTable, pd.DataFrame, dict[str, str], np.ndarray]:
    """Return a file, its readings, their units, and the dates as they stand in it ('' where there are none)."""
    raw = tables_in.read(file, found, "lines")
    role = mapped(raw, "lines", p.columns)
    frame, good = places(raw, role, found, "lines", p.coordinates, crs, p.height_unit)
    rest, units = attributes(raw, {*role.values(), "file_line"}, CellRules(below="missing"), found, "lines")
    _zeros(rest, raw, found)
    by_column = "line" in role and p.line_from != "file name"
    if not by_column and p.line_from == "column":
        raise InputError("no column for Line", where=raw.file, fix="Choose it, or name lines by their files")
    if by_column:
        codes, names = pd.factorize(raw.text(role["line"]))
        frame.insert(0, "line", pd.Index(names).astype(str).str.strip().to_numpy(dtype=object)[codes])
    else:
        frame.insert(0, "line", name)
        if not p.more and "line" not in role:
            found.add(
                "look",
                "the file has no line column",
                f"all readings taken as line {name}",
                file=raw.file,
                table="lines",
            )
    given = raw.text(role["date"]).fillna("").astype(str).to_numpy() if "date" in role else np.full(len(raw.line), "")
    clock_at = role.get("time", role.get("date", ""))
    if clock_at:
        texts = raw.text(clock_at)
        clocks = _clocks(raw, clock_at, texts)
        if (clocks != "").any():
            frame["time"] = clocks
        bad = (clocks == "") & (texts.fillna("").astype(str).str.strip() != "").to_numpy()
        if "time" in role and bad.any():
            found.add(
                "look",
                [f"'{t}' is not a time" for t in texts[bad]],
                "left empty",
                file=raw.file,
                table="lines",
                line=raw.line[bad],
            )
    if "fiducial" in role:
        frame["fiducial"] = number_column(raw, role["fiducial"])
        _back_steps(frame, raw, found)
    table = pd.concat([frame, rest], axis=1)[good].reset_index(drop=True)
    return raw, table, units, given[good]


def _zeros(rest: pd.DataFrame, raw: RawTable, found: Findings) -> None:
    """Empty readings of 0 in columns in which 0 is no value, such as a total field."""
    for column in rest.columns:
        if rest[column].dtype.kind == "f":
            gap = zeros_are_gaps(rest[column].to_numpy())
            if gap.any():
                rest.loc[gap, column] = np.nan
                what = f"{column} '0' is a gap, not a reading"
                found.add("mended", what, "left empty", file=raw.file, table="lines", line=raw.line[gap])


def _clocks(raw: RawTable, column: str, texts: pd.Series) -> np.ndarray:
    cells = raw.cells.column(column)
    if pa.types.is_string(cells.type) and pc.all(pc.match_substring_regex(cells, r"^\d\d:\d\d:\d\d(\.\d+)?$")).as_py():
        return texts.to_numpy(dtype=object)  # in form already: millions of them need no second look
    codes, kinds = pd.factorize(texts)
    return np.array([*(dates.clock_of(t) for t in kinds), ""], dtype=object)[codes]


def _back_steps(frame: pd.DataFrame, raw: RawTable, found: Findings) -> None:
    """Point out fiducials that stand twice or step back within a line; the order of the file is kept."""
    fid, line = frame["fiducial"].to_numpy(float), frame["line"].to_numpy()
    step = np.diff(fid)
    same = line[1:] == line[:-1]
    for bad, what in ((same & (step == 0), "fiducial stands twice"), (same & (step < 0), "fiducial steps back")):
        rows = np.flatnonzero(bad) + 1
        if not len(rows):
            continue
        # A line flown the other way may count down all along: that is no fault.
        counting_down = {n for n, s in pd.Series(step[same]).groupby(line[1:][same]) if (s < 0).mean() > 0.9}
        rows = np.array([r for r in rows if line[r] not in counting_down], dtype=np.int64)
        if len(rows):
            found.add("look", what, "kept in the order of the file", file=raw.file, table="lines", line=raw.line[rows])


def _dated(
    table: pd.DataFrame, given: np.ndarray, p: ImportLines, file: str, found: Findings
) -> tuple[pd.DataFrame, str]:
    """Return readings with ISO dates, and the date of the survey: that by which half of the readings were made."""
    if not (given != "").any():
        return table, ""
    # Millions of readings share a few dates: each is read once.
    codes, texts = pd.factorize(given)
    first = np.unique(codes, return_index=True)[1]
    line = table["file_line"].to_numpy()[first]
    days = np.array(dates.read_dates(list(texts), line, found, file, "lines", order=p.day_order), dtype=object)
    read = days[codes]
    table = table.assign(date=read)
    counts: dict[str, int] = {}
    for day, count in zip(days.tolist(), np.bincount(codes, minlength=len(days)).tolist(), strict=True):
        counts[str(day)] = counts.get(str(day), 0) + count
    dated = sorted((d, n) for d, n in counts.items() if d)
    half, total = sum(n for _, n in dated) / 2, 0
    unread = read == ""
    if unread.any():
        found.add(
            "look", "reading has no date", "kept", file=file, table="lines", line=table["file_line"].to_numpy()[unread]
        )
    for day, count in dated:
        total += count
        if total >= half:
            return table, day
    return table, ""


def _run(inputs: Inputs, p: ImportLines, progress: Progress) -> dict[str, Item]:
    found = Findings()
    files = [p.file, *p.more]
    if p.date:
        parse_date(p.date)
    names = line_names([tables_in.split(f)[1] or tables_in.split(f)[0].stem for f in files])
    tables, texts, raws = [], [], []
    units: dict[str, str] = {}
    for number, (file, name) in enumerate(zip(files, names, strict=True)):
        progress(0.05 + 0.8 * number / len(files), "Reading")
        raw, table, mine, given = _one(file, name, p, inputs.crs, found)
        tables.append(table)
        raws.append(raw)
        texts.append(given)
        units |= mine
    table = pd.concat(tables, ignore_index=True) if len(tables) > 1 else tables[0]
    if not len(table):
        raise InputError("no reading has coordinates", where=raws[0].file)
    tell_places(table, found, raws[0].file if len(raws) == 1 else "", "lines", inputs)
    table, date = _dated(table, np.concatenate(texts), p, raws[0].file if len(raws) == 1 else "", found)
    ground = inputs.maybe("ground", Grid)
    lacking = ~np.isfinite(table["z"].to_numpy(float))
    if lacking.any():
        done = "kept without"
        if ground is not None:
            x, y = (table[c].to_numpy(float)[lacking] for c in "xy")
            z = table["z"].to_numpy(float).copy()
            z[lacking] = level_of(ground)(x, y) + p.above_ground
            table = table.assign(z=z)
            done = f"taken as {p.above_ground:g} m above the ground surface"
        found.add("look", f"{int(lacking.sum()):,} readings have no elevation", done, file=raws[0].file, table="lines")
    lines = SurveyLines(
        name=p.name or title(raws[0].path),
        crs=inputs.crs,
        table=table,
        units=units,
        date=p.date or date,
        findings=found.frame(),
    ).told_by_headings()
    return {"lines": lines}


OPERATION = Operation(
    name="import-lines",
    example=Example({}, {"file": "geophysics/airborne_magnetics.csv"}),
    title="Import survey lines",
    area="Data",
    help="Reads readings along lines, such as airborne magnetics: one table for all lines, or one a line.",
    params=ImportLines,
    run=_run,
    inputs=(ground_slot("Gives readings their elevation where they have none"),),
    outputs=(Output("lines", "lines", "Survey lines"),),
)
