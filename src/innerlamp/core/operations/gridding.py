"""Gridding by minimum curvature."""

from __future__ import annotations

import numpy as np

from ..items.base import Item
from ..progress import Progress
from .declare import Cost, Inputs, Operation, Output
from .grid_common import BOUNDARY, SAMPLES, GridValues, finished, settled, suggest, values_of


def _run(inputs: Inputs, p: GridValues, progress: Progress) -> dict[str, Item]:
    from ..compute.gridding import minimum_curvature as mc

    source = inputs["samples"]
    x, y, v, _ = values_of(source, p)
    cell, blanking = settled(x, y, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    values = mc.minimum_curvature(x, y, v, lattice, progress=progress)
    blank = mc.blank_far(lattice, x, y, blanking)
    grid = finished(inputs, p, np.asarray(values), lattice, blank, source.attributes.get(p.attribute, ""), p.name or f"{p.attribute} grid")  # fmt: skip
    return {"grid": grid}


def _estimate(inputs: Inputs, p: GridValues) -> Cost:
    from ..compute.gridding import minimum_curvature as mc

    x, y, _, _ = values_of(inputs["samples"], p)
    cell, blanking = settled(x, y, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    seconds = 1.0 + lattice.size / 20_000
    return Cost(
        f"{lattice.nx} × {lattice.ny} cells of {cell:g} m, blank beyond {blanking:g} m", lattice.size * 3e-3, seconds
    )


OPERATION = Operation(
    name="grid-minimum-curvature", title="Grid values", area="Maps",
    help="Draws a smooth surface through samples: the shape of a thin plate that passes through every value.",
    params=GridValues, run=_run, inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"),), estimate=_estimate, suggest=suggest,
)  # fmt: skip
