"""What all gridding operations share: values, lattice, transform, duplicates, blanking, boundary."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from ..errors import InputError
from ..items.base import Item
from ..items.features import HOLE, RING, Features, part_vertices
from ..items.fields import Grid
from ..items.points import PointSet, SurveyLines
from .declare import Input, Inputs, Params, param


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


SAMPLES = Input("samples", "Samples, stations or lines", ("points", "lines"))
BOUNDARY = Input(
    "boundary",
    "Boundary",
    ("features",),
    optional=True,
    help="Polygons outside of which the grid is blank",
    proposed=False,
)


def values_of(item: Item, p: GridValues) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return x, y, transformed values, and the rows of the table that they are.

    Raises
    ------
    InputError
        When the column is no numbers, or has no usable value.
    """
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
    return table["x"].to_numpy(float)[good], table["y"].to_numpy(float)[good], v[good], np.flatnonzero(good)


def settled(x: np.ndarray, y: np.ndarray, p: GridValues) -> tuple[float, float]:
    """Return cell size and blanking distance, proposed from the spacing of the samples where they are 0."""
    from ..compute.gridding import minimum_curvature as mc

    spacing = mc.typical_spacing(x, y)
    if not np.isfinite(spacing):
        raise InputError("all values lie at one place")
    cell = p.cell or float(f"{spacing / 2:.2g}")
    return cell, p.blanking or 1.5 * max(spacing, cell)


def outside(features: Features, gx: np.ndarray, gy: np.ndarray) -> np.ndarray:
    """Return which places lie outside of all polygons.

    Raises
    ------
    InputError
        When there is no polygon, or one crosses itself.
    """
    import shapely

    polygons = []
    for part in range(len(features.role)):
        ring = part_vertices(features, part)[:, :2]
        if features.role[part] == RING:
            polygons.append(shapely.Polygon(ring))
        elif features.role[part] == HOLE and polygons:
            polygons[-1] = polygons[-1].difference(shapely.Polygon(ring))
    if not polygons:
        raise InputError("the boundary holds no polygon", where=features.name)
    crossing = [k for k, each in enumerate(polygons) if not each.is_valid]
    if crossing:
        raise InputError(f"polygon {crossing[0] + 1} of the boundary crosses itself", where=features.name, fix="Mend it first, or take another")  # fmt: skip
    whole = shapely.union_all(polygons)
    shapely.prepare(whole)
    return np.asarray(~shapely.contains_xy(whole, gx, gy))


def finished(
    inputs: Inputs, p: GridValues, values: np.ndarray, lattice: Any, blank: np.ndarray, unit: str, name: str, attribute: str = ""
) -> Grid:  # fmt: skip
    """Return the grid of transformed values: blanked, cut to the boundary, turned back.

    `attribute` names values that are not those of the samples; these are not turned back.
    """
    out = values.copy()
    out[blank] = np.nan
    boundary = inputs.get("boundary")
    if isinstance(boundary, Features):
        gx, gy = np.meshgrid(lattice.x0 + lattice.cell * np.arange(lattice.nx), lattice.y0 + lattice.cell * np.arange(lattice.ny))  # fmt: skip
        out[outside(boundary, gx, gy)] = np.nan
    if not np.isfinite(out).any():
        raise InputError("the grid would be blank everywhere", fix="Blank farther out, or take another boundary")
    if p.transform == "log10" and not attribute:
        out = 10.0**out
    return Grid(
        name=name, crs=inputs["samples"].crs, values=out, x0=lattice.x0, y0=lattice.y0, dx=lattice.cell, dy=lattice.cell,
        attribute=attribute or p.attribute, unit=unit,
    )  # fmt: skip


def suggest(inputs: Inputs) -> dict[str, Any]:
    """Propose the logarithm for a skewed attribute."""
    item = inputs.get("samples")
    if not isinstance(item, PointSet):
        return {}
    for name in item.attributes:
        if name in item.table and item.table[name].dtype.kind == "f":
            v = item.table[name].dropna().to_numpy()
            if len(v) and v.min() > 0 and np.percentile(v, 98) / max(np.median(v), 1e-12) > 8:
                return {"attribute": name, "transform": "log10"}
    return {}
