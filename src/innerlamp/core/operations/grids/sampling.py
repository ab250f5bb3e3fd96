"""What all gridding operations share: values, transform, duplicates, geometry, trend, blanking, boundary."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from ...declaring.operation import Cost, Input, Inputs, Params, param
from ...errors import InputError
from ...formats.shapes.features import polygons_of
from ...geometry.grid import GridGeometry, geometry_around
from ...items.base import Item
from ...items.features import Features
from ...items.fields import Grid
from ...items.points import PointSet, SurveyLines
from ...kept import KEPT

Transform = Literal["none", "log10", "square root", "normal score", "direction", "axis"]
Twins = Literal["mean", "median", "highest", "first"]
# Estimates one component of the values at places (n,), given samples in the same frame.
AtPlaces = Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray], np.ndarray]
OnCells = Callable[[np.ndarray, np.ndarray, np.ndarray, GridGeometry], np.ndarray]


class GridValues(Params):
    attribute: str = param(..., "Attribute", editor="attribute", of="samples")
    cell: float = param(
        0.0,
        "Cell size",
        unit="m",
        low=0.0,
        help="0 takes half of the distance between samples, or a quarter of that between lines",
    )
    transform: Transform = param(
        "none",
        "Transform",
        help="Grids other values and turns them back. log10, square root: for skewed values (what can't be turned is left out). normal score: by rank. direction: angles from 0 to 360°, gridded as vectors. axis: the same, where both ends mean one (strikes)",
    )
    blanking: float = param(
        0.0,
        "Blank beyond",
        unit="m",
        low=0.0,
        help="Cells farther than this from any sample are blank; 0 takes one and a half times the spacing of samples or lines",
    )
    twins: Twins = param("mean", "Samples at one place", help="What stands for them", more=True)
    name: str = param("", "Name", help="Attribute and source when empty")


class Trended(GridValues):
    trend: float = param(
        0.0, "Trend towards", unit="°", low=0.0, high=360.0, help="Along it values reach farther", more=True
    )
    stretch: float = param(
        1.0,
        "Reach along the trend",
        unit="times",
        low=1.0,
        high=20.0,
        help="How many times as far as across it; helps anomalies that cross lines at an angle to hang together",
        more=True,
    )


SAMPLES = Input("samples", "Samples, stations or lines", ("points", "lines"))
BOUNDARY = Input(
    "boundary",
    "Boundary",
    ("features",),
    optional=True,
    help="Polygons outside of which the grid is blank",
    proposed=False,
)


GRID = Input("grid", "Grid", ("grid",))


Measured = PointSet | SurveyLines


def measured(inputs: Inputs) -> Measured:
    """Return the samples, stations or lines that are gridded.

    Raises
    ------
    InputError
        When there are none.
    """
    return inputs.need("samples", PointSet, SurveyLines)


def same_system(first: Item, other: Item) -> None:
    """Check that two items lie in one coordinate system.

    Raises
    ------
    InputError
        Names both.
    """
    if other.crs != first.crs:
        raise InputError(
            f"the items are in {first.crs} and {other.crs}",
            where=other.name,
            fix="Import it again: files are turned into the project's system on the way in",
        )


def cells_cost(grid: Grid, per_cell: float) -> Cost:
    """Return what work on the cells of a grid takes, at so many seconds a cell."""
    ny, nx = grid.values.shape
    return Cost(f"{nx} × {ny} cells", grid.values.size * 1.5e-4, 0.2 + grid.values.size * per_cell)


@dataclass(frozen=True)
class Samples:
    """Values made ready: places in metres, one or two components, the distance between neighbours, and the way back."""

    x: np.ndarray
    y: np.ndarray
    parts: tuple[np.ndarray, ...]
    spacing: float
    merged: int
    share: float
    back: Callable[[list[np.ndarray]], np.ndarray]
    joined: str = ""  # what was done with samples at one place
    turned: str = ""  # how values were turned back, and what that makes of them

    @property
    def note(self) -> str:
        """In words what there is to know of the values."""
        return "; ".join(part for part in (self.joined, self.turned) if part)


def values_of(
    item: Measured, attribute: str, transform: Transform = "none"
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return x, y and values of the rows that can be used; scores by rank and angles as they are.

    Raises
    ------
    InputError
        When the column is no numbers, or has no usable value.
    """
    table = item.table
    if attribute not in table.columns or table[attribute].dtype.kind not in "fiu":
        raise InputError(f"'{attribute}' is not a number column", where=item.name)
    v = table[attribute].to_numpy(float)
    if transform == "log10":
        v = np.log10(np.where(v > 0, v, np.nan))
    elif transform == "square root":
        v = np.sqrt(np.where(v >= 0, v, np.nan))
    x, y = table["x"].to_numpy(float), table["y"].to_numpy(float)
    good = np.isfinite(v) & np.isfinite(x) & np.isfinite(y)
    if not good.any():
        raise InputError(f"no row has a usable value of {attribute}", where=item.name)
    return x[good], y[good], v[good]


