"""The tables of a drillhole import: collars, surveys, intervals and readings, each read, mapped and checked."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
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
from .control_samples import Controls, parted
from .detection import CellRules
from .norths import NorthRules, to_grid
from .reading import LengthUnit, attributes, length_column, lifted, mapped, number_column, system_of, to_project

# Columns that the tables have of themselves; a file that has them as well was written by this program or another one.
OWN = (*INTERVAL_PLACES, "line", "hole", "from_m", "to_m", "depth_m")
SurveyWins = Literal["later file", "earlier file", "later file alone", "earlier file alone"]


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
        system_of(coordinates, (role["x"], role["y"]), raw.layout.system),
        crs,
        found,
        raw.file,
        "collar",
    )
    table["z"] = np.nan
    if "z" in role:
        table["z"] = lifted(length_column(raw, role["z"], heights, found, "collar"), coordinates.strip())
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
    if "declination" in role:
        table["declination"] = number_column(raw, role["declination"])
    if "parent" in role:
        table["parent"] = raw.text(role["parent"]).fillna("").astype(str).str.strip()
    if "wedge_m" in role:
        table["wedge_m"] = length_column(raw, role["wedge_m"], unit, found, "collar")
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


@dataclass(frozen=True)
class SurveyFiles:
    """The tables of readings along holes, in the order in which they were given, and how they come together.

    Attributes
    ----------
    files
        Path (with ``#part``) and the columns chosen by role of each.
    wins
        Which counts where two have a reading of one hole at one depth.
    """

    files: tuple[tuple[str, Mapping[str, str]], ...]
    unit: LengthUnit = "auto"
    dips: Dips = "auto"
    wins: SurveyWins = "later file"


_NEAR = 0.5  # metres of depth within which readings of two instruments are of one place


def read_surveys(
    given: SurveyFiles,
    collars: pd.DataFrame,
    collar_file: str,
    found: Findings,
    strays: dict[str, pd.DataFrame],
    crs: str,
    rules: NorthRules,
    headings: tuple[str, str] = ("azimuth", "dip"),
) -> pd.DataFrame:
    """Return checked surveys: azimuths from grid north, dips negative down; of several files with the name of each.

    Holes without a reading take azimuth and dip of their collar where it has them; the rest are vertical. `headings`
    are those of the collars' azimuth and dip: a collar's may be from another north than the readings.
    """
    own = _collar_dips(collars, given.dips, headings[1], found, collar_file)
    known = own.set_index("hole")["dip"] if len(own) else None
    own = _from_grid_north(own, headings[0], collars, crs, rules, found, collar_file)
    parts = [
        _read_survey_file(file, mapping, given, collars, found, strays, crs, rules, known)
        for file, mapping in given.files
    ]
    name = parts[0][1] if parts else collar_file
    table = _in_one([t for t, _ in parts], given.wins, found) if parts else own.iloc[:0]
    missing = collars[~collars["hole"].isin(table["hole"].unique())]
    lent = missing[missing["hole"].isin(own["hole"])]
    if len(lent):
        found.add(
            "note",
            "hole has no survey",
            "azimuth and dip of the collar taken",
            file=collar_file,
            table="survey",
            line=lent["line"].to_numpy(),
            hole=lent["hole"].to_numpy(),
        )
        table = pd.concat([table, own[own["hole"].isin(lent["hole"])]], ignore_index=True)
        missing = missing[~missing["hole"].isin(lent["hole"])]
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
    return table.drop(columns="line").reset_index(drop=True)


def _read_survey_file(
    file: str,
    mapping: Mapping[str, str],
    given: SurveyFiles,
    collars: pd.DataFrame,
    found: Findings,
    strays: dict[str, pd.DataFrame],
    crs: str,
    rules: NorthRules,
    known: pd.Series | None,
) -> tuple[pd.DataFrame, str]:
    """One table of readings, checked, and its file's name."""
    raw = tables_in.read(file, found, "survey")
    role = mapped(raw, "survey", mapping)
    table = pd.DataFrame(
        {
            "hole": raw.text(role["hole"]),
            "depth_m": length_column(raw, role["depth_m"], given.unit, found, "survey"),
            **{r: number_column(raw, role[r]) for r in ("azimuth", "dip")},
            "line": raw.line,
        }
    )
    ids = table["hole"].fillna("").astype(str).str.strip()
    if "date" in role:
        table["date"] = dates.read_dates(
            raw.text(role["date"]).tolist(), raw.line, found, raw.file, "survey", ids.tolist()
        )
    if "instrument" in role:
        table["instrument"] = raw.text(role["instrument"]).fillna("").astype(str).str.strip()
    if len(given.files) > 1:
        table["file"] = raw.file
    if "declination" in role:
        table["declination"] = number_column(raw, role["declination"])
    table = negative_down(table, given.dips, role["dip"], found, raw.file, known)
    _keep_strays(table, collars, strays, "survey" if file == given.files[0][0] else f"survey {raw.file}")
    table = checks.check_surveys(table, collars, found, raw.file)
    table = _from_grid_north(table, role["azimuth"], collars, crs, rules, found, raw.file)
    return table.drop(columns=["declination"], errors="ignore"), raw.file


def _from_grid_north(
    table: pd.DataFrame,
    heading: str,
    collars: pd.DataFrame,
    crs: str,
    rules: NorthRules,
    found: Findings,
    file: str,
) -> pd.DataFrame:
    """Readings with their azimuths from grid north: each by its own date, else its hole's, and the place of its hole."""
    if not len(table):
        return table
    of_hole = collars.drop_duplicates("hole").set_index("hole")
    places = pd.DataFrame({"hole": table["hole"].astype(str).to_numpy()})
    for name in "xyz":
        places[name] = table["hole"].map(of_hole[name]).to_numpy(float)
    dated = table["hole"].map(of_hole["date"]).fillna("") if "date" in of_hole else pd.Series("", index=table.index)
    mine = table["date"].fillna("") if "date" in table else pd.Series("", index=table.index)
    places["date"] = np.where(mine.to_numpy(dtype=object) != "", mine, dated)
    own = np.full(len(table), np.nan)
    if "declination" in of_hole:
        own = pd.to_numeric(table["hole"].map(of_hole["declination"]), errors="coerce").to_numpy(float)
    if "declination" in table:
        own = np.where(np.isfinite(table["declination"]), table["declination"], own)
    azimuth = table["azimuth"].to_numpy(float)
    return table.assign(azimuth=to_grid(azimuth, heading, places, crs, rules, found, file, "survey", own))


def _in_one(tables: Sequence[pd.DataFrame], wins: SurveyWins, found: Findings) -> pd.DataFrame:
    """Readings of several files as one table; what gives way to another file's is said."""
    if len(tables) == 1:
        return tables[0]
    order = list(range(len(tables)))
    if wins.startswith("later"):
        order.reverse()
    taken: dict[str, list[np.ndarray]] = {}
    kept: dict[int, pd.DataFrame] = {}
    for number in order:
        table = tables[number]
        out = np.zeros(len(table), dtype=bool)
        depth = table["depth_m"].to_numpy(float)
        before = {h: np.sort(np.concatenate(d)) for h, d in taken.items()}
        groups = pd.Series(np.arange(len(table))).groupby(table["hole"].astype(str).to_numpy(), sort=False)
        for hole, rows in groups:
            at = rows.to_numpy()
            others = before.get(str(hole))
            if others is not None and len(others):
                if wins in ("later file alone", "earlier file alone"):
                    out[at] = True
                else:
                    nearest = np.abs(others[None, :] - depth[at][:, None]).min(axis=1)
                    out[at] = nearest < _NEAR
            taken.setdefault(str(hole), []).append(depth[at][~out[at]])
        if out.any():
            rows_out = table[out]
            found.add(
                "left out",
                "another file has a survey reading here",
                f"that of the {wins.split()[0]} file is taken",
                file=str(table["file"].iloc[0]),
                table="survey",
                line=rows_out["line"].to_numpy(),
                hole=rows_out["hole"].to_numpy(),
            )
        kept[number] = table[~out]
    whole = pd.concat([kept[k] for k in sorted(kept)], ignore_index=True)
    for name in ("date", "instrument"):
        if name in whole:
            whole[name] = whole[name].fillna("")
    return whole.sort_values(["hole", "depth_m"], kind="stable").reset_index(drop=True)


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
    controls: list[Controls] | None = None,
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return a checked table of intervals or of readings at single depths, and the unit of each attribute.

    Control samples among its rows go to `controls`, where that is given.
    """
    raw = tables_in.read(file, found, name)
    role = mapped(raw, kind, mapping)
    if controls is not None:
        raw, aside = parted(raw, role, rules, found, name)
        controls += [aside] if aside is not None else []
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
