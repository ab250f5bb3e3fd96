"""Grids on other cells, cut, joined, filled, smoothed; figures of a grid within polygons."""

from __future__ import annotations

import dataclasses
from typing import Any, Literal

import numpy as np

from ...declaring.operation import Cost, Example, Input, Inputs, Maybe, Operation, Output, Params, param
from ...errors import InputError
from ...formats.shapes.features import polygons_of
from ...items.base import Item
from ...items.features import Features
from ...items.fields import Grid
from ...progress import Progress
from .sampling import GRID, outside, same_system

MOST = 100_000_000


class Resample(Params):
    cell: float = param(
        0.0, "Cell size", unit="m", low=0.0, help="0 takes that of the other grid, or twice the present one"
    )
    name: str = param("", "Name", help="Grid and cell size when empty")


class Clip(Params):
    keep: Literal["inside", "outside"] = param("inside", "Keep what is", help="Inside or outside of the polygons")
    low: Maybe = param(None, "Blank below", help="Values below it become blank; empty keeps them")
    high: Maybe = param(None, "Blank above", help="Values above it become blank; empty keeps them")
    name: str = param("", "Name", help="Grid with 'cut' when empty")


class Mosaic(Params):
    seam: Literal["fade", "first", "last", "mean", "highest", "lowest"] = param(
        "fade", "Where they overlap", help="fade passes from one into the other without a step"
    )
    level: bool = param(True, "Bring to one level", help="Takes the median difference in the overlap off each grid")
    cell: float = param(0.0, "Cell size", unit="m", low=0.0, help="0 takes the smallest of the grids")
    name: str = param("", "Name", help="Joined grids when empty")


class Fill(Params):
    widest: float = param(0.0, "Fill as far as", unit="m", low=0.0, help="From the nearest value; 0 fills all gaps")
    tension: float = param(0.25, "Tension", unit="0 to 1", low=0.0, high=0.99, more=True)
    name: str = param("", "Name", help="Grid with 'filled' when empty")


class Smooth(Params):
    width: float = param(0.0, "Width", unit="m", low=0.0, help="0 takes five cells")
    how: Literal["mean", "median"] = param(
        "mean", "By", help="mean weighs by a bell curve; median takes spikes out and keeps steps"
    )
    name: str = param("", "Name", help="Grid with 'smoothed' when empty")


class PolygonFigures(Params):
    name: str = param("", "Name", help="Polygons and grid when empty")


def within(grid: Grid, width: float, what: str) -> None:
    """Refuse a width (m) that reaches over more than a grid: all cells would be one."""
    west, east, south, north = grid.bounds[:4]
    if width > max(east - west, north - south):
        raise InputError(f"the {what} of {width:g} m is wider than the grid", where=grid.name, fix="Take a smaller one")


def like(grid: Grid, values: np.ndarray, name: str, **changed: Any) -> Grid:
    """Return a grid of other values on the same cells, unless told otherwise."""
    return dataclasses.replace(grid, values=values, name=name, **changed)


def cells_of(grid: Grid) -> Any:
    """Return what computation takes of a grid."""
    from ...compute.gridding.cells import Cells

    return Cells(grid.values, grid.x0, grid.y0, grid.dx, grid.dy)


def _target(inputs: Inputs, p: Resample) -> tuple[float, float, float, int, int]:
    grid, other = inputs.need("grid", Grid), inputs.maybe("other", Grid)
    if other is not None:
        same_system(grid, other)
        if not p.cell:
            return other.x0, other.y0, other.dx, other.values.shape[1], other.values.shape[0]
        west, east, south, north, _, _ = other.bounds
    else:
        west, east, south, north, _, _ = grid.bounds
    cell = p.cell or 2.0 * max(grid.dx, grid.dy)
    nx, ny = max(int(np.ceil((east - west) / cell - 1e-6)), 1), max(int(np.ceil((north - south) / cell - 1e-6)), 1)
    if nx * ny > MOST:
        raise InputError(f"the grid would have {nx:,} × {ny:,} cells", fix="Take a larger cell size")
    return west + cell / 2, south + cell / 2, cell, nx, ny


