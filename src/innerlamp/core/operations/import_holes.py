"""Importing drillholes from delimited tables, with a report of everything that was changed or left out."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd

from ..compute.drilling import checks, desurvey
from ..findings import Findings
from ..formats import columns, dates, delimited
from ..items.base import Item
from ..items.holes import INTERVAL_PLACES, HoleSet
from ..progress import Progress
from .declare import Cost, Inputs, Operation, Output, Params, param
from .reading import DetectionRule, attributes, existing, mapped, number_column


class ImportHoles(Params):
    collar: str = param(
        ..., "Collar table", role="file", help="One row a hole: ID, easting, northing, elevation, final depth"
    )
    survey: str = param(
        "", "Survey table", role="file", help="Depth, azimuth and dip readings; without it all holes are vertical"
    )
    assay: str = param("", "Assay table", role="file", help="From, to and grades")
    lithology: str = param("", "Lithology table", role="file", help="From, to and rock codes")
    name: str = param("Drillholes", "Name")
    columns: dict[str, dict[str, str]] = param(
        {}, "Columns", role="mapping", help="Table to role to column; what is not given is guessed from the headings"
    )
    dips: Literal["auto", "negative down", "positive down"] = param("auto", "Dips are")
    method: Literal["minimum curvature", "balanced tangential"] = param("minimum curvature", "Path between readings")
    below_detection: DetectionRule = param(
        "half of limit", "Below detection is", help="What a value like <0.5 becomes; the original stays in the report"
    )


def _run(inputs: Inputs, p: ImportHoles, progress: Progress) -> dict[str, Item]:
    found = Findings()
    progress(0.02, "Reading collars")
    collars = _collars(p.collar, p.columns.get("collar", {}), found)
    progress(0.1, "Reading surveys")
    surveys = _surveys(p, collars, found)
    tables: dict[str, pd.DataFrame] = {}
    units: dict[str, str] = {}
    for number, (name, file) in enumerate((("assay", p.assay), ("lithology", p.lithology))):
        if file:
            progress(0.2 + 0.3 * number, f"Reading {name}")
            table, table_units = _intervals(file, name, p.columns.get(name, {}), collars, p.below_detection, found)
            tables[name] = table
            units |= table_units
    collars = _depths(collars, surveys, tables, found, Path(p.collar).name)
    progress(0.8, "Desurveying")
    path = path_of(collars, surveys, tables, p.method)
    tables = {name: place(table, collars, path) for name, table in tables.items()}
    progress(0.98, "Done")
    holes = HoleSet(
        name=p.name, crs=inputs.crs, collars=collars, surveys=surveys, stations=stations_table(path, collars),
        tables=tables, units=units, findings=found.frame(), method=p.method,
    )  # fmt: skip
    return {"holes": holes}


def _collars(file: str, mapping: Mapping[str, str], found: Findings) -> pd.DataFrame:
    raw = delimited.read(existing(file), found, "collar")
    role = mapped(raw, "collar", mapping)
    name = raw.path.name
    table = pd.DataFrame(
        {
            "hole": raw.text(role["hole"]),
            "x": number_column(raw, role["x"]),
            "y": number_column(raw, role["y"]),
            "z": number_column(raw, role["z"]),
        }
    )
    table["depth_m"] = number_column(raw, role["depth_m"]) if "depth_m" in role else np.nan
    if "date" in role:
        ids = table["hole"].astype(str).str.strip().tolist()
        table["date"] = dates.read_dates(raw.text(role["date"]).tolist(), raw.line, found, name, "collar", ids)
    for column in raw.layout.columns:
        if column not in role.values() and columns.plain(column) not in ("azimuth", "dip"):
            table[column] = raw.text(column)
    table["line"] = raw.line
    if "depth_m" in role:
        bad = ~np.isfinite(table["depth_m"].to_numpy())
        if bad.any():
            found.add(
                "mended",
                "final depth is not a number",
                "taken from the deepest row of the other tables",
                file=name,
                table="collar",
                line=raw.line[bad],
                hole=table["hole"][bad].astype(str).str.strip().to_numpy(),
            )
    return checks.check_collars(table, found, name)


def _surveys(p: ImportHoles, collars: pd.DataFrame, found: Findings) -> pd.DataFrame:
    if not p.survey:
        found.add("note", "no survey table was given", "all holes taken as vertical", table="survey")
        return pd.DataFrame({"hole": pd.Series(dtype="object"), "depth_m": [], "azimuth": [], "dip": []})
    raw = delimited.read(existing(p.survey), found, "survey")
    role = mapped(raw, "survey", p.columns.get("survey", {}))
    table = pd.DataFrame(
        {
            "hole": raw.text(role["hole"]),
            **{r: number_column(raw, role[r]) for r in ("depth_m", "azimuth", "dip")},
            "line": raw.line,
        }
    )
    table = checks.check_surveys(table, collars, found, raw.path.name)
    table = checks.settle_dips(table, p.dips, found, raw.path.name)
    missing = collars[~collars["hole"].isin(table["hole"].unique())]
    found.add(
        "look",
        "hole has no survey",
        "taken as vertical",
        file=raw.path.name,
        table="survey",
        hole=missing["hole"].to_numpy(),
    )
    return table.drop(columns="line")


def _intervals(
    file: str, name: str, mapping: Mapping[str, str], collars: pd.DataFrame, rule: DetectionRule, found: Findings
) -> tuple[pd.DataFrame, dict[str, str]]:
    raw = delimited.read(existing(file), found, name)
    role = mapped(raw, "interval", mapping)
    ids = raw.text(role["hole"])
    frame, units = attributes(
        raw, set(role.values()), rule, found, name, ids.fillna("").astype(str).str.strip().to_numpy(dtype=object)
    )
    frame.insert(0, "to_m", number_column(raw, role["to_m"]))
    frame.insert(0, "from_m", number_column(raw, role["from_m"]))
    frame.insert(0, "hole", ids)
    frame["line"] = raw.line
    table = checks.check_intervals(frame, collars, found, raw.path.name, name)
    checks.check_coverage(table, collars, found, raw.path.name, name)
    return table, units


def _depths(
    collars: pd.DataFrame, surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame], found: Findings, file: str
) -> pd.DataFrame:
    deepest = surveys.groupby("hole")["depth_m"].max() if len(surveys) else pd.Series(dtype=float)
    for table in tables.values():
        deepest = pd.concat([deepest, table.groupby("hole", observed=True)["to_m"].max()])
    deepest = deepest.groupby(level=0).max()
    unknown = ~np.isfinite(collars["depth_m"].to_numpy(float))
    if not unknown.any():
        return collars
    filled = collars["hole"].map(deepest).fillna(0.0)
    return collars.assign(depth_m=np.where(unknown, filled, collars["depth_m"]))


def path_of(
    collars: pd.DataFrame, surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame], method: desurvey.Method
) -> desurvey.Path:
    """Return the desurveyed paths of collars; each reaches its final depth and its deepest interval."""
    index = pd.Series(np.arange(len(collars)), index=collars["hole"])
    end = collars["depth_m"].to_numpy(float).copy()
    for table in tables.values():
        deepest = table.groupby("hole", observed=True)["to_m"].max()
        np.maximum.at(end, index[deepest.index].to_numpy(), deepest.to_numpy(float))
    hole = index[surveys["hole"]].to_numpy(dtype=np.int64) if len(surveys) else np.empty(0, np.int64)
    depth, azimuth, dip = (surveys[c].to_numpy(float) for c in ("depth_m", "azimuth", "dip"))
    return desurvey.desurvey(collars[["x", "y", "z"]].to_numpy(float), end, hole, depth, azimuth, dip, method)


def place(table: pd.DataFrame, collars: pd.DataFrame, path: desurvey.Path) -> pd.DataFrame:
    """Return an interval table with the places of mid-points and ends along the paths."""
    index = pd.Index(collars["hole"])
    categories = pd.Categorical(table["hole"], categories=index)
    hole = categories.codes.astype(np.int64)
    start, stop = table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)
    places = np.hstack([desurvey.locate(path, hole, d) for d in (0.5 * (start + stop), start, stop)])
    out = table.assign(hole=categories)
    return pd.concat([out, pd.DataFrame(places, columns=list(INTERVAL_PLACES), index=out.index)], axis=1)


def stations_table(path: desurvey.Path, collars: pd.DataFrame) -> pd.DataFrame:
    """Return desurveyed stations as a table with hole IDs."""
    data = {"hole": collars["hole"].to_numpy()[path.hole], "depth_m": path.depth}
    data |= {c: path.position[:, k] for k, c in enumerate("xyz")} | {
        f"t{c}": path.tangent[:, k] for k, c in enumerate("xyz")
    }
    return pd.DataFrame(data)


def _estimate(inputs: Inputs, p: ImportHoles) -> Cost:
    size = sum(Path(f).stat().st_size for f in (p.collar, p.survey, p.assay, p.lithology) if f and Path(f).is_file())
    return Cost(f"{size / 1e6:.1f} MB to read", size * 12 / 1e6, size / 6e6)


OPERATION = Operation(
    name="import-holes", title="Import drillholes", area="Data",
    help="Reads collar, survey, assay and lithology tables, checks them, and desurveys the holes. Everything that was mended or left out is listed in the findings of the result.",
    params=ImportHoles, run=_run, outputs=(Output("holes", "holes", "Drillholes"),), estimate=_estimate,
)  # fmt: skip
