"""Where the selected rows lie."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ....core.items.features import Features, in_space, part_vertices
from ....core.items.holes import HoleSet
from ...context.context import Context, Selection


def selected_places(ctx: Context, selection: Selection) -> np.ndarray:
    """Return the places (n, 3) of the selected rows."""
    if selection.item not in ctx.lit and selection.item != ctx.selected:
        return np.empty((0, 3))  # what is dim, and not looked at in a table or chart, leaves no ring either
    item = ctx.item(selection.item) if selection.item else None
    if item is None or not selection.rows:
        return np.empty((0, 3))
    if isinstance(item, Features):  # what was drawn in space; the map outlines its own
        mine = [int(k) for k in np.flatnonzero(in_space(item)) if int(item.owner[k]) in selection.rows]
        return np.concatenate([np.empty((0, 3)), *(part_vertices(item, k) for k in mine)])
    table = table_of(item, selection.table) if isinstance(item, HoleSet) else getattr(item, "table", None)
    if table is None or not {"x", "y", "z"} <= set(table.columns):
        return np.empty((0, 3))
    rows = [r for r in selection.rows if r < len(table)]
    return np.asarray(table[["x", "y", "z"]].iloc[rows].to_numpy(float))


def table_of(item: HoleSet, name: str) -> pd.DataFrame | None:
    """Return the table of a set of holes in which rows were selected."""
    return {"": item.collars, "collar": item.collars, **item.readings, **item.tables}.get(name)
