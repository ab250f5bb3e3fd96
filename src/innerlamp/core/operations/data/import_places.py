"""Importing samples, stations and structural readings from tables, and grids from files."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd

from ...compute.gridding.resampling import to_system
from ...crs import plan_and_height, same_system, transformers
from ...declaring.operation import Example, Inputs, Operation, Output, Params, Several, param
from ...errors import InputError
from ...findings import Findings
from ...formats.grids import grid_files as grids
from ...formats.tables import columns, dates, tables_in
from ...formats.tables.rawtable import RawTable
from ...importing.choices import AboveRule, DetectionRule, NegativeRule
from ...importing.norths import North, NorthRules, to_grid
from ...importing.places_check import check_places
from ...importing.reading import LengthUnit, attributes, length_column, lifted, mapped, system_of, title, to_project
from ...importing.structures import Planes, settle_planes
from ...items.attributes import AnyQuantity, told_by
from ...items.base import Item, numeric_columns
from ...items.fields import Grid
from ...items.points import POINT_ROLES, PointSet
from ...local_grid import is_local, local_grid
from ...progress import Progress
from ...units import in_metres
from . import coded
from .systems import system_of_file, system_of_table, unit_of_heights


class ImportPoints(Params):
    file: str = param(
        ..., "Table", editor="file", help="One row a place: easting, northing and whatever was measured there"
    )
    name: str = param("", "Name", help="The file's name when empty")
    content: Literal["samples", "stations", "readings", "workings", "structures"] = param("samples", "Rows are")
    planes: Planes = param(
        "auto",
        "Planes are given as",
        help="For structures. auto goes by the headings: a strike is taken by the right-hand rule (dip to its right) unless its heading says left",
    )
    north: North = param(
        "auto",
        "Directions are from",
        help="For structures. auto goes by the heading ('Strike mag', 'Dip dir TN') and takes grid north otherwise",
        more=True,
    )
    date: str = param(
        "",
        "Date",
        editor="date",
        help="For the declination of magnetic directions; the rows' own when empty",
        more=True,
    )
    declination: Several = param(
        (),
        "Declination",
        editor="lines",
        help="Degrees, east positive, in the place of the field model's for magnetic directions",
        more=True,
    )
    columns: dict[str, str] = param(
        {}, "Columns", editor="mapping", help="Role to column; what is not given is guessed from the headings"
    )
    below_detection: DetectionRule = coded.below()
    above_limit: AboveRule = coded.above()
    above_factor: float = coded.above_factor()
    negatives: NegativeRule = coded.negatives()
    methods: Several = coded.methods()
    height_unit: LengthUnit = unit_of_heights()
    coordinates: str = system_of_table()


class ImportGrid(Params):
    file: str = param(..., "Grid file", editor="file", help="GeoTIFF, ESRI ASCII, NetCDF or XYZ")
    name: str = param("", "Name", help="The file's name when empty")
    attribute: str = param("elevation", "Values are", help="Name of what is in the cells")
    unit: str = param(
        "",
        "Unit",
        help="Unit of the values in the file; empty takes what the file says, metres for elevations. Feet are turned into metres",
    )
    tiles: Several = param(
        (),
        "Further tiles",
        editor="files",
        help="Files of the same grid beside the first one, in one system and unit: all come in as one grid; where they overlap one passes into the other",
        more=True,
    )
    layer: str = param("", "Band or variable", help="Name or number, where the file has several", more=True)
    slice_number: str = param("", "Time or level", help="Number from 1, where a variable has several", more=True)
    quantity: AnyQuantity = param(
        "auto",
        "Quantity",
        help="What the values measure; auto goes by name and unit. Elevations make a surface in space",
    )
    coordinates: str = system_of_file("the grid's")


def _repeats(table: pd.DataFrame, file: str, found: Findings) -> None:
    """Say how far repeated readings at a station are apart: the survey's own measure of its error."""
    groups = table.groupby(["x", "y"], sort=False)
    again = groups.cumcount().to_numpy() > 0
    if not again.any():
        return
    numbers = numeric_columns(table, POINT_ROLES)
    spread = [
        f"{c} {v:.3g}"
        for c in numbers
        if (v := float((groups[c].transform("max") - groups[c].transform("min")).max())) > 0
    ]
    found.add(
        "note",
        f"{int(again.sum())} repeated readings at stations",
        "kept; largest difference " + (", ".join(spread) or "none"),
        file=file,
        table="stations",
    )


