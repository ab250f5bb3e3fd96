"""Contours of grids, their levels, and which of them close round a high or a low."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..geometry.sampling import bilinear

FloatArray = NDArray[np.float64]
Round = Literal["", "high", "low"]
MOST_LEVELS = 200


@dataclass(frozen=True)
class Contour:
    """One line of a level: places (n, 2); `round` tells an innermost closed line round a high or a low."""

    level: float
    xy: FloatArray
    closed: bool
    round: Round


def propose_interval(values: FloatArray, about: int = 15) -> float:
    """Return a round interval (1, 2 or 5 times a power of ten) that gives about so many levels to most of the values.

    Single values far off may have more levels, but never more in all than are drawn.

    Raises
    ------
    InputError
        When there are no values, or all are the same.
    """
    known = values[np.isfinite(values)]
    if not len(known):
        raise InputError("the grid has no values")
    span = float(np.percentile(known, 99.5) - np.percentile(known, 0.5)) or float(np.ptp(known))
    if not span > 0:
        raise InputError("all values of the grid are the same: there is nothing to contour")
    return nearest_round(max(span / about, float(np.ptp(known)) / (0.6 * MOST_LEVELS)))


def nearest_round(value: float) -> float:
    """Return 1, 2 or 5 times the power of ten that is nearest to a positive value."""
    power = 10.0 ** np.floor(np.log10(value))
    return float(min((m * power for m in (1, 2, 5, 10)), key=lambda s: abs(np.log(s / value))))


def even_levels(values: FloatArray, interval: float) -> FloatArray:
    """Return all multiples of an interval within the values.

    Values of any shape and the interval are in one unit; levels rise, shape (k,).

    Raises
    ------
    InputError
        When the interval is not above 0, or gives no level or more than 200.
    """
    if not interval > 0:
        raise InputError("the contour interval must be above 0")
    low, high = float(np.nanmin(values)), float(np.nanmax(values))
    first, last = int(np.ceil(low / interval - 1e-9)), int(np.floor(high / interval + 1e-9))
    if last < first:
        raise InputError(
            f"no multiple of {interval:g} lies between {low:.4g} and {high:.4g}", fix="Take a smaller interval"
        )
    if last - first + 1 > MOST_LEVELS:
        raise InputError(f"the interval {interval:g} gives {last - first + 1:,} levels", fix="Take a larger interval")
    # An integer times the interval, so that levels are the same for every grid.
    return np.asarray(np.arange(first, last + 1) * interval, dtype=np.float64)


def log_levels(values: FloatArray) -> FloatArray:
    """Return the levels 1, 2, 5 times powers of ten within the positive values (common practice in geochemistry, no source).

    Values have any shape; levels rise, in the unit of the values, shape (k,).

    Raises
    ------
    InputError
        When no value is positive, or no level lies within them.
    """
    known = values[np.isfinite(values) & (values > 0)]
    if not len(known):
        raise InputError("the grid has no value above 0", fix="Take even levels")
    low, high = float(known.min()), float(known.max())
    powers = np.arange(np.floor(np.log10(low)), np.ceil(np.log10(high)) + 1)
    levels = np.array([m * 10.0**p for p in powers for m in (1, 2, 5)])
    levels = levels[(levels >= low) & (levels <= high)]
    if not len(levels):
        raise InputError(f"no round level lies between {low:.4g} and {high:.4g}", fix="Take even levels")
    return levels


def contours(
    values: FloatArray,
    x: FloatArray,
    y: FloatArray,
    levels: FloatArray,
    shortest: float = 0.0,
    progress: Progress = SILENT,
) -> list[Contour]:
    """Return the lines of all levels, found by linear interpolation within cells (through contourpy).

    Parameters
    ----------
    values
        Grid (ny, nx); no line crosses a blank cell.
    x, y
        Eastings of columns and northings of rows, metres.
    shortest
        Lines shorter than this many metres are left out.

    Raises
    ------
    InputError
        When the grid is one cell wide or high.
    """
    import contourpy
    import shapely

    if min(values.shape) < 2:
        raise InputError(f"a grid of {values.shape[1]} by {values.shape[0]} cells has no lines of equal value")
    x0, y0 = float(x[0]), float(y[0])
    made = contourpy.contour_generator(x - x0, y - y0, np.ma.masked_invalid(values), name="serial")
    found: list[tuple[float, FloatArray, bool]] = []
    for number, level in enumerate(levels):
        for line in made.lines(float(level)):
            xy = np.asarray(line, dtype=float)
            if len(xy) < 2 or float(np.hypot(*np.diff(xy, axis=0).T).sum()) < shortest:
                continue
            found.append((float(level), xy, bool(len(xy) > 3 and np.array_equal(xy[0], xy[-1]))))
        progress(0.7 * (number + 1) / len(levels), "Contouring")
    rings = [k for k, (_, _, closed) in enumerate(found) if closed]
    areas = [shapely.Polygon(found[k][1]) for k in rings]
    kinds: dict[int, Round] = {}
    points = [a.representative_point() for a in areas]
    # Asked from the side of the rings, which are then prepared: ten times faster.
    inside = shapely.STRtree(points).query(areas, predicate="contains")[::-1] if areas else np.empty((2, 0), dtype=int)
    # Rings that lie within each: the middle of a wide ring may lie within a narrow one too, so sizes decide.
    size = np.array([a.area for a in areas])
    smaller = size[inside[0]] < size[inside[1]] if areas else np.empty(0, dtype=bool)
    holding = np.bincount(inside[1][smaller], minlength=len(areas))
    for k, area, point, held in zip(rings, areas, points, holding, strict=True):
        if held or not area.is_valid:
            continue
        # The mean height of the ring's own cells is told by its middle; a saddle may lie on either side of it.
        here = float(
            bilinear(
                values, 0.0, 0.0, float(x[1] - x[0]), float(y[1] - y[0]), np.array([point.x]), np.array([point.y])
            )[0]
        )
        if np.isfinite(here) and here != found[k][0]:
            kinds[k] = "high" if here > found[k][0] else "low"
    return [
        Contour(level, xy + np.array([x0, y0]), closed, kinds.get(k, "")) for k, (level, xy, closed) in enumerate(found)
    ]
