"""Measures of triangulated surfaces."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def volume(vertices: FloatArray, triangles: NDArray[np.integer]) -> float:
    """Return the volume in m3 inside a closed surface with outward orientation (divergence theorem).

    `vertices` has shape (n, 3) in metres, `triangles` shape (m, 3).
    """
    if len(triangles) == 0:
        return 0.0
    v = vertices - vertices.mean(axis=0)
    a, b, c = (v[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0)


def is_closed(triangles: NDArray[np.integer]) -> bool:
    """Return whether every edge belongs to exactly two triangles that run along it in opposite ways.

    `triangles` has shape (m, 3): numbers of vertices.
    """
    if len(triangles) == 0:
        return False
    t = np.asarray(triangles, dtype=np.int64)
    edges = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
    scale = int(t.max()) + 1
    one, other = edges[:, 0] * scale + edges[:, 1], edges[:, 1] * scale + edges[:, 0]
    return len(np.unique(one)) == len(one) and bool(np.array_equal(np.sort(one), np.sort(other)))
