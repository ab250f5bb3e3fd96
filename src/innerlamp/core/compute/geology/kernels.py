"""Sums and distances that radial fields are made of."""

from __future__ import annotations

import numpy as np
from numba import prange

from ..compiled import compiled


@compiled(cache=True, parallel=True, error_model="numpy")
def distances(p, out):  # type: ignore[no-untyped-def]
    """Write the distances (n, n) in metres between points (n, 3), or (n, 4) in a space with a fourth axis."""
    lifted = p.shape[1] > 3
    for i in prange(p.shape[0]):
        for j in range(p.shape[0]):
            dx, dy, dz = p[i, 0] - p[j, 0], p[i, 1] - p[j, 1], p[i, 2] - p[j, 2]
            square = dx * dx + dy * dy + dz * dz
            if lifted:
                square += (p[i, 3] - p[j, 3]) ** 2
            out[i, j] = np.sqrt(square)


@compiled(cache=True, parallel=True, error_model="numpy", fastmath=True)
def sum_distances(at, cx, cy, cz, weights, out):  # type: ignore[no-untyped-def]
    """Write at places (m, 3) in metres the sums (m,) of weights (n,) times the distance to each centre."""
    # Coordinates in arrays of their own: the inner loop then loads whole vectors.
    for i in prange(at.shape[0]):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        total = 0.0
        for j in range(cx.shape[0]):
            dx, dy, dz = x - cx[j], y - cy[j], z - cz[j]
            total += weights[j] * np.sqrt(dx * dx + dy * dy + dz * dz)
        out[i] = total


@compiled(cache=True, parallel=True, error_model="numpy", fastmath=True)
def sum_cubes(at, cx, cy, cz, weights, out):  # type: ignore[no-untyped-def]
    """Write the same of the third power of the distance; a loop of its own, since a power that is asked for is slower."""
    for i in prange(at.shape[0]):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        total = 0.0
        for j in range(cx.shape[0]):
            dx, dy, dz = x - cx[j], y - cy[j], z - cz[j]
            square = dx * dx + dy * dy + dz * dz
            total += weights[j] * square * np.sqrt(square)
        out[i] = total
