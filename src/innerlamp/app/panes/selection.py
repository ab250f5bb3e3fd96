"""Where the selected rows lie."""

from __future__ import annotations

import numpy as np

from ...core.items.features import Features, in_space, part_vertices
from ...core.items.holes import HoleSet
from ..context import Context, Selection


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
    if isinstance(item, HoleSet):
        table = (
            item.collars
            if selection.table in ("", "collar")
            else item.tables.get(selection.table, item.readings.get(selection.table))
        )
    else:
        table = getattr(item, "table", None)
    if table is None or not {"x", "y", "z"} <= set(table.columns):
        return np.empty((0, 3))
    rows = [r for r in selection.rows if r < len(table)]
    return np.asarray(table[["x", "y", "z"]].iloc[rows].to_numpy(float))
