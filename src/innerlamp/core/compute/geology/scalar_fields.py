"""Scalar fields of geology: values at places and directions of planes honoured together, in one set of equations.

The kernel -|r| as in `rbf`, or |r|³, with a drift. A plane is told by differences of the field over a short way: along
its normal the field grows by that way, across it not at all (increments as data: Lajaunie, Courrioux & Manuel 1997,
Mathematical Geology 29, 571). The equations hold for any such differences, since the kernel is conditionally positive.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lu_factor, lu_solve

from ...errors import ConvergenceError, InputError
from ...progress import SILENT, Progress
from .kernels import distances
from .rbf import LARGEST, Drift, Ellipsoid, RadialField

FloatArray = NDArray[np.float64]


def fit_with_planes(
    points: FloatArray,
    values: FloatArray,
    plane_points: FloatArray,
    normals: FloatArray,
    *,
    drift: Drift = "linear",
    nugget: FloatArray | float = 0.0,
    plane_nugget: float = 1e-3,
    ellipsoid: Ellipsoid | None = None,
    way: float = 5.0,
    power: int = 1,
    progress: Progress = SILENT,
) -> RadialField:
    """Fit values (n,) at points (n, 3), and planes at other places.

    Parameters
    ----------
    plane_points, normals
        Shapes (m, 3): places of planes in metres, and unit normals that point to where the field grows.
    nugget, plane_nugget
        Smoothing in metres of the values (one, or one each) and of the differences over a way.
    power
        1 for the kernel -|r|, which keeps between its values; 3 for |r|³, which is smooth, and honours curved surfaces
        with fewer values (it has a linear drift always).
    way
        Metres on each side over which a plane's differences are taken.

    Raises
    ------
    InputError
        With too few values, or more than can be solved at once.
    ConvergenceError
        When the equations have no solution.
    """
    if len(points) < 3:
        raise InputError(f"{len(points)} values are too few for a field", fix="At least three contacts are needed")
    count = len(points) + 6 * len(plane_points)
    if count > LARGEST:
        raise InputError(
            f"{len(points):,} values and {len(plane_points):,} planes are more than can be solved at once ({LARGEST:,})",
            fix="Take a longer step between samples, or fewer readings",
        )
    matrix = (ellipsoid or Ellipsoid()).matrix()
    origin = np.vstack([points, plane_points]).mean(axis=0)
    second = _perpendicular(normals)
    axes = np.stack([normals, second, np.cross(normals, second)], axis=1) if len(normals) else np.zeros((0, 3, 3))
    ends = plane_points[:, None, None, :] + way * np.array([1.0, -1.0])[None, None, :, None] * axes[:, :, None, :]
    every = np.vstack([points, ends.reshape(-1, 3)])
    scaled = np.ascontiguousarray((every - origin) @ matrix.T)
    n, m = len(points), 3 * len(plane_points)
    progress(0.1, f"Fitting {n:,} values and {len(plane_points):,} planes")
    kernel = np.empty((len(scaled), len(scaled)))
    distances(scaled, kernel)
    extent = float(np.linalg.norm(np.ptp(scaled, axis=0))) or 1.0
    if power == 3:  # in shares of the extent, so that a nugget means about the same
        drift = "linear"
        kernel **= 3
        kernel /= extent**2
    else:
        np.negative(kernel, out=kernel)
    # Each pair of ends becomes one difference; values stay as they are.
    kernel = np.vstack([kernel[:n], kernel[n::2] - kernel[n + 1 :: 2]])
    kernel = np.hstack([kernel[:, :n], kernel[:, n::2] - kernel[:, n + 1 :: 2]])
    poly = np.column_stack([np.ones(len(scaled)), scaled / extent])[:, : 4 if drift == "linear" else 1]
    poly = np.vstack([poly[:n], poly[n::2] - poly[n + 1 :: 2]])
    k = poly.shape[1]
    size = n + m
    whole = np.zeros((size + k, size + k))
    whole[:size, :size] = kernel
    whole[np.arange(n), np.arange(n)] += np.broadcast_to(np.asarray(nugget, float), (n,)) + 1e-9 * extent
    whole[np.arange(n, size), np.arange(n, size)] += plane_nugget * 2.0 * way + 1e-9 * extent
    whole[:size, size:] = poly
    whole[size:, :size] = poly.T
    growth = np.tile([2.0 * way, 0.0, 0.0], len(plane_points))
    wanted = np.concatenate([values, growth, np.zeros(k)])
    progress(0.3, "Fitting")
    with np.errstate(all="ignore"):
        solution = lu_solve(lu_factor(whole, overwrite_a=True, check_finite=False), wanted, check_finite=False)
    if not np.isfinite(solution).all():
        raise ConvergenceError(
            "the field's equations can't be solved", fix="Add smoothing, or look for values on one place that differ"
        )
    weights = np.empty(len(scaled))
    weights[:n] = solution[:n]
    weights[n::2], weights[n + 1 :: 2] = solution[n:size], -solution[n:size]
    coefficients = np.zeros(4)
    coefficients[:k] = solution[size:]
    coefficients[1:] /= extent
    progress(1.0, "Fitting")
    weights *= extent**-2 if power == 3 else -1.0
    return RadialField(scaled, weights, coefficients, matrix, origin, power)


def _perpendicular(normals: FloatArray) -> FloatArray:
    """Unit vectors (m, 3) at right angles to others."""
    if not len(normals):
        return normals
    other = np.eye(3)[np.argmin(np.abs(normals), axis=1)]
    across = np.cross(normals, other)
    return np.asarray(across / np.linalg.norm(across, axis=1)[:, None])
