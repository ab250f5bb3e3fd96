"""What grids tell: where two agree, lineaments, depth of sources from the spectrum."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pandas as pd

from ...compute.geometry.sampling import bilinear
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...items.base import Item
from ...items.features import LINE, Features, one_each
from ...items.fields import Grid
from ...items.points import PointSet
from ...progress import Progress
from .resampling import like, within
from .sampling import GRID, cells_cost, same_system

MOST_PAIRS = 20_000


class Agreement(Params):
    window: float = param(
        0.0, "Window", unit="m", low=0.0, help="Width of the square about each cell; 0 takes a tenth of the grid"
    )
    name: str = param("", "Name", help="Both grids when empty")


class PickLineaments(Params):
    of: Literal["horizontal gradient", "the grid itself"] = param(
        "horizontal gradient",
        "Ridges of",
        help="The gradient's ridges follow contacts; those of the grid itself follow narrow bodies",
    )
    shortest: float = param(0.0, "Shortest line", unit="m", low=0.0, help="0 takes ten cells")
    share: float = param(0.4, "Strongest share of cells", unit="0 to 1", above=0.0, high=1.0)
    directions: Literal["1", "2", "3"] = param(
        "2", "Higher than its neighbours in", help="Of four directions: 1 is generous, 3 strict", more=True
    )
    name: str = param("", "Name", help="Grid when empty")


Sources = Literal["blocks, wide and deep", "pipes and ledges", "compact bodies"]


class SourceDepth(Params):
    sources: Sources = param(
        "blocks, wide and deep",
        "Sources are",
        help="The slope of the spectrum is the depth of their tops for many wide blocks (Spector & Grant 1970). Small or thin bodies make a spectrum that rises first: their own part is taken off, or they would seem half as deep",
    )
    shortest: float = param(
        0.0,
        "Shortest wavelength",
        unit="m",
        low=0.0,
        help="Where the straight stretch of the spectrum ends; 0 takes eight cells",
    )
    longest: float = param(
        0.0, "Longest wavelength", unit="m", low=0.0, help="Where it begins; 0 takes a third of the window"
    )
    window: float = param(
        0.0,
        "Window",
        unit="m",
        low=0.0,
        help="Depths are read in squares of this width that overlap by half; 0 reads the whole grid once",
    )
    name: str = param("", "Name", help="Grid when empty")


def _run_agreement(inputs: Inputs, p: Agreement, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.cells import correlation

    first, second = inputs.need("grid", Grid), inputs.need("other", Grid)
    same_system(first, second)
    gx, gy = first.places
    there = bilinear(second.values, second.x0, second.y0, second.dx, second.dy, gx, gy)
    both = np.isfinite(first.values) & np.isfinite(there)
    if both.sum() < 9:
        raise InputError("the grids do not overlap", where=f"{first.name} and {second.name}")
    west, east, south, north, _, _ = first.bounds
    window = p.window or 0.1 * min(east - west, north - south)
    within(first, window, "window")
    half_window = max(round(window / first.dy / 2), 1), max(round(window / first.dx / 2), 1)
    progress(0.3, "Window by window")
    r = correlation(first.values, np.asarray(there), half_window)
    if not np.isfinite(r).any():
        raise InputError("no window holds enough common values", fix="Take a wider window")
    overall = float(np.corrcoef(first.values[both], there[both])[0, 1])
    step = max(1, int(np.ceil(np.sqrt(both.sum() / MOST_PAIRS))))
    some = np.zeros(both.shape, dtype=bool)
    some[::step, ::step] = both[::step, ::step]
    names = [first.attribute, second.attribute]
    if names[0] == names[1]:
        names = [f"{first.attribute} of {first.name}", f"{second.attribute} of {second.name}"]
    table = pd.DataFrame(
        {
            "x": gx[some],
            "y": gy[some],
            "z": np.nan,
            names[0]: first.values[some],
            names[1]: there[some],
            "correlation": r[some],
        }
    )
    label = p.name or f"{first.name} against {second.name}"
    progress(
        1.0,
        f"correlation {overall:+.2f} over all, {float(np.nanmin(r)):+.2f} to {float(np.nanmax(r)):+.2f} within {window:,.0f} m",
    )
    units = {names[0]: first.unit, names[1]: second.unit, "correlation": ""}
    said = {n: g.attributes[g.attribute].quantity for n, g in zip(names, (first, second), strict=True)}
    return {
        "correlation": like(first, r, f"Correlation: {label}", attribute="correlation", unit=""),
        "pairs": PointSet(
            name=f"Cells: {label}", crs=first.crs, table=table, units=units, quantities=said, content="readings"
        ),
    }


def _run_lineaments(inputs: Inputs, p: PickLineaments, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import filters as fl
    from ...compute.potential.lineaments import lineaments

    grid = inputs.need("grid", Grid)
    by_gradient = p.of == "horizontal gradient"
    values = fl.horizontal_gradient(grid.values, grid.dx, grid.dy) if by_gradient else grid.values
    progress(0.4, "Following ridges")
    shortest = p.shortest or 10.0 * max(grid.dx, grid.dy)
    found = lineaments(values, grid.x0, grid.y0, grid.dx, grid.dy, shortest, p.share, int(p.directions))
    if not found:
        raise InputError(
            f"no ridge is {shortest:g} m long", where=grid.name, fix="Allow shorter ones, or a larger share of cells"
        )
    per = f"{grid.unit}/m" if by_gradient else grid.unit
    table = pd.DataFrame(
        {
            "strength": [f.strength for f in found],
            "length": [f.length for f in found],
            "azimuth": [f.azimuth for f in found],
        }
    )
    progress(1.0, f"{len(found):,} lines, {sum(f.length for f in found) / 1000:.1f} km together")
    features = Features(
        name=p.name or f"Lineaments of {grid.name}",
        crs=grid.crs,
        table=table,
        **one_each([f.xy for f in found], LINE),
        units={"strength": per, "length": "m", "azimuth": "°"},
        quantities={"azimuth": "direction"},
    )
    return {"lines": features}


def band_of(grid: Grid, p: SourceDepth) -> tuple[float, float, float]:
    """Return window and band of wavelengths, proposed where they are 0."""
    west, east, south, north, _, _ = grid.bounds
    whole = min(east - west, north - south)
    window = min(p.window or whole, whole)
    return window, p.shortest or 8.0 * max(grid.dx, grid.dy), p.longest or window / 3.0


def power_of(sources: Sources, grid: Grid) -> float:
    """Return the power of the wavenumber that sources have in the spectrum of a field (Blakely 1995, ch. 11).

    Magnetic fields: 0 for blocks that are wide and deep, 1 for pipes and ledges, 2 for compact bodies; gravity has two
    powers less, for its field falls off more slowly.
    """
    power = {"blocks, wide and deep": 0.0, "pipes and ledges": 1.0, "compact bodies": 2.0}[sources]
    return power - 2.0 if grid.attributes[grid.attribute].quantity == "gravity" else power


def _run_depth(inputs: Inputs, p: SourceDepth, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import filters as fl

    grid = inputs.need("grid", Grid)
    window, shortest, longest = band_of(grid, p)
    if not 0 < shortest < longest:
        raise InputError("the shortest wavelength must be below the longest")
    ny, nx = grid.values.shape
    wide, high = (min(round(window / grid.dx), nx), min(round(window / grid.dy), ny)) if p.window else (nx, ny)
    if min(wide, high) < 2:
        raise InputError(f"windows are {wide} by {high} cells", where=grid.name, fix="Take wider ones, or another grid")
    rows = []
    starts_y = np.unique(np.linspace(0, ny - high, max(1, 2 * (ny - high) // high + 1)).astype(int))
    starts_x = np.unique(np.linspace(0, nx - wide, max(1, 2 * (nx - wide) // wide + 1)).astype(int))
    problem: InputError | None = None
    for number, j in enumerate(starts_y):
        for i in starts_x:
            piece = grid.values[j : j + high, i : i + wide]
            if np.isfinite(piece).mean() < 0.6:
                continue
            try:
                frequency, power = fl.radial_spectrum(piece, grid.dx, grid.dy)
                depth = fl.depth_from_slope(frequency, power, 1.0 / longest, 1.0 / shortest, power_of(p.sources, grid))
            except InputError as error:
                problem = error
                continue
            rows.append((grid.x0 + grid.dx * (i + (wide - 1) / 2), grid.y0 + grid.dy * (j + (high - 1) / 2), depth))
        progress((number + 1) / len(starts_y), "Window by window")
    if not rows:
        raise problem or InputError("no window holds enough values", where=grid.name, fix="Take a smaller window")
    table = pd.DataFrame(rows, columns=["x", "y", "depth"]).assign(z=np.nan)[["x", "y", "z", "depth"]]
    progress(
        1.0,
        f"{p.sources}: tops of sources {table['depth'].median():,.0f} m below the level of the grid ({len(table)} windows, wavelengths {shortest:,.0f} to {longest:,.0f} m)",
    )
    points = PointSet(
        name=p.name or f"Source depth of {grid.name}",
        crs=grid.crs,
        table=table,
        units={"depth": "m"},
        content="readings",
    )
    return {"depths": points}


def _agreement_cost(inputs: Inputs, p: Any) -> Cost:
    return cells_cost(inputs.need("grid", Grid), 8e-7)


AGREEMENT = Operation(
    name="compare-grids",
    example=Example({"grid": "Soil Sn", "other": "Ground"}, {}),
    title="Compare two grids",
    area="Maps",
    help="Maps the correlation of two grids in a moving window, and gives their cells as points for a scatter that is linked to the map.",
    params=Agreement,
    run=_run_agreement,
    inputs=(GRID, Input("other", "Other grid", ("grid",), proposed=False)),
    outputs=(Output("correlation", "grid", "Correlation"), Output("pairs", "points", "Cells of both")),
    estimate=_agreement_cost,
)
LINEAMENTS = Operation(
    name="lineaments",
    example=Example({"grid": "Magnetics"}, {}),
    title="Pick lineaments",
    area="Geophysics",
    help="Follows the ridges of the horizontal gradient, which lie over contacts and faults, as lines with strength, length and direction.",
    params=PickLineaments,
    run=_run_lineaments,
    inputs=(GRID,),
    outputs=(Output("lines", "features", "Lineaments"),),
    estimate=_agreement_cost,
)
DEPTH = Operation(
    name="source-depth",
    example=Example({"grid": "Magnetics"}, {"window": 1500.0}),
    title="Depth from the spectrum",
    area="Geophysics",
    help="Reads how deep sources lie from the slope of the radial power spectrum, of the whole grid or in moving windows.",
    params=SourceDepth,
    run=_run_depth,
    inputs=(GRID,),
    outputs=(Output("depths", "points", "Source depths"),),
)