def spacing_of(item: Measured, x: np.ndarray, y: np.ndarray) -> tuple[float, float]:
    """Return the distance between neighbouring samples, or lines, and the share of it that suits a cell.

    Raises
    ------
    InputError
        When all values lie at one place.
    """
    # A form asks at each change of a number: for the same places of the same item it is worked out once.
    key = ("spacing", id(item), len(x), float(x.sum()), float(y.sum()))
    return KEPT.of(key, lambda: _spacing(item, x, y), owner=item)


def _spacing(item: Measured, x: np.ndarray, y: np.ndarray) -> tuple[float, float]:
    from ...compute.gridding import minimum_curvature as mc

    spacing = mc.typical_spacing(x, y)
    if not np.isfinite(spacing):
        raise InputError("all values lie at one place")
    if isinstance(item, SurveyLines):
        table = item.table
        between = mc.line_spacing(table["x"].to_numpy(float), table["y"].to_numpy(float), table["line"].to_numpy())
        if np.isfinite(between) and between > spacing:
            return between, 0.25
    return spacing, 0.5


def read_samples(item: Measured, p: GridValues) -> Samples:
    """Return the samples of a form, transformed, with those at one place made one."""
    from ...compute.gridding import kriging as kr

    x, y, v = values_of(item, p.attribute, p.transform)
    spacing, share = spacing_of(item, x, y)
    angles = p.transform in ("direction", "axis")
    if angles:
        turn = np.radians(v * (2.0 if p.transform == "axis" else 1.0))
        parts: tuple[np.ndarray, ...] = (np.sin(turn), np.cos(turn))
    else:
        parts = (v,)
    rule = "mean" if angles else p.twins
    made = [kr.without_twins(x, y, part, rule) for part in parts]
    x, y, merged = made[0][0], made[0][1], made[0][3]
    parts = tuple(m[2] for m in made)
    back: Callable[[list[np.ndarray]], np.ndarray] = lambda g: g[0]  # noqa: E731
    turned = ""
    if p.transform == "log10":
        back = lambda g: 10.0 ** g[0]  # noqa: E731
        turned = "turned back, so a cell holds the middle of the distribution (median), not its mean"
    elif p.transform == "square root":
        back, turned = (lambda g: np.maximum(g[0], 0.0) ** 2), "turned back, so cells lie a little below the mean"
    elif p.transform == "normal score":
        from scipy.stats import norm, rankdata

        ordered = np.sort(parts[0])
        scores = np.asarray(norm.ppf((np.arange(len(ordered)) + 0.5) / len(ordered)))
        parts = (np.asarray(norm.ppf((rankdata(parts[0]) - 0.5) / len(ordered))),)
        back = lambda g: np.where(np.isfinite(g[0]), np.interp(g[0], scores, ordered), np.nan)  # noqa: E731
        turned = "turned back by rank: no cell lies outside of the samples' range"
    elif angles:
        half, whole = (0.5, 180.0) if p.transform == "axis" else (1.0, 360.0)
        back, turned = (lambda g: np.degrees(np.arctan2(g[0], g[1])) * half % whole), "gridded as vectors"
    joined = f"{merged:,} samples at one place: {p.twins} taken" if merged else ""
    return Samples(x, y, parts, spacing, merged, share, back, joined, turned)


