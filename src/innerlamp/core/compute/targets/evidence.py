"""Evidence for drill targets: values turned to 0..1 by a ramp, weighted, summed, and peaks picked."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...geometry.mesh import Mesh

FloatArray = NDArray[np.float64]


def ramp(values: FloatArray, low: float, high: float, more_is_better: bool = True) -> FloatArray:
    """Return evidence 0..1: 0 up to `low`, 1 from `high`, straight between (or the other way round).

    Missing values (NaN) give no evidence: 0. A linear fuzzy membership (Bonham-Carter 1994).

    Values have any shape, `low` and `high` their unit.
    """
    span = high - low if high > low else 1e-12
    with np.errstate(invalid="ignore"):
        out = np.clip((values - low) / span, 0.0, 1.0)
    if not more_is_better:
        out = 1.0 - out
    return np.where(np.isfinite(values), out, 0.0)


def combine(evidence: list[FloatArray], weights: list[float]) -> tuple[FloatArray, list[FloatArray]]:
    """Return the weighted mean of evidences, and the share of each in it (the shares add to the score)."""
    total = float(sum(weights)) or 1.0
    shares = [e * (w / total) for e, w in zip(evidence, weights, strict=True)]
    return np.sum(shares, axis=0), shares


def column_maximum(values: NDArray[np.float64], mesh: Mesh, shallow: float, deep: float) -> FloatArray:
    """Return the largest value of each column (nx, ny) between two depths (metres) below its top; NaN where none.

    `values` has the shape of the mesh; the top of a column is that of its highest cell with a value.
    """
    i, j, k = np.meshgrid(*(np.arange(n) for n in mesh.shape), indexing="ij")
    low, high = mesh.levels(i, j, k)
    ground = np.where(np.isfinite(values), high, -np.inf).max(axis=2)
    below = ground[:, :, None] - 0.5 * (low + high)
    with np.errstate(invalid="ignore"):
        take = (below >= shallow) & (below <= deep) & np.isfinite(values)
    best = np.where(take, values, -np.inf).max(axis=2)
    return np.where(np.isfinite(best), best, np.nan)


def distance_to(points: FloatArray, places: FloatArray) -> FloatArray:
    """Return the distance in metres from places (n, d) to the nearest of points (m, d); infinite without points."""
    if len(points) == 0:
        return np.full(len(places), np.inf)
    from scipy.spatial import cKDTree

    nearest, _ = cKDTree(points).query(places)
    return np.asarray(nearest, dtype=float)


def pick_peaks(x: FloatArray, y: FloatArray, score: FloatArray, separation: float, count: int) -> NDArray[np.int64]:
    """Return indices of the best places, best first, none nearer than `separation` metres to a better one.

    Places in metres and scores have shape (n,).
    """
    chosen: list[int] = []
    order = np.argsort(-np.where(np.isfinite(score), score, -np.inf), kind="stable")
    for index in order:
        if len(chosen) >= count or not np.isfinite(score[index]) or score[index] <= 0:
            break
        if not chosen or np.hypot(x[chosen] - x[index], y[chosen] - y[index]).min() >= separation:
            chosen.append(int(index))
    return np.asarray(chosen, dtype=np.int64)
