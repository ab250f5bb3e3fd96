"""Scalar fields of geology: values at places and directions of planes honoured together, in one set of equations.

The kernel -|r| as in `rbf`, or |r|³, with a drift. A plane is told by differences of the field over a short way: along
its normal the field grows by that way, across it not at all (increments as data: Lajaunie, Courrioux & Manuel 1997,
Mathematical Geology 29, 571). The equations hold for any such differences, since the kernel is conditionally positive.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lu_factor, lu_solve

from ...errors import ConvergenceError, InputError
from ...progress import SILENT, Progress
from .kernels import distances
from .rbf import LARGEST, Drift, Ellipsoid, Lift, RadialField

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Equations:
    """The equations of a field, factorised, for any number of values that it may have to honour.

    Attributes
    ----------
    factor
        What `scipy.linalg.lu_factor` gave.
    scaled
        Centres (n + 6 m, 3 or 4): values first, then the two ends of each difference.
    count, planes
        Number of values and of planes.
    axes
        Of each plane (m, 3, 3): its normal and two directions in it, as rows.
    slopes
        Constant and slopes of the drift in scaled space (4, k) for each of the k that are solved for.
    growth
        Slope in scaled space (3,) of the part of the field that is given and not looked for, without unit; 0 without one.
    """

    factor: Any
    scaled: FloatArray
    count: int
    planes: int
    axes: FloatArray
    way: float
    extent: float
    size: int
    matrix: FloatArray
    origin: FloatArray
    power: int
    lift: Lift | None
    slopes: FloatArray
    growth: FloatArray

    def grown(self, normals: FloatArray) -> FloatArray:
        """Return what the differences of planes are (3 m,) when their normals (m, 3) are these, and the axes as they were fitted."""
        return np.asarray(2.0 * self.way * np.einsum("mij,mj->mi", self.axes, normals).ravel())

    def solved(self, values: FloatArray, growth: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return weights (n + 6 m, r) and drifts (4, r) for columns of values (n, r) and of differences (3 m, r).

        Raises
        ------
        ConvergenceError
            When the equations have no solution.
        """
        k = len(self.factor[1]) - self.size
        n = self.count
        fixed = (self.scaled[:, :3] @ self.growth)[:, None]
        none = np.zeros((k, values.shape[1]))
        wanted = np.vstack([values - fixed[:n], growth - (fixed[n::2] - fixed[n + 1 :: 2]), none])
        with np.errstate(all="ignore"):
            solution = lu_solve(self.factor, wanted, check_finite=False)
        if not np.isfinite(solution).all():
            raise ConvergenceError(
                "the field's equations can't be solved",
                fix="Add smoothing, or look for values on one place that differ",
            )
        weights = np.empty((len(self.scaled), values.shape[1]))
        weights[:n] = solution[:n]
        weights[n::2], weights[n + 1 :: 2] = solution[n : self.size], -solution[n : self.size]
        drift = self.slopes @ solution[self.size :]
        drift[1:] += self.growth[:, None]
        return weights * (self.extent**-2 if self.power == 3 else -1.0), drift


