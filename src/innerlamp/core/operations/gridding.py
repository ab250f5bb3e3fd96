"""Gridding of point values."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from ..errors import InputError
from ..items.base import Item
from ..items.fields import Grid
from ..items.points import PointSet, SurveyLines
from ..progress import Progress
from .declare import Cost, Input, Inputs, Operation, Output, Params, param


class GridValues(Params):
    attribute: str = param(..., "Attribute", role="attribute", of="samples")
    cell: float = param(
        0.0, "Cell size", unit="m", low=0.0, help="0 takes half of the typical distance between samples"
    )
    transform: Literal["none", "log10"] = param(
        "none",
        "Transform",
        help="log10 grids orders of magnitude and turns them back; values of 0 and below are left out",
    )
    blanking: float = param(
        0.0,
        "Blank beyond",
        unit="m",
        low=0.0,
        help="Cells farther than this from any sample are blank; 0 takes one and a half times the sample spacing",
    )
    name: str = param("", "Name", help="Attribute and source when empty")


def _xyv(item: Item, p: GridValues) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    assert isinstance(item, PointSet | SurveyLines)
    table = item.table
    if p.attribute not in table.columns or table[p.attribute].dtype.kind not in "fiu":
        raise InputError(f"'{p.attribute}' is not a number column", where=item.name)
    v = table[p.attribute].to_numpy(float)
    if p.transform == "log10":
        v = np.log10(np.where(v > 0, v, np.nan))
    good = np.isfinite(v) & np.isfinite(table["x"].to_numpy()) & np.isfinite(table["y"].to_numpy())
    if not good.any():
        raise InputError(f"no row has a usable value of {p.attribute}", where=item.name)
    return table["x"].to_numpy(float)[good], table["y"].to_numpy(float)[good], v[good]


def _settle(x: np.ndarray, y: np.ndarray, p: GridValues) -> tuple[float, float]:
    from ..compute.gridding import minimum_curvature as mc

    spacing = mc.typical_spacing(x, y)
    if not np.isfinite(spacing):
        raise InputError("all values lie at one place")
    cell = p.cell or float(f"{spacing / 2:.2g}")
    return cell, p.blanking or 1.5 * max(spacing, cell)


def _run(inputs: Inputs, p: GridValues, progress: Progress) -> dict[str, Item]:
    from ..compute.gridding import minimum_curvature as mc

    source = inputs["samples"]
    x, y, v = _xyv(source, p)
    cell, blanking = _settle(x, y, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    values = mc.minimum_curvature(x, y, v, lattice, progress=progress)
    values[mc.blank_far(lattice, x, y, blanking)] = np.nan
    if p.transform == "log10":
        values = 10.0**values
    name = p.name or f"{p.attribute} grid"
    return {
        "grid": Grid(
            name=name,
            crs=source.crs,
            values=values,
            x0=lattice.x0,
            y0=lattice.y0,
            dx=cell,
            dy=cell,
            attribute=p.attribute,
            unit=source.attributes.get(p.attribute, ""),
        )
    }


def _estimate(inputs: Inputs, p: GridValues) -> Cost:
    from ..compute.gridding import minimum_curvature as mc

    x, y, _ = _xyv(inputs["samples"], p)
    cell, blanking = _settle(x, y, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    seconds = 1.0 + lattice.size / 20_000
    return Cost(
        f"{lattice.nx} × {lattice.ny} cells of {cell:g} m, blank beyond {blanking:g} m", lattice.size * 3e-3, seconds
    )


def _suggest(inputs: Inputs) -> dict[str, Any]:
    item = inputs.get("samples")
    if not isinstance(item, PointSet):
        return {}
    for name in item.attributes:
        if name in item.table and item.table[name].dtype.kind == "f":
            v = item.table[name].dropna().to_numpy()
            if len(v) and v.min() > 0 and np.percentile(v, 98) / max(np.median(v), 1e-12) > 8:
                return {"attribute": name, "transform": "log10"}
    return {}


OPERATION = Operation(
    name="grid-minimum-curvature", title="Grid values", area="Maps",
    help="Draws a smooth surface through samples: the shape of a thin plate that passes through every value.",
    params=GridValues, run=_run, inputs=(Input("samples", "Samples, stations or lines", ("points", "lines")),),
    outputs=(Output("grid", "grid", "Grid"),), estimate=_estimate, suggest=_suggest,
)  # fmt: skip
