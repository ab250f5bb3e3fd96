"""Minimum-curvature gridding: the thin plate that passes through the data.

Minimises the bending energy of a free plate, the sum of u_xx^2 + 2 u_xy^2 + u_yy^2 on the grid
(Briggs 1974; free edges as in Timoshenko & Woinowsky-Krieger 1959), while the bilinear value of
the grid at each sample equals the sample. Away from the data the solution meets the biharmonic
equation in its 13-point form. Tension (Smith & Wessel 1990) adds the energy of a stretched skin, so
that the surface swings out less between samples. Small grids are solved directly, so there is no
iteration to tune and no convergence to doubt; large ones as `plate` says.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.linalg import cho_solve_banded, cholesky_banded
from scipy.sparse.linalg import splu
from scipy.spatial import cKDTree

from ...errors import InputError
from ...geometry.grid import GridGeometry
from ...progress import SILENT, Progress
from .plate_energy import plate_energy

FloatArray = NDArray[np.float64]
DIRECT, LARGEST = 40_000, 30_000_000
_PADDING = 12
_HOLD = 1e6  # weight of the data; the grid misses them by about 1e-6 of the plate's local bending
_HOLD_DENSE = 1e3  # of readings along lines: more would make the plate swing across a line to meet each of them


def minimum_curvature(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    geometry: GridGeometry,
    padding: int = _PADDING,
    tension: float = 0.0,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return grid values of shape (ny, nx), row 0 the southernmost.

    Parameters
    ----------
    x, y, values
        Samples, shape (n,); coordinates in metres. A cell with three and more takes the one with the median
        value, a cell with two their mean: the surface can follow one sample a cell.
    geometry
        The cells to fill; samples outside it (and its padding) do not take part.
    padding
        Cells added on each side for the solution and cut off again, so that the free edge is
        away from the map.
    tension
        0 (bending only) up to below 1 (nearly a stretched skin).

    Raises
    ------
    InputError
        With fewer than three samples, all on one line, or too many cells.
    """
    good = np.isfinite(x) & np.isfinite(y) & np.isfinite(values)
    x, y, values = x[good], y[good], values[good]
    if not 0.0 <= tension < 1.0:
        raise InputError(f"the tension must be from 0 to below 1, not {tension:g}")
    from . import plate  # it brings a compiler along, which proposing a geometry does not need

    large = (geometry.nx + 2 * padding) * (geometry.ny + 2 * padding) > DIRECT
    (left, right_side), (low, high) = (
        (plate.padded(n, padding) if large else (padding, padding)) for n in (geometry.nx, geometry.ny)
    )
    nx, ny = geometry.nx + left + right_side, geometry.ny + low + high
    if nx * ny > LARGEST:
        raise InputError(
            f"the grid would have {geometry.size:,} cells, more than this method solves at once",
            fix="Take a larger cell size",
        )
    u = (x - geometry.x0) / geometry.cell + left
    v = (y - geometry.y0) / geometry.cell + low
    inside = (u >= 0) & (u <= nx - 1) & (v >= 0) & (v <= ny - 1)
    u, v, values = u[inside], v[inside], values[inside]
    given = len(u)
    u, v, values = _one_a_cell(u, v, values)
    hold = _HOLD if len(u) == given else _HOLD_DENSE
    if len(u) < 3:
        raise InputError(
            f"{len(u)} samples with a value lie in the grid; three are needed",
            fix="Check the attribute and the boundary",
        )
    centred = np.column_stack([u - u.mean(), v - v.mean()])
    if np.linalg.svd(centred, compute_uv=False)[-1] < 1e-6:
        raise InputError("all samples lie on one line", fix="Grid along lines needs samples beside the line")
    progress(0.1, "Building equations")
    # Work with departures from the mean plane, so that large elevations do not cost digits.
    plane = np.column_stack([np.ones(len(u)), u - u.mean(), v - v.mean()])
    coefficients, *_ = np.linalg.lstsq(plane, values, rcond=None)
    rest = values - plane @ coefficients
    spread = float(np.abs(rest).max()) or 1.0
    solved = (
        plate.through(u, v, rest / spread, nx, ny, tension, progress=progress.part(0.1, 0.95))
        if large
        else _direct(u, v, rest / spread, nx, ny, tension, hold)
    )
    progress(0.95, "Solving")
    grid = solved * spread
    uu, vv = np.meshgrid(np.arange(nx) - u.mean(), np.arange(ny) - v.mean())
    grid += coefficients[0] + coefficients[1] * uu + coefficients[2] * vv
    return np.asarray(grid[low : low + geometry.ny, left : left + geometry.nx])


