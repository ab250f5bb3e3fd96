"""The tables of a drillhole import: collars, surveys, intervals and readings, each read, mapped and checked."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np
import pandas as pd

from ..compute.drilling import checks
from ..compute.drilling.overlaps import Overlaps
from ..errors import InputError
from ..findings import Findings
from ..formats.tables import columns, dates, tables_in
from ..formats.tables.dates import DayOrder
from ..formats.tables.rawtable import RawTable
from ..items.holes import INTERVAL_PLACES
from . import plausible
from .angles import negative_down
from .choices import Dips
from .detection import CellRules
from .reading import LengthUnit, attributes, length_column, mapped, number_column, system_of, to_project

# Columns that the tables have of themselves; a file that has them as well was written by this program or another one.
OWN = (*INTERVAL_PLACES, "line", "hole", "from_m", "to_m", "depth_m")
North = Literal["auto", "grid", "true", "magnetic"]


def read_collars(
    file: str,
    mapping: Mapping[str, str],
    unit: LengthUnit,
    ground: object,
    found: Findings,
    order: DayOrder,
    coordinates: str,
    crs: str,
    heights: LengthUnit = "auto",
) -> tuple[pd.DataFrame, str, str]:
    """Return checked collars and the headings of their azimuth and dip; elevations may come from the ground.

    `ground` is a function of eastings and northings, or None.
    """
    raw = tables_in.read(file, found, "collar")
    role = mapped(raw, "collar", mapping)
    table = pd.DataFrame({"hole": raw.text(role["hole"])})
    for name in ("x", "y"):
        table[name] = length_column(raw, role[name], "auto", found, "collar")
    table["x"], table["y"] = to_project(
        table["x"].to_numpy(float),
        table["y"].to_numpy(float),
        system_of(coordinates, (role["x"], role["y"])),
        crs,
        found,
        raw.file,
        "collar",
    )
    table["z"] = length_column(raw, role["z"], heights, found, "collar") if "z" in role else np.nan
    lacking = ~np.isfinite(table["z"].to_numpy())
    if lacking.any() and callable(ground):
        level = ground(table["x"].to_numpy(float), table["y"].to_numpy(float))
        fill = lacking & np.isfinite(level)
        table.loc[fill, "z"] = level[fill]
        ids = table["hole"].fillna("").astype(str).str.strip().to_numpy(dtype=object)
        found.add(
            "mended",
            "collar has no elevation",
            [f"taken from the ground surface: {v:.1f} m" for v in level[fill]],
            file=raw.file,
            table="collar",
            line=raw.line[fill],
            hole=ids[fill],
        )
    elif "z" not in role and not callable(ground):
        raise InputError(
            "no column for Elevation",
            where=raw.file,
            fix="Choose it in the mapping, or give a ground surface to take it from",
        )
    table["depth_m"] = length_column(raw, role["depth_m"], unit, found, "collar") if "depth_m" in role else np.nan
    for name in ("azimuth", "dip"):
        if name in role:
            table[name] = number_column(raw, role[name])
    ids_text = table["hole"].fillna("").astype(str).str.strip()
    if "date" in role:
        table["date"] = dates.read_dates(
            raw.text(role["date"]).tolist(), raw.line, found, raw.file, "collar", ids_text.tolist(), order
        )
    for column in raw.layout.columns:
        if column not in role.values():
            table[column] = raw.text(column)
    table["line"] = raw.line
    if "depth_m" in role:
        bad = ~np.isfinite(table["depth_m"].to_numpy())
        if bad.any():
            found.add(
                "mended",
                "final depth is not a number",
                "taken from the deepest row of the other tables",
                file=raw.file,
                table="collar",
                line=raw.line[bad],
                hole=ids_text[bad].to_numpy(),
            )
    return checks.check_collars(table, found, raw.file), role.get("azimuth", ""), role.get("dip", "dip")


def read_surveys(
    file: str,
    mapping: Mapping[str, str],
    unit: LengthUnit,
    dips: Dips,
    collars: pd.DataFrame,
    collar_file: str,
    found: Findings,
    strays: dict[str, pd.DataFrame],
    dip_heading: str = "dip",
) -> tuple[pd.DataFrame, str]:
    """Return checked surveys, dips negative down, and the heading of the azimuth.

    Holes without a reading take azimuth and dip of their collar where it has them; the rest are vertical.
    """
    name = collar_file
    if file:
        raw = tables_in.read(file, found, "survey")
        role = mapped(raw, "survey", mapping)
        name = raw.file
        table = pd.DataFrame(
            {
                "hole": raw.text(role["hole"]),
                "depth_m": length_column(raw, role["depth_m"], unit, found, "survey"),
                **{r: number_column(raw, role[r]) for r in ("azimuth", "dip")},
                "line": raw.line,
            }
        )
        heading, azimuth_heading = role["dip"], role["azimuth"]
    else:
        columns_of = {"hole": "object", "depth_m": "float64", "azimuth": "float64", "dip": "float64", "line": "int64"}
        table = pd.DataFrame({c: pd.Series(dtype=np.dtype(t)) for c, t in columns_of.items()})
        heading = azimuth_heading = ""
    own = _collar_dips(collars, dips, dip_heading, found, collar_file)
    known = own.set_index("hole")["dip"] if len(own) else None
    table = negative_down(table, dips, heading, found, name, known)
    _keep_strays(table, collars, strays, "survey")
    table = checks.check_surveys(table, collars, found, name)
    missing = collars[~collars["hole"].isin(table["hole"].unique())]
    given = missing[missing["hole"].isin(own["hole"])]
    if len(given):
        found.add(
            "note",
            "hole has no survey",
            "azimuth and dip of the collar taken",
            file=collar_file,
            table="survey",
            line=given["line"].to_numpy(),
            hole=given["hole"].to_numpy(),
        )
        extra = own[own["hole"].isin(given["hole"])]
        table = pd.concat([table, extra[table.columns]], ignore_index=True)
        missing = missing[~missing["hole"].isin(given["hole"])]
        azimuth_heading = azimuth_heading or "collar"
    table = checks.tell_upward(table, found, name)
    if not len(table):
        found.add("note", "no survey table was given", "all holes taken as vertical", table="survey")
    else:
        found.add(
            "look",
            "hole has no survey",
            "taken as vertical",
            file=name,
            table="survey",
            hole=missing["hole"].to_numpy(),
        )
    return table.drop(columns="line").reset_index(drop=True), azimuth_heading


def _collar_dips(collars: pd.DataFrame, dips: Dips, heading: str, found: Findings, file: str) -> pd.DataFrame:
    """Return azimuth and dip (negative down) of the collars that have both, as readings at the collar."""
    names = ["hole", "depth_m", "azimuth", "dip", "line"]
    if not {"azimuth", "dip"} <= set(collars.columns):
        return pd.DataFrame({c: pd.Series(dtype="object" if c == "hole" else "float64") for c in names})
    both = collars[np.isfinite(collars["azimuth"]) & np.isfinite(collars["dip"])]
    own = both[["hole", "azimuth", "dip", "line"]].assign(depth_m=0.0)[names].reset_index(drop=True)
    return negative_down(own, dips, heading, found, file)


def _keep_strays(table: pd.DataFrame, collars: pd.DataFrame, strays: dict[str, pd.DataFrame], name: str) -> None:
    """Keep rows whose hole has no collar: they are left out, not lost."""
    codes, kinds = pd.factorize(table["hole"].astype("object"), use_na_sentinel=False)
    ids = np.array(["" if pd.isna(k) else str(k).strip() for k in kinds], dtype=object)
    lost = (~pd.Index(ids).isin(collars["hole"]) & (ids != ""))[codes] if len(ids) else np.zeros(0, dtype=bool)
    if lost.any():
        strays[name] = table.assign(hole=ids[codes])[lost].reset_index(drop=True)


def is_interval_table(file: str, mapping: Mapping[str, str]) -> bool:
    """Return whether a table has intervals (from, to); the alternative is readings at single depths."""
    have = tables_in.look(file).columns
    return not columns.missing({**columns.guess(have, "interval"), **mapping}, "interval")


def read_downhole(
    file: str,
    name: str,
    kind: Literal["interval", "reading"],
    mapping: Mapping[str, str],
    unit: LengthUnit,
    collars: pd.DataFrame,
    rules: CellRules,
    found: Findings,
    strays: dict[str, pd.DataFrame],
    rule: Overlaps = "trim",
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return a checked table of intervals or of readings at single depths, and the unit of each attribute."""
    raw = tables_in.read(file, found, name)
    role = mapped(raw, kind, mapping)
    frame, units = _attributes(raw, role, rules, found, name)
    for column in ("to_m", "from_m") if kind == "interval" else ("depth_m",):
        frame.insert(0, column, length_column(raw, role[column], unit, found, name))
    frame.insert(0, "hole", raw.text(role["hole"]))
    frame["line"] = raw.line
    _keep_strays(frame, collars, strays, name)
    plausible.check(frame, units, found, raw.file, name)
    if kind == "reading":
        return checks.check_readings(frame, collars, found, raw.file, name), units
    return checks.check_intervals(frame, collars, found, raw.file, name, rule), units


def _attributes(
    raw: RawTable, role: Mapping[str, str], rules: CellRules, found: Findings, name: str
) -> tuple[pd.DataFrame, dict[str, str]]:
    ids = raw.text(role["hole"]).fillna("").astype(str).str.strip().to_numpy(dtype=object)
    used = set(role.values())
    places = [c for c in raw.layout.columns if c in OWN and c not in used]
    if places:
        found.add(
            "note",
            f"columns {', '.join(places)}",
            "not taken: places follow from collars and surveys",
            file=raw.file,
            table=name,
        )
    return attributes(raw, used | set(places), rules, found, name, ids)
