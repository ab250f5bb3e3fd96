"""Gridding by minimum curvature."""

from __future__ import annotations

from ...declaring.operation import Cost, Example, Inputs, Operation, Output, param
from ...items.base import Item
from ...progress import Progress
from .sampling import (
    BOUNDARY,
    SAMPLES,
    Trended,
    cost,
    finished,
    geometry_of,
    measured,
    on_cells,
    read_samples,
    suggest,
)


class SmoothSurface(Trended):
    tension: float = param(
        0.0,
        "Tension",
        unit="0 to 1",
        low=0.0,
        high=0.99,
        help="0 is a plate that bends freely; 0.25 suits potential fields, more keeps steep values from swinging out",
        more=True,
    )


def _run(inputs: Inputs, p: SmoothSurface, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding import minimum_curvature as mc

    ready = read_samples(measured(inputs), p)
    geometry, blanking = geometry_of(measured(inputs), ready, p)
    parts = on_cells(
        ready,
        geometry,
        p,
        lambda x, y, v, cells: mc.minimum_curvature(
            x, y, v, cells, tension=p.tension, progress=progress.part(0.05, 0.95)
        ),
    )
    grid = finished(inputs, p, ready, parts, geometry, blanking, p.name or f"{p.attribute} grid")
    progress(1.0, ready.note)
    return {"grid": grid}


def _estimate(inputs: Inputs, p: SmoothSurface) -> Cost:
    return cost(inputs, p, 200_000, 150.0)


OPERATION = Operation(
    name="grid-minimum-curvature",
    example=Example({"samples": "Soils"}, {"attribute": "Sn ppm", "transform": "log10", "cell": 50.0}),
    title="Grid by minimum curvature",
    area="Maps",
    help="Draws a smooth surface through samples: the shape of a thin plate that passes through every value.",
    params=SmoothSurface,
    run=_run,
    reads=("samples",),
    inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"),),
    estimate=_estimate,
    suggest=suggest,
)
