"""Corrections: a layer of changes over imported tables, each with who, when and why, and each to be lifted again.

The tables of an item hold what counts now. The layer says what stood there before, so that lifting
a correction puts it back, and so that a correction is made again when its table is imported anew.
"""

from __future__ import annotations

import dataclasses
import getpass
import json
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pandas as pd

from ..errors import InputError
from ..findings import Findings
from ..items.base import Item, rows_of_table
from ..items.electrodes import ElectrodeSurvey
from ..items.holes import INTERVAL_PLACES, HoleSet
from ..items.points import PointSet, SurveyLines
from ..numbers import parse_number
from . import hole_paths
from .daughters import followed

KINDS = ("holes", "points", "lines", "electrodes")
COLUMNS = (
    "number",
    "table",
    "hole",
    "from_m",
    "to_m",
    "file_line",
    "column",
    "old",
    "new",
    "why",
    "who",
    "when",
    "lifted",
)
KEYS = {"collar": ("hole",), "survey": ("hole", "depth_m")}
_NOW = "seconds"


def tables_of(item: Item) -> dict[str, pd.DataFrame]:
    """Return the tables of an item that can be corrected, by name."""
    if isinstance(item, HoleSet):
        return {"collar": item.collars, "survey": item.surveys, **item.tables, **item.readings}
    assert isinstance(item, PointSet | SurveyLines | ElectrodeSurvey)
    return {"": item.table}


def with_table(item: Item, name: str, table: pd.DataFrame) -> Item:
    """Return an item with another table of a name."""
    if not isinstance(item, HoleSet):
        return dataclasses.replace(item, table=table)  # type: ignore[call-arg]
    if name == "collar":
        return dataclasses.replace(item, collars=table)
    if name == "survey":
        return dataclasses.replace(item, surveys=table)
    if name in item.tables:
        return dataclasses.replace(item, tables={**item.tables, name: table})
    return dataclasses.replace(item, readings={**item.readings, name: table})


def table_named(item: Item, name: str) -> pd.DataFrame:
    """Return one of the tables that can be corrected.

    Raises
    ------
    InputError
        When there is none of that name.
    """
    tables = tables_of(item)
    if name not in tables and len(tables) == 1:
        return next(iter(tables.values()))
    if name not in tables:
        raise InputError(f"there is no table '{name}'", where=item.name, fix="There are: " + ", ".join(tables))
    return tables[name]


