"""Regular meshes under the ground for potential-field inversion, and the choice of data for them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...geometry.mesh import DrapedMesh, TensorMesh

FloatArray = NDArray[np.float64]


def layers_down(thickness: float, depth: float, growth: float) -> FloatArray:
    """Return thicknesses of layers from the top down, each `growth` times the one above, until they reach a depth (metres).

    Raises
    ------
    InputError
        When a size is not positive or layers would become thinner with depth.
    """
    if thickness <= 0 or depth <= 0:
        raise InputError("cell sizes and depth must be positive")
    if growth < 1.0:
        raise InputError("layers can't become thinner with depth", fix="Give a growth of 1 or more")
    out: list[float] = []
    while sum(out) < depth * (1 - 1e-9) and len(out) < 10_000:
        out.append(thickness * growth ** len(out))
    return np.array(out)


def mesh_under(
    bounds: tuple[float, float, float, float],
    top: float,
    cell: float,
    cell_z: float,
    depth: float,
    padding: int,
    low: float,
    growth: float = 1.0,
) -> TensorMesh:
    """Return a mesh of columns of one size.

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
    growth
        Factor from one layer to the next below the lowest ground.

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
    upper = int(np.ceil((top - low) / cell_z))
    lower = layers_down(cell_z, upper * cell_z - (top - low) + depth, growth)
    heights = np.concatenate([lower[::-1], np.full(upper, cell_z)])
    if len(heights) < 2:
        heights = np.full(2, cell_z)
    nx, ny = max(nx, 2), max(ny, 2)
    x0, y0 = 0.5 * (west + east) - nx * cell / 2, 0.5 * (south + north) - ny * cell / 2
    return TensorMesh(x0, y0, np.full(nx, cell), np.full(ny, cell), 0.0, top - float(heights.sum()), heights)


def draped_under(mesh: TensorMesh, tops: FloatArray) -> DrapedMesh:
    """Return the mesh cut at the top (metres, shape (nx, ny)) of each column: cells above it have no thickness.

    A sensor close above the ground then lies outside of all cells, where the prism formulas hold. A sliver of less
    than a fifth of a layer is given to the cell below it.
    """
    between = np.minimum(mesh.z_edges[None, None, :], tops[:, :, None])
    thickness = np.diff(between, axis=2)
    sliver = (thickness > 0) & (thickness < 0.2 * mesh.w)
    below = np.roll(thickness, 1, axis=2)
    sliver[:, :, 0] = False
    given = np.where(sliver & (below > 0), thickness, 0.0)
    thickness = thickness - given + np.roll(given, -1, axis=2)
    return DrapedMesh(mesh.x0, mesh.y0, mesh.u, mesh.v, mesh.azimuth, np.minimum(tops, mesh.z_edges[-1]), thickness)