def _run_resample(inputs: Inputs, p: Resample, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.cells import resampled

    grid = inputs.need("grid", Grid)
    x0, y0, cell, nx, ny = _target(inputs, p)
    progress(0.1, f"{nx} × {ny} cells")
    values = resampled(cells_of(grid), x0, y0, cell, nx, ny)
    if not np.isfinite(values).any():
        raise InputError("the grids do not overlap", where=grid.name)
    return {"resampled": like(grid, values, p.name or f"{grid.name}, {cell:g} m", x0=x0, y0=y0, dx=cell, dy=cell)}


def _resample_cost(inputs: Inputs, p: Resample) -> Cost:
    _, _, cell, nx, ny = _target(inputs, p)
    return Cost(f"{nx} × {ny} cells of {cell:g} m", nx * ny * 6e-5, 0.2 + nx * ny * 2e-7)


def _run_clip(inputs: Inputs, p: Clip, progress: Progress) -> dict[str, Item]:
    grid, polygons = inputs.need("grid", Grid), inputs.maybe("polygons", Features)
    if polygons is None and p.low is None and p.high is None:
        raise InputError("there is nothing to cut by", fix="Choose polygons, or give a value to blank below or above")
    out = grid.values.copy()
    if polygons is not None:
        same_system(grid, polygons)
        gx, gy = grid.places
        off = outside(polygons, gx, gy)
        out[off if p.keep == "inside" else ~off] = np.nan
    with np.errstate(invalid="ignore"):
        if p.low is not None:
            out[out < p.low] = np.nan
        if p.high is not None:
            out[out > p.high] = np.nan
    known = np.isfinite(out)
    if not known.any():
        raise InputError("nothing would be left", where=grid.name, fix="Check whether the polygons lie on the grid")
    rows, columns = np.flatnonzero(known.any(axis=1)), np.flatnonzero(known.any(axis=0))
    j, i = slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1)
    progress(1.0, f"{known.mean():.0%} of the cells kept")
    return {
        "cut": like(
            grid,
            out[j, i].copy(),
            p.name or f"{grid.name}, cut",
            x0=grid.x0 + grid.dx * columns[0],
            y0=grid.y0 + grid.dy * rows[0],
        )
    }