def who_am_i() -> str:
    """Return the name of the user that this program runs for."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return "unknown"


def _key_columns(table: pd.DataFrame, name: str) -> tuple[str, ...]:
    if "file_line" in table.columns:
        return ("line", "file_line") if "line" in table.columns else ("file_line",)
    if name in KEYS:
        return KEYS[name]
    return ("hole", "from_m", "to_m") if "from_m" in table.columns else ("hole", "depth_m")


def _key_of(row: pd.Series, columns: Sequence[str]) -> dict[str, Any]:
    key: dict[str, Any] = {"hole": "", "from_m": np.nan, "to_m": np.nan, "file_line": -1}
    for column in columns:
        if column in ("hole", "line"):
            key["hole"] = str(row[column])
        elif column == "file_line":
            key["file_line"] = int(row[column])
        else:
            key["from_m" if column in ("from_m", "depth_m") else "to_m"] = float(row[column])
    return key


def _rows_of(table: pd.DataFrame, name: str, c: Any, new: bool) -> np.ndarray:
    """Return the rows that a correction means; `new`: as they are after it, else as they were before it."""
    columns = _key_columns(table, name)
    hit = np.ones(len(table), dtype=bool)
    for column in columns:
        if column in ("hole", "line"):
            hit &= (table[column].astype(str) == c.hole).to_numpy()
        elif column == "file_line":
            hit &= table[column].to_numpy() == c.file_line
        else:
            value = c.from_m if column in ("from_m", "depth_m") else c.to_m
            if new and c.column == column:
                value = float(json.loads(c.new))
            hit &= np.abs(table[column].to_numpy(float) - value) < 1e-6
    return np.flatnonzero(hit)


def packed(value: Any) -> str:
    """Return a value of a cell as JSON; null for none."""
    if value is None or (isinstance(value, float | np.floating) and not np.isfinite(value)):
        return "null"
    return json.dumps(float(value) if isinstance(value, int | float | np.number) else str(value))


def _unpacked(text: str, numeric: bool) -> Any:
    value = json.loads(text)
    return (np.nan if numeric else None) if value is None else value


def _set(table: pd.DataFrame, rows: Any, column: str, values: Any) -> pd.DataFrame:
    series = table[column].copy()
    if isinstance(series.dtype, pd.CategoricalDtype):
        series = series.astype("object")
    if series.dtype.kind in "iu":
        series = series.astype(float)
    array = series.to_numpy(copy=True)
    array[rows] = values
    return table.assign(**{column: array})


def changed(
    item: Item,
    name: str,
    rows: np.ndarray,
    column: str,
    values: Sequence[Any] | None,
    why: str,
    who: str,
    when: str = "",
) -> Item:
    """Return an item with a column of some rows changed, or with the rows left out (`values` None), on record.

    Raises
    ------
    InputError
        When there are no such rows or column, the column can't be changed, or a value does not fit it.
    """
    if not why.strip():
        raise InputError("a correction needs a reason", fix="Say why in a few words")
    table = table_named(item, name)
    name = name if name in tables_of(item) else ""
    if not len(rows):
        raise InputError("no row is meant", where=item.name, fix="Choose rows, or a condition that some row meets")
    if values is not None:
        if column not in table.columns:
            raise InputError(
                f"there is no column '{column}'",
                where=item.name,
                fix="There are: " + ", ".join(map(str, table.columns)),
            )
        if column in ("hole", "line", "file_line") or (
            isinstance(item, HoleSet) and name not in ("collar",) and column in INTERVAL_PLACES
        ):
            raise InputError(
                f"'{column}' can't be corrected",
                where=item.name,
                fix="Places follow from collars and surveys; hole IDs are merged instead",
            )
    numeric = values is not None and pd.api.types.is_numeric_dtype(table[column])
    keys = _key_columns(table, name)
    at = when or datetime.now(UTC).isoformat(timespec=_NOW)
    first = 1 + int(item.corrections["number"].max()) if len(item.corrections) else 1  # type: ignore[attr-defined]
    log = []
    if values is None:
        for k, row in enumerate(rows):
            series = table.iloc[row]
            whole = {
                str(c): packed(series[c]) for c in table.columns if c not in INTERVAL_PLACES or name in ("collar", "")
            }
            log.append(
                {
                    "number": first + k,
                    "table": name,
                    **_key_of(series, keys),
                    "column": "",
                    "old": json.dumps(whole),
                    "new": "null",
                }
            )
        out = table.drop(index=table.index[rows]).reset_index(drop=True)
    else:
        clean = [fitting(v, numeric, column) for v in values]
        before = table[column].iloc[rows].tolist()
        for k, row in enumerate(rows):
            log.append(
                {
                    "number": first + k,
                    "table": name,
                    **_key_of(table.iloc[row], keys),
                    "column": column,
                    "old": packed(before[k]),
                    "new": packed(clean[k]),
                }
            )
        out = _set(table, rows, column, clean)
    entries = pd.DataFrame(log).assign(why=why.strip(), who=who or who_am_i(), when=at, lifted="")[list(COLUMNS)]
    have = item.corrections  # type: ignore[attr-defined]
    layer = pd.concat([have, entries], ignore_index=True) if len(have) else entries
    if values is None and name == "collar":
        raise InputError(
            "a hole can't be left out by its collar",
            where=item.name,
            fix="Leave out its intervals, or import without it",
        )
    made = dataclasses.replace(with_table(item, name, out), corrections=layer)  # type: ignore[call-arg]
    return _settled(_with_daughters(item, made), name, column)


def _with_daughters(before: Item, after: Item) -> Item:
    """Return an item whose daughter holes go with what was changed in their parents' surveys."""
    if not isinstance(before, HoleSet) or not isinstance(after, HoleSet) or after.surveys is before.surveys:
        return after
    surveys, moved = followed(before.surveys, after.surveys, after.collars)
    return dataclasses.replace(after, surveys=surveys) if moved else after


def fitting(value: Any, numeric: bool, column: str) -> Any:
    """Return a typed value as a column has it.

    Raises
    ------
    InputError
        When it is no number in a column of numbers.
    """
    if value is None or (isinstance(value, str) and value.strip() == ""):
        return np.nan if numeric else None
    if not numeric:
        return str(value)
    return parse_number(str(value), column)


def _settled(item: Item, name: str, column: str) -> Item:
    """Return an item whose places follow from what was changed, after checking that depths still make sense."""
    if not isinstance(item, HoleSet):
        return item
    if column in ("from_m", "to_m"):
        table = item.tables[name]
        if (table["to_m"] <= table["from_m"]).any():
            raise InputError("an interval would end above its start", where=name)
    if name in ("collar", "survey") or column in ("from_m", "to_m", "depth_m", ""):
        if name == "survey" and column == "dip" and (item.surveys["dip"].abs() > 90).any():
            raise InputError("a dip would be steeper than 90°", where=name)
        if name == "collar" and item.collars[["x", "y", "z"]].isna().any(axis=None):
            raise InputError("a collar would have no coordinates", where=name)
        return hole_paths.rebuilt(_sorted(item, name))
    return item


def _sorted(item: HoleSet, name: str) -> HoleSet:
    table = tables_of(item)[name]
    if name == "collar":
        return item
    index = pd.Index(item.collars["hole"].astype(str))
    depth = "from_m" if "from_m" in table.columns else "depth_m"
    order = np.lexsort((table[depth].to_numpy(float), index.get_indexer(pd.Index(table["hole"].astype(str)))))
    out = with_table(item, name, table.iloc[order].reset_index(drop=True))
    assert isinstance(out, HoleSet)
    return out