def tops_below(
    mesh: TensorMesh, ground: FloatArray, obs: FloatArray, clearance: float
) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return tops of columns (nx, ny) that lie on the ground, or as far under the sensors as they must, and how many must for each.

    Parameters
    ----------
    ground
        Lowest ground of each column in metres, shape (nx, ny).
    obs
        Sensors, shape (n, 3), metres.
    clearance
        Metres that the top keeps from each sensor in or beside its column, along the vertical.
    """
    p, q = mesh.from_map(obs[:, 0], obs[:, 1])
    tops, lowered = ground.copy(), np.zeros(ground.shape, dtype=np.int64)
    step = mesh.u[0], mesh.v[0]
    for du in (-0.01, 0.01):  # a sensor on the edge of two columns counts for both
        for dv in (-0.01, 0.01):
            i = np.floor(p / step[0] + du).astype(np.int64)
            j = np.floor(q / step[1] + dv).astype(np.int64)
            inside = (i >= 0) & (i < mesh.shape[0]) & (j >= 0) & (j < mesh.shape[1])
            wanted = obs[inside, 2] - clearance
            low = wanted < tops[i[inside], j[inside]]
            np.minimum.at(tops, (i[inside], j[inside]), wanted)
            np.add.at(lowered, (i[inside][low], j[inside][low]), 1)
    return tops, lowered


def evened_sensitivity(
    mesh: DrapedMesh, active: NDArray[np.bool_], seen: FloatArray, obs: FloatArray, steep: bool = True
) -> FloatArray:
    """Return sensitivities (cells,) of which none is below what is usual at its depth under the survey.

    Cells beside the survey are hardly seen; weighed by that alone they would be the cheapest place for whatever the
    readings do not decide. Under sensors lower than the diagonal of a cell, those nearer than it count as at that
    distance where the field falls off steeply: else the uppermost would be so dear that bodies which crop out are put
    below them.

    Parameters
    ----------
    active
        Which cells take part, shape (nx, ny, nz); `seen` is that of these.
    obs
        Sensors (n, 3), metres.
    steep
        Whether the field falls off as the cube of distance, as all but gravity itself do.
    """
    volume = mesh.volumes().reshape(mesh.shape)[active]
    column = np.broadcast_to(np.arange(mesh.shape[0] * mesh.shape[1]).reshape(*mesh.shape[:2], 1), mesh.shape)[active]
    i, j = mesh.columns(obs[:, 0], obs[:, 1])
    under = np.zeros(mesh.shape[0] * mesh.shape[1], dtype=bool)
    under[(i * mesh.shape[1] + j)[i >= 0]] = True
    under = _grown(under.reshape(mesh.shape[:2])).ravel()
    middle = 0.5 * (mesh.interfaces[:, :, 1:] + mesh.interfaces[:, :, :-1])
    depth = (mesh.tops[:, :, None] - middle)[active]
    usual_height = float(np.median(mesh.thickness[active]))
    level = np.maximum(np.floor(depth / usual_height), 0).astype(np.int64)
    each, here = seen / volume, under[column]
    order = np.argsort(level[here], kind="stable")
    known, begins = np.unique(level[here][order], return_index=True)
    usual = [float(np.median(part)) for part in np.split(each[here][order], begins[1:])]
    floor = np.interp(level, known, usual)
    out = np.maximum(each, floor)
    inside = i >= 0
    height = float(np.median(obs[inside, 2] - mesh.tops[i[inside], j[inside]])) if inside.any() else np.inf
    near = float(np.hypot(mesh.u.mean(), mesh.v.mean())) - height
    if steep and near > 0:
        out = np.where(depth < near, np.minimum(out, np.interp(near / usual_height, known, usual)), out)
    return np.asarray(out * volume)


def spread_from(
    mesh: DrapedMesh, active: NDArray[np.bool_], places: FloatArray, values: FloatArray, reach: float
) -> tuple[FloatArray, FloatArray]:
    """Return values of the active cells near measurements, and how much they count: 1 at one, falling as a Gaussian.

    Measurements in one cell are averaged first, so that a densely measured hole counts no more than another.

    Parameters
    ----------
    places, values
        Of the measurements, shapes (n, 3) in metres and (n,).
    reach
        Distance in metres at which a measurement counts 1/e.

    Returns
    -------
    values, shares
        Shapes (cells,); both 0 beyond three times the reach, and where nothing is measured in the mesh.
    """
    from scipy.spatial import cKDTree

    out, share = np.zeros(int(active.sum())), np.zeros(int(active.sum()))
    cell = np.stack(mesh.find(*places.T), axis=1)
    inside = cell[:, 0] >= 0
    if not inside.any():
        return out, share
    own, group = np.unique(cell[inside], axis=0, return_inverse=True)
    count = np.bincount(group.ravel())
    mean = [np.bincount(group.ravel(), weights=v[inside]) / count for v in (*places.T, values)]
    centres = mesh.centres()[active.ravel()]
    away, near = cKDTree(np.column_stack(mean[:3])).query(
        centres, k=min(8, len(count)), distance_upper_bound=3.0 * reach
    )
    away, near = away.reshape(len(centres), -1), near.reshape(len(centres), -1)
    weight = np.where(np.isfinite(away), np.exp(-((np.where(np.isfinite(away), away, 0.0) / reach) ** 2)), 0.0)
    total = weight.sum(axis=1)
    known = total > 0
    padded = np.append(mean[3], 0.0)
    out[known] = (weight * padded[near]).sum(axis=1)[known] / total[known]
    share[known] = weight.max(axis=1)[known]
    number = np.where(active.ravel(), np.cumsum(active.ravel()) - 1, -1).reshape(mesh.shape)[tuple(own.T)]
    out[number[number >= 0]], share[number[number >= 0]] = (
        mean[3][number >= 0],
        1.0,
    )  # what is measured in a cell is its
    return out, share


def _grown(plan: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Columns under or between readings: gaps of a few columns are closed."""
    from scipy.ndimage import binary_closing

    wide = np.pad(plan, 6)
    return np.asarray(binary_closing(wide, iterations=5)[6:-6, 6:-6] | plan)


def below_ground(mesh: TensorMesh, ground: FloatArray) -> NDArray[np.bool_]:
    """Return which cells (nx, ny, nz) have their centre below ground elevations (nx, ny) of the columns."""
    return mesh.z_centres[None, None, :] < ground[:, :, None]


def thin_by_cell(x: FloatArray, y: FloatArray, spacing: float, each: int = 1) -> NDArray[np.int64]:
    """Return indices of up to `each` readings for each square of side `spacing`: those nearest to its centre.

    Places and spacing are in metres, shape (n,).
    """
    i, j = np.floor(x / spacing), np.floor(y / spacing)
    away = np.hypot(x - (i + 0.5) * spacing, y - (j + 0.5) * spacing)
    order = np.lexsort((away, j, i))
    if not len(x):
        return order
    first = np.concatenate([[True], (np.diff(i[order]) != 0) | (np.diff(j[order]) != 0)])
    begins = np.flatnonzero(first)
    place = np.arange(len(x)) - np.repeat(begins, np.diff(np.append(begins, len(x))))
    return np.sort(order[place < each])


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
