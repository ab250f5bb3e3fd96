"""Contours of a grid, as map features with their level."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pandas as pd

from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item
from ...items.features import LINE, Features, one_each
from ...items.fields import Grid
from ...numbers import parse_numbers
from ...progress import Progress


class DrawContours(Params):
    levels: Literal["even", "logarithmic", "given"] = param(
        "even", "Levels", help="logarithmic: 1, 2, 5 times powers of ten, for geochemistry"
    )
    interval: float = param(0.0, "Interval", unit="of the grid", low=0.0, help="0 proposes a round one")
    given: str = param("", "Given levels", help="Parted by semicolons, for 'given'")
    major: int = param(
        5,
        "Every so many is major",
        low=1,
        high=100,
        help="Major ones are drawn thicker and labelled; of logarithmic levels the powers of ten are major",
    )
    shortest: float = param(
        0.0, "Leave out shorter than", unit="m", low=0.0, help="0 leaves out lines shorter than four cells", more=True
    )
    name: str = param("", "Name", help="The grid's name when empty")


def levels_of(grid: Grid, p: DrawContours) -> tuple[np.ndarray, np.ndarray]:
    """Return levels, and which are major.

    Raises
    ------
    InputError
        When there are none, or too many.
    """
    from ...compute.gridding import contouring as ct

    if not np.isfinite(grid.values).any():
        raise InputError("the grid has no values", where=grid.name)
    if p.levels == "logarithmic":
        levels = ct.log_levels(grid.values)
        return levels, np.isclose(np.log10(levels) % 1.0, 0.0) | np.isclose(np.log10(levels) % 1.0, 1.0)
    if p.levels == "given":
        levels = np.array(sorted(set(parse_numbers(p.given))))
        if not len(levels):
            raise InputError("there is no level", fix="Write for example 5; 20; 100")
        return levels, np.ones(len(levels), dtype=bool)
    interval = p.interval or ct.propose_interval(grid.values)
    levels = ct.even_levels(grid.values, interval)
    return levels, np.round(levels / interval).astype(np.int64) % p.major == 0


def _run(inputs: Inputs, p: DrawContours, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding import contouring as ct

    grid = inputs.need("grid", Grid)
    levels, major = levels_of(grid, p)
    shortest = p.shortest or 4.0 * min(grid.dx, grid.dy)
    found = ct.contours(grid.values, grid.x, grid.y, levels, shortest, progress)
    if not found:
        raise InputError("no contour is that long", where=grid.name, fix="Allow shorter lines, or take other levels")
    strong = {float(v): bool(m) for v, m in zip(levels, major, strict=True)}
    z = [np.full(len(c.xy), c.level if grid.is_ground else np.nan) for c in found]
    # The level is called as the grid's values are, so that lines and grid share their colours.
    table = pd.DataFrame(
        {
            grid.attribute: [c.level for c in found],
            "weight": ["major" if strong[c.level] else "minor" for c in found],
            "round": [c.round for c in found],
        }
    )
    progress(1.0, f"{len(levels)} levels from {levels[0]:g} to {levels[-1]:g}, {len(found):,} lines")
    features = Features(
        name=p.name or f"Contours of {grid.name}",
        crs=grid.crs,
        table=table,
        **one_each([c.xy for c in found], LINE, z),
        units={grid.attribute: grid.unit},
        quantities={grid.attribute: grid.attributes[grid.attribute].quantity},
        roles={grid.attribute: "level", "weight": "line weight", "round": "closing"},
    )
    return {"contours": features}


def _estimate(inputs: Inputs, p: DrawContours) -> Cost:
    grid = inputs.need("grid", Grid)
    levels, _ = levels_of(grid, p)
    return Cost(
        f"{len(levels)} levels from {levels[0]:g} to {levels[-1]:g}",
        grid.values.size * 1e-4,
        0.2 + grid.values.size * len(levels) * 2e-8,
    )


def _suggest(inputs: Inputs) -> dict[str, Any]:
    grid = inputs.get("grid")
    if isinstance(grid, Grid):
        known = grid.values[np.isfinite(grid.values)]
        skewed = len(known) and known.min() > 0 and np.percentile(known, 99) / max(np.median(known), 1e-12) > 8
        return {"levels": "logarithmic" if skewed else "even"}
    return {}


OPERATION = Operation(
    name="contours",
    example=Example({"grid": "Soil Sn"}, {"levels": "logarithmic"}),
    title="Draw contours",
    area="Maps",
    help="Draws lines of equal value of a grid, with their level; major ones carry it as a label on the map.",
    params=DrawContours,
    run=_run,
    inputs=(Input("grid", "Grid", ("grid",)),),
    outputs=(Output("contours", "features", "Contours"),),
    estimate=_estimate,
    suggest=_suggest,
)
