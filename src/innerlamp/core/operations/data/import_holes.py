"""Importing drillholes from any tables, with a report of everything that was changed or left out."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pandas as pd

from ...compute.drilling import checks, desurvey, place_checks
from ...compute.drilling.overlaps import Overlaps
from ...declaring.operation import Cost, Example, Inputs, Operation, Output, Params, Several, ground_slot, param
from ...findings import Findings
from ...formats.tables import tables_in
from ...formats.tables.dates import DayOrder
from ...importing import hole_tables
from ...importing.assay_tables import AssayFile, one_table, signed_controls
from ...importing.choices import AboveRule, DetectionRule, Dips, NegativeRule
from ...importing.control_samples import Controls, read_controls, together
from ...importing.daughters import found_daughters, with_parents
from ...importing.hole_paths import path_of, place, place_readings, stations_table
from ...importing.norths import North, NorthRules
from ...importing.offers import own_kind
from ...importing.places_check import check_places
from ...importing.reading import LengthUnit
from ...items.base import Item
from ...items.fields import Grid
from ...items.holes import HoleSet
from ...progress import Progress
from . import coded
from .ground import level_of
from .systems import system_of_table, unit_of_heights


class HoleFiles(Params):
    """The tables of holes and how they are to be read; importing and adding share them."""

    collar: str = param(
        ...,
        "Collar table",
        editor="file",
        help="One row a hole: ID, easting, northing; elevation, final depth, azimuth and dip if known. A sheet or database table is named file#table",
    )
    survey: str = param(
        "",
        "Survey table",
        editor="file",
        help="Depth, azimuth and dip readings; without it the collar's azimuth and dip hold, else holes are vertical",
    )
    surveys: Several = param(
        (),
        "Further survey tables",
        editor="files",
        help="Readings of other instruments or campaigns, parted by semicolons: all come together as one, with the file of each",
        more=True,
    )
    survey_wins: hole_tables.SurveyWins = param(
        "later file",
        "Where two files have a reading",
        help="of one hole within half a metre of depth, that of the later or earlier file counts; alone: a hole takes all its readings from that file",
        more=True,
    )
    assay: str = param("", "Assay table", editor="file", help="From, to and grades")
    assays: Several = param(
        (),
        "Further assay tables",
        editor="files",
        help="Files of other laboratories or batches, parted by semicolons: all come together as one table with the columns laboratory and batch",
    )
    lithology: str = param("", "Lithology table", editor="file", help="From, to and rock codes")
    more: Several = param(
        (),
        "More tables",
        editor="files",
        help="Any number of interval tables (from, to), tables of readings (depth) and LAS logs; several are parted by semicolons",
    )
    controls: str = param(
        "",
        "Control samples",
        editor="file",
        help="Standards, blanks and duplicates of the laboratory: sample, kind of control, name of the standard, and grades",
        more=True,
    )
    columns: dict[str, dict[str, str]] = param(
        {},
        "Columns",
        editor="mapping",
        help="Table (or its file) to role to column; what is not given is guessed from the headings",
    )
    dips: Dips = param("auto", "Dips are")
    day_order: DayOrder = param(
        "auto", "Dates like 03/04/2023 are", help="auto goes by the rest of the column", more=True
    )
    north: North = param(
        "auto",
        "Azimuths are from",
        help="auto goes by each table's heading ('Azi mag', 'Azimut vrai', 'Azi TN') and takes grid north otherwise",
        more=True,
    )
    date: str = param(
        "",
        "Date",
        editor="date",
        help="For the declination of all magnetic azimuths; the readings' own dates when empty, else those of their collars",
        more=True,
    )
    declination: Several = param(
        (),
        "Declination",
        editor="lines",
        help="Degrees, east positive, in the place of the field model's: one number for all, or file or hole before it, such as gyro.csv=11.2; RC001=9.5",
        more=True,
    )
    depth_unit: LengthUnit = param("auto", "Depths are in", help="auto goes by the headings ('From ft')", more=True)
    height_unit: LengthUnit = unit_of_heights()
    coordinates: str = system_of_table()
    method: desurvey.Method = param("minimum curvature", "Path between readings")
    below_detection: DetectionRule = coded.below()
    above_limit: AboveRule = coded.above()
    above_factor: float = coded.above_factor()
    negatives: NegativeRule = coded.negatives()
    methods: Several = coded.methods()
    overlaps: Overlaps = param(
        "trim",
        "Intervals that overlap",
        help="trim: the later one starts where the earlier ends; what lies within another is left out in both",
        more=True,
    )
    bend: float = param(15.0, "Report bends above", unit="° per 30 m", above=0.0, more=True)
    off_ground: float = param(10.0, "Report collars off the ground by", unit="m", above=0.0, more=True)


class ImportHoles(HoleFiles):
    name: str = param("Drillholes", "Name")


def read_holes(inputs: Inputs, p: ImportHoles, progress: Progress, earlier: HoleSet | None = None) -> HoleSet:
    """Return the holes of a form: read, checked, desurveyed; `earlier` are holes that came before, which can be parents of these.

    Raises
    ------
    InputError
        When a file can't be read or a needed column is missing.
    """
    found = Findings()
    rules = coded.rules_of(p)
    dem = inputs.maybe("ground", Grid)

    progress(0.02, "Reading collars")
    ground = level_of(dem) if dem is not None else None
    collars, heading, dip_heading = hole_tables.read_collars(
        p.collar,
        p.columns.get("collar", {}),
        p.depth_unit,
        ground,
        found,
        p.day_order,
        p.coordinates,
        inputs.crs,
        p.height_unit,
    )
    file = tables_in.split(p.collar)[0].name
    x, y = (collars[c].to_numpy(float) for c in "xy")
    area = dem.bounds[:4] if dem is not None else inputs.area
    ids = collars["hole"].to_numpy(dtype=object)
    line = collars["line"].to_numpy()
    check_places(x, y, line, found, file, "collar", inputs.crs, area, ids, strict=dem is not None)
    if ground is not None:
        level = ground(x, y)
        place_checks.check_off_ground(collars, level, p.off_ground, found, file)
        place_checks.check_feet(collars, level, found, file)
    progress(0.1, "Reading surveys")
    strays: dict[str, pd.DataFrame] = {}
    sources = [(f, p.columns.get(n) or p.columns.get(f, {})) for n, f in _survey_names(p).items()]
    surveys = hole_tables.read_surveys(
        hole_tables.SurveyFiles(tuple(sources), p.depth_unit, p.dips, p.survey_wins),
        collars,
        file,
        found,
        strays,
        inputs.crs,
        NorthRules.told(p.north, p.date, p.declination, p.coordinates),
        (heading, dip_heading),
    )
    tables: dict[str, pd.DataFrame] = {}
    readings: dict[str, pd.DataFrame] = {}
    units: dict[str, str] = {}
    labs = [f for f in (p.assay, *p.assays) if f]
    along = {"lithology": p.lithology, **_names(p.more)}
    along = {**{"assay" if not k else f"assay {k + 1}": f for k, f in enumerate(labs)}, **along}
    assays: list[AssayFile] = []
    controls: list[Controls] = []
    for number, (name, source) in enumerate(along.items()):
        if not source:
            continue
        progress(0.2 + 0.6 * number / len(along), f"Reading {name}")
        mapping = p.columns.get(name) or p.columns.get(source, {})
        lab, told = number < len(labs), len(controls)
        whole = lab or name == "lithology" or hole_tables.is_interval_table(source, mapping)
        table, table_units = hole_tables.read_downhole(
            source,
            "assay" if lab else name,
            "interval" if whole else "reading",
            mapping,
            p.depth_unit,
            collars,
            rules,
            found,
            strays,
            p.overlaps,
            controls if lab else None,
        )
        if lab:
            name_of_file = tables_in.split(source)[0].name
            if len(labs) > 1:
                controls[told:] = [signed_controls(c, name_of_file) for c in controls[told:]]
            assays.append(AssayFile(name_of_file, table, table_units))
            continue
        if whole:
            checks.check_coverage(table, collars, found, tables_in.split(source)[0].name, name)
        _merge(tables if whole else readings, name, table)
        units |= table_units
    if assays:
        table, table_units = one_table(assays, rules, p.overlaps, found)
        checks.check_coverage(table, collars, found, assays[0].file if len(assays) == 1 else "", "assay")
        tables, units = {"assay": table, **tables}, {**units, **table_units}
    collars = _depths(collars, surveys, {**tables, **readings})
    before = (earlier.collars, earlier.surveys) if earlier is not None else (None, None)
    daughters = {d.hole: d for d in found_daughters(collars, surveys, tables, found, file, before[0])}
    if daughters:
        surveys = with_parents(surveys, list(daughters.values()), found, file, before[1])
    if daughters or "wedge_m" in collars:
        said = collars["parent"] if "parent" in collars else [""] * len(collars)
        collars = collars.assign(
            parent=[daughters[h].parent if h in daughters else p_ for h, p_ in zip(collars["hole"], said, strict=True)],
            wedge_m=[daughters[h].wedge_m if h in daughters else np.nan for h in collars["hole"]],
        )
    progress(0.82, "Desurveying")
    path = path_of(collars, surveys, tables, p.method)
    place_checks.check_kinks(
        path, collars["hole"].to_numpy(dtype=object), p.bend, found, Path(p.survey or p.collar).name
    )
    tables = {name: place(table, collars, path) for name, table in tables.items()}
    readings = {name: place_readings(table, collars, path) for name, table in readings.items()}
    progress(0.98, "Done")
    point_out_alikes(collars, strays, found)
    if p.controls:
        controls.append(read_controls(p.controls, p.columns.get("controls", {}), rules, found))
    holes = HoleSet(
        name=p.name,
        crs=inputs.crs,
        collars=collars,
        surveys=surveys,
        stations=stations_table(path, collars),
        tables=tables,
        readings=readings,
        units=units,
        findings=found.frame(),
        method=p.method,
        controls=together(controls, tables.get("assay"), units),
        strays=strays,
    )
    return holes.told_by_headings()


def _run(inputs: Inputs, p: ImportHoles, progress: Progress) -> dict[str, Item]:
    return {"holes": read_holes(inputs, p, progress)}


def point_out_alikes(collars: pd.DataFrame, strays: Mapping[str, pd.DataFrame], found: Findings) -> None:
    """Report IDs without a collar that are nearly those of one; merging is the user's decision."""
    alike = checks.look_alikes(collars["hole"], strays)
    for row in alike[alike["table"] != "collar"].itertuples():
        found.add(
            "look",
            f"hole '{row.hole}' has no collar and is written nearly like '{row.like}'",
            "rows kept aside; merge them if they are one hole",
            table=str(row.table),
            hole=str(row.hole),
        )


