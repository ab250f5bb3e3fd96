"""Which points lie inside of a closed surface, by the solid angle that it takes up around them.

Solid angle of a triangle after van Oosterom & Strackee 1983 (IEEE Transactions on Biomedical Engineering 30, 125); their sum
is 4 pi inside and nothing outside (the winding number).
"""

from __future__ import annotations

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ..compiled import compiled

FloatArray = NDArray[np.float64]


@compiled(cache=True, parallel=True, error_model="numpy")
def _angles(points, corners, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for i in prange(points.shape[0]):
        total = 0.0
        for j in range(corners.shape[0]):
            ax, ay, az = (
                corners[j, 0, 0] - points[i, 0],
                corners[j, 0, 1] - points[i, 1],
                corners[j, 0, 2] - points[i, 2],
            )
            bx, by, bz = (
                corners[j, 1, 0] - points[i, 0],
                corners[j, 1, 1] - points[i, 1],
                corners[j, 1, 2] - points[i, 2],
            )
            cx, cy, cz = (
                corners[j, 2, 0] - points[i, 0],
                corners[j, 2, 1] - points[i, 1],
                corners[j, 2, 2] - points[i, 2],
            )
            la, lb, lc = (
                np.sqrt(ax * ax + ay * ay + az * az),
                np.sqrt(bx * bx + by * by + bz * bz),
                np.sqrt(cx * cx + cy * cy + cz * cz),
            )
            triple = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
            below = (
                la * lb * lc
                + (ax * bx + ay * by + az * bz) * lc
                + (bx * cx + by * cy + bz * cz) * la
                + (cx * ax + cy * ay + cz * az) * lb
            )
            total += 2.0 * np.arctan2(triple, below)
        out[i] = total / (4.0 * np.pi)


def inside_mesh(points: FloatArray, vertices: FloatArray, triangles: NDArray[np.integer]) -> NDArray[np.bool_]:
    """Return which points (n, 3) lie inside of a closed surface of vertices (k, 3), metres, and triangles (m, 3).

    The triangles may face outward or inward, all the same way.
    """
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    near = ((points >= low) & (points <= high)).all(axis=1)
    turns = np.empty(int(near.sum()))
    middle = vertices.mean(axis=0)
    _angles(np.ascontiguousarray(points[near] - middle), np.ascontiguousarray(vertices[triangles] - middle), turns)
    out = np.zeros(len(points), dtype=bool)
    out[near] = np.abs(turns) > 0.5
    return out
