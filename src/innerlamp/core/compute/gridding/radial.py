"""Gridding by radial basis functions: one system for few samples, blended patches for many.

The interpolant is a sum of a kernel of the distance to each sample and a plane (Duchon 1977; Hardy
1971). Above `WHOLE` samples the area is covered by overlapping patches, each solved from the samples in
and around it, and the patches are blended by weights that sum to one (partition of unity: Wendland
2005, ch. 15).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress

FloatArray = NDArray[np.float64]
Kernel = Literal["thin plate", "linear", "cubic"]
WHOLE = 1_500
_IN_PATCH, _LEAST = 70, 60  # 150 a patch are 3.4 times slower for half of the small difference to one system


def _kernel(name: Kernel, a: FloatArray, b: FloatArray) -> FloatArray:
    """Kernel of the distances from places a (n, 2) to b (m, 2), shape (n, m)."""
    from scipy.spatial.distance import cdist

    if name == "thin plate":
        square = cdist(a, b, "sqeuclidean")
        out = np.maximum(square, 1e-300)
        np.log(out, out=out)
        out *= square
        out *= 0.5
        return np.asarray(out)
    r = cdist(a, b)
    return np.asarray(-r if name == "linear" else r**3)


def _system(xy: FloatArray, kernel: Kernel, smoothing: float) -> FloatArray:
    n = len(xy)
    matrix = np.zeros((n + 3, n + 3))
    # All kernels are positive on what the plane can't take up (-r, r² ln r and r³ are conditionally positive
    # definite: Wendland 2005, ch. 8), so smoothing adds to them.
    matrix[:n, :n] = _kernel(kernel, xy, xy)
    matrix[np.arange(n), np.arange(n)] += smoothing
    matrix[:n, n], matrix[:n, n + 1 :] = 1.0, xy
    matrix[n:, :n] = matrix[:n, n:].T
    return matrix


def _solved(matrix: FloatArray, right: FloatArray) -> FloatArray:
    from scipy.linalg import LinAlgError, solve

    try:
        return np.asarray(solve(matrix, right, assume_a="sym", check_finite=False))
    except LinAlgError as error:
        raise InputError("the samples lie on one line", fix="Use inverse distance or nearest neighbour") from error


def _evaluated(xy: FloatArray, weights: FloatArray, kernel: Kernel, at: FloatArray) -> FloatArray:
    n = len(xy)
    out = np.empty(len(at))
    for start in range(0, len(at), 1024):
        some = at[start : start + 1024]
        out[start : start + 1024] = _kernel(kernel, some, xy) @ weights[:n] + weights[n] + some @ weights[n + 1 :]
    return out


def _frame(xy: FloatArray) -> tuple[FloatArray, float]:
    """Middle and size of an area, in which its coordinates are counted."""
    return xy.mean(axis=0), float(np.ptp(xy, axis=0).max()) or 1.0


def _fitted(xy: FloatArray, values: FloatArray, at: FloatArray, kernel: Kernel, smoothing: float) -> FloatArray:
    middle, size = _frame(xy)
    scaled = (xy - middle) / size
    weights = _solved(_system(scaled, kernel, smoothing), np.concatenate([values, np.zeros(3)]))
    return _evaluated(scaled, weights, kernel, (at - middle) / size)


def radial(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    at_x: FloatArray,
    at_y: FloatArray,
    kernel: Kernel = "thin plate",
    smoothing: float = 0.0,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return values at places.

    Parameters
    ----------
    x, y, values
        Samples, shape (n,), metres; no two at one place.
    at_x, at_y
        Places, shape (m,).
    smoothing
        0 honours every sample; added to the diagonal of the system, in which the area measures 1.

    Raises
    ------
    InputError
        With fewer than three samples, or all on one line.
    """
    xy, at = np.column_stack([x, y]), np.column_stack([at_x, at_y])
    if len(xy) < 3 or np.linalg.matrix_rank(xy - xy.mean(axis=0), tol=1e-6) < 2:
        raise InputError(
            "the samples lie on one line, or there are fewer than three",
            fix="Use inverse distance or nearest neighbour",
        )
    if len(xy) <= WHOLE:
        return _fitted(xy, values, at, kernel, smoothing)
    return _patched(xy, values, at, kernel, smoothing, progress)


