"""Tables of an item written together: workbook (XLSX, ODS), database (SQLite), logs (LAS 2.0)."""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pandas as pd

from ...errors import InputError
from ...findings import report_by_hole
from ...items.base import Item, numeric_columns
from ...items.electrodes import ElectrodeSurvey
from ...items.holes import INTERVAL_ROLES, HoleSet
from ...items.points import PointSet, SurveyLines, TargetSet

_MOST_ROWS = {".xlsx": 1_048_575, ".ods": 50_000}  # ODS is written a thousand rows a second


def tables_in_item(item: Item) -> dict[str, pd.DataFrame]:
    """Return the tables of an item by name, in the order in which people want them."""
    out: dict[str, pd.DataFrame] = {}
    if isinstance(item, HoleSet):
        out = {"collar": item.collars, "survey": item.surveys, **item.tables, **item.readings}
        if len(item.controls):
            out["controls"] = item.controls
        if len(item.findings):
            out["by hole"] = report_by_hole(item.collars, item.surveys, item.tables, item.findings)
    elif isinstance(item, PointSet):
        out = {item.content: item.table}
    elif isinstance(item, SurveyLines):
        out = {"readings": item.table}
    elif isinstance(item, ElectrodeSurvey):
        out = {"readings": item.table, "electrodes": item.electrodes}
    elif isinstance(item, TargetSet):
        out = {"targets": item.table, "evidence": item.evidence}
    for name in ("findings", "corrections"):
        table = getattr(item, name, None)
        if isinstance(table, pd.DataFrame) and len(table):
            out[name] = table
    return out


def _flat(table: pd.DataFrame) -> pd.DataFrame:
    # Writers want plain columns: categories as text, nothing as empty.
    plain: dict[str, Any] = {}
    for column in table.columns:
        values = table[column]
        plain[str(column)] = (
            values.to_numpy() if values.dtype.kind in "fiub" else values.astype("object").where(values.notna(), None)
        )
    return pd.DataFrame(plain)


def write_workbook(item: Item, path: Path | str) -> None:
    """Write all tables of an item as sheets of a workbook (XLSX or ODS, by the file's ending)."""
    path = Path(path)
    tables = tables_in_item(item)
    most = _MOST_ROWS[path.suffix.lower()]
    for name, table in tables.items():
        if len(table) > most:
            raise InputError(
                f"the table '{name}' has {len(table):,} rows; a sheet of this kind holds {most:,}",
                where=item.name,
                fix="Write CSV or SQLite instead",
            )
    engine: Literal["xlsxwriter", "odf"] = "xlsxwriter" if path.suffix.lower() == ".xlsx" else "odf"
    seen: set[str] = set()
    # A text that begins like a formula or an address stays a text.
    options = {"options": {"strings_to_formulas": False, "strings_to_urls": False}} if engine == "xlsxwriter" else {}
    with pd.ExcelWriter(path, engine=engine, engine_kwargs=options) as book:
        for name, table in tables.items():
            sheet = re.sub(r"[\[\]:*?/\\']", "_", name)[:28] or "table"
            while sheet.lower() in seen:
                sheet += "_"
            seen.add(sheet.lower())
            _flat(table).to_excel(book, sheet_name=sheet, index=False)


def write_database(item: Item, path: Path | str) -> None:
    """Write all tables of an item into an SQLite file."""
    Path(path).unlink(missing_ok=True)
    with closing(sqlite3.connect(path)) as base:
        for name, table in tables_in_item(item).items():
            _flat(table).to_sql(name, base, index=False)
        base.commit()


def write_logs(item: HoleSet, path: Path | str) -> list[Path]:
    """Write number columns along a hole as LAS 2.0; where it has several tables, one file each (``name_table.las``).

    A log holds one hole. Several are written, one file each, only where the name asks for it: ``logs_{hole}.las``.
    Readings stand at their depth; intervals at the depth of their middle, with FROM and TO as curves.

    Raises
    ------
    InputError
        When there is nothing to write, or several holes and a name for one.
    """
    import lasio

    path = Path(path)
    tables = {n: t for n, t in {**item.readings, **item.tables}.items() if numeric_columns(t, INTERVAL_ROLES)}
    holes = list(dict.fromkeys(str(h) for t in tables.values() for h in t["hole"].unique()))
    if not holes:
        raise InputError("the holes have no numbers along them to write as logs", where=item.name)
    each = "{hole}" in path.name
    if len(holes) > 1 and not each:
        raise InputError(
            f"there are {len(holes)} holes, and a LAS log holds one",
            where=item.name,
            fix="For one file a hole put {hole} into the name, such as logs_{hole}.las",
        )
    written: list[Path] = []
    for name, table in tables.items():
        columns = numeric_columns(table, INTERVAL_ROLES)
        intervals = "from_m" in table.columns
        for hole, rows in table.groupby("hole", observed=True):
            log = lasio.LASFile()
            log.well["WELL"].value = str(hole)
            log.well["NULL"].value = -9999.25
            depth = (
                (rows["from_m"] + rows["to_m"]).to_numpy(float) / 2 if intervals else rows["depth_m"].to_numpy(float)
            )
            order = np.argsort(depth, kind="stable")
            log.append_curve("DEPT", depth[order], unit="M", descr="Depth along hole")
            for column in (["from_m", "to_m"] if intervals else []) + columns:
                curve = {"from_m": "FROM", "to_m": "TO"}.get(column, re.sub(r"[^A-Za-z0-9_]", "_", column))
                unit = "M" if column in ("from_m", "to_m") else item.units.get(column, "")
                log.append_curve(curve, rows[column].to_numpy(float)[order], unit=unit, descr=column)
            stem = path.stem.replace("{hole}", str(hole)) + (f"_{name}" if len(tables) > 1 else "")
            safe = re.sub(r"[^A-Za-z0-9_.\-]", "_", stem)
            written.append(path.with_name(f"{safe}.las"))
            log.write(str(written[-1]), version=2.0, fmt="%.5f")
    return written
