"""Checks of drillhole tables: nothing is dropped or changed without a finding that says so.

Each function takes a table with ``hole`` and ``line`` (of the file), returns the rows that are
taken, and adds to the findings. All rows in are either returned or reported as left out.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd

from ...findings import Findings, Severity
from . import overlaps


def _leave_out(
    table: pd.DataFrame, bad: np.ndarray, what: str, found: Findings, file: str, name: str, done: str = "row left out"
) -> pd.DataFrame:
    if not bad.any():
        return table
    rows = table[bad]
    found.add("left out", what, done, file=file, table=name, line=rows["line"].to_numpy(), hole=rows["hole"].to_numpy())
    return table[~bad].reset_index(drop=True)


def _tell(found: Findings, severity: Severity, what: str, done: str, rows: pd.DataFrame, file: str, name: str) -> None:
    found.add(severity, what, done, file=file, table=name, line=rows["line"].to_numpy(), hole=rows["hole"].to_numpy())


def check_ids(table: pd.DataFrame, found: Findings, file: str, name: str) -> pd.DataFrame:
    """Trim hole IDs and leave out rows without one."""
    # IDs repeat: each is looked at once.
    codes, kinds = pd.factorize(table["hole"].astype("object"), use_na_sentinel=False)
    given = np.array(["" if pd.isna(k) else str(k) for k in kinds], dtype=object)
    plain = np.array([g.strip() for g in given], dtype=object)
    stripped = pd.Series(plain[codes] if len(kinds) else [], index=table.index, dtype="object")
    changed = ((plain != given) & (plain != ""))[codes]
    if changed.any():
        rows = table[changed]
        found.add(
            "mended",
            "hole ID has spaces around it",
            "spaces removed",
            file=file,
            table=name,
            line=rows["line"].to_numpy(),
            hole=stripped[changed].to_numpy(),
        )
    table = table.assign(hole=stripped)
    return _leave_out(table, (stripped == "").to_numpy(), "no hole ID", found, file, name)


def folded(ids: pd.Series) -> pd.Series:
    """Return hole IDs without what people write differently: case, spaces, dashes, padding zeros."""
    plain = ids.astype(str).str.lower().str.replace(r"[\s_\-.]", "", regex=True)
    return plain.str.replace(r"(?<![0-9])0+(?=[0-9])", "", regex=True)


def look_alikes(collars: pd.Series, strays: Mapping[str, pd.DataFrame]) -> pd.DataFrame:
    """Return IDs that may be another's: hole, like (the collar that is meant), table, rows.

    Two collars that differ only by case, spaces, dashes or padding zeros, and holes without a collar
    that are so like one. Nothing is merged here.
    """
    ids = pd.Series(collars.astype(str).to_numpy())
    keys = folded(ids)
    known = dict(zip(keys[::-1], ids[::-1], strict=True))  # the first of those alike
    found = [(h, known[k], "collar", 1) for h, k in zip(ids, keys, strict=True) if known[k] != h]
    for name, table in strays.items():
        counts = table["hole"].astype(str).value_counts()
        for hole, key in zip(counts.index, folded(pd.Series(counts.index)), strict=True):
            if key in known:
                found.append((hole, known[key], name, int(counts[hole])))
    return pd.DataFrame(found, columns=["hole", "like", "table", "rows"])


def gaps(table: pd.DataFrame, collars: pd.DataFrame, least: float = 0.01) -> pd.DataFrame:
    """Return the stretches of each hole that an interval table does not cover: hole, from_m, to_m, gap_m.

    From the collar to the final depth; holes without any row are one gap. Intervals are taken as
    sorted and not overlapping, as the checks leave them.
    """
    start = collars[["hole"]].assign(from_m=0.0, to_m=0.0)
    stop = collars[["hole"]].assign(from_m=collars["depth_m"], to_m=collars["depth_m"])
    rows = table[["hole", "from_m", "to_m"]]
    all_rows = pd.concat([t.assign(hole=t["hole"].astype(str)) for t in (start, rows, stop)], ignore_index=True)
    codes = pd.Index(collars["hole"].astype(str)).get_indexer(pd.Index(all_rows["hole"]))
    order = np.lexsort((all_rows["to_m"].to_numpy(), all_rows["from_m"].to_numpy(), codes))
    all_rows, codes = all_rows.iloc[order], codes[order]
    low, high = all_rows["to_m"].to_numpy(float)[:-1], all_rows["from_m"].to_numpy(float)[1:]
    hit = np.flatnonzero((codes[1:] == codes[:-1]) & (codes[1:] >= 0) & (high - low > least))
    return pd.DataFrame(
        {"hole": all_rows["hole"].to_numpy()[hit], "from_m": low[hit], "to_m": high[hit], "gap_m": (high - low)[hit]}
    )


def check_collars(table: pd.DataFrame, found: Findings, file: str) -> pd.DataFrame:
    """Collars: an ID, three coordinates, each hole once. Columns hole, x, y, z, depth_m, line."""
    name = "collar"
    table = check_ids(table, found, file, name)
    for column, label in (("x", "easting"), ("y", "northing"), ("z", "elevation")):
        table = _leave_out(
            table,
            ~np.isfinite(table[column].to_numpy(float)),
            f"{label} is not a number",
            found,
            file,
            name,
            "hole left out",
        )
    table = _leave_out(
        table,
        table["hole"].duplicated().to_numpy(),
        "hole ID stands a second time",
        found,
        file,
        name,
        "second collar left out",
    )
    alike = folded(table["hole"]).duplicated(keep=False).to_numpy()
    _tell(
        found,
        "look",
        "hole ID differs from another only by case, spaces or zeros",
        "kept as different holes",
        table[alike],
        file,
        name,
    )
    negative = table["depth_m"].to_numpy(float) < 0
    if negative.any():
        _tell(found, "mended", "depth of hole is negative", "sign removed", table[negative], file, name)
        table = table.assign(depth_m=table["depth_m"].abs())
    return table.reset_index(drop=True)


def check_surveys(table: pd.DataFrame, collars: pd.DataFrame, found: Findings, file: str) -> pd.DataFrame:
    """Surveys: numbers, a known hole, within the hole, once a depth. Columns hole, depth_m, azimuth, dip, line."""
    name = "survey"
    table = check_ids(table, found, file, name)
    table = _leave_out(table, ~table["hole"].isin(collars["hole"]).to_numpy(), "hole has no collar", found, file, name)
    for column, label in (("depth_m", "depth"), ("azimuth", "azimuth"), ("dip", "dip")):
        table = _leave_out(
            table, ~np.isfinite(table[column].to_numpy(float)), f"{label} is not a number", found, file, name
        )
    table = _leave_out(table, table["depth_m"].to_numpy() < 0, "depth is negative", found, file, name)
    table = _leave_out(table, np.abs(table["dip"].to_numpy()) > 90, "dip is steeper than 90°", found, file, name)
    outside = (table["azimuth"].to_numpy() < 0) | (table["azimuth"].to_numpy() > 360)
    if outside.any():
        _tell(found, "mended", "azimuth outside 0..360°", "whole turns added or taken off", table[outside], file, name)
        table = table.assign(azimuth=table["azimuth"] % 360.0)
    depth = table["hole"].map(collars.set_index("hole")["depth_m"]).to_numpy(float)
    beyond = table["depth_m"].to_numpy() > depth + 0.01
    table = _leave_out(table, beyond, "survey reading beyond the end of hole", found, file, name)
    same_hole = (table["hole"].to_numpy()[1:] == table["hole"].to_numpy()[:-1]) if len(table) else np.zeros(0, bool)
    back = (
        np.concatenate([[False], same_hole & (np.diff(table["depth_m"].to_numpy()) < 0)])
        if len(table)
        else np.zeros(0, bool)
    )
    _tell(found, "mended", "survey readings are not in order of depth", "sorted", table[back], file, name)
    table = _leave_out(
        table,
        table.duplicated(["hole", "depth_m"]).to_numpy(),
        "second survey reading at this depth",
        found,
        file,
        name,
    )
    return table.sort_values(["hole", "depth_m"], kind="stable").reset_index(drop=True)


def tell_upward(table: pd.DataFrame, found: Findings, file: str) -> pd.DataFrame:
    """Return surveys (dips negative down) as they are; those that go upward are pointed out."""
    _tell(found, "look", "hole goes upward here", "kept", table[table["dip"].to_numpy(float) > 0], file, "survey")
    return table


def check_intervals(
    table: pd.DataFrame,
    collars: pd.DataFrame,
    found: Findings,
    file: str,
    name: str,
    rule: overlaps.Overlaps = "trim",
) -> pd.DataFrame:
    """Intervals: numbers, right way round, known hole, not overlapping. Columns hole, from_m, to_m, line, ..."""
    table = check_ids(table, found, file, name)
    table = _leave_out(table, ~table["hole"].isin(collars["hole"]).to_numpy(), "hole has no collar", found, file, name)
    for column in ("from_m", "to_m"):
        label = "from" if column == "from_m" else "to"
        table = _leave_out(
            table, ~np.isfinite(table[column].to_numpy(float)), f"depth {label} is not a number", found, file, name
        )
    table = _leave_out(table, table["from_m"].to_numpy() < 0, "interval starts above the collar", found, file, name)
    start, stop = table["from_m"].to_numpy(), table["to_m"].to_numpy()
    table = _leave_out(table, start == stop, "interval has no length", found, file, name)
    start, stop = table["from_m"].to_numpy(), table["to_m"].to_numpy()
    table = _leave_out(table, start > stop, "interval ends above its start", found, file, name)

    table = overlaps.settled(table, rule, found, file, name)
    depth = table["hole"].map(collars.set_index("hole")["depth_m"]).to_numpy(float)
    beyond = table["to_m"].to_numpy() > depth + 0.01
    _tell(
        found,
        "look",
        "interval reaches beyond the end of hole",
        "kept, path continued straight",
        table[beyond],
        file,
        name,
    )
    return table


def check_coverage(table: pd.DataFrame, collars: pd.DataFrame, found: Findings, file: str, name: str) -> None:
    """Note holes without any row in a table."""
    missing = collars[
        ~collars["hole"].isin(table["hole"].unique())
    ]  # as a whole column it took 15 s for a million rows
    found.add("look", f"hole has no {name} rows", "kept", file=file, table=name, hole=missing["hole"].to_numpy())


def check_readings(table: pd.DataFrame, collars: pd.DataFrame, found: Findings, file: str, name: str) -> pd.DataFrame:
    """Readings at single depths: a known hole, a depth within it. Columns hole, depth_m, line, ..."""
    table = check_ids(table, found, file, name)
    table = _leave_out(table, ~table["hole"].isin(collars["hole"]).to_numpy(), "hole has no collar", found, file, name)
    table = _leave_out(
        table, ~np.isfinite(table["depth_m"].to_numpy(float)), "depth is not a number", found, file, name
    )
    table = _leave_out(table, table["depth_m"].to_numpy() < 0, "depth is negative", found, file, name)
    depth = table["hole"].map(collars.set_index("hole")["depth_m"]).to_numpy(float)
    beyond = table["depth_m"].to_numpy() > depth + 0.01
    if beyond.any():
        rows = table[beyond]
        found.add(
            "look",
            "reading beyond the end of hole",
            "kept, path continued straight",
            file=file,
            table=name,
            line=rows["line"].to_numpy(),
            hole=rows["hole"].to_numpy(),
        )
    return table.sort_values(["hole", "depth_m"], kind="stable").reset_index(drop=True)
