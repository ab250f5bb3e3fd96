"""Gravity and total-field magnetic anomaly of rectangular prisms: the cells of a mesh.

Closed forms: gravity Nagy 1966 and Nagy, Papp & Benedek 2000; magnetics Bhattacharyya 1964.
On a mesh of equal cells corner terms are computed once at the nodes that cells share, in double
precision, and differenced; cells of other meshes are summed one by one. A mesh that is turned is
computed in its own frame.
beyond a chosen distance a cell is replaced by its dipole (point mass) with second moments, whose
error there is below 2e-4 of the far field (measured in tests).

Frame: east, north, up, metres; depth-positive quantities are not used. Gravity is positive
downward in mGal, magnetic fields in nT. ``G = 6.67430e-11`` (CODATA 2018).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...geometry.mesh import DrapedMesh, Mesh, TensorMesh
from ...progress import SILENT, Progress
from ..compiled import compiled
from .fastmath import fast_atan, fast_log
from .fields import GRAVITATION, FieldKernel, field_direction, total_field, vertical_gravity

__all__ = [
    "GRAVITATION",
    "field_direction",
    "gravity_kernel",
    "gravity_of",
    "kernel_matrix",
    "magnetic_kernel",
    "magnetics_of",
]
FloatArray = NDArray[np.float64]
_NEAR_SIZES = 6.0  # longest sides of a cell within which it is never taken as a point
_TINY = 1e-6  # metres; nodes are kept this far from the coordinate planes, where terms are singular


@compiled(forceinline=True, error_model="numpy")
def away(v):  # type: ignore[no-untyped-def]
    """A coordinate kept off the planes where terms are singular."""
    return (_TINY if v >= 0 else -_TINY) if abs(v) < _TINY else v


@compiled(forceinline=True, error_model="numpy")
def log_sum(r, v, rest):  # type: ignore[no-untyped-def]
    """ln(r + v); for negative v the sum cancels, so it is (r² - v²) / (r - v) with r² - v² = rest."""
    return fast_log(r + v if v > 0 else rest / (r - v))


@compiled(cache=True, error_model="numpy")
def _node_line_tmi(xs, y, z, c, out):  # type: ignore[no-untyped-def]
    # c: coefficients of Txx, Tyy, Tzz, Txy, Txz, Tyz of the total-field kernel.
    yy, zz = y * y, z * z
    for i in range(xs.size):
        x = xs[i]
        xx = x * x
        r = np.sqrt(xx + yy + zz)
        value = (
            -c[0] * fast_atan(y * z / (x * r)) - c[1] * fast_atan(x * z / (y * r)) - c[2] * fast_atan(x * y / (z * r))
        )
        value += c[3] * log_sum(r, z, xx + yy) + c[4] * log_sum(r, y, xx + zz) + c[5] * log_sum(r, x, yy + zz)
        out[i] = value


@compiled(cache=True, error_model="numpy")
def _node_line_gz(xs, y, z, c, out):  # type: ignore[no-untyped-def]
    yy, zz = y * y, z * z
    for i in range(xs.size):
        x = xs[i]
        xx = x * x
        r = np.sqrt(xx + yy + zz)
        out[i] = x * log_sum(r, y, xx + zz) + y * log_sum(r, x, yy + zz) - z * fast_atan(x * y / (z * r))


@compiled(cache=True, error_model="numpy", parallel=True)
def _fill_exact(obs, xn, yn, zn, column_top, active, c, scale, gravity, near, out):  # type: ignore[no-untyped-def]
    # One row of `out` per datum; only cells within `near` (metres, horizontally per column and
    # vertically per level, measured to the cell centre) are written.
    nx, ny, nz = xn.size - 1, yn.size - 1, zn.size - 1
    for d in prange(obs.shape[0]):
        ox, oy, oz = obs[d, 0], obs[d, 1], obs[d, 2]
        # Range of cells that can be near, so that a small box costs little.
        i0, i1 = max(0, np.searchsorted(xn, ox - near) - 1), min(nx, np.searchsorted(xn, ox + near))
        j0, j1 = max(0, np.searchsorted(yn, oy - near) - 1), min(ny, np.searchsorted(yn, oy + near))
        k0, k1 = max(0, np.searchsorted(zn, oz - near) - 1), min(nz, np.searchsorted(zn, oz + near))
        if i1 <= i0 or j1 <= j0 or k1 <= k0:
            continue
        xs = np.empty(i1 - i0 + 1)
        for i in range(xs.size):
            xs[i] = away(xn[i0 + i] - ox)
        width = k1 - k0 + 1
        upper = np.empty((width, xs.size))
        lower = np.empty((width, xs.size))
        for j in range(j0, j1 + 1):
            y = away(yn[j] - oy)
            for k in range(width):
                z = away(zn[k0 + k] - oz)
                if gravity:
                    _node_line_gz(xs, y, z, c, upper[k])
                else:
                    _node_line_tmi(xs, y, z, c, upper[k])
            if j > j0:
                cy = 0.5 * (yn[j] + yn[j - 1]) - oy
                for k in range(width - 1):
                    cz = 0.5 * (zn[k0 + k] + zn[k0 + k + 1]) - oz
                    for i in range(xs.size - 1):
                        cx = 0.5 * (xn[i0 + i] + xn[i0 + i + 1]) - ox
                        a = active[(i0 + i) * ny * nz + (j - 1) * nz + k0 + k]
                        if a >= 0 and cx * cx + cy * cy + cz * cz <= near * near:
                            value = (upper[k + 1, i + 1] - upper[k + 1, i]) - (upper[k, i + 1] - upper[k, i])
                            value -= (lower[k + 1, i + 1] - lower[k + 1, i]) - (lower[k, i + 1] - lower[k, i])
                            out[d, a] = scale * value
            upper, lower = lower, upper


@compiled(cache=True, error_model="numpy", parallel=True)
def _fill_prisms(obs, box, place, c, scale, gravity, near2, out):  # type: ignore[no-untyped-def]
    # As `_fill_exact` for prisms given by their bounds (6, n): west, east, south, north, bottom, top; `place` is the
    # column of each.
    for d in prange(obs.shape[0]):
        xs, line = np.empty(2), np.empty(2)
        for a in range(box.shape[1]):
            dx = 0.5 * (box[0, a] + box[1, a]) - obs[d, 0]
            dy = 0.5 * (box[2, a] + box[3, a]) - obs[d, 1]
            dz = 0.5 * (box[4, a] + box[5, a]) - obs[d, 2]
            if dx * dx + dy * dy + dz * dz > near2[a]:
                continue
            xs[0], xs[1] = away(box[0, a] - obs[d, 0]), away(box[1, a] - obs[d, 0])
            value = 0.0
            for j in range(2):
                for k in range(2):
                    y, z = away(box[2 + j, a] - obs[d, 1]), away(box[4 + k, a] - obs[d, 2])
                    if gravity:
                        _node_line_gz(xs, y, z, c, line)
                    else:
                        _node_line_tmi(xs, y, z, c, line)
                    value += (line[1] - line[0]) * (1.0 if j == k else -1.0)
            out[d, place[a]] = scale * value


@compiled(forceinline=True, error_model="numpy", fastmath=True)
def far_value(x, y, z, c, h1, h2, h3, gravity):  # type: ignore[no-untyped-def]
    """Effect per m³ of a box at (x, y, z) from the sensor, by its centre and second moments.

    1/r averaged over the box is 1/r + sum h_k d_kk (1/r) with h_k a 24th of its squared sides; `c` as in
    `FieldKernel.coefficients`.
    """
    r2 = x * x + y * y + z * z
    inv2 = 1.0 / max(r2, 1e-6)
    inv = np.sqrt(inv2)
    mean = h1 + h2 + h3
    s = (h1 * x * x + h2 * y * y + h3 * z * z) * inv2
    if gravity:
        # Down component of attraction: -d/dz(obs) of 1/r.
        return -z * inv * inv2 * (1.0 + inv2 * (15.0 * s - 3.0 * mean - 6.0 * h3))
    # With A the tensor and u the unit vector: q = u'Au, and p = (hu)'Au.
    ax = c[0] * x + 0.5 * (c[3] * y + c[4] * z)
    ay = c[1] * y + 0.5 * (c[3] * x + c[5] * z)
    az = c[2] * z + 0.5 * (c[4] * x + c[5] * y)
    q = (x * ax + y * ay + z * az) * inv2
    p = (h1 * x * ax + h2 * y * ay + h3 * z * az) * inv2
    trace = c[0] + c[1] + c[2]
    second = h1 * c[0] + h2 * c[1] + h3 * c[2]
    fourth = 105.0 * q * s - 15.0 * (trace * s + q * mean + 4.0 * p) + 3.0 * (trace * mean + 2.0 * second)
    return inv * inv2 * (3.0 * q - trace + fourth * inv2)


@compiled(cache=True, error_model="numpy", parallel=True, fastmath=True)
def _fill_far(obs, centre, place, half, volume, c, scale, gravity, near2, out):  # type: ignore[no-untyped-def]
    # `half` (3, k) holds squared cell sizes, `volume` and `near2` likewise: one for all cells or one each.
    each = volume.size > 1
    for d in prange(obs.shape[0]):
        ox, oy, oz = obs[d, 0], obs[d, 1], obs[d, 2]
        if centre.shape[1] == 0:
            continue
        h1, h2, h3 = half[0, 0] / 24.0, half[1, 0] / 24.0, half[2, 0] / 24.0
        size, limit = volume[0], near2[0]
        for a in range(centre.shape[1]):
            if each:
                h1, h2, h3 = half[0, a] / 24.0, half[1, a] / 24.0, half[2, a] / 24.0
                size, limit = volume[a], near2[a] if near2.size > 1 else near2[0]
            x, y, z = centre[0, a] - ox, centre[1, a] - oy, centre[2, a] - oz
            value = far_value(x, y, z, c, h1, h2, h3, gravity)
            if x * x + y * y + z * z > limit:
                out[d, place[a]] = scale * size * value


def kernel_matrix(
    mesh: Mesh,
    obs: FloatArray,
    field: FieldKernel,
    active: NDArray[np.bool_] | None = None,
    near: float = np.inf,
    dtype: type = np.float64,
    progress: Progress = SILENT,
) -> NDArray[np.floating]:
    """Return what is measured at each place of each cell with a property of 1; shape (n, cells).

    Parameters as in `magnetic_kernel`.
    """
    mask = np.ones(mesh.size, dtype=bool) if active is None else np.asarray(active, dtype=bool).ravel()
    obs = np.array(obs, dtype=float)
    obs[:, 0], obs[:, 1] = mesh.from_map(obs[:, 0], obs[:, 1])
    field = field.along(mesh)
    c, scale, gravity = field.coefficients, field.scale, field.is_gravity
    count = int(mask.sum())
    out: NDArray[np.floating] = np.zeros((len(obs), count), dtype=dtype)
    groups = _groups(mesh, mask)
    near = min(near, 1e12)
    batch = max(1, min(len(obs), 200_000_000 // max(count, 1) // 4 + 1))
    for begin in range(0, len(obs), batch):
        progress(begin / len(obs), "Kernel")
        rows = slice(begin, min(begin + batch, len(obs)))
        for each in groups:
            # What is said of the distance holds for cells of the size it was chosen for; larger ones need more.
            limits = np.full(1, near**2) if each.nodes else np.maximum(near, _NEAR_SIZES * each.longest) ** 2
            if each.nodes is not None:
                _fill_exact(obs[rows], *each.nodes, 0, each.index, c, scale, gravity, near, out[rows])
            else:
                _fill_prisms(obs[rows], each.box, each.place, c, scale, gravity, limits, out[rows])
            if near < 1e12:
                _fill_far(
                    obs[rows], each.centre, each.place, each.half, each.volume, c, scale, gravity, limits, out[rows]
                )
    progress(1.0, "Kernel")
    return out


@dataclass(frozen=True)
class _Group:
    """Cells that are worked out alike: between common nodes, or one by one."""

    place: NDArray[np.int64]
    centre: FloatArray
    half: FloatArray
    volume: FloatArray
    nodes: tuple[FloatArray, FloatArray, FloatArray] | None = None
    index: NDArray[np.int64] | None = None
    box: FloatArray | None = None
    longest: FloatArray | float = 0.0


def _groups(mesh: Mesh, mask: NDArray[np.bool_]) -> list[_Group]:
    if isinstance(mesh, TensorMesh) and mesh.step is not None:
        return [_common(mesh, (*mesh.plan_edges, mesh.z_edges), np.ones(mesh.shape, dtype=bool), mask)]
    shared = _shared_levels(mesh)
    if shared is None:
        return [_one_by_one(mesh, mask, mask)]
    nodes, whole = shared
    return [_common(mesh, nodes, whole, mask), _one_by_one(mesh, mask & ~whole.ravel(), mask)]


def _common(
    mesh: Mesh, nodes: tuple[FloatArray, FloatArray, FloatArray], which: NDArray[np.bool_], mask: NDArray[np.bool_]
) -> _Group:
    index = _numbered(which, mask)
    cells = np.flatnonzero(index >= 0)
    i, j, k = np.unravel_index(cells, mesh.shape)
    centre = np.stack([0.5 * (e[n] + e[n + 1]) for e, n in zip(nodes, (i, j, k), strict=True)])
    sides = np.array([np.median(np.diff(e)) for e in nodes])[:, None]
    return _Group(index[cells], centre, sides**2, sides.prod(axis=0), nodes, index)


def _one_by_one(mesh: Mesh, which: NDArray[np.bool_], mask: NDArray[np.bool_]) -> _Group:
    box = _boxes(mesh, np.flatnonzero(which))
    sides = box[1::2] - box[::2]
    place = _numbered(which.reshape(mesh.shape), mask)[which]
    return _Group(place, 0.5 * (box[1::2] + box[::2]), sides**2, sides.prod(axis=0), None, None, box, sides.max(axis=0))


def _numbered(which: NDArray[np.bool_], mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Number among the active cells of those that are wanted, -1 for all others."""
    return np.where(mask & which.ravel(), np.cumsum(mask) - 1, -1).astype(np.int64)


