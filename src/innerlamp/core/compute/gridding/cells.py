"""Work on the cells of grids: other cells, gaps, smoothing, several grids as one, how two agree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..geometry.sampling import bilinear

FloatArray = NDArray[np.float64]
Seam = Literal["fade", "first", "last", "mean", "highest", "lowest"]


@dataclass(frozen=True)
class Cells:
    """Values (ny, nx), row 0 the southernmost, with the first cell's centre and the cell sizes in metres."""

    values: FloatArray
    x0: float
    y0: float
    dx: float
    dy: float

    @property
    def x(self) -> FloatArray:
        return np.asarray(self.x0 + self.dx * np.arange(self.values.shape[1]))

    @property
    def y(self) -> FloatArray:
        return np.asarray(self.y0 + self.dy * np.arange(self.values.shape[0]))


def resampled(grid: Cells, x0: float, y0: float, cell: float, nx: int, ny: int) -> FloatArray:
    """Return a grid (ny, nx) read on other square cells; origin and sizes are in metres.

    Cells that are larger than those of the grid get the mean of what lies in them, each old cell with
    the area that it shares with the new one, so that nothing short is mistaken for something long and
    nothing is displaced; a new cell of which less than a quarter is known is blank. Others are read
    between the four nearest cells.
    """
    if cell < 1.5 * max(grid.dx, grid.dy):
        gx, gy = np.meshgrid(x0 + cell * np.arange(nx), y0 + cell * np.arange(ny))
        return np.asarray(bilinear(grid.values, grid.x0, grid.y0, grid.dx, grid.dy, gx, gy))
    across = _shared(grid.x, grid.dx, x0, cell, nx)
    along = _shared(grid.y, grid.dy, y0, cell, ny)
    known = np.isfinite(grid.values)
    area = along @ (across @ known.T.astype(float)).T
    total = along @ (across @ np.where(known, grid.values, 0.0).T).T
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(area >= 0.25 * cell * cell, total / area, np.nan)


def _shared(old: FloatArray, width: float, first: float, cell: float, count: int) -> Any:
    """Metres (count, len(old)) that cells share along an axis, as a sparse matrix."""
    import scipy.sparse as sp

    low = first - cell / 2 + cell * np.arange(count)
    begin = np.floor((low - (old[0] - width / 2)) / width + 1e-9).astype(np.int64)
    span = int(np.ceil(cell / width)) + 2
    column = begin[:, None] + np.arange(span)
    left = old[0] - width / 2 + width * column
    metres = np.minimum(left + width, (low + cell)[:, None]) - np.maximum(left, low[:, None])
    good = (column >= 0) & (column < len(old)) & (metres > 1e-9 * width)
    rows = np.broadcast_to(np.arange(count)[:, None], column.shape)
    return sp.csr_matrix((metres[good], (rows[good], column[good])), shape=(count, len(old)))


def filled_gaps(
    values: FloatArray, cell: float, widest: float, tension: float = 0.25, progress: Progress = SILENT
) -> FloatArray:
    """Return a grid (ny, nx) whose gaps are closed by a plate under tension that passes through the cells around them.

    `widest` is how far, in metres, a cell may lie from the nearest known one; 0 closes all gaps. What lies outside
    of the grid's known cells (the sea of blanks that reaches the edge) is closed as far, too.

    Raises
    ------
    InputError
        When the grid has fewer than three values.
    """
    from scipy.ndimage import distance_transform_edt

    from . import plate_gaps

    gap = ~np.isfinite(values)
    if not gap.any():
        return values.copy()
    known = ~gap
    if known.sum() < 3:
        raise InputError("the grid has too few values to fill it from")
    away = distance_transform_edt(gap) * cell
    wanted = gap if not widest else gap & (away <= widest)
    # The plate is solved somewhat farther than it is wanted, so that its free edge is out of sight.
    solved = gap if not widest else gap & (away <= 2.0 * widest + 4.0 * cell)
    middle, spread = float(values[known].mean()), float(np.ptp(values[known])) or 1.0
    made = plate_gaps.filled((values - middle) / spread, solved, tension, progress)
    return np.where(wanted, made * spread + middle, values)


