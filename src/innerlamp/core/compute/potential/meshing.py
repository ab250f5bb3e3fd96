"""Regular meshes under the ground for potential-field inversion, and the choice of data for them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...geometry.mesh import TensorMesh

FloatArray = NDArray[np.float64]


def mesh_under(
    bounds: tuple[float, float, float, float],
    top: float,
    cell: float,
    cell_z: float,
    depth: float,
    padding: int,
    low: float,
) -> TensorMesh:
    """Return a mesh of equal cells.

    Parameters
    ----------
    bounds
        West, east, south, north of the data in metres.
    top, low
        Highest and lowest ground in metres; the mesh goes from `top` to `depth` below `low`.
    cell, cell_z
        Horizontal and vertical cell size in metres.
    depth
        Depth of the mesh below the lowest ground, metres.
    padding
        Cells added on each side beyond the data, so that sources outside do not force
        themselves into the edge cells.

    Raises
    ------
    InputError
        When a cell size or the depth is not positive.
    """
    if cell <= 0 or cell_z <= 0 or depth <= 0:
        raise InputError("cell sizes and depth must be positive")
    west, east, south, north = bounds
    nx = int(np.ceil((east - west) / cell - 1e-9)) + 2 * padding
    ny = int(np.ceil((north - south) / cell - 1e-9)) + 2 * padding
    nz = max(2, int(np.ceil((top - low + depth) / cell_z)))
    x0 = 0.5 * (west + east) - nx * cell / 2
    y0 = 0.5 * (south + north) - ny * cell / 2
    return TensorMesh.even((x0, y0, top - nz * cell_z), (cell, cell, cell_z), (max(nx, 2), max(ny, 2), nz))


def below_ground(mesh: TensorMesh, ground: FloatArray) -> NDArray[np.bool_]:
    """Return which cells (nx, ny, nz) have their centre below ground elevations (nx, ny) of the columns."""
    return mesh.z_centres[None, None, :] < ground[:, :, None]


def thin_by_cell(x: FloatArray, y: FloatArray, spacing: float) -> NDArray[np.int64]:
    """Return indices of one reading for each square of side `spacing`: the one nearest to its centre.

    Places and spacing are in metres, shape (n,).
    """
    i, j = np.floor(x / spacing), np.floor(y / spacing)
    away = np.hypot(x - (i + 0.5) * spacing, y - (j + 0.5) * spacing)
    order = np.lexsort((away, j, i))
    first = (
        np.concatenate([[True], (np.diff(i[order]) != 0) | (np.diff(j[order]) != 0)]) if len(x) else np.zeros(0, bool)
    )
    return np.sort(order[first])


def line_noise(values: FloatArray, line: NDArray[np.int64]) -> float:
    """Estimate the random noise of readings along lines from their fourth differences.

    White noise of standard deviation s has fourth differences of standard deviation sqrt(70) s,
    while smooth signal nearly vanishes; the median makes it proof against spikes
    (fourth-difference check, common practice in airborne surveys, no source).
    """
    run = np.lib.stride_tricks.sliding_window_view(values, 5) if len(values) >= 5 else np.empty((0, 5))
    same = np.lib.stride_tricks.sliding_window_view(line, 5) if len(values) >= 5 else np.empty((0, 5))
    if len(run) == 0:
        return float("nan")
    within = (same == same[:, :1]).all(axis=1)
    fourth = (run @ np.array([1.0, -4.0, 6.0, -4.0, 1.0]))[within]
    fourth = fourth[np.isfinite(fourth)]
    return float(1.4826 * np.median(np.abs(fourth)) / np.sqrt(70.0)) if len(fourth) else float("nan")
