"""Adding a second batch of holes to a set, or replacing its tables with corrected ones."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from typing import Literal

import numpy as np
import pandas as pd

from ...comparing.differences import compare_holes
from ...compute.drilling.desurvey import method_named
from ...declaring.operation import Example, Input, Inputs, Operation, Output, param
from ...errors import UnitError
from ...findings import Findings, gravest_first
from ...formats.tables.columns import plain
from ...importing import corrections, hole_paths
from ...importing.daughters import followed
from ...importing.detection import GRADES
from ...importing.element_columns import identity
from ...items.base import Item
from ...items.holes import INTERVAL_PLACES, HoleSet, hole_codes
from ...progress import Progress
from ...units import by_factor, factor
from . import grouping, import_holes, merge_holes

PLACES = INTERVAL_PLACES
_FIXED = {"hole", "x", "y", "z", "depth_m", "from_m", "to_m", "line", "date"}


class AddHoles(import_holes.HoleFiles):
    mode: Literal["add", "replace"] = param(
        "add",
        "The files are",
        help="add: a further batch, holes that are not in it stay. replace: all there is, holes that are not in it go",
    )
    rename: dict[str, str] = param(
        {},
        "Same columns",
        editor="mapping",
        help="Column of the new files to column of the first import, where the headings differ",
    )


def merge(old: HoleSet, new: HoleSet, mode: str, rename: dict[str, str]) -> HoleSet:
    """Return a set with the new holes; holes that are in both are taken from the new files, table by table.

    A table that the new files lack keeps its old rows. Columns are matched to the old ones by
    name, then by name without spaces, case and unit; what matches nothing is added and reported.
    """
    new, notes = _match_columns(old, new, rename)
    fresh = set(new.collars["hole"])
    stays = old.collars if mode == "add" else old.collars[old.collars["hole"].isin(fresh)]
    collars = pd.concat([stays[~stays["hole"].isin(fresh)], new.collars], ignore_index=True)
    order = {h: k for k, h in enumerate(dict.fromkeys([*old.collars["hole"], *new.collars["hole"]]))}
    collars = collars.iloc[collars["hole"].map(order).argsort(kind="stable")].reset_index(drop=True)
    index = pd.Index(collars["hole"])
    surveys = _join(old.surveys, new.surveys, index)
    surveys = surveys.assign(hole=surveys["hole"].astype(str))
    tables = _join_all(old.tables, new.tables, index)
    readings = _join_all(old.readings, new.readings, index)
    surveys, moved = followed(old.surveys, surveys, collars)
    # Only the holes of the new files are desurveyed and placed; the others keep their places.
    fresh |= moved
    mine = collars[collars["hole"].isin(fresh)].reset_index(drop=True)
    method = method_named(old.method)
    of_mine = {n: t[t["hole"].isin(fresh)] for n, t in tables.items()}
    path = hole_paths.path_of(
        mine,
        surveys[surveys["hole"].isin(fresh)],
        {n: t.assign(hole=t["hole"].astype(str)) for n, t in of_mine.items()},
        method,
    )
    stations = pd.concat(
        [old.stations[old.stations["hole"].isin(set(index) - fresh)], hole_paths.stations_table(path, mine)],
        ignore_index=True,
    )
    stations = stations.iloc[np.lexsort((stations["depth_m"], index.get_indexer(stations["hole"])))].reset_index(
        drop=True
    )
    joined = dataclasses.replace(
        old,
        collars=collars,
        surveys=surveys,
        stations=stations,
        tables={
            n: _placed(t, of_mine[n].index, lambda rows: hole_paths.place(rows, mine, path)) for n, t in tables.items()
        },
        readings={
            n: _placed(t, t.index[t["hole"].isin(fresh)], lambda rows: hole_paths.place_readings(rows, mine, path))
            for n, t in readings.items()
        },
        units={**new.units, **old.units},
        controls=_controls(old, new),
        strays=_strays(old, new),
    )
    more = Findings()
    joined = corrections.made_again(joined, old.corrections, more)
    joined = merge_holes.adopted(joined, more)
    joined = grouping.grouped_again(joined, more)
    found = pd.concat([old.findings, new.findings, notes, more.frame()], ignore_index=True)
    return dataclasses.replace(joined, findings=gravest_first(found))


def _controls(old: HoleSet, new: HoleSet) -> pd.DataFrame:
    if not len(old.controls) or not len(new.controls):
        return new.controls if len(new.controls) else old.controls
    both = pd.concat([old.controls, new.controls], ignore_index=True)
    return both.drop_duplicates("sample", keep="last").reset_index(drop=True)


def _strays(old: HoleSet, new: HoleSet) -> dict[str, pd.DataFrame]:
    out = {}
    for name in dict.fromkeys([*old.strays, *new.strays]):
        parts = [t for t in (old.strays.get(name), new.strays.get(name)) if t is not None]
        both = pd.concat(parts, ignore_index=True)
        keys = [c for c in ("hole", "from_m", "to_m", "depth_m") if c in both.columns]
        out[name] = both.drop_duplicates(keys, keep="last").reset_index(drop=True)
    return out


def _placed(table: pd.DataFrame, rows: pd.Index, place: Callable[[pd.DataFrame], pd.DataFrame]) -> pd.DataFrame:
    """Return a table in which some rows have their places found anew."""
    if not len(rows):
        return table
    columns = [c for c in PLACES if c in table.columns]
    some = table.loc[rows].drop(columns=columns)
    made = place(some.assign(hole=some["hole"].astype(str)))
    out = table.copy()
    at = table.index.get_indexer(rows)
    for column in [c for c in PLACES if c in made.columns]:
        values = out[column].to_numpy(float).copy() if column in out else np.full(len(out), np.nan)
        values[at] = made[column].to_numpy(float)
        out[column] = values
    return out


def _join_all(
    old: Mapping[str, pd.DataFrame], new: Mapping[str, pd.DataFrame], index: pd.Index
) -> dict[str, pd.DataFrame]:
    return {name: _join(old.get(name), new.get(name), index) for name in dict.fromkeys([*old, *new])}


def _join(old: pd.DataFrame | None, new: pd.DataFrame | None, index: pd.Index) -> pd.DataFrame:
    """Return old rows of holes that the new table lacks, and the new rows, sorted by hole and depth."""
    parts = []
    for table in (old, new):
        if table is not None:
            cat = pd.Categorical.from_codes(hole_codes(table["hole"], index), categories=index)
            parts.append(table.assign(hole=cat))
    if len(parts) == 2:
        replaced = pd.unique(parts[1]["hole"].dropna())
        parts[0] = parts[0][~parts[0]["hole"].isin(replaced)]
    joined = pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]
    joined = joined[joined["hole"].notna()]
    depth = next(c for c in ("from_m", "depth_m") if c in joined.columns)
    order = np.lexsort((joined[depth].to_numpy(float), joined["hole"].cat.codes.to_numpy()))
    return joined.iloc[order].reset_index(drop=True)


def _match_columns(old: HoleSet, new: HoleSet, rename: dict[str, str]) -> tuple[HoleSet, pd.DataFrame]:
    notes: list[dict[str, object]] = []

    def matched(name: str, table: pd.DataFrame, before: pd.DataFrame | None) -> pd.DataFrame:
        if before is None:
            return table
        made = {rule["name"] for rule in old.groups.values()}
        known = [c for c in before.columns if c not in _FIXED and c not in made]
        flat = {plain(c): c for c in known}
        # An element is one thing, whatever its unit: Au_gpt goes into Au (ppb), times a thousand.
        elements = {identity(c, old.units[c]): c for c in known if old.units.get(c) in GRADES}
        change = {c: rename[c] for c in table.columns if rename.get(c) in known}
        fills: dict[str, str] = {}
        for column in table.columns:
            if (
                column in _FIXED
                or column in known
                or column in change
                or column in ("x", "y", "z", "x0", "y0", "z0", "x1", "y1", "z1")
            ):
                continue
            like = flat.get(plain(column))
            if like is None and new.units.get(column) in GRADES:
                like = elements.get(identity(column, new.units[column]))
            if like is None and new.units.get(column) in GRADES:
                # A method of its own stays a column of its own, and fills that of the element.
                main = elements.get((identity(column, new.units[column])[0], ""))
                if main is not None and main not in table.columns and main not in fills:
                    fills[main] = column
            if like is not None and like not in table.columns and like not in change.values():
                change[column] = like
            else:
                notes.append(
                    _note("look", f"column '{column}' was not in the first import", "added as a new column", name)
                )
        for main, column in fills.items():
            times = _times(new.units[column], old.units[main])
            if times is not None and main not in change.values():
                table = table.assign(**{main: by_factor(table[column].to_numpy(float), times)})
                words = f"fills '{main}' of the first import, × {times:g}; it stays beside it"
                notes.append(_note("mended", f"column '{column}'", words, name))
        filled = set(fills)
        for column in [*change, *(c for c in table.columns if c in known and c not in filled)]:
            target = change.get(column, column)
            times = _times(new.units.get(column, ""), old.units.get(target, ""))
            if times is None:
                notes.append(
                    _note(
                        "left out",
                        f"column '{column}' is in {new.units[column]}, '{target}' of the first import in {old.units[target]}",
                        "left out: one can't be turned into the other",
                        name,
                    )
                )
                table = table.drop(columns=column)
                change.pop(column, None)
                continue
            if times != 1.0 and pd.api.types.is_numeric_dtype(table[column]):
                table = table.assign(**{column: by_factor(table[column].to_numpy(float), times)})
            if column in change or times != 1.0:
                more = f", × {times:g}" if times != 1.0 else ""
                notes.append(
                    _note("mended", f"column '{column}'", f"taken as '{target}' of the first import{more}", name)
                )
        for column in known:
            if column not in table.columns and column not in change.values():
                notes.append(
                    _note(
                        "look",
                        f"column '{column}' of the first import is not in the new file",
                        "left empty for the new holes",
                        name,
                    )
                )
        return table.rename(columns=change)

    tables = {n: matched(n, t, old.tables.get(n)) for n, t in new.tables.items()}
    readings = {n: matched(n, t, old.readings.get(n)) for n, t in new.readings.items()}
    frame = pd.DataFrame(notes, columns=list(old.findings.columns)) if notes else old.findings.iloc[:0]
    return dataclasses.replace(new, tables=tables, readings=readings), frame


def _times(source: str, target: str) -> float | None:
    """What values in one unit are multiplied by to be in another; None when that can't be done."""
    if source == target or not source or not target:
        return 1.0
    try:
        return factor(source, target)
    except UnitError:
        return None


