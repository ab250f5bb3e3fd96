"""How far a model of units agrees with what was logged, metre by metre."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....compute.drilling.desurvey import locate
from ....items.fields import BlockModel
from ....items.holes import HoleSet
from ....items.points import PointSet
from .logged_units import Logged
from .model_units import units_at


def places_along(log: Logged, holes: np.ndarray | None, step: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return places (n, 3) along the runs of some holes (given by number, all by default), the run of each, and the metres that it stands for."""
    rows = np.arange(len(log.runs.hole)) if holes is None else np.flatnonzero(np.isin(log.runs.hole, holes))
    length = (log.runs.stop - log.runs.start)[rows]
    count = np.maximum(np.ceil(length / step).astype(np.int64), 1)
    run = np.repeat(rows, count)
    nth = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    each = np.repeat(length / count, count)
    return locate(log.path, log.runs.hole[run], log.runs.start[run] + (nth + 0.5) * each), run, each


def agreement(model: BlockModel, log: Logged, holes: np.ndarray | None = None, step: float = 1.0) -> pd.DataFrame:
    """Return metres of holes by logged and modelled unit, one row for each hole and pair: hole, logged, modelled, metres."""
    at, run, metres = places_along(log, holes, step)
    found = units_at(model, at)
    table = pd.DataFrame(
        {
            "hole": np.array([*map(str, log.names)], dtype=object)[log.runs.hole[run]],
            "logged": log.runs.unit[run],
            "modelled": model.named("unit", found),
            "metres": metres,
        }
    )
    table = table[table["modelled"] != ""]
    return table.groupby(["hole", "logged", "modelled"], sort=False)["metres"].sum().reset_index()


def share(table: pd.DataFrame) -> float:
    """Return the part of metres in percent in which the model has what was logged."""
    total = float(table["metres"].sum())
    return 100.0 * float(table["metres"][table["logged"] == table["modelled"]].sum()) / total if total else float("nan")


def by_hole(table: pd.DataFrame) -> pd.DataFrame:
    """Agreement in percent, wrong metres and the most frequent mistake of each hole, the worst first."""
    rows = []
    for hole, part in table.groupby("hole", sort=False):
        bad = part[part["logged"] != part["modelled"]].sort_values("metres", ascending=False)
        worst = f"{bad['logged'].iloc[0]} as {bad['modelled'].iloc[0]}" if len(bad) else ""
        rows.append({"hole": hole, "agreement": share(part), "wrong": float(bad["metres"].sum()), "mostly": worst})
    return pd.DataFrame(rows).sort_values(["wrong", "hole"], ascending=[False, True]).reset_index(drop=True)


def hole_points(table: pd.DataFrame, holes: HoleSet, name: str) -> PointSet:
    """Return the agreement of each hole at its collar, the worst first, from metres by hole, logged and modelled unit."""
    rows = by_hole(table)
    collars = holes.collars.assign(hole=holes.collars["hole"].astype(str)).set_index("hole").loc[rows["hole"]]
    places = pd.DataFrame({axis: collars[axis].to_numpy(float) for axis in ("x", "y", "z")})
    return PointSet(
        name=name,
        crs=holes.crs,
        table=pd.concat([places, rows], axis=1),
        units={"agreement": "%", "wrong": "m"},
        content="readings",
    )
