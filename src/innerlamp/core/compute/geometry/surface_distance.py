"""How far points lie from a triangulated surface."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_CANDIDATES = 12


def distance_to_surface(points: FloatArray, vertices: FloatArray, triangles: NDArray[np.integer]) -> FloatArray:
    """Return the distance in metres from points (n, 3) to the nearest place on a surface.

    The closest point of a triangle is found exactly (Ericson 2005, Real-Time Collision Detection,
    section 5.1.5) for the triangles whose centres or corners are nearest.
    """
    from scipy.spatial import cKDTree

    if len(triangles) == 0:
        return np.full(len(points), np.inf)
    corners = vertices[np.asarray(triangles)]
    count = min(_CANDIDATES, len(triangles))
    _, near = cKDTree(corners.mean(axis=1)).query(points, k=count)
    near = near.reshape(len(points), count)
    # A large triangle may be close though its centre is far: those at the nearest corner are tried as well.
    _, corner = cKDTree(vertices[np.unique(triangles)]).query(points)
    owner = _triangles_at(np.asarray(triangles), np.unique(triangles)[corner])
    near = np.concatenate([near, owner], axis=1)
    best = np.full(len(points), np.inf)
    for k in range(near.shape[1]):
        t = corners[near[:, k]]
        best = np.minimum(best, _to_triangles(points, t[:, 0], t[:, 1], t[:, 2]))
    return best


def _triangles_at(triangles: NDArray[np.integer], vertex: NDArray[np.integer], most: int = 8) -> NDArray[np.int64]:
    # Up to `most` triangles around each vertex, repeated where there are fewer.
    flat = triangles.ravel()
    order = np.argsort(flat, kind="stable")
    first = np.searchsorted(flat[order], vertex, "left")
    last = np.searchsorted(flat[order], vertex, "right")
    at = np.minimum(first[:, None] + np.arange(most), last[:, None] - 1)
    return np.asarray(order[at] // 3, dtype=np.int64)


def _to_triangles(p: FloatArray, a: FloatArray, b: FloatArray, c: FloatArray) -> FloatArray:
    ab, ac = b - a, c - a
    normal = np.cross(ab, ac)
    area2 = np.einsum("ij,ij->i", normal, normal)
    ap = p - a
    with np.errstate(invalid="ignore", divide="ignore"):
        v = np.einsum("ij,ij->i", np.cross(ap, ac), normal) / area2
        w = np.einsum("ij,ij->i", np.cross(ab, ap), normal) / area2
        inside = (v >= 0) & (w >= 0) & (v + w <= 1) & (area2 > 0)
        plane = np.abs(np.einsum("ij,ij->i", ap, normal)) / np.sqrt(area2)
    edges = np.minimum(np.minimum(_to_segment(p, a, b), _to_segment(p, b, c)), _to_segment(p, c, a))
    return np.where(inside, plane, edges)


def _to_segment(p: FloatArray, a: FloatArray, b: FloatArray) -> FloatArray:
    ab = b - a
    t = np.clip(np.einsum("ij,ij->i", p - a, ab) / np.maximum(np.einsum("ij,ij->i", ab, ab), 1e-300), 0.0, 1.0)
    return np.asarray(np.linalg.norm(p - a - t[:, None] * ab, axis=1))
