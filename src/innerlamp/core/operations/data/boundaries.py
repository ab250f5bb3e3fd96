"""Moving the boundary between two logged intervals: two corrections on record, made as one change."""

from __future__ import annotations

import numpy as np

from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...importing import corrections
from ...items.base import Item
from ...items.holes import HoleSet
from ...progress import Progress

_SAME = 1e-6  # metres within which two depths are one


class MoveBoundary(Params):
    table: str = param(..., "Table", help="Of intervals, such as lithology")
    hole: str = param(..., "Hole")
    depth: float = param(..., "Depth", unit="m", low=0.0, help="Where the boundary is")
    to_depth: float = param(..., "New depth", unit="m", low=0.0, help="Within the two intervals that meet there")
    why: str = param(..., "Why", help="The reason, kept on record with your name and the time")
    who: str = param("", "Who", help="Your user name when empty", more=True)


def _run(inputs: Inputs, p: MoveBoundary, progress: Progress) -> dict[str, Item]:
    item = inputs.need("holes", HoleSet)
    table = corrections.table_named(item, p.table)
    if "from_m" not in table.columns:
        raise InputError(f"'{p.table}' has no intervals", where=item.name)
    mine = (table["hole"].astype(str) == p.hole).to_numpy()
    start, stop = table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)
    above = np.flatnonzero(mine & (np.abs(stop - p.depth) <= _SAME))
    below = np.flatnonzero(mine & (np.abs(start - p.depth) <= _SAME))
    if not len(above) and not len(below):
        raise InputError(f"no interval of {p.hole} begins or ends at {p.depth:g} m", where=p.table)
    low = max((float(start[k]) for k in above), default=-np.inf)
    high = min((float(stop[k]) for k in below), default=np.inf)
    if not low < p.to_depth < high:
        between = f"between {low:g} and {high:g} m" if np.isfinite(low + high) else "within its interval"
        raise InputError(
            f"a boundary of {p.hole} can't move to {p.to_depth:g} m", where=p.table, fix=f"Choose a depth {between}"
        )
    # The upper interval first: its start, by which rows are ordered, stays.
    out: Item = item
    for rows, column in ((above, "to_m"), (below, "from_m")):
        if len(rows):
            out = corrections.changed(out, p.table, rows, column, [f"{p.to_depth!r}"] * len(rows), p.why, p.who)
    progress(1.0, f"{p.hole}: {p.depth:g} m is {p.to_depth:g} m now")
    return {"holes": out}


OPERATION = Operation(
    name="move-boundary",
    example=Example(
        {"holes": "Emberlow holes"},
        {"table": "lithology", "hole": "EMB014", "depth": 38.0, "to_depth": 38.6, "why": "seen in the core again"},
    ),
    title="Move a boundary in a log",
    area="Data",
    help="Gives the boundary between two logged intervals another depth, on record with the reason; Boundaries of the strip log does it by mouse. What hangs from the holes is made again.",
    params=MoveBoundary,
    run=_run,
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("holes", "holes", "The holes, corrected"),),
    replaces={"holes": "holes"},
)
