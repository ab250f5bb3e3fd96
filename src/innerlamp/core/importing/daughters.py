"""Daughter holes: wedged off a parent at a depth, with the parent's path to there and metres of their own below."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..findings import Findings

_NAMED = re.compile(
    r"^(.*?[0-9])[-_ .]?[WD]\d{1,2}[A-Z]?$", re.IGNORECASE
)  # CT012W1, CT012-D2 (common practice, no source)
_SAME_COLLAR = 1.0  # metres
_BEGINS = 5.0  # metres of depth from which a hole's data begin, for it to be taken for a daughter by its name


@dataclass(frozen=True)
class Daughter:
    """A hole that leaves its parent at a depth; `doubt` says why it may be none, '' for none."""

    hole: str
    parent: str
    wedge_m: float
    doubt: str = ""


def found_daughters(
    collars: pd.DataFrame,
    surveys: pd.DataFrame,
    tables: Mapping[str, pd.DataFrame],
    found: Findings,
    file: str,
    earlier: pd.DataFrame | None = None,
) -> list[Daughter]:
    """Return the daughters among holes: by the columns parent and wedge_m of their collars, else by their names.

    By name a hole is taken for a daughter when its parent is there, both have one collar, and its own data begin at a
    depth. What is not certain is said, and what is no daughter in spite of its column. `earlier` are collars of holes that
    came before, which can be parents.
    """
    begins = _first_depths(surveys, tables)
    every = collars if earlier is None else pd.concat([collars, earlier], ignore_index=True)
    of_hole = every.drop_duplicates("hole").set_index("hole")
    ends = dict(zip(of_hole.index.astype(str), of_hole["depth_m"].to_numpy(float), strict=True))
    out: list[Daughter] = []
    parents = collars["parent"].fillna("").astype(str).str.strip() if "parent" in collars else [""] * len(collars)
    wedges = np.full(len(collars), np.nan)
    if "wedge_m" in collars:
        wedges = pd.to_numeric(collars["wedge_m"], errors="coerce").to_numpy(float)
    places = collars[["x", "y", "z"]].to_numpy(float)
    for hole, said, wedge, place in zip(collars["hole"].astype(str), parents, wedges, places, strict=True):
        named = _NAMED.match(hole)
        if said and said.lower() not in ("nan", "none", "-", hole.lower()):
            parent = next((h for h in of_hole.index if str(h).lower() == said.lower()), "")
            if not parent:
                _tell(found, "look", f"the parent '{said}' has no collar", "taken as a hole of its own", file, hole)
                continue
            depth = wedge if np.isfinite(wedge) else begins.get(hole, np.nan)
            doubt = "" if np.isfinite(wedge) else "the depth of the wedge is not said: it is where its own data begin"
        elif named and named[1] in of_hole.index:
            parent, depth = named[1], wedge if np.isfinite(wedge) else begins.get(hole, 0.0)
            away = np.abs(of_hole.loc[parent, ["x", "y", "z"]].to_numpy(float) - place).max()
            if not away <= _SAME_COLLAR or not depth >= _BEGINS:
                continue
            doubt = "by its name, its parent's collar and where its own data begin"
        else:
            continue
        if not np.isfinite(depth) or depth <= 0 or depth > ends[str(parent)] + 0.01:
            why = (
                f"it can't leave '{parent}' at {depth:g} m" if np.isfinite(depth) else "no depth of its wedge is known"
            )
            _tell(found, "look", f"a daughter of '{parent}', but {why}", "taken as a hole of its own", file, hole)
            continue
        out.append(Daughter(hole, str(parent), float(depth), doubt))
    return _without_circles(out, found, file)


def _first_depths(surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame]) -> dict[str, float]:
    """The depth at which the data of each hole begin: its intervals, else its readings."""
    first: dict[str, float] = {}
    for table, column in [(surveys, "depth_m"), *((t, "from_m") for t in tables.values() if "from_m" in t)]:
        if len(table):
            least = table.groupby(table["hole"].astype(str))[column].min()
            first |= {str(h): float(v) for h, v in least.items()} if column == "from_m" else {}
            first = {**{str(h): float(v) for h, v in least.items()}, **first}
    return first


def _without_circles(daughters: list[Daughter], found: Findings, file: str) -> list[Daughter]:
    """Parents before their own daughters; those that are each other's parents are none."""
    waiting = {d.hole: d for d in daughters}
    out: list[Daughter] = []
    while waiting:
        ready = [d for d in waiting.values() if d.parent not in waiting]
        if not ready:
            for hole in waiting:
                _tell(found, "look", "holes name each other as parents", "taken as holes of their own", file, hole)
            break
        out += ready
        for each in ready:
            del waiting[each.hole]
    return out