def unbiased(ready: Samples, transform: str, lacking: np.ndarray) -> Samples:
    """Return samples whose way back gives the mean in each cell, where kriging said how much its estimates lack in spread.

    Logs by lognormal kriging (Journel 1980), square roots by the mean of a square; both take the transformed values as
    normal, and lean on the sill of the variogram. At a sample nothing is lacking, and the sample comes back.
    """
    squared = math.log(10.0) ** 2
    back: Callable[[list[np.ndarray]], np.ndarray]
    if transform == "log10":
        back = lambda g: 10.0 ** g[0] * np.exp(0.5 * squared * lacking)  # noqa: E731
    else:
        back = lambda g: np.maximum(np.maximum(g[0], 0.0) ** 2 + lacking, 0.0)  # noqa: E731
    turned = "turned back without bias: a cell holds the mean expected there, as the variogram has it"
    return replace(ready, back=back, turned=turned)


def settled(spacing: float, share: float, p: GridValues) -> tuple[float, float]:
    """Return cell size and blanking distance, proposed from the spacing of the samples where they are 0."""
    cell = p.cell or float(f"{spacing * share:.2g}")
    return cell, p.blanking or float(f"{1.5 * max(spacing, cell):.2g}")


def _cells(
    item: Measured, x: np.ndarray, y: np.ndarray, spacing: float, share: float, p: GridValues
) -> tuple[GridGeometry, float]:
    from ...compute.gridding import minimum_curvature as mc

    cell, blanking = settled(spacing, share, p)
    geometry = geometry_around(x, y, cell, margin=cell)
    if geometry.size > mc.LARGEST:
        words = f"the grid would have {geometry.nx:,} × {geometry.ny:,} cells"
        far = _far_row(item)
        if far:
            raise InputError(f"{words}, since {far}", where=item.name, fix="Correct that row or leave it out")
        raise InputError(words, where=item.name, fix="Take a larger cell size")
    return geometry, blanking


def _far_row(item: Measured) -> str:
    """Return in words the row that lies farthest from all others, '' where none lies far."""
    from ...compute.geometry import strays

    x, y = (item.table[c].to_numpy(float) for c in "xy")
    far = np.flatnonzero(strays.far_from_rest(x, y))
    if not len(far):
        return ""
    mx, my = strays.middle_of(x, y)
    row = int(far[np.argmax(np.hypot(x[far] - mx, y[far] - my))])
    line = (
        f"line {int(item.table['file_line'].iloc[row])} of its file" if "file_line" in item.table else f"row {row + 1}"
    )
    more = f" (and {len(far) - 1} more)" if len(far) > 1 else ""
    return f"{line} lies at ({x[row]:.0f}, {y[row]:.0f}), far from all others{more}"


def geometry_of(item: Measured, ready: Samples, p: GridValues) -> tuple[GridGeometry, float]:
    """Return the cells of the grid and the blanking distance.

    Raises
    ------
    InputError
        With more cells than memory holds.
    """
    return _cells(item, ready.x, ready.y, ready.spacing, ready.share, p)


def _turned(x: np.ndarray, y: np.ndarray, p: Trended) -> tuple[np.ndarray, np.ndarray]:
    """Places in a frame in which the trend is taken out: across it, and along it divided by the stretch."""
    a = np.radians(p.trend)
    return x * np.cos(a) - y * np.sin(a), (x * np.sin(a) + y * np.cos(a)) / p.stretch