def _shared_levels(mesh: Mesh) -> tuple[tuple[FloatArray, FloatArray, FloatArray], NDArray[np.bool_]] | None:
    """Edges of a draped mesh of even plan whose columns are cut from common levels, and the cells that lie between them."""
    if not isinstance(mesh, DrapedMesh) or mesh.even_plan is None:
        return None
    between = mesh.interfaces
    levels = between.max(axis=(0, 1))
    if not (np.diff(levels) > 0).all():
        return None
    same = np.abs(between - levels) < 1e-9
    heights = np.diff(levels)
    usual = np.abs(heights - np.median(heights)) <= 1e-9 * np.median(heights)  # of one size, so that far ones are quick
    whole = same[:, :, 1:] & same[:, :, :-1] & usual
    return ((*mesh.plan_edges, levels), whole) if whole.mean() > 0.1 else None


def _boxes(mesh: Mesh, cells: NDArray[np.int64]) -> FloatArray:
    """Bounds (6, n) of cells in the frame of the mesh, given by their place in flat order."""
    i, j, k = np.unravel_index(cells, mesh.shape)
    p, q = mesh.plan_edges
    low, high = mesh.levels(i, j, k)
    return np.ascontiguousarray(np.stack([p[i], p[i + 1], q[j], q[j + 1], low, high]))


