"""Importing samples, stations, readings and survey lines from delimited tables, and grids from files."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ..compute.gridding.resampling import to_system
from ..compute.potential.mainfield import parse_date
from ..crs import same_system, transformers
from ..findings import Findings
from ..formats import dates, grids, tables_in
from ..formats.rawtable import RawTable
from ..items.base import Item
from ..items.fields import Grid
from ..items.points import PointSet, SurveyLines
from ..progress import Progress
from .declare import Inputs, Operation, Output, Params, param
from .detection import DetectionRule
from .reading import attributes, mapped, number_column, title


class ImportPoints(Params):
    file: str = param(
        ..., "Table", role="file", help="One row a place: easting, northing and whatever was measured there"
    )
    name: str = param("", "Name", help="The file's name when empty")
    role: Literal["samples", "stations", "readings", "workings"] = param("samples", "Rows are")
    columns: dict[str, str] = param(
        {}, "Columns", role="mapping", help="Role to column; what is not given is guessed from the headings"
    )
    below_detection: DetectionRule = param("half of limit", "Below detection is")


class ImportLines(Params):
    file: str = param(..., "Table", role="file", help="One row a reading, with a line column")
    name: str = param("", "Name", help="The file's name when empty")
    columns: dict[str, str] = param(
        {}, "Columns", role="mapping", help="Role to column; what is not given is guessed from the headings"
    )
    date: str = param("", "Date of survey", role="date", help="Year-month-day; taken from the date column when empty")


class ImportGrid(Params):
    file: str = param(..., "Grid file", role="file", help="GeoTIFF, ESRI ASCII, NetCDF or XYZ")
    name: str = param("", "Name", help="The file's name when empty")
    attribute: str = param("elevation", "Values are", help="'elevation' makes it the ground surface")
    unit: str = param("m", "Unit")


def _places(raw: RawTable, role: dict[str, str], found: Findings, table: str) -> tuple[pd.DataFrame, np.ndarray]:
    frame = pd.DataFrame(
        {c: number_column(raw, role[c]) if c in role else np.nan for c in ("x", "y", "z")}, index=range(len(raw.line))
    )
    bad = ~(np.isfinite(frame["x"]) & np.isfinite(frame["y"])).to_numpy()
    if bad.any():
        found.add(
            "left out",
            "coordinates are not numbers",
            "row left out",
            file=raw.file,
            table=table,
            line=raw.line[bad],
        )
    frame["file_line"] = raw.line
    return frame, ~bad


def _run_points(inputs: Inputs, p: ImportPoints, progress: Progress) -> dict[str, Item]:
    found = Findings()
    progress(0.1, "Reading")
    raw = tables_in.read(p.file, found, p.role)
    role = mapped(raw, "points", p.columns)
    frame, good = _places(raw, role, found, p.role)
    rest, units = attributes(raw, set(role.values()), p.below_detection, found, p.role)
    table = pd.concat([frame, rest], axis=1)[good].reset_index(drop=True)
    twice = table.duplicated(["x", "y"], keep=False).to_numpy() & (p.role != "readings")
    if twice.any():
        found.add(
            "look",
            "another row has the same place",
            "kept",
            file=raw.file,
            table=p.role,
            line=table["file_line"].to_numpy()[twice],
        )
    return {
        "points": PointSet(
            name=p.name or title(raw.path),
            crs=inputs.crs,
            table=table,
            units=units,
            role=p.role,
            findings=found.frame(),
        )
    }


def _run_lines(inputs: Inputs, p: ImportLines, progress: Progress) -> dict[str, Item]:
    found = Findings()
    progress(0.1, "Reading")
    raw = tables_in.read(p.file, found, "lines")
    role = mapped(raw, "lines", p.columns)
    frame, good = _places(raw, role, found, "lines")
    rest, units = attributes(raw, set(role.values()), "missing", found, "lines")
    codes, names = pd.factorize(raw.text(role["line"]))
    frame.insert(0, "line", pd.Index(names).astype(str).str.strip().to_numpy(dtype=object)[codes])
    table = pd.concat([frame, rest], axis=1)
    date = p.date
    if date:
        parse_date(date)
    elif "date" in role:
        # Millions of readings share a few dates: each is read once.
        codes, texts = pd.factorize(raw.text(role["date"]))
        first = np.unique(codes, return_index=True)[1]
        read = np.array(dates.read_dates(list(texts), raw.line[first], found, raw.file, "lines"), dtype=object)[codes]
        table["date"] = read
        dated = sorted(
            (str(d), int(n)) for d, n in zip(*np.unique(read.astype(str), return_counts=True), strict=True) if d
        )
        half = sum(n for _, n in dated) / 2
        date = next((d for k, (d, _) in enumerate(dated) if sum(n for _, n in dated[: k + 1]) >= half), "")
        unread = read == ""
        if unread.any():
            found.add("look", "reading has no date", "kept", file=raw.file, table="lines", line=raw.line[unread])
    table = table[good].reset_index(drop=True)
    return {
        "lines": SurveyLines(
            name=p.name or title(raw.path), crs=inputs.crs, table=table, units=units, date=date, findings=found.frame()
        )
    }


def _run_grid(inputs: Inputs, p: ImportGrid, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, _ = tables_in.split(p.file)
    values, x0, y0, dx, dy, crs = grids.read_grid(path)
    if crs and not same_system(crs, inputs.crs):
        progress(0.5, "Reprojecting")
        forward, back = transformers(crs, inputs.crs)
        values, x0, y0, dx = to_system(values, x0, y0, dx, dy, forward, back)
        dy = dx
        progress(1.0, f"Turned from {crs} into {inputs.crs}")
    return {
        "grid": Grid(
            name=p.name or title(path),
            crs=inputs.crs,
            values=values,
            x0=x0,
            y0=y0,
            dx=dx,
            dy=dy,
            attribute=p.attribute,
            unit=p.unit,
        )
    }


POINTS = Operation(
    name="import-points", title="Import samples or stations", area="Data",
    help="Reads a table of places: soil samples, gravity stations, structural readings, old workings.",
    params=ImportPoints, run=_run_points, outputs=(Output("points", "points", "Points"),),
)  # fmt: skip
LINES = Operation(
    name="import-lines", title="Import survey lines", area="Data",
    help="Reads a table of readings along lines, such as airborne magnetics.",
    params=ImportLines, run=_run_lines, outputs=(Output("lines", "lines", "Survey lines"),),
)  # fmt: skip
GRID = Operation(
    name="import-grid", title="Import a grid or DEM", area="Data",
    help="Reads a grid file. With values called 'elevation' it becomes the ground surface.",
    params=ImportGrid, run=_run_grid, outputs=(Output("grid", "grid", "Grid"),),
)  # fmt: skip