def _frames(
    ready: Samples, geometry: GridGeometry, p: Trended
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Samples and cells in the frame of the trend, counted from the middle of the samples."""
    gx, gy = geometry.places()
    cx, cy = float(ready.x.mean()), float(ready.y.mean())
    return *_turned(ready.x - cx, ready.y - cy, p), *_turned(gx.ravel() - cx, gy.ravel() - cy, p)


def at_cells(ready: Samples, geometry: GridGeometry, p: Trended, estimate: AtPlaces) -> list[np.ndarray]:
    """Return each component at the cells (ny, nx), by a method that estimates at places."""
    u, v, gu, gv = _frames(ready, geometry, p)
    return [estimate(u, v, part, gu, gv).reshape(geometry.ny, geometry.nx) for part in ready.parts]


def on_cells(ready: Samples, geometry: GridGeometry, p: Trended, estimate: OnCells) -> list[np.ndarray]:
    """Return each component at the cells, by a method that fills a geometry; with a trend by one that lies along it."""
    from ...compute.geometry.sampling import bilinear

    if p.stretch == 1.0:
        return [estimate(ready.x, ready.y, part, geometry) for part in ready.parts]
    u, v, gu, gv = _frames(ready, geometry, p)
    # As many cells as the map has: the stretch makes the area smaller, so the cells are made smaller with it.
    fine = geometry.cell / float(np.sqrt(p.stretch))
    along = geometry_around(gu, gv, fine, margin=geometry.cell)
    return [
        np.asarray(bilinear(estimate(u, v, part, along), along.x0, along.y0, along.cell, along.cell, gu, gv)).reshape(
            geometry.ny, geometry.nx
        )
        for part in ready.parts
    ]


def outside(features: Features, gx: np.ndarray, gy: np.ndarray) -> np.ndarray:
    """Return which places lie outside of all polygons.

    Raises
    ------
    InputError
        When there is no polygon, or one crosses itself.
    """
    import shapely

    whole = shapely.union_all([shape for _, shape in polygons_of(features)])
    shapely.prepare(whole)
    return np.asarray(~shapely.contains_xy(whole, gx, gy))


def finished(
    inputs: Inputs,
    p: GridValues,
    ready: Samples,
    parts: list[np.ndarray],
    geometry: GridGeometry,
    blanking: float,
    name: str,
    attribute: str = "",
    unit: str | None = None,
) -> Grid:
    """Return the grid of components: blanked, cut to the boundary, turned back.

    `attribute` names values that are not those of the samples; these are not turned back.
    """
    from ...compute.gridding import minimum_curvature as mc

    out = (parts[0] if attribute else ready.back(parts)).copy()
    out[mc.blank_far(geometry, ready.x, ready.y, blanking)] = np.nan
    source, boundary = measured(inputs), inputs.maybe("boundary", Features)
    if boundary is not None:
        same_system(source, boundary)
        out[outside(boundary, *geometry.places())] = np.nan
    if not np.isfinite(out).any():
        raise InputError("the grid would be blank everywhere", fix="Blank farther out, or take another boundary")
    known = source.attributes[p.attribute]
    return Grid(
        name=name,
        crs=source.crs,
        values=out,
        x0=geometry.x0,
        y0=geometry.y0,
        dx=geometry.cell,
        dy=geometry.cell,
        attribute=attribute or p.attribute,
        unit=known.unit if unit is None else unit,
        quantities={attribute or p.attribute: known.quantity} if unit is None else {},
    )


def cost(inputs: Inputs, p: GridValues, per_second: float, bytes_each: float) -> Cost:
    """Return what a grid will take, from its cells."""
    # Neither values nor twins matter for it: a form asks at each change.
    item = measured(inputs)
    x, y, _ = values_of(item, p.attribute, p.transform)
    geometry, blanking = _cells(item, x, y, *spacing_of(item, x, y), p)
    kept = geometry.size * 8e-6
    words = f"{geometry.nx} × {geometry.ny} cells of {geometry.cell:g} m ({kept:,.1f} MB), blank beyond {blanking:g} m"
    return Cost(words, geometry.size * bytes_each * 1e-6 + 50, 1.0 + geometry.size / per_second)


def suggest(inputs: Inputs) -> dict[str, Any]:
    """Propose the logarithm for a skewed attribute."""
    if "samples" not in inputs:
        return {}
    item = measured(inputs)
    for name in item.attributes:
        if name in item.table and item.table[name].dtype.kind == "f":
            v = item.table[name].dropna().to_numpy()
            if len(v) and v.min() > 0 and np.percentile(v, 98) / max(np.median(v), 1e-12) > 8:
                return {"attribute": name, "transform": "log10"}
    return {}