# Rows of the samples of a patch, rows of the places in it, and their weights in the blend.
_Patch = tuple[NDArray[np.int64], NDArray[np.int64], FloatArray]


def _patches(xy: FloatArray, at: FloatArray, progress: Progress) -> Iterator[_Patch]:
    from scipy.spatial import cKDTree

    low, high = at.min(axis=0), at.max(axis=0)
    step = float(np.sqrt(max(np.ptp(xy[:, 0]), 1e-9) * max(np.ptp(xy[:, 1]), 1e-9) * _IN_PATCH / len(xy)))
    columns, rows = (int(np.ceil(v)) + 1 for v in np.maximum((high - low) / step, 1e-9))
    if columns * rows > 200_000:
        raise InputError("the samples lie so far apart that the area can't be covered", fix="Grid a part of it")
    tree, places = cKDTree(xy), cKDTree(at)
    for number in range(columns * rows):
        centre = low + step * np.array([number % columns, number // columns])
        mine = np.asarray(places.query_ball_point(centre, step * 1.0001, p=np.inf), dtype=np.int64)
        if not len(mine):
            continue
        away = np.abs(at[mine] - centre) / step
        t = np.clip(1.0 - away, 0.0, 1.0)
        weight = np.prod(t * t * (3.0 - 2.0 * t), axis=1)
        near = np.asarray(tree.query_ball_point(centre, step * 1.5, p=np.inf), dtype=np.int64)
        if len(near) < _LEAST:
            near = np.atleast_1d(tree.query(centre, k=min(_LEAST, len(xy)))[1])
        if np.linalg.matrix_rank(xy[near] - xy[near].mean(axis=0), tol=1e-6) < 2:
            near = np.atleast_1d(tree.query(centre, k=min(8 * _LEAST, len(xy)))[1])
        yield near, mine, weight
        if number % 20 == 0:
            progress(number / (columns * rows), "Solving patch by patch")


def _patched(
    xy: FloatArray, values: FloatArray, at: FloatArray, kernel: Kernel, smoothing: float, progress: Progress
) -> FloatArray:
    total = np.zeros(len(at))
    for near, mine, weight in _patches(xy, at, progress):
        total[mine] += weight * _fitted(xy[near], values[near], at[mine], kernel, smoothing)
    return total


def left_out(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    kernel: Kernel = "thin plate",
    smoothing: float = 0.0,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return each value (n,) as estimated from the others, from one solution of all, or of each patch (Rippa 1999).

    Raises
    ------
    InputError
        When the samples lie on one line.
    """
    xy = np.column_stack([x, y])
    if len(xy) <= WHOLE:
        return _without_each(xy, values, kernel, smoothing)
    total = np.zeros(len(xy))
    for near, mine, weight in _patches(xy, xy, progress):
        # A sample that the blend looks at is one of the patch, which reaches beyond the places that it is blended at.
        members = np.union1d(near, mine)
        estimate = _without_each(xy[members], values[members], kernel, smoothing)
        total[mine] += weight * estimate[np.searchsorted(members, mine)]
    return total


def _without_each(xy: FloatArray, values: FloatArray, kernel: Kernel, smoothing: float) -> FloatArray:
    middle, size = _frame(xy)
    matrix = _system((xy - middle) / size, kernel, smoothing)
    inverse = _solved(matrix, np.eye(len(matrix)))
    n = len(xy)
    weights = inverse[:n, :n] @ values
    return np.asarray(values - weights / np.diag(inverse)[:n])