def magnetic_kernel(
    mesh: Mesh,
    obs: FloatArray,
    inclination: float,
    declination: float,
    intensity: float,
    active: NDArray[np.bool_] | None = None,
    near: float = np.inf,
    magnetisation: tuple[float, float] | None = None,
    dtype: type = np.float64,
    progress: Progress = SILENT,
) -> NDArray[np.floating]:
    """Return the total-field anomaly in nT of each cell with susceptibility 1 (SI) at each place.

    Parameters
    ----------
    mesh
        Cells: equal, of different widths, turned, or draped.
    obs
        Places, shape (n, 3), metres; outside or above the cells.
    inclination, declination
        Of the main field, degrees; inclination positive down, declination clockwise from grid north.
    intensity
        Of the main field in nT.
    active
        Which cells take part, shape (nx, ny, nz) or flat in that order; all by default. Cells without
        thickness give zero.
    near
        Distance in metres within which the closed form is used; all by default.
    magnetisation
        Inclination and declination of the magnetisation where it is not induced.
    dtype
        Of the result; float32 halves the memory of large kernels (values are computed in float64).

    Returns
    -------
    ndarray of shape (n, cells), nT
        Projection of the anomalous field on the main field's direction.
    """
    field = total_field(inclination, declination, intensity, magnetisation)
    return kernel_matrix(mesh, obs, field, active, near, dtype, progress)