_RAW_READINGS = (500.0, 20_000.0)  # mGal on the dial of a relative meter; common practice, no source
_ABSOLUTE = (976_000.0, 985_000.0)  # mGal at the surface of the Earth


def _raw_gravity(table: pd.DataFrame, units: Mapping[str, str], file: str, found: Findings) -> None:
    """Say which gravity is as it was read: from it nothing was taken off, and no anomaly can be told."""
    for column in numeric_columns(table, POINT_ROLES):
        name = str(column).lower()
        if units.get(column) not in ("mGal", "µGal", "") or not re.search(
            r"grav|reading|lectura|lecture|ablesung|mgal|dial|^g$", name
        ):
            continue
        middle = float(np.nanmedian(table[column])) * (1e-3 if units.get(column) == "µGal" else 1.0)
        what = {True: "readings of a meter", False: "gravity at the stations"}[
            _RAW_READINGS[0] <= middle <= _RAW_READINGS[1]
        ]
        if _RAW_READINGS[0] <= middle <= _RAW_READINGS[1] or _ABSOLUTE[0] <= middle <= _ABSOLUTE[1]:
            lacking = (
                "drift, tides, latitude, height and terrain"
                if what == "readings of a meter"
                else "latitude, height and terrain"
            )
            done = f"kept as they are: {lacking} have not been taken off, so that they are no anomaly"
            found.add(
                "look",
                f"{column} looks like {what} ({middle:,.0f} mGal in the middle)",
                done,
                file=file,
                table="stations",
            )


