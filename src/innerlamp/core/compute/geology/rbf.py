"""Global radial-basis interpolation in space with the linear kernel and a linear or constant drift.

The interpolant is s(p) = sum w_i |p - p_i| + drift, with the side conditions that make it unique
(Duchon 1977; Carr et al. 2001). A nugget adds smoothing on the diagonal.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve
from scipy.spatial import cKDTree

from ...errors import ConvergenceError, InputError
from ...progress import SILENT, Progress
from .kernels import distances, sum_cubes, sum_distances

FloatArray = NDArray[np.float64]
Drift = Literal["constant", "linear"]
LARGEST = 8_000  # values that are solved at once; more are solved by parts where that is possible
MOST = 200_000
BY_PARTS = 3_000  # values from which it is faster by parts


@dataclass(frozen=True)
class Ellipsoid:
    """Directions of continuity: a plane, a direction in it, and how much farther values reach along both than across.

    Attributes
    ----------
    azimuth, dip
        Strike of the plane (right-hand rule: it dips to the right) and its dip, degrees.
    along, down
        How many times farther values reach along the main direction in the plane, and across that direction within
        the plane, than across the plane (1 is the same in all directions).
    pitch
        Angle in the plane from strike down to the main direction, degrees: 0 is along strike, 90 down dip.
    """

    azimuth: float = 0.0
    dip: float = 90.0
    along: float = 1.0
    down: float = 1.0
    pitch: float = 0.0

    def matrix(self) -> FloatArray:
        """Return the (3, 3) matrix that turns metres into isotropic distances (across stays as it is)."""
        a, d = np.radians(self.azimuth), np.radians(self.dip)
        strike = np.array([np.sin(a), np.cos(a), 0.0])
        dipping = np.array([np.cos(a) * np.cos(d), -np.sin(a) * np.cos(d), -np.sin(d)])
        across = np.cross(strike, dipping)
        p = np.radians(self.pitch)
        main, other = np.cos(p) * strike + np.sin(p) * dipping, np.cos(p) * dipping - np.sin(p) * strike
        return np.stack([main / self.along, other / self.down, across])

    @property
    def main(self) -> tuple[float, float]:
        """Trend (clockwise from north) and plunge (down) of the main direction, degrees."""
        strike, dip, pitch = np.radians([self.azimuth, self.dip, self.pitch])
        east = np.cos(pitch) * np.sin(strike) + np.sin(pitch) * np.cos(strike) * np.cos(dip)
        north = np.cos(pitch) * np.cos(strike) - np.sin(pitch) * np.sin(strike) * np.cos(dip)
        return float(np.degrees(np.arctan2(east, north)) % 360.0), float(
            np.degrees(np.arcsin(np.sin(pitch) * np.sin(dip)))
        )


@dataclass(frozen=True)
class Lift:
    """A trend that bends: values reach farther along the surfaces on which a field is even than across them.

    Places get a fourth coordinate, the field times √(reach² - 1): across the trend, where the field grows by a metre a
    metre, distances are `reach` times longer, along it they stay. Distances in that space of four axes keep the
    kernel conditionally positive definite, wherever the trend turns.
    """

    field: RadialField
    reach: float

    def __call__(self, points: FloatArray) -> FloatArray:
        """Return the fourth coordinate (n,) of places (n, 3), metres."""
        return np.asarray(evaluate(self.field, points) * np.sqrt(max(self.reach, 1.0) ** 2 - 1.0))


@dataclass(frozen=True)
class RadialField:
    """A fitted interpolant: centres (n, 3) in scaled space, weights, drift, scaling, and the power of distance of its kernel.

    With a `lift` centres have a fourth coordinate.
    """

    centres: FloatArray
    weights: FloatArray
    drift: FloatArray
    matrix: FloatArray
    origin: FloatArray
    power: int = 1
    lift: Lift | None = None


def fit(
    points: FloatArray,
    values: FloatArray,
    *,
    drift: Drift = "constant",
    nugget: float = 0.0,
    ellipsoid: Ellipsoid | None = None,
    progress: Progress = SILENT,
) -> RadialField:
    """Fit values at places.

    Parameters
    ----------
    points
        Shape (n, 3), metres. Points closer than 1 mm are averaged.
    values
        Shape (n,).
    nugget
        Smoothing in metres: 0 honours every value; the misfit grows with it.
    ellipsoid
        Directions of continuity; none means the same in all directions.

    Raises
    ------
    InputError
        With too few or too many points.
    ConvergenceError
        When the system has no solution, or none to the accuracy asked.
    """
    matrix = (ellipsoid or Ellipsoid()).matrix()
    good = np.isfinite(points).all(axis=1) & np.isfinite(values)
    points, values = points[good], values[good]
    if len(points) < 5:
        raise InputError(f"{len(points)} values are too few to interpolate in space", fix="At least five are needed")
    origin = points.mean(axis=0)
    points, values = _merge(points - origin, values)  # before the axes are scaled: a millimetre is a millimetre
    scaled = points @ matrix.T
    n = len(scaled)
    if n > MOST:
        raise InputError(f"{n:,} values are more than can be solved ({MOST:,})", fix="Take longer composites")
    progress(0.05, f"Fitting {n:,} values")
    extent = float(np.linalg.norm(np.ptp(scaled, axis=0))) or 1.0
    k = 4 if drift == "linear" else 1
    poly = np.column_stack([np.ones(n), scaled / extent])[:, :k]
    if n > BY_PARTS:
        from .large_fields import solve

        diagonal = np.full(n, nugget + 1e-9 * extent)
        w, b = solve(scaled, values, poly, diagonal, progress=progress.part(0.05, 1.0))
        coefficients = np.zeros(4)
        coefficients[:k] = b
        coefficients[1:] /= extent
        return RadialField(scaled, -w, coefficients, matrix, origin)
    # -|r| is conditionally positive definite of order 1: after adding a large constant it is
    # positive definite as it stands, and the drift is then found from the Schur complement.
    distance = np.empty((n, n))
    distances(scaled, distance)
    np.negative(distance, out=distance)
    distance += extent * 4.0
    distance[np.diag_indices(n)] += nugget + 1e-9 * extent
    try:
        factor = cho_factor(distance.T, lower=False, overwrite_a=True, check_finite=False)
    except np.linalg.LinAlgError as error:
        raise ConvergenceError(
            "the interpolation equations can't be solved", fix="Add a little smoothing, or composite to longer lengths"
        ) from error
    progress(0.8, "Fitting")
    both = cho_solve(factor, np.column_stack([values, poly]), check_finite=False)
    schur = poly.T @ both[:, 1:]
    b = np.linalg.solve(schur, poly.T @ both[:, 0])
    w = both[:, 0] - both[:, 1:] @ b
    coefficients = np.zeros(4)
    coefficients[:k] = b
    coefficients[0] += extent * 4.0 * float(w.sum())
    coefficients[1:] /= extent
    return RadialField(scaled, -w, coefficients, matrix, origin)


def evaluate(field: RadialField, points: FloatArray, progress: Progress = SILENT, batch: int = 50_000) -> FloatArray:
    """Return the interpolant at places (n, 3) in metres."""
    out = np.empty(len(points))
    if field.lift is not None:
        return _lifted(field, points, progress)
    centres = np.ascontiguousarray(field.centres.T)
    for begin in range(0, len(points), batch):
        progress(begin / max(len(points), 1), "Evaluating")
        part = slice(begin, begin + batch)
        scaled = np.ascontiguousarray((points[part] - field.origin) @ field.matrix.T)
        values = np.empty(len(scaled))
        (sum_distances if field.power == 1 else sum_cubes)(scaled, *centres, field.weights, values)
        out[part] = values + field.drift[0] + scaled @ field.drift[1:]
    progress(1.0, "Evaluating")
    return out


def _lifted(field: RadialField, points: FloatArray, progress: Progress, batch: int = 4_000) -> FloatArray:
    from scipy.spatial.distance import cdist

    assert field.lift is not None
    out = np.empty(len(points))
    for begin in range(0, len(points), batch):
        progress(begin / max(len(points), 1), "Evaluating")
        part = slice(begin, begin + batch)
        scaled = (points[part] - field.origin) @ field.matrix.T
        away = cdist(np.column_stack([scaled, field.lift(points[part])]), field.centres)
        out[part] = (away if field.power == 1 else away**3) @ field.weights + field.drift[0] + scaled @ field.drift[1:]
    progress(1.0, "Evaluating")
    return out


def evaluate_lattice(
    field: RadialField,
    first: FloatArray,
    steps: tuple[float, float, float],
    shape: tuple[int, int, int],
    progress: Progress = SILENT,
) -> FloatArray:
    """Return the interpolant at the nodes of a lattice along the axes, in its shape: as `evaluate`, much faster for many values.

    Parameters
    ----------
    first, steps
        The first node (3,) and the distance of nodes along each axis, metres.
    """
    from .large_fields import on_lattice

    if field.power != 1 or field.lift is not None:
        axes = [first[k] + steps[k] * np.arange(shape[k]) for k in range(3)]
        nodes = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        return evaluate(field, nodes, progress).reshape(shape)
    start, ways = (np.asarray(first) - field.origin) @ field.matrix.T, np.diag(steps) @ field.matrix.T
    total = on_lattice(field.centres, field.weights, start, ways, shape, progress)
    i, j, k = (np.arange(n, dtype=float) for n in shape)
    drift = ways @ field.drift[1:]
    plane = field.drift[0] + float(start @ field.drift[1:])
    total += plane + drift[0] * i[:, None, None] + drift[1] * j[None, :, None] + drift[2] * k[None, None, :]
    return total


def _merge(points: FloatArray, values: FloatArray) -> tuple[FloatArray, FloatArray]:
    pairs = cKDTree(points).query_pairs(1e-3, output_type="ndarray")
    if len(pairs) == 0:
        return np.ascontiguousarray(points), values
    owner = np.arange(len(points))
    for a, b in np.sort(pairs, axis=1):
        owner[owner == owner[b]] = owner[a]
    ids, inverse = np.unique(owner, return_inverse=True)
    count = np.bincount(inverse)
    merged = np.column_stack([np.bincount(inverse, points[:, k]) / count for k in range(3)])
    return np.ascontiguousarray(merged), np.bincount(inverse, values) / count[: len(ids)]