def _one_a_cell(u: FloatArray, v: FloatArray, values: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """One sample for each cell (places in cells): of three and more the one with the median value, of two their mean.

    Several readings in a cell lie on a curved profile, which a bilinear cell can't follow: made to pass through all
    of them the plate would swing across the line instead. The median also keeps a single spike out.
    """
    if not len(u):
        return u, v, values
    cell = np.rint(u).astype(np.int64) + np.rint(v).astype(np.int64) * (int(np.rint(u).max()) + 2)
    order = np.lexsort((values, cell))
    _, first, count = np.unique(cell[order], return_index=True, return_counts=True)
    if (count == 1).all():
        return u, v, values
    middle = order[first + (count - 1) // 2]
    other = order[first + count // 2]  # the same one for odd counts
    pair = count == 2
    return tuple(np.where(pair, 0.5 * (each[middle] + each[other]), each[middle]) for each in (u, v, values))


def _direct(
    u: FloatArray, v: FloatArray, rest: FloatArray, nx: int, ny: int, tension: float, hold: float = _HOLD
) -> FloatArray:
    # The shorter side runs fastest: the band of the matrix, and so the work, is then smallest.
    turned = nx > ny
    sampler = _bilinear_matrix(v, u, ny, nx) if turned else _bilinear_matrix(u, v, nx, ny)
    energy = plate_energy(*((ny, nx) if turned else (nx, ny)), tension)
    matrix = (energy + hold * (sampler.T @ sampler)).tocsr()
    solve = _solver(matrix, 2 * min(nx, ny) + 2)
    right = hold * (sampler.T @ rest)
    solution = solve(right)
    solution += solve(right - matrix @ solution)
    return solution.reshape(nx, ny).T if turned else solution.reshape(ny, nx)


def _solver(matrix: sp.csr_matrix, band: int) -> Callable[[FloatArray], FloatArray]:
    # Measured: the banded factor is four times faster at 15,000 cells, the sparse one twice at 180,000.
    if matrix.shape[0] * band < 4e7:
        factor = cholesky_banded(_banded(matrix, band), overwrite_ab=True, lower=True, check_finite=False)
        return lambda right: np.asarray(cho_solve_banded((factor, True), right, check_finite=False))
    sparse = splu(matrix.tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    return lambda right: np.asarray(sparse.solve(right))


def _banded(matrix: sp.csr_matrix, band: int) -> FloatArray:
    lower = sp.tril(matrix).tocoo()
    out = np.zeros((band + 1, matrix.shape[0]))
    out[lower.row - lower.col, lower.col] = lower.data
    return out


def _bilinear_matrix(u: FloatArray, v: FloatArray, nx: int, ny: int) -> sp.csr_matrix:
    i, j = np.minimum(u.astype(np.int64), nx - 2), np.minimum(v.astype(np.int64), ny - 2)
    fu, fv = u - i, v - j
    rows = np.tile(np.arange(len(u)), 4)
    columns = np.concatenate([j * nx + i, j * nx + i + 1, (j + 1) * nx + i, (j + 1) * nx + i + 1])
    weights = np.concatenate([(1 - fu) * (1 - fv), fu * (1 - fv), (1 - fu) * fv, fu * fv])
    return sp.csr_matrix((weights, (rows, columns)), shape=(len(u), nx * ny))


def blank_far(geometry: GridGeometry, x: FloatArray, y: FloatArray, distance: float) -> NDArray[np.bool_]:
    """Return which cells (ny, nx) lie farther than `distance` metres from every sample."""
    from scipy.ndimage import distance_transform_edt

    i = np.clip(np.rint((x - geometry.x0) / geometry.cell).astype(np.int64), 0, geometry.nx - 1)
    j = np.clip(np.rint((y - geometry.y0) / geometry.cell).astype(np.int64), 0, geometry.ny - 1)
    free = np.ones((geometry.ny, geometry.nx), dtype=bool)
    free[j, i] = False
    # Distances between cells tell all but those near the border, which are measured to the samples themselves.
    rough = distance_transform_edt(free) * geometry.cell
    far = rough > distance
    off = max(
        float(np.abs(x - (geometry.x0 + geometry.cell * i)).max()),
        float(np.abs(y - (geometry.y0 + geometry.cell * j)).max()),
    )
    jj, ii = np.nonzero(np.abs(rough - distance) <= 1.5 * off)
    at = np.column_stack([geometry.x0 + geometry.cell * ii, geometry.y0 + geometry.cell * jj])
    nearest, _ = cKDTree(np.column_stack([x, y])).query(at, distance_upper_bound=distance, workers=-1)
    far[jj, ii] = ~np.isfinite(nearest)
    return np.asarray(far)


def line_spacing(x: FloatArray, y: FloatArray, line: NDArray[Any]) -> float:
    """Return the median distance in metres from a reading to the nearest one on another line; NaN with one line."""
    names, number = np.unique(np.asarray(line).astype(str), return_inverse=True)
    if len(names) < 2:
        return float("nan")
    step = max(1, len(x) // 200_000)
    x, y, number = x[::step], y[::step], number[::step]
    out = []
    for k in np.unique(np.linspace(0, len(names) - 1, 12).astype(int)):
        mine = number == k
        if mine.any() and not mine.all():
            some = np.column_stack([x[mine], y[mine]])[:: max(1, int(mine.sum()) // 200)]
            away, _ = cKDTree(np.column_stack([x[~mine], y[~mine]])).query(some)
            out.append(float(np.median(away)))
    return float(np.median(out)) if out else float("nan")


def typical_spacing(x: FloatArray, y: FloatArray) -> float:
    """Return the median distance in metres from a sample to its nearest neighbour at another place."""
    places = np.unique(np.column_stack([x, y]), axis=0)
    if len(places) < 2:
        return float("nan")
    nearest, _ = cKDTree(places).query(places, k=2)
    return float(np.median(nearest[:, 1]))
