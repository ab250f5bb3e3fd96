"""Where intervals, readings and stations of holes lie: worked out from collars, surveys and depths."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping

import numpy as np
import pandas as pd

from ..compute.drilling import desurvey
from ..items.holes import INTERVAL_PLACES, HoleSet


def rebuilt(holes: HoleSet) -> HoleSet:
    """Return a set whose paths and places follow anew from its collars, surveys and depths."""
    method = desurvey.method_named(holes.method)
    tables = {n: _bare(t) for n, t in holes.tables.items()}
    path = path_of(holes.collars, holes.surveys, tables, method)
    readings = {n: t.drop(columns=[c for c in "xyz" if c in t]) for n, t in holes.readings.items()}
    return dataclasses.replace(
        holes,
        stations=stations_table(path, holes.collars),
        tables={n: place(t, holes.collars, path) for n, t in tables.items()},
        readings={
            n: place_readings(t.assign(hole=t["hole"].astype(str)), holes.collars, path) for n, t in readings.items()
        },
    )


def _bare(table: pd.DataFrame) -> pd.DataFrame:
    return table.drop(columns=[c for c in INTERVAL_PLACES if c in table]).assign(hole=table["hole"].astype(str))


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


def path_from(holes: HoleSet) -> tuple[desurvey.Path, pd.Index]:
    """Return the stored path of a hole set and the index of its hole IDs."""
    index = pd.Index(holes.collars["hole"])
    s = holes.stations
    method = desurvey.method_named(holes.method)
    path = desurvey.Path(
        index.get_indexer(s["hole"]).astype(np.int64),
        s["depth_m"].to_numpy(float),
        s[["x", "y", "z"]].to_numpy(float),
        s[["tx", "ty", "tz"]].to_numpy(float),
        method,
    )
    return path, index


def place(table: pd.DataFrame, collars: pd.DataFrame, path: desurvey.Path) -> pd.DataFrame:
    """Return an interval table with the places of mid-points and ends along the paths."""
    categories = pd.Categorical(table["hole"], categories=pd.Index(collars["hole"]))
    hole = categories.codes.astype(np.int64)
    start, stop = table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)
    middle, ends = (desurvey.locate(path, hole, d) for d in (0.5 * (start + stop), stop))
    # Most intervals start where the one before them ends: those places are known.
    follows = np.concatenate([[False], (hole[1:] == hole[:-1]) & (start[1:] == stop[:-1])]) if len(hole) else hole > 0
    starts = np.roll(ends, 1, axis=0)
    starts[~follows] = desurvey.locate(path, hole[~follows], start[~follows])
    places = np.hstack([middle, starts, ends])
    out = table.assign(hole=categories)
    return pd.concat([out, pd.DataFrame(places, columns=list(INTERVAL_PLACES), index=out.index)], axis=1)


def place_readings(table: pd.DataFrame, collars: pd.DataFrame, path: desurvey.Path) -> pd.DataFrame:
    """Return a table of readings with the place of each along its path."""
    categories = pd.Categorical(table["hole"], categories=pd.Index(collars["hole"]))
    xyz = desurvey.locate(path, categories.codes.astype(np.int64), table["depth_m"].to_numpy(float))
    return table.assign(hole=categories, x=xyz[:, 0], y=xyz[:, 1], z=xyz[:, 2])


def stations_table(path: desurvey.Path, collars: pd.DataFrame) -> pd.DataFrame:
    """Return desurveyed stations as a table with hole IDs."""
    data = {"hole": collars["hole"].to_numpy()[path.hole], "depth_m": path.depth}
    data |= {c: path.position[:, k] for k, c in enumerate("xyz")} | {
        f"t{c}": path.tangent[:, k] for k, c in enumerate("xyz")
    }
    return pd.DataFrame(data)
