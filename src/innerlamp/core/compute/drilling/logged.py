"""What was logged where something else was sampled."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray


def logged_at(table: pd.DataFrame, log: pd.DataFrame, name: str) -> NDArray[np.object_]:
    """Return for each interval the class of the logged interval in which its mid-point lies, '' where none.

    Intervals `table` and `log` have hole, from_m and to_m in metres; the result has shape (len(table),).
    """
    if not len(log) or not len(table):
        return np.full(len(table), "", dtype=object)
    codes = pd.Index(pd.unique(log["hole"].astype(str)))
    ours, theirs = (
        codes.get_indexer(pd.Index(table["hole"].astype(str))),
        codes.get_indexer(pd.Index(log["hole"].astype(str))),
    )
    scale = float(max(table["to_m"].max(), log["to_m"].max())) + 1.0
    keys = theirs * scale + log["from_m"].to_numpy(float)
    order = np.argsort(keys, kind="stable")
    middle = 0.5 * (table["from_m"].to_numpy(float) + table["to_m"].to_numpy(float))
    at = np.searchsorted(keys[order], ours * scale + middle, "right") - 1
    row = order[np.clip(at, 0, len(order) - 1)]
    good = (at >= 0) & (ours >= 0) & (theirs[row] == ours) & (middle < log["to_m"].to_numpy(float)[row])
    return np.where(good, log[name].astype(str).to_numpy(dtype=object)[row], "")
