"""How far points lie from a triangulated surface: exact, by a tree of boxes around its triangles."""

from __future__ import annotations

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ..compiled import compiled

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_LEAF = 12  # triangles in the smallest boxes
_DEEP = 64  # levels of the tree


def distance_to_surface(points: FloatArray, vertices: FloatArray, triangles: NDArray[np.integer]) -> FloatArray:
    """Return the distance in metres from points (n, 3) to the nearest place on a surface.

    The closest place of a triangle is that of Ericson (2005, Real-Time Collision Detection, section 5.1.5); a tree
    of boxes leaves out the triangles that can't hold the nearest. `vertices` has shape (v, 3) in metres,
    `triangles` shape (m, 3). Infinite without triangles, NaN for points that are not finite.
    """
    if len(triangles) == 0:
        return np.full(len(points), np.inf)
    middle = vertices.mean(axis=0)
    corners = np.ascontiguousarray((vertices - middle)[np.asarray(triangles)])
    order, low, high, first, count = _tree(corners)
    out = np.full(len(points), np.nan)
    good = np.flatnonzero(np.isfinite(points).all(axis=1))
    found = np.empty(len(good))
    _nearest(np.ascontiguousarray(points[good] - middle), corners[order], low, high, first, count, found)
    out[good] = np.sqrt(found)
    return out


def _tree(corners: FloatArray) -> tuple[IntArray, FloatArray, FloatArray, IntArray, IntArray]:
    """Order of triangles, and of each box: bounds, its first triangle and how many (leaf), or its first child and 0."""
    centres = corners.mean(axis=1)
    lows, highs = corners.min(axis=1), corners.max(axis=1)
    order = np.arange(len(corners))
    low, high, first, count = [np.zeros(3)], [np.zeros(3)], [0], [0]
    work = [(0, 0, len(corners))]
    while work:
        node, begin, end = work.pop()
        mine = order[begin:end]
        low[node], high[node] = lows[mine].min(axis=0), highs[mine].max(axis=0)
        if end - begin <= _LEAF:
            first[node], count[node] = begin, end - begin
            continue
        axis = int(np.argmax(np.ptp(centres[mine], axis=0)))
        half = (end - begin) // 2
        order[begin:end] = mine[np.argpartition(centres[mine, axis], half)]
        child = len(low)
        first[node] = child
        for _ in range(2):
            low.append(np.zeros(3))
            high.append(np.zeros(3))
            first.append(0)
            count.append(0)
        work += [(child, begin, begin + half), (child + 1, begin + half, end)]
    return order, np.array(low), np.array(high), np.array(first, dtype=np.int64), np.array(count, dtype=np.int64)


@compiled(forceinline=True)
def _to_box(p, low, high):  # type: ignore[no-untyped-def]  # pragma: no cover
    total = 0.0
    for k in range(3):
        d = max(low[k] - p[k], 0.0, p[k] - high[k])
        total += d * d
    return total


@compiled(cache=True)
def _to_triangle(p, a, b, c):  # type: ignore[no-untyped-def]  # pragma: no cover
    # Squared distance, by the region of the triangle in which the closest place lies.
    ab, ac, ap = b - a, c - a, p - a
    d1, d2 = np.dot(ab, ap), np.dot(ac, ap)
    if d1 <= 0.0 and d2 <= 0.0:
        return np.dot(ap, ap)
    bp = p - b
    d3, d4 = np.dot(ab, bp), np.dot(ac, bp)
    if d3 >= 0.0 and d4 <= d3:
        return np.dot(bp, bp)
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0 and d1 - d3 > 0.0:
        q = ap - d1 / (d1 - d3) * ab
        return np.dot(q, q)
    cp = p - c
    d5, d6 = np.dot(ab, cp), np.dot(ac, cp)
    if d6 >= 0.0 and d5 <= d6:
        return np.dot(cp, cp)
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0 and d2 - d6 > 0.0:
        q = ap - d2 / (d2 - d6) * ac
        return np.dot(q, q)
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0 and (d4 - d3) + (d5 - d6) > 0.0:
        q = bp - (d4 - d3) / ((d4 - d3) + (d5 - d6)) * (c - b)
        return np.dot(q, q)
    whole = va + vb + vc
    if whole <= 0.0:  # a triangle without area: its corners and edges were tried above
        return min(np.dot(ap, ap), np.dot(bp, bp), np.dot(cp, cp))
    q = ap - vb / whole * ab - vc / whole * ac
    return np.dot(q, q)


@compiled(cache=True, parallel=True)
def _nearest(points, corners, low, high, first, count, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for i in prange(len(points)):
        p = points[i]
        best = np.inf
        stack = np.empty(_DEEP * 2, dtype=np.int64)
        stack[0] = 0
        size = 1
        while size:
            size -= 1
            node = stack[size]
            if _to_box(p, low[node], high[node]) >= best:
                continue
            if count[node]:
                for t in range(first[node], first[node] + count[node]):
                    best = min(best, _to_triangle(p, corners[t, 0], corners[t, 1], corners[t, 2]))
                continue
            left = first[node]
            near = _to_box(p, low[left], high[left]) <= _to_box(p, low[left + 1], high[left + 1])
            stack[size] = left + 1 if near else left
            stack[size + 1] = left if near else left + 1
            size += 2
        out[i] = best