def places(
    raw: RawTable,
    role: dict[str, str],
    found: Findings,
    table: str,
    coordinates: str,
    crs: str,
    heights: LengthUnit = "auto",
) -> tuple[pd.DataFrame, np.ndarray]:
    """Return x, y, z and file_line of all rows, and which have coordinates; the others are reported."""
    units: dict[str, LengthUnit] = {"x": "auto", "y": "auto", "z": heights}
    frame = pd.DataFrame(
        {c: length_column(raw, role[c], u, found, table) if c in role else np.nan for c, u in units.items()},
        index=range(len(raw.line)),
    )
    source = system_of(coordinates, (role["x"], role["y"]), raw.layout.system)
    frame["z"] = lifted(frame["z"].to_numpy(float), source)
    frame["x"], frame["y"] = to_project(
        frame["x"].to_numpy(float), frame["y"].to_numpy(float), source, crs, found, raw.file, table
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


def tell_places(table: pd.DataFrame, found: Findings, file: str, name: str, inputs: Inputs) -> None:
    """Report rows that lie far from the others, or a table that lies far from the project."""
    x, y, line = (table[c].to_numpy() for c in ("x", "y", "file_line"))
    check_places(x.astype(float), y.astype(float), line, found, file, name, inputs.crs, inputs.area)


def _dates(raw: RawTable, role: dict[str, str], found: Findings) -> list[str]:
    """ISO dates of rows, '' where the table has none."""
    column = next((c for c in raw.layout.columns if c not in role.values() and columns.names(c, "date")), "")
    if not column:
        return [""] * len(raw.line)
    return dates.read_dates(raw.text(column).tolist(), raw.line, found, raw.file, "structures")


def _run_points(inputs: Inputs, p: ImportPoints, progress: Progress) -> dict[str, Item]:
    found = Findings()
    progress(0.1, "Reading")
    raw = tables_in.read(p.file, found, p.content)
    role = mapped(raw, "structures" if p.content == "structures" else "points", p.columns)
    frame, good = places(raw, role, found, p.content, p.coordinates, inputs.crs, p.height_unit)
    rest, units = attributes(raw, {*role.values(), "file_line"}, coded.rules_of(p), found, p.content)
    if p.content == "structures":
        planes, plane_units = settle_planes(raw, role, p.planes, found)
        turned = to_grid(
            planes["dip direction"].to_numpy(float),
            role["direction"],
            frame.assign(hole="", date=_dates(raw, role, found)),
            inputs.crs,
            NorthRules.told(p.north, p.date, p.declination, raw.layout.system or p.coordinates),
            found,
            raw.file,
            "structures",
        )
        planes = planes.assign(**{"dip direction": turned})
        frame, units = pd.concat([frame, planes], axis=1), {**plane_units, **units}
    table = pd.concat([frame, rest], axis=1)[good].reset_index(drop=True)
    tell_places(table, found, raw.file, p.content, inputs)
    if p.content == "stations":
        _repeats(table, raw.file, found)
        _raw_gravity(table, units, raw.file, found)
    twice = table.duplicated(["x", "y"], keep=False).to_numpy() & (p.content in ("samples", "workings"))
    if twice.any():
        found.add(
            "look",
            "another row has the same place",
            "kept",
            file=raw.file,
            table=p.content,
            line=table["file_line"].to_numpy()[twice],
        )
    return {
        "points": PointSet(
            name=p.name or title(raw.path),
            crs=inputs.crs,
            table=table,
            units=units,
            content=p.content,
            findings=found.frame(),
        ).told_by_headings()
    }


def _tiled(first: grids.GridFile, path: Path, p: ImportGrid, progress: Progress) -> grids.GridFile:
    """The grid of several tiles, on the finest of their cells."""
    from ...compute.gridding.cells import Cells, joined

    every = [first]
    for number, file in enumerate(p.tiles):
        progress(0.1 + 0.5 * number / len(p.tiles), f"Reading {number + 2} of {len(p.tiles) + 1} tiles")
        tile, _ = tables_in.split(file)
        read = grids.read_grid(tile, p.layer, p.slice_number)
        one, other = (f"'{read.crs}' or '{read.unit}'", f"'{first.crs}' or '{first.unit}'")
        if read.crs != first.crs or read.unit != first.unit:
            raise InputError(
                f"the tile is in {one}, the first one in {other}",
                where=tile.name,
                fix=f"Import it apart from {path.name}",
            )
        every.append(read)
    cell = min(min(g.dx, g.dy) for g in every)
    parts = [Cells(g.values, g.x0, g.y0, g.dx, g.dy) for g in every]
    whole, _ = joined(parts, cell, "fade", False)
    progress(0.6, f"{len(every)} tiles: {whole.values.shape[1]:,} × {whole.values.shape[0]:,} cells")
    return first._replace(values=whole.values, x0=whole.x0, y0=whole.y0, dx=cell, dy=cell)


def _run_grid(inputs: Inputs, p: ImportGrid, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, _ = tables_in.split(p.file)
    read = grids.read_grid(path, p.layer, p.slice_number)
    if p.tiles:
        read = _tiled(read, path, p, progress)
    values, x0, y0, dx, dy, crs = read[:6]
    own = local_grid(p.coordinates) if not crs and is_local(p.coordinates) else None
    if own is not None:
        values, x0, y0, dx = to_system(values, x0, y0, dx, dy, own.to_project, own.to_local)
        dy = dx
        progress(0.5, f"Turned from a local grid: {own.words}")
    crs, height_unit = (
        ("", "")
        if own is not None
        else plan_and_height(crs or p.coordinates.strip())
        if crs or p.coordinates.strip()
        else ("", "")
    )
    if crs and not same_system(crs, inputs.crs):
        progress(0.5, "Reprojecting")
        forward, back = transformers(crs, inputs.crs)
        values, x0, y0, dx = to_system(values, x0, y0, dx, dy, forward, back)
        dy = dx
        progress(1.0, f"Turned from {crs} into {inputs.crs}")
    unit = p.unit.strip() or read.unit
    if not unit and height_unit and told_by(p.attribute, "m") in ("elevation", "length"):
        unit = height_unit
    quantity = told_by(p.attribute, unit or "m") if p.quantity == "auto" else p.quantity
    if quantity in ("elevation", "length", "thickness"):
        metres = in_metres(unit or "m")
        if metres is None:
            raise InputError(f"'{unit}' is no length", where=path.name, fix="Say the unit of the values: m or ft")
        if metres != 1.0:
            values = values * metres
            progress(1.0, f"Turned from {unit} into metres")
        unit = "m"
        if own is not None and quantity == "elevation":
            values = values + own.up
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
            unit=unit,
            quantities={p.attribute: quantity},
        )
    }


POINTS = Operation(
    name="import-points",
    example=Example({}, {"file": "geochemistry/soils_emberlow.csv"}),
    title="Import samples or stations",
    area="Data",
    help="Reads a table of places: soil samples, gravity stations, structural readings, old workings.",
    params=ImportPoints,
    run=_run_points,
    outputs=(Output("points", "points", "Points"),),
    renamed={"role": "content"},
)
GRID = Operation(
    name="import-grid",
    example=Example({}, {"file": "terrain/dem_20m.asc"}),
    title="Import a grid or DEM",
    area="Data",
    help="Reads a grid file. A grid of elevations becomes the ground surface.",
    params=ImportGrid,
    run=_run_grid,
    outputs=(Output("grid", "grid", "Grid"),),
)