def _names(files: tuple[str, ...]) -> dict[str, str]:
    """Names of further tables: the sheet or table, else the file; logs come together as one table."""
    out: dict[str, str] = {}
    for file in files:
        path, part = tables_in.split(file)
        log = tables_in.medium_of(path).name == "LAS log"
        base = ("logs" if log else own_kind(file)) or re.sub(r"[_\s]+", " ", part or path.stem).strip().lower()
        name, number = base, 2
        while name in out or name in ("assay", "lithology", "collar", "survey", "findings", "by hole"):
            name, number = f"{base} {number}", number + 1
        out[name] = file
    return out


def _merge(into: dict[str, pd.DataFrame], name: str, table: pd.DataFrame) -> None:
    """Put a table under its name; logs with the same curves become one table, also several runs in one hole."""
    for other, present in into.items():
        if set(present.columns) == set(table.columns) and not _meet(present, table):
            into[other] = pd.concat([present, table[present.columns]], ignore_index=True)
            return
    into[name] = table


def _meet(a: pd.DataFrame, b: pd.DataFrame) -> bool:
    """Return whether two tables have rows in one stretch of a hole."""
    if "depth_m" not in a.columns:
        return bool(set(a["hole"]) & set(b["hole"]))
    spans = [t.groupby("hole", observed=True)["depth_m"].agg(["min", "max"]) for t in (a, b)]
    both = spans[0].index.intersection(spans[1].index)
    first, second = spans[0].loc[both], spans[1].loc[both]
    return bool(((first["min"] <= second["max"]) & (second["min"] <= first["max"])).any())


