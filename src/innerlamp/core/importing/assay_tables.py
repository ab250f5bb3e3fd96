"""Several assay files of one drilling as one table: laboratories name, order and measure things in their own way."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from ..compute.drilling import overlaps
from ..elements import letters_of, measured
from ..findings import Findings
from ..formats.tables import columns
from ..units import by_factor, factor
from . import element_columns
from .control_samples import Controls
from .detection import GRADES, CellRules, Place
from .reading import title

_PLACES = ("hole", "from_m", "to_m", "line", "file")


@dataclass(frozen=True)
class AssayFile:
    """One file of assays: its name, its checked intervals and the unit of each column."""

    file: str
    table: pd.DataFrame
    units: dict[str, str]


def one_table(
    files: Sequence[AssayFile], rules: CellRules, rule: overlaps.Overlaps, found: Findings, name: str = "assay"
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return all intervals as one table with the columns laboratory, batch and file, and the unit of each column.

    Columns of one element and method are one, in the unit that most of their values have; where headings differ it is
    called by element, method and unit, whichever file comes first. Other columns are one when their headings differ only
    by case, accents and signs. An interval that two files have is one row: the first file
    counts, the second fills what it lacks, and values more than 10 % apart are pointed out.
    """
    if len(files) == 1:
        return files[0].table, dict(files[0].units)
    names, units = _agreed(files)
    parts = []
    for each in files:
        table = each.table
        change: dict[str, str] = {}
        for column in [c for c in table.columns if c not in _PLACES]:
            unit = each.units.get(column, "")
            target = names.setdefault(_key(str(column), unit), str(column))
            if target in change.values():
                target = str(column)
            units.setdefault(target, unit)
            times = factor(unit, units[target]) if unit in GRADES and units[target] in GRADES else 1.0
            if times != 1.0:
                table = table.assign(**{column: by_factor(table[column].to_numpy(float), times)})
            if target != column:
                change[column] = target
                said = f"taken as '{target}'" + (f", × {times:g}" if times != 1.0 else "")
                found.add("mended", f"column '{column}'", said, file=each.file, table=name)
        parts.append(_signed(table.rename(columns=change), each.file))
    whole = pd.concat(parts, ignore_index=True)
    whole = _once(whole, units, found, name)
    whole = overlaps.settled(whole, rule, found, "", name)
    place = Place(found, "", name, whole["line"].to_numpy(), whole["hole"].to_numpy(dtype=object))
    return element_columns.joined(whole, units, rules, {}, place)


def _key(column: str, unit: str) -> object:
    return element_columns.identity(column, unit) if unit in GRADES else letters_of(columns.plain(column))


_PREFERRED = ("ppm", "g/t", "%", "ppb")  # where as many values have one unit as another


def _agreed(files: Sequence[AssayFile]) -> tuple[dict[object, str], dict[str, str]]:
    """The name and unit of each column of grades that several files have, which do not hang on the order of the files."""
    seen: dict[object, list[tuple[str, str, int]]] = {}
    for each in files:
        for column in [c for c in each.table.columns if c not in _PLACES]:
            unit = each.units.get(column, "")
            if unit in GRADES:
                count = int(each.table[column].notna().sum())
                seen.setdefault(_key(str(column), unit), []).append((str(column), unit, count))
    names: dict[object, str] = {}
    units: dict[str, str] = {}
    for key, of in seen.items():
        by_unit = {u: sum(n for _, v, n in of if v == u) for _, u, _ in of}
        rank = {u: _PREFERRED.index(u) if u in _PREFERRED else len(_PREFERRED) for u in by_unit}
        unit = min(by_unit, key=lambda u: (-by_unit[u], rank[u], u))
        headings = {c for c, _, _ in of}
        if len(headings) == 1:
            name = next(iter(headings))
        elif isinstance(key, tuple) and measured(of[0][0], of[0][1]) is not None:
            name = element_columns.named(key[0], key[1], unit)
        else:
            name = min(headings, key=lambda c: (-sum(n for h, _, n in of if h == c), c))
        if name in units:  # of another method under the same heading
            name = min(headings)
        names[key] = name
        units[name] = unit
    return names, units


def _signed(table: pd.DataFrame, file: str) -> pd.DataFrame:
    """Return a table with its file, laboratory and batch; what the file does not say is its own name."""
    out = table.assign(file=file)
    for role in ("laboratory", "batch"):
        own = next((c for c in table.columns if c not in _PLACES and columns.tells(str(c), role)), None)
        given = table[own].astype("object") if own is not None else pd.Series([None] * len(table), dtype="object")
        if own is not None:
            out = out.drop(columns=own)
        out[role] = given.where(given.notna(), title(Path(file))).astype(str).to_numpy()
    return out


def signed_controls(controls: Controls, file: str) -> Controls:
    """Return control samples of one of several files with laboratory and batch as its assays have them."""
    own = title(Path(file))
    filled = {role: controls.table[role].where(controls.table[role] != "", own) for role in ("laboratory", "batch")}
    return dataclasses.replace(controls, table=controls.table.assign(**filled))


def _once(table: pd.DataFrame, units: dict[str, str], found: Findings, name: str) -> pd.DataFrame:
    """Return a table in which an interval that several files have stands once."""
    hole = pd.factorize(table["hole"].astype(str))[0]
    depths = [np.round(table[c].to_numpy(float) * 1000.0) for c in ("from_m", "to_m")]
    codes = pd.factorize(pd.MultiIndex.from_arrays([hole, *depths]))[0]
    again = pd.Series(codes).groupby(codes).cumcount().to_numpy()
    if not again.any():
        return table
    first_of = np.full(int(codes.max()) + 1, -1)
    first_of[codes[again == 0]] = np.flatnonzero(again == 0)
    out = table.copy()
    for turn in range(1, int(again.max()) + 1):
        other = np.flatnonzero(again == turn)
        first = first_of[codes[other]]
        apart = np.full(len(other), "", dtype=object)
        for column in [c for c in table.columns if c not in (*_PLACES, "laboratory", "batch")]:
            values = out[column].to_numpy(copy=True)
            a, b = values[first], table[column].to_numpy()[other]
            fill = pd.isna(a) & ~pd.isna(b)
            if fill.any():
                values[first[fill]] = b[fill]
                out[column] = values
            if units.get(column) in GRADES and values.dtype.kind == "f":
                with np.errstate(invalid="ignore"):
                    hit = np.abs(a - b) > 0.1 * np.maximum(np.abs(a), np.abs(b))
                for k in np.flatnonzero(hit):
                    apart[k] += f"{', ' if apart[k] else ''}{column} {a[k]:g} and {b[k]:g}"
        files, line, ids = (table[c].to_numpy() for c in ("file", "line", "hole"))
        for rows, severity in ((apart == "", "mended"), (apart != "", "look")):
            at = other[rows]
            words = zip(files[first[rows]], apart[rows], strict=True)
            found.add(
                severity,  # type: ignore[arg-type]
                [f"interval is in {f} as well" + (f" with other values ({w})" if w else "") for f, w in words],
                "one row: the first file counts, this one fills what it lacks",
                file=[str(f) for f in files[at]],
                table=name,
                line=line[at],
                hole=ids[at],
            )
    once: pd.DataFrame = out[again == 0].reset_index(drop=True)
    return once