def equations(
    points: FloatArray,
    plane_points: FloatArray,
    normals: FloatArray,
    *,
    drift: Drift = "linear",
    nugget: FloatArray | float = 0.0,
    plane_nugget: float = 1e-3,
    ellipsoid: Ellipsoid | None = None,
    way: float = 5.0,
    power: int = 1,
    lift: Lift | None = None,
    along: FloatArray | None = None,
    progress: Progress = SILENT,
) -> Equations:
    """Set up and factorise the equations of a field; parameters as of `fit_with_planes`, shapes (n, 3) and (m, 3), metres.

    Raises
    ------
    InputError
        With too few values, or more than can be solved at once.
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
    extent = float(np.linalg.norm(np.ptp(scaled, axis=0))) or 1.0
    n, m = len(points), 3 * len(plane_points)
    progress(0.1, f"Fitting {n:,} values and {len(plane_points):,} planes")
    flat = scaled
    if lift is not None:
        scaled = np.column_stack([scaled, lift(every)])
    kernel = np.empty((len(scaled), len(scaled)))
    distances(scaled, kernel)
    if power == 3:  # in shares of the extent, so that a nugget means about the same
        drift = "linear"
        kernel **= 3
        kernel /= extent**2
    else:
        np.negative(kernel, out=kernel)
    # Each pair of ends becomes one difference; values stay as they are.
    kernel = np.vstack([kernel[:n], kernel[n::2] - kernel[n + 1 :: 2]])
    kernel = np.hstack([kernel[:, :n], kernel[:, n::2] - kernel[:, n + 1 :: 2]])
    slopes, growth = _drift(drift, along, matrix, extent)
    poly = np.column_stack([np.ones(len(flat)), flat]) @ slopes
    poly = np.vstack([poly[:n], poly[n::2] - poly[n + 1 :: 2]])
    k = poly.shape[1]
    size = n + m
    whole = np.zeros((size + k, size + k))
    whole[:size, :size] = kernel
    whole[np.arange(n), np.arange(n)] += np.broadcast_to(np.asarray(nugget, float), (n,)) + 1e-9 * extent
    whole[np.arange(n, size), np.arange(n, size)] += plane_nugget * 2.0 * way + 1e-9 * extent
    whole[:size, size:] = poly
    whole[size:, :size] = poly.T
    progress(0.3, "Fitting")
    with np.errstate(all="ignore"):
        factor = lu_factor(whole, overwrite_a=True, check_finite=False)
    planes = len(plane_points)
    return Equations(factor, scaled, n, planes, axes, way, extent, size, matrix, origin, power, lift, slopes, growth)


def _drift(drift: Drift, along: FloatArray | None, matrix: FloatArray, extent: float) -> tuple[FloatArray, FloatArray]:
    """The drifts that are looked for (4, k) and the slope that is given (3,), in scaled space."""
    free, given = np.eye(3), np.zeros(3)
    if along is not None:
        # A metre a metre that way, whatever the values say; across it as they ask. Slopes turn by the inverse of the scaling.
        back = np.linalg.inv(matrix).T
        across = _perpendicular(along[None, :])[0]
        free, given = back @ np.column_stack([across, np.cross(along, across)]), back @ along
    slopes = np.zeros((4, 1 + free.shape[1] if drift == "linear" else 1))
    slopes[0, 0] = 1.0
    if drift == "linear":
        slopes[1:, 1:] = free / extent
    return slopes, np.asarray(given)


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
    lift: Lift | None = None,
    along: FloatArray | None = None,
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
    lift
        A trend along which values reach farther than across it; see `rbf.Lift`.
    along
        A direction (3,) of length one in which the field is known to grow by a metre a metre: contacts alone then make one.

    Raises
    ------
    InputError
        With too few values, or more than can be solved at once.
    ConvergenceError
        When the equations have no solution.
    """
    made = equations(
        points, plane_points, normals, drift=drift, nugget=nugget, plane_nugget=plane_nugget, ellipsoid=ellipsoid,
        way=way, power=power, lift=lift, along=along, progress=progress,
    )  # fmt: skip
    weights, coefficients = made.solved(values[:, None], made.grown(normals)[:, None])
    progress(1.0, "Fitting")
    return RadialField(made.scaled, weights[:, 0], coefficients[:, 0], made.matrix, made.origin, power, lift)


def several(
    made: Equations, values: FloatArray, growth: FloatArray, at: FloatArray, batch: int = 2_000
) -> Iterator[tuple[slice, FloatArray]]:
    """Return, part by part, what fields with these columns of values (n, r) and differences (3 m, r) give at places (k, 3) in metres.

    Yields which places a part is and the fields there (part, r).

    Raises
    ------
    ConvergenceError
        When the equations have no solution.
    """
    from scipy.spatial.distance import cdist

    weights, drift = made.solved(values, growth)
    for begin in range(0, len(at), batch):
        part = slice(begin, min(begin + batch, len(at)))
        scaled = (at[part] - made.origin) @ made.matrix.T
        lifted = scaled if made.lift is None else np.column_stack([scaled, made.lift(at[part])])
        away = cdist(lifted, made.scaled)
        if made.power == 3:
            away **= 3
        yield part, away @ weights + drift[0] + scaled @ drift[1:]


def _perpendicular(normals: FloatArray) -> FloatArray:
    """Unit vectors (m, 3) at right angles to others."""
    if not len(normals):
        return normals
    other = np.eye(3)[np.argmin(np.abs(normals), axis=1)]
    across = np.cross(normals, other)
    return np.asarray(across / np.linalg.norm(across, axis=1)[:, None])