def _run_mosaic(inputs: Inputs, p: Mosaic, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.cells import joined

    grids = inputs.all("grids", Grid)
    if len(grids) < 2:
        raise InputError("a mosaic needs two grids at least", fix="Choose more")
    first = grids[0]
    for other in grids[1:]:
        same_system(first, other)
        if other.unit != first.unit:
            raise InputError(
                f"the grids are in '{first.unit}' and '{other.unit}'",
                where=other.name,
                fix="Turn one with 'Calculate with grids' first",
            )
    cell = p.cell or min(min(g.dx, g.dy) for g in grids)
    progress(0.1, "Joining")
    whole, shifts = joined([cells_of(g) for g in grids], cell, p.seam, p.level)
    words = "; ".join(f"{g.name} {s:+.4g} {first.unit}".rstrip() for g, s in zip(grids, shifts, strict=True) if s)
    progress(1.0, words or f"{whole.values.shape[1]} × {whole.values.shape[0]} cells")
    return {"whole": like(first, whole.values, p.name or "Joined grids", x0=whole.x0, y0=whole.y0, dx=cell, dy=cell)}


def _run_fill(inputs: Inputs, p: Fill, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.cells import filled_gaps

    grid = inputs.need("grid", Grid)
    values = filled_gaps(grid.values, 0.5 * (grid.dx + grid.dy), p.widest, p.tension, progress)
    progress(1.0, f"{int(np.isfinite(values).sum() - np.isfinite(grid.values).sum()):,} cells filled")
    return {"filled": like(grid, values, p.name or f"{grid.name}, filled")}


def _run_smooth(inputs: Inputs, p: Smooth, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.cells import smoothed

    grid = inputs.need("grid", Grid)
    width = p.width or 5.0 * max(grid.dx, grid.dy)
    within(grid, width, "width")
    progress(0.1, f"Over {width:g} m")
    return {
        "smoothed": like(
            grid, smoothed(grid.values, grid.dx, grid.dy, width, p.how), p.name or f"{grid.name}, smoothed"
        )
    }


def _run_figures(inputs: Inputs, p: PolygonFigures, progress: Progress) -> dict[str, Item]:
    import shapely

    grid, features = inputs.need("grid", Grid), inputs.need("polygons", Features)
    same_system(grid, features)
    gx, gy = grid.places
    names = ("cells", "mean", "median", "lowest", "highest", "deviation")
    figures = np.full((len(features.table), len(names)), np.nan)
    found: dict[int, list[np.ndarray]] = {}
    polygons = polygons_of(features)
    for number, (row, shape) in enumerate(polygons):
        west, south, east, north = shape.bounds
        i, j = (
            slice(*np.searchsorted(axis, span)) for axis, span in ((grid.x, (west, east)), (grid.y, (south, north)))
        )
        shapely.prepare(shape)
        values = grid.values[j, i][shapely.contains_xy(shape, gx[j, i], gy[j, i])]
        found.setdefault(row, []).append(values[np.isfinite(values)])
        progress((number + 1) / len(polygons), "Polygon by polygon")
    for row, parts in found.items():
        v = np.concatenate(parts)
        figures[row, 0] = len(v)
        if len(v):
            figures[row, 1:] = v.mean(), np.median(v), v.min(), v.max(), v.std()
    if not np.nansum(figures[:, 0]):
        raise InputError("no cell of the grid lies in a polygon", where=grid.name, fix="Check whether they overlap")
    columns = {f"{grid.attribute} {name}": figures[:, k] for k, name in enumerate(names)}
    units = {c: ("" if c.endswith(" cells") else grid.unit) for c in columns}
    said = {c: "count" if c.endswith(" cells") else grid.attributes[grid.attribute].quantity for c in columns}
    made = dataclasses.replace(
        features,
        table=features.table.assign(**columns),
        units={**features.units, **units},
        quantities={**features.quantities, **said},
        name=p.name or f"{features.name} with {grid.name}",
    )
    return {"polygons": made}


_POLYGONS = Input("polygons", "Polygons", ("features",))
RESAMPLE = Operation(
    name="resample-grid",
    example=Example({"grid": "Magnetics"}, {"cell": 60.0}),
    title="Resample a grid",
    area="Maps",
    help="Reads a grid on other cells: of another size, or those of another grid. Larger cells get the mean of what lies in them.",
    params=Resample,
    run=_run_resample,
    inputs=(GRID, Input("other", "Cells of", ("grid",), optional=True, proposed=False)),
    outputs=(Output("resampled", "grid", "Grid on other cells"),),
    estimate=_resample_cost,
)
CLIP = Operation(
    name="clip-grid",
    example=Example({"grid": "Magnetics", "polygons": "Geological map"}, {}),
    title="Clip a grid",
    area="Maps",
    help="Blanks a grid outside (or inside) of polygons, or beyond values, and takes blank edges off.",
    params=Clip,
    run=_run_clip,
    inputs=(GRID, Input("polygons", "Polygons", ("features",), optional=True, proposed=False)),
    outputs=(Output("cut", "grid", "Cut grid"),),
)
MOSAIC = Operation(
    name="mosaic",
    example=Example({"grids": ("Magnetics", "Magnetics at the pole")}, {"cell": 60.0}),
    title="Mosaic",
    area="Maps",
    help="Makes one grid of several that lie side by side or overlap; levels and seams are matched, the first one stays as it is.",
    params=Mosaic,
    run=_run_mosaic,
    inputs=(
        Input(
            "grids", "Grids", ("grid",), many=True, proposed=False, help="Two or more, in the order of their precedence"
        ),
    ),
    outputs=(Output("whole", "grid", "Mosaic"),),
    version=2,
    aliases=("join-grids",),
    renamed={"a": "grids", "b": "grids", "c": "grids", "d": "grids"},
)
FILL = Operation(
    name="fill-grid",
    example=Example({"grid": "Soil Sn"}, {}),
    title="Fill gaps of a grid",
    area="Maps",
    help="Closes gaps by a smooth surface that passes through the cells around them.",
    params=Fill,
    run=_run_fill,
    inputs=(GRID,),
    outputs=(Output("filled", "grid", "Filled grid"),),
)
SMOOTH = Operation(
    name="smooth-grid",
    example=Example({"grid": "Ground"}, {"width": 100.0}),
    title="Smooth a grid",
    area="Maps",
    help="Evens a grid out over a width, by a weighted mean or by the median.",
    params=Smooth,
    run=_run_smooth,
    inputs=(GRID,),
    outputs=(Output("smoothed", "grid", "Smoothed grid"),),
)
FIGURES = Operation(
    name="zonal-statistics",
    example=Example({"grid": "Ground", "polygons": "Geological map"}, {}),
    title="Zonal statistics",
    area="Maps",
    aliases=("figures-by-polygon",),
    help="Adds count, mean, median, lowest, highest and deviation of a grid's cells to each polygon.",
    params=PolygonFigures,
    run=_run_figures,
    inputs=(GRID, _POLYGONS),
    outputs=(Output("polygons", "features", "Polygons with figures"),),
)
