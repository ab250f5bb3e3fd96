"""Values of one column of holes on the intervals of another: rock where grades were sampled, grades where rock was logged."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....core.compute.drilling.logged import logged_at
from ....core.compute.drilling.weighted import means_over
from ....core.items.holes import HoleSet, hole_codes, table_with


def on_intervals(item: HoleSet, rows: pd.DataFrame, attribute: str) -> np.ndarray | None:
    """Return the values of a column on intervals (hole, from_m, to_m): its own, the class at their middle, or the mean over them.

    None where no table of intervals has the column.
    """
    if attribute in rows.columns:
        return rows[attribute].to_numpy()
    hit = table_with(item, attribute)
    if hit is None:
        return None
    table = hit[1]
    if table[attribute].dtype.kind not in "fiu":
        return logged_at(rows, table, attribute)
    index = pd.Index(item.collars["hole"].astype(str))
    mean, _ = means_over(
        hole_codes(rows["hole"], index).astype(np.int64),
        rows["from_m"].to_numpy(float),
        rows["to_m"].to_numpy(float),
        hole_codes(table["hole"], index).astype(np.int64),
        table["from_m"].to_numpy(float),
        table["to_m"].to_numpy(float),
        table[attribute].to_numpy(float),
    )
    return mean