def _survey_names(p: HoleFiles) -> dict[str, str]:
    """Tables of survey readings by the names under which their columns are chosen."""
    files = [f for f in (p.survey, *p.surveys) if f]
    return {"survey" if not k else f"survey {k + 1}": f for k, f in enumerate(files)}


def _depths(collars: pd.DataFrame, surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame]) -> pd.DataFrame:
    unknown = ~np.isfinite(collars["depth_m"].to_numpy(float))
    if not unknown.any():
        return collars
    deepest = surveys.groupby("hole")["depth_m"].max() if len(surveys) else pd.Series(dtype=float)
    for table in tables.values():
        end = "to_m" if "to_m" in table.columns else "depth_m"
        deepest = pd.concat([deepest, table.groupby("hole", observed=True)[end].max()])
    deepest = deepest.groupby(level=0).max()
    filled = collars["hole"].map(deepest).fillna(0.0)
    return collars.assign(depth_m=np.where(unknown, filled, collars["depth_m"]))


def _estimate(inputs: Inputs, p: HoleFiles) -> Cost:
    files = [f for f in (p.collar, p.survey, *p.surveys, p.assay, *p.assays, p.lithology, p.controls, *p.more) if f]
    size = sum(tables_in.split(f)[0].stat().st_size for f in files)
    return Cost(f"{size / 1e6:.1f} MB to read", size * 12 / 1e6, size / 6e6)


OPERATION = Operation(
    name="import-holes",
    example=Example(
        {},
        {"collar": "drilling/collars.csv", "survey": "drilling/downhole_surveys.csv", "assay": "drilling/assays.csv"},
    ),
    title="Import drillholes",
    area="Data",
    help="Reads collar, survey and any interval, reading and log tables, checks them, and desurveys the holes. Everything that was mended or left out is listed in the findings of the result.",
    params=ImportHoles,
    run=_run,
    inputs=(ground_slot("Gives collars their elevation, and is compared with them"),),
    outputs=(Output("holes", "holes", "Drillholes"),),
    estimate=_estimate,
)