def with_parents(
    surveys: pd.DataFrame, daughters: list[Daughter], found: Findings, file: str, earlier: pd.DataFrame | None = None
) -> pd.DataFrame:
    """Return surveys (azimuth from grid north, dip negative down) in which daughters have their parents' readings to the wedge.

    At the wedge a reading is added that has the parent's direction there, so that the two paths are one to that depth.
    A daughter with readings of its own above its wedge keeps them. `earlier` are surveys of holes that came before, which
    can be parents and are not among what is returned.
    """
    table = surveys
    guests: set[str] = set()
    if earlier is not None:
        guests = {d.parent for d in daughters} - {d.hole for d in daughters} - set(surveys["hole"].astype(str))
        table = pd.concat([surveys, earlier[earlier["hole"].isin(guests)]], ignore_index=True)
    for each in daughters:
        mine = table[table["hole"] == each.hole]
        if (mine["depth_m"] < each.wedge_m - 1.0).any():
            done = f"leaves '{each.parent}' at {each.wedge_m:g} m; its own readings above hold"
        else:
            parent = table[table["hole"] == each.parent].sort_values("depth_m", kind="stable")
            if not len(parent):
                parent = pd.DataFrame({"hole": [each.parent], "depth_m": [0.0], "azimuth": [0.0], "dip": [-90.0]})
            above = parent[parent["depth_m"] < each.wedge_m - 0.01]
            depth, turned, steep = (parent[c].to_numpy(float) for c in ("depth_m", "azimuth", "dip"))
            azimuth, dip = direction_at(depth, turned, steep, each.wedge_m)
            at = pd.DataFrame({"hole": [each.hole], "depth_m": [each.wedge_m], "azimuth": [azimuth], "dip": [dip]})
            below = mine[mine["depth_m"] > each.wedge_m + 0.01]
            rest = table[table["hole"] != each.hole]
            table = pd.concat([rest, above.assign(hole=each.hole), at, below], ignore_index=True)
            done = f"takes the path of '{each.parent}' to {each.wedge_m:g} m; metres to there are counted once"
        severity = "look" if each.doubt else "note"
        more = f"; {each.doubt}: say columns parent and wedge depth where that is not so" if each.doubt else ""
        _tell(found, severity, "daughter hole", done + more, file, each.hole)
    for name in ("date", "instrument", "file"):
        if name in table:
            table[name] = table[name].fillna("")
    if guests:
        table = table[~table["hole"].isin(guests)]
    return table.sort_values(["hole", "depth_m"], kind="stable").reset_index(drop=True)


def followed(before: pd.DataFrame, after: pd.DataFrame, collars: pd.DataFrame) -> tuple[pd.DataFrame, set[str]]:
    """Return surveys in which daughters go with what changed in their parents' readings, and which daughters did.

    A daughter whose readings above its wedge were its parent's (`before`) gets those that the parent has now (`after`); one
    with readings of its own there keeps them.
    """
    if "parent" not in collars or "wedge_m" not in collars:
        return after, set()
    known = collars[collars["parent"].fillna("").astype(str).ne("") & collars["wedge_m"].notna()]
    if not len(known):
        return after, set()
    daughters = [
        Daughter(str(hole), str(parent), float(wedge))
        for hole, parent, wedge in zip(known["hole"], known["parent"], known["wedge_m"], strict=True)
    ]
    moved: set[str] = set()
    table, was, is_now = after, _by_hole(before), _by_hole(after)
    for each in _without_circles(daughters, Findings(), ""):
        mine = _above(was.get(each.hole), each.wedge_m)
        theirs = _above(was.get(each.parent), each.wedge_m)
        now = _above(is_now.get(each.parent), each.wedge_m)
        if mine.shape != theirs.shape or not np.allclose(mine, theirs, atol=1e-6):
            continue
        if now.shape == theirs.shape and np.allclose(now, theirs, atol=1e-6):
            continue
        own = (table["hole"].astype(str) == each.hole) & (table["depth_m"] <= each.wedge_m + 0.01)
        table = with_parents(table[~own].reset_index(drop=True), [each], Findings(), "")
        is_now = _by_hole(table)  # it may be a parent itself
        moved.add(each.hole)
    return table, moved


def _by_hole(surveys: pd.DataFrame) -> dict[str, NDArray[np.float64]]:
    """Depth, azimuth and dip of each hole, (n, 3)."""
    rows = surveys.groupby(surveys["hole"].astype(str), sort=False).indices
    values = surveys[["depth_m", "azimuth", "dip"]].to_numpy(float)
    return {str(h): values[at] for h, at in rows.items()}


def _above(readings: NDArray[np.float64] | None, wedge: float) -> NDArray[np.float64]:
    if readings is None:
        return np.empty((0, 3))
    some = readings[readings[:, 0] < wedge - 0.01]
    return some[np.argsort(some[:, 0], kind="stable")]


def direction_at(
    depth: NDArray[np.float64], azimuth: NDArray[np.float64], dip: NDArray[np.float64], at: float
) -> tuple[float, float]:
    """Return azimuth and dip (degrees, negative down) of a hole at a depth, on the circular arcs between its readings (n,).

    Above the first and below the last reading the hole goes straight, as minimum curvature has it.
    """
    k = int(np.searchsorted(depth, at, "right")) - 1
    if k < 0 or k >= len(depth) - 1:
        k = min(max(k, 0), len(depth) - 1)
        return float(azimuth[k]), float(dip[k])
    a, d = np.radians(azimuth[k : k + 2]), np.radians(dip[k : k + 2])
    one, two = np.column_stack([np.sin(a) * np.cos(d), np.cos(a) * np.cos(d), np.sin(d)])
    angle = float(np.arccos(np.clip(one @ two, -1.0, 1.0)))
    share = (at - depth[k]) / (depth[k + 1] - depth[k])
    if angle < 1e-9:
        return float(azimuth[k]), float(dip[k])
    x, y, z = (np.sin((1 - share) * angle) * one + np.sin(share * angle) * two) / np.sin(angle)
    return float(np.degrees(np.arctan2(x, y)) % 360.0), float(np.degrees(np.arcsin(np.clip(z, -1.0, 1.0))))


def _tell(found: Findings, severity: str, what: str, done: str, file: str, hole: str) -> None:
    found.add(severity, what, done, file=file, table="collar", hole=hole)  # type: ignore[arg-type]