def gravity_kernel(
    mesh: Mesh,
    obs: FloatArray,
    active: NDArray[np.bool_] | None = None,
    near: float = np.inf,
    dtype: type = np.float64,
    progress: Progress = SILENT,
) -> NDArray[np.floating]:
    """Return the downward attraction in mGal of each cell with density 1 kg/m3 at each place.

    Parameters as in `magnetic_kernel`; multiply by density contrasts in kg/m3.
    """
    return kernel_matrix(mesh, obs, vertical_gravity(), active, near, dtype, progress)


def gravity_of(
    mesh: Mesh, density: FloatArray, obs: FloatArray, near: float = np.inf, progress: Progress = SILENT
) -> FloatArray:
    """Return the downward attraction in mGal of a density model (kg/m3, NaN absent) at places (n, 3)."""
    return _forward(density, obs, progress, lambda o, a: gravity_kernel(mesh, o, a, near))


def magnetics_of(
    mesh: Mesh,
    susceptibility: FloatArray,
    obs: FloatArray,
    inclination: float,
    declination: float,
    intensity: float,
    near: float = np.inf,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return the total-field anomaly in nT of a susceptibility model (SI, NaN absent) at places (n, 3)."""
    return _forward(
        susceptibility,
        obs,
        progress,
        lambda o, a: magnetic_kernel(mesh, o, inclination, declination, intensity, a, near),
    )


def _forward(
    values: FloatArray,
    obs: FloatArray,
    progress: Progress,
    kernel: Callable[[FloatArray, NDArray[np.bool_]], NDArray[np.floating]],
) -> FloatArray:
    flat = np.asarray(values, dtype=float).ravel()
    active = np.isfinite(flat) & (flat != 0.0)
    if not active.any():
        return np.zeros(len(obs))
    out = np.empty(len(obs))
    batch = max(1, 50_000_000 // int(active.sum()))
    for begin in range(0, len(obs), batch):
        progress(begin / len(obs), "Forward")
        rows = slice(begin, begin + batch)
        out[rows] = kernel(np.asarray(obs, dtype=float)[rows], active) @ flat[active]
    progress(1.0, "Forward")
    return out