def smoothed(
    values: FloatArray, dx: float, dy: float, width: float, how: Literal["mean", "median"] = "mean"
) -> FloatArray:
    """Return a grid smoothed over `width` metres: by a bell curve (mean; its standard deviation is a quarter of the width) or by the median.

    Blanks stay blank and do not spoil cells beside them.

    `values` has shape (ny, nx); cell sizes `dx`, `dy` are in metres.

    Raises
    ------
    InputError
        When the width does not reach the next cell.
    """
    from scipy.ndimage import gaussian_filter, generic_filter

    if width < min(dx, dy):
        raise InputError(
            f"a width of {width:g} m does not reach the next cell", fix=f"Take {2 * max(dx, dy):g} m or more"
        )
    known = np.isfinite(values)
    if how == "mean":
        sigma = (0.25 * width / dy, 0.25 * width / dx)
        weight = gaussian_filter(known.astype(float), sigma, mode="constant")
        total = gaussian_filter(np.where(known, values, 0.0), sigma, mode="constant")
        return np.where(known, total / np.maximum(weight, 1e-12), np.nan)
    half_window = (int(width / dy / 2), int(width / dx / 2))
    size = (2 * half_window[0] + 1, 2 * half_window[1] + 1)
    if size[0] * size[1] > 2500:
        raise InputError(
            f"a median over {size[1]} × {size[0]} cells would take too long", fix="Take a narrower width, or the mean"
        )
    if known.all():
        from scipy.ndimage import median_filter

        return np.asarray(median_filter(values, size, mode="nearest"))
    with np.errstate(all="ignore"):
        import warnings

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)
            made = generic_filter(values, np.nanmedian, size=size, mode="nearest")
    return np.where(known, made, np.nan)


def joined(grids: Sequence[Cells], cell: float, seam: Seam = "fade", level: bool = True) -> tuple[Cells, list[float]]:
    """Return several grids as one, and what was added to each so that they meet.

    Parameters
    ----------
    seam
        What holds where grids overlap. ``fade`` weighs each by the distance to its own edge, so
        that one passes into the other without a step.
    level
        Whether the median difference in the overlap is taken off each grid before it joins those
        before it.

    Raises
    ------
    InputError
        When the whole would be too large.
    """
    from scipy.ndimage import distance_transform_edt

    west = min(g.x0 - g.dx / 2 for g in grids)
    south = min(g.y0 - g.dy / 2 for g in grids)
    east = max(g.x[-1] + g.dx / 2 for g in grids)
    north = max(g.y[-1] + g.dy / 2 for g in grids)
    nx, ny = int(np.ceil((east - west) / cell - 1e-6)), int(np.ceil((north - south) / cell - 1e-6))
    if nx * ny > 100_000_000:
        raise InputError(f"the whole would have {nx:,} × {ny:,} cells", fix="Take a larger cell size")
    x0, y0 = west + cell / 2, south + cell / 2
    total, weight = np.full((ny, nx), np.nan), np.zeros((ny, nx))
    shifts: list[float] = []
    for number, grid in enumerate(grids):
        values = resampled(grid, x0, y0, cell, nx, ny)
        here, there = np.isfinite(values), np.isfinite(total)
        both = here & there
        shift = float(np.median(total[both] - values[both])) if level and number and both.any() else 0.0
        shifts.append(shift)
        values = values + shift
        new = here & ~there
        padded = np.pad(here, 1)
        mine = distance_transform_edt(padded)[1:-1, 1:-1] if seam == "fade" else np.ones((ny, nx))
        with np.errstate(invalid="ignore"):
            if seam in ("fade", "mean"):
                total[both] = (total[both] * weight[both] + values[both] * mine[both]) / (weight[both] + mine[both])
            elif seam == "last":
                total[both] = values[both]
            elif seam == "highest":
                total[both] = np.maximum(total[both], values[both])
            elif seam == "lowest":
                total[both] = np.minimum(total[both], values[both])
        total[new] = values[new]
        weight = np.where(here, weight + mine, weight)
    return Cells(total, x0, y0, cell, cell), shifts


def correlation(a: FloatArray, b: FloatArray, half_window: tuple[int, int]) -> FloatArray:
    """Return Pearson's correlation of two grids (ny, nx) within a window of ``2 half_window + 1`` rows and columns about each cell.

    Cells whose window holds fewer than a third of common values, or where one grid does not vary,
    are blank.
    """
    from scipy.ndimage import uniform_filter

    known = np.isfinite(a) & np.isfinite(b)
    size = (2 * half_window[0] + 1, 2 * half_window[1] + 1)
    # Departures from the overall mean, so that squares of large values do not eat the digits.
    u = np.where(known, a - a[known].mean(), 0.0) if known.any() else np.zeros(a.shape)
    v = np.where(known, b - b[known].mean(), 0.0) if known.any() else np.zeros(b.shape)

    def mean(values: FloatArray) -> FloatArray:
        return np.asarray(uniform_filter(values, size, mode="constant"))

    share = mean(known.astype(float))
    with np.errstate(invalid="ignore", divide="ignore"):
        mu, mv = mean(u) / share, mean(v) / share
        uu, vv = mean(u * u) / share - mu**2, mean(v * v) / share - mv**2
        r = (mean(u * v) / share - mu * mv) / np.sqrt(uu * vv)
    flat = (uu <= 1e-10 * np.var(u)) | (vv <= 1e-10 * np.var(v))
    return np.where(known & (share > 1 / 3) & ~flat, np.clip(r, -1.0, 1.0), np.nan)
