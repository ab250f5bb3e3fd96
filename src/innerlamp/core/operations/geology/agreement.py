"""How far a model of units agrees with what was logged, metre by metre."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ...compute.drilling.desurvey import locate
from ...items.fields import BlockModel
from .logged_units import Logged


def agreement(model: BlockModel, log: Logged, holes: np.ndarray | None = None, step: float = 1.0) -> pd.DataFrame:
    """Return metres of holes by logged and modelled unit, one row for each hole and pair: hole, logged, modelled, metres."""
    rows = np.arange(len(log.runs.hole)) if holes is None else np.flatnonzero(np.isin(log.runs.hole, holes))
    length = (log.runs.stop - log.runs.start)[rows]
    count = np.maximum(np.ceil(length / step).astype(np.int64), 1)
    run = np.repeat(rows, count)
    nth = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    depth = log.runs.start[run] + (nth + 0.5) * np.repeat(length / count, count)
    at = locate(log.path, log.runs.hole[run], depth)
    found = model.mesh.values_at(model.properties["unit"], *at.T)
    table = pd.DataFrame(
        {
            "hole": np.array([*map(str, log.names)], dtype=object)[log.runs.hole[run]],
            "logged": log.runs.unit[run],
            "modelled": model.named("unit", found),
            "metres": np.repeat(length / count, count),
        }
    )
    table = table[table["modelled"] != ""]
    return table.groupby(["hole", "logged", "modelled"], sort=False)["metres"].sum().reset_index()


def share(table: pd.DataFrame) -> float:
    """Return the part of metres in percent in which the model has what was logged."""
    total = float(table["metres"].sum())
    return 100.0 * float(table["metres"][table["logged"] == table["modelled"]].sum()) / total if total else float("nan")