def lifted(item: Item, numbers: Sequence[int], who: str = "") -> Item:
    """Return an item without some of its corrections: what stood there before stands there again.

    The entries stay on record with the time and name of the lifting.

    Raises
    ------
    InputError
        When there is no such correction, it is lifted already, or its row or value has moved on.
    """
    layer = item.corrections  # type: ignore[attr-defined]
    known = set(layer["number"]) if len(layer) else set()
    for number in numbers:
        if number not in known:
            raise InputError(f"there is no correction {number}", where=item.name)
    touched: dict[str, set[str]] = {}
    stamp = f"{datetime.now(UTC).isoformat(timespec=_NOW)} by {who or who_am_i()}"
    out = item
    # The latest first: of two changes of one cell the earlier one can't be lifted alone.
    for c in sorted((c for c in layer.itertuples() if c.number in set(numbers)), key=lambda c: -c.number):
        if c.lifted:
            raise InputError(f"correction {c.number} is lifted already", where=item.name)
        table = table_named(out, c.table)
        if not c.column:
            back = {
                k: _unpacked(v, k in table and pd.api.types.is_numeric_dtype(table[k]))
                for k, v in json.loads(c.old).items()
            }
            if isinstance(table.get("hole", pd.Series(dtype=object)).dtype, pd.CategoricalDtype):
                table = table.assign(hole=table["hole"].astype(str))
            row = pd.DataFrame([back]).reindex(columns=table.columns)
            for column in table.columns:
                if table[column].dtype.kind in "iuf":
                    row[column] = row[column].astype(float)
            table = pd.concat([table, row], ignore_index=True)
            if "file_line" in table:
                table = (
                    table.assign(file_line=table["file_line"].astype("int64"))
                    .sort_values("file_line", kind="stable")
                    .reset_index(drop=True)
                )
            if "line" in table and table["line"].dtype.kind == "f":
                table = table.assign(line=table["line"].astype("int64"))
        else:
            rows = _rows_of(table, c.table, c, new=True)
            numeric = pd.api.types.is_numeric_dtype(table[c.column]) if c.column in table else False
            if len(rows) != 1 or packed(table[c.column].iloc[rows[0]]) != c.new:
                raise InputError(
                    f"correction {c.number} can't be lifted: its row or value has moved on",
                    where=item.name,
                    fix="Lift the later corrections of that row first",
                )
            table = _set(table, rows, c.column, [_unpacked(c.old, numeric)])
        out = with_table(out, c.table, table)
        touched.setdefault(c.table, set()).add(c.column)
    layer = layer.assign(
        lifted=[stamp if n in set(numbers) else t for n, t in zip(layer["number"], layer["lifted"], strict=True)]
    )
    out = _with_daughters(item, dataclasses.replace(out, corrections=layer))  # type: ignore[call-arg]
    for name, columns in touched.items():
        for column in sorted(columns):
            out = _settled(out, name, column)
    return out


def made_again(item: HoleSet, layer: pd.DataFrame, found: Findings) -> HoleSet:
    """Return holes whose tables came in anew, with the corrections of the old ones made again where they still fit.

    A correction fits when its row is there with the old value (it is made again) or with the new one
    (the file was put right). What fits no longer is reported and stays on record as lifted.
    """
    out: Item = dataclasses.replace(item, corrections=layer)
    lifted_now: dict[int, str] = {}
    touched: dict[str, set[str]] = {}
    for c in rows_of_table(layer[layer["lifted"] == ""]) if len(layer) else ():
        tables = tables_of(out)
        table = tables.get(c.table)
        rows = _rows_of(table, c.table, c, new=False) if table is not None else np.empty(0, dtype=np.int64)
        if table is not None and not c.column:
            if len(rows):
                out = with_table(out, c.table, table.drop(index=table.index[rows]).reset_index(drop=True))
                touched.setdefault(c.table, set()).add("")
            continue
        if table is not None and not len(rows):
            rows = _rows_of(table, c.table, c, new=True)
        now = (
            packed(table[c.column].iloc[rows[0]]) if table is not None and len(rows) == 1 and c.column in table else ""
        )
        if table is not None and now == c.old:
            numeric = pd.api.types.is_numeric_dtype(table[c.column])
            out = with_table(out, c.table, _set(table, rows, c.column, [_unpacked(c.new, numeric)]))
            touched.setdefault(c.table, set()).add(c.column)
        elif now != c.new:
            shown = now if now else "no longer there"
            found.add(
                "look",
                f"correction {c.number} ({c.column} {c.old} to {c.new}) no longer fits: the value is {shown}",
                "the new file's value taken",
                table=c.table,
                hole=c.hole,
            )
            lifted_now[int(c.number)] = "the file moved on"
    if lifted_now:
        layer = layer.assign(
            lifted=[lifted_now.get(int(n), t) for n, t in zip(layer["number"], layer["lifted"], strict=True)]
        )
    out = _with_daughters(item, dataclasses.replace(out, corrections=layer))  # type: ignore[call-arg]
    for name, columns in touched.items():
        for column in sorted(columns):
            out = _settled(out, name, column)
    assert isinstance(out, HoleSet)
    return out