def _note(severity: str, what: str, done: str, table: str) -> dict[str, object]:
    return {"severity": severity, "what": what, "done": done, "hole": "", "table": table, "file": "", "line": 0}


def read_batch(inputs: Inputs, p: AddHoles, progress: Progress) -> tuple[HoleSet, HoleSet, HoleSet]:
    """Return the present set, what the new files hold, and the two together."""
    old = inputs.need("holes", HoleSet)
    whole = p.model_dump(exclude={"mode", "rename"})
    earlier = old if p.mode == "add" else None
    made = import_holes.read_holes(inputs, import_holes.ImportHoles(**whole), progress.part(0.0, 0.8), earlier)
    return old, made, merge(old, made, p.mode, p.rename)


def _run(inputs: Inputs, p: AddHoles, progress: Progress) -> dict[str, Item]:
    old, _, joined = read_batch(inputs, p, progress)
    counts = compare_holes(old, joined)["status"].value_counts()
    words = ", ".join(f"{int(counts.get(k, 0))} {k}" for k in ("new", "changed", "gone", "unchanged"))
    progress(1.0, f"Holes: {words}")
    return {"holes": joined}


OPERATION = Operation(
    name="add-holes",
    example=Example({"holes": "Emberlow holes"}, {"collar": "drilling_second_phase/collars.csv"}),
    title="Add or replace holes",
    area="Data",
    help="Adds a further batch of holes to a set, or replaces its tables with corrected ones. What hangs from the set is made again afterwards, unless it is held.",
    params=AddHoles,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)), *import_holes.OPERATION.inputs),
    outputs=(Output("holes", "holes", "Drillholes"),),
    estimate=import_holes.OPERATION.estimate,
    replaces={"holes": "holes"},
)
