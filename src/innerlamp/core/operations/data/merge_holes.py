"""Merging holes that were written in two ways, as the user decides."""

from __future__ import annotations

import dataclasses

import pandas as pd

from ...compute.drilling import checks
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings, gravest_first
from ...importing import hole_paths
from ...items.base import Item
from ...items.holes import HoleSet
from ...progress import Progress


class MergeHoles(Params):
    same: dict[str, str] = param(
        {},
        "Same holes",
        editor="mapping",
        help="Hole ID to the ID that it is merged into; empty takes all that the checks propose",
    )


def proposals(holes: HoleSet) -> pd.DataFrame:
    """Return which IDs may be another's: hole, like, table, rows."""
    return checks.look_alikes(holes.collars["hole"], holes.strays)


def _run(inputs: Inputs, p: MergeHoles, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    same = dict(p.same)
    if not same:
        alike = proposals(holes)
        same = dict(zip(alike["hole"], alike["like"], strict=True))
        if not same:
            raise InputError("no hole is written in two ways", where=holes.name)
    known = set(holes.collars["hole"].astype(str))
    strangers = {str(h) for t in holes.strays.values() for h in t["hole"]}
    for source, target in same.items():
        if target not in known:
            raise InputError(f"there is no hole '{target}' to merge into", where=holes.name)
        if source not in known | strangers or source == target:
            raise InputError(
                f"'{source}' can't be merged",
                where=holes.name,
                fix="Name a hole of the set, or one whose rows were kept aside",
            )
        if target in same:
            raise InputError(
                f"'{target}' is itself to be merged", where=holes.name, fix="Merge into the one that stays"
            )
    return {"holes": merged(holes, same)}


def merged(holes: HoleSet, same: dict[str, str]) -> HoleSet:
    """Return a set in which holes have become others: the collar of the one that stays holds, rows come together.

    A hole that becomes itself takes back its rows that were kept aside. Surveys of the hole that goes
    are taken only where the one that stays has none. Rows that now overlap or stand twice are left
    out and reported, like on import.
    """
    found = Findings()
    same, adopt = {s: t for s, t in same.items() if s != t}, {t for s, t in same.items() if s == t}
    collars = holes.collars[~holes.collars["hole"].isin(list(same))].reset_index(drop=True)
    for source, target in same.items():
        gone = source in set(holes.collars["hole"])
        found.add(
            "mended",
            f"hole '{source}' is '{target}'",
            "merged by the user" + ("; its collar left out" if gone else ""),
            hole=target,
            table="collar",
        )
    strays = {n: t.assign(hole=t["hole"].replace(same)) for n, t in holes.strays.items()}
    strays, back = _sorted_out(strays, collars)
    surveys = _surveys(holes, same, back.pop("survey", None), collars, found)
    targets = set(same.values()) | adopt
    tables, readings = dict(holes.tables), dict(holes.readings)
    for name in dict.fromkeys([*tables, *readings, *back]):
        interval = name in tables or (name in back and "from_m" in back[name].columns)
        home = tables if interval else readings
        parts = [t for t in (home.get(name), back.get(name)) if t is not None]
        if not any(t["hole"].astype(str).isin([*same, *targets]).any() for t in parts):
            continue
        whole = pd.concat([t.assign(hole=t["hole"].astype(str).replace(same)) for t in parts], ignore_index=True)
        mine = whole["hole"].isin(targets)
        rows = whole[mine].reset_index(drop=True)
        good = (
            checks.check_intervals(rows, collars, found, "", name, "leave out")
            if interval
            else checks.check_readings(rows, collars, found, "", name)
        )
        both = pd.concat([whole[~mine], good], ignore_index=True)
        order = pd.Index(collars["hole"]).get_indexer(both["hole"])
        depth = "from_m" if interval else "depth_m"
        both = both.assign(order=order).sort_values(["order", depth], kind="stable").drop(columns="order")
        home[name] = both.reset_index(drop=True)
    findings = pd.concat([holes.findings, found.frame()], ignore_index=True)
    out = dataclasses.replace(
        holes,
        collars=collars,
        surveys=surveys,
        tables=tables,
        readings=readings,
        strays=strays,
        findings=gravest_first(findings),
    )
    return hole_paths.rebuilt(out)


def adopted(holes: HoleSet, found: Findings) -> HoleSet:
    """Return a set with the rows kept aside whose collar has come meanwhile."""
    back = _sorted_out(holes.strays, holes.collars)[1]
    if not back:
        return holes
    own = {str(h): str(h) for t in back.values() for h in t["hole"]}
    for hole in own:
        found.add("mended", "hole had no collar before", "its rows kept aside are taken", hole=hole, table="collar")
    return merged(holes, own)


def _sorted_out(
    strays: dict[str, pd.DataFrame], collars: pd.DataFrame
) -> tuple[dict[str, pd.DataFrame], dict[str, pd.DataFrame]]:
    """Return the rows that still have no collar, and those that have one now."""
    still, back = {}, {}
    for name, table in strays.items():
        at_home = table["hole"].isin(collars["hole"]).to_numpy()
        if (~at_home).any():
            still[name] = table[~at_home].reset_index(drop=True)
        if at_home.any():
            back[name] = table[at_home].reset_index(drop=True)
    return still, back


def _surveys(
    holes: HoleSet, same: dict[str, str], back: pd.DataFrame | None, collars: pd.DataFrame, found: Findings
) -> pd.DataFrame:
    mine = holes.surveys
    have = set(mine["hole"])
    moved = mine[mine["hole"].isin(list(same))]
    moved = moved.assign(hole=moved["hole"].replace(same))
    if back is not None:
        extra = checks.check_surveys(back, collars, found, "")
        # Dips of rows kept aside are as the file had them; the set's own sign tells how to read them.
        positive = len(extra) and (extra["dip"] > 0).mean() > 0.5
        extra = checks.tell_upward(extra.assign(dip=-extra["dip"]) if positive else extra, found, "")
        moved = pd.concat([moved, extra[mine.columns]], ignore_index=True)
    taken = moved[~moved["hole"].isin(have)]
    for hole in dict.fromkeys(moved["hole"][moved["hole"].isin(have)]):
        found.add(
            "left out", "hole has surveys of its own", "those of the merged hole left out", hole=hole, table="survey"
        )
    out = pd.concat([mine[~mine["hole"].isin(list(same))], taken], ignore_index=True)
    order = pd.Index(collars["hole"]).get_indexer(out["hole"])
    out = out.assign(order=order).sort_values(["order", "depth_m"], kind="stable").drop(columns="order")
    return out.drop_duplicates(["hole", "depth_m"]).reset_index(drop=True)


OPERATION = Operation(
    name="merge-holes",
    example=Example({"holes": "Emberlow holes"}, {}),
    title="Merge holes written in two ways",
    area="Data",
    help="Brings together holes whose IDs differ only by case, spaces, dashes or zeros, where the user says that they are one.",
    params=MergeHoles,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("holes", "holes", "Drillholes"),),
    replaces={"holes": "holes"},
)
