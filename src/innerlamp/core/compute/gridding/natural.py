"""Natural neighbours on the triangulation of the samples (Sibson 1981; the cavity of a place: Watson 1981, Bowyer 1981).

Were a sample put at a place, its Voronoi cell would take a part of those around it: each sample counts with the
area that it would lose. These areas are polygons of circumcentres, so a value depends on the samples alone, a
plane comes back exactly, and no grid is needed. Beyond the hull of the samples a place takes the value of the
nearest place on the hull, where natural neighbours are linear between the two samples of the edge.
"""

from __future__ import annotations

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..compiled import compiled

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_MOST = 512  # triangles of a cavity; more means that nearly all samples lie on one circle
_CHUNK = 200_000


@compiled(forceinline=True)
def _circle(ax, ay, bx, by, cx, cy):  # type: ignore[no-untyped-def]  # pragma: no cover
    # Centre of the circle through three places, counted from the origin, which lies near them.
    d = 2.0 * ((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))
    if d == 0.0:
        return np.nan, np.nan
    b2 = (bx - ax) ** 2 + (by - ay) ** 2
    c2 = (cx - ax) ** 2 + (cy - ay) ** 2
    return ax + ((cy - ay) * b2 - (by - ay) * c2) / d, ay + ((bx - ax) * c2 - (cx - ax) * b2) / d


@compiled(cache=True, parallel=True, error_model="numpy")
def _interpolate(px, py, start, x, y, values, corners, across, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    for i in prange(len(px)):
        if start[i] < 0:
            continue
        qx, qy = px[i], py[i]
        # The cavity: triangles whose circle holds the place, from the one that it lies in outwards.
        cavity = np.empty(_MOST, dtype=np.int64)
        ux, uy = np.empty(_MOST), np.empty(_MOST)
        fine = True
        cavity[0] = start[i]
        count, done = 1, 0
        while done < count:
            t = cavity[done]
            a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
            ux[done], uy[done] = _circle(x[a] - qx, y[a] - qy, x[b] - qx, y[b] - qy, x[c] - qx, y[c] - qy)
            done += 1
            for k in range(3):
                n = across[t, k]
                if n < 0:
                    continue
                known = False
                for m in range(count):
                    if cavity[m] == n:
                        known = True
                        break
                if known:
                    continue
                a, b, c = corners[n, 0], corners[n, 1], corners[n, 2]
                vx, vy = _circle(x[a] - qx, y[a] - qy, x[b] - qx, y[b] - qy, x[c] - qx, y[c] - qy)
                rr = (x[a] - qx - vx) ** 2 + (y[a] - qy - vy) ** 2
                if vx * vx + vy * vy < rr * (1.0 - 1e-12):
                    if count == _MOST:
                        fine = False
                        break
                    cavity[count] = n
                    count += 1
            if not fine:
                break
        total, weight = 0.0, 0.0
        t0 = start[i]
        for m in range(count):
            if not fine:
                break
            t = cavity[m]
            for k in range(3):
                n = across[t, k]
                inside = False
                for r in range(count):
                    if cavity[r] == n and n >= 0:
                        inside = True
                        break
                if inside:
                    continue
                # An edge of the cavity, from a to b with the place on its left; turn about b through the cavity.
                a, b = corners[t, (k + 1) % 3], corners[t, (k + 2) % 3]
                ax, ay, bx, by = x[a] - qx, y[a] - qy, x[b] - qx, y[b] - qy
                cross = ax * by - ay * bx
                long = (bx - ax) ** 2 + (by - ay) ** 2
                if abs(cross) < 1e-12 * long:  # on the edge itself: linear along it
                    share = -(ax * (bx - ax) + ay * (by - ay)) / long
                    out[i] = values[a] + share * (values[b] - values[a])
                    fine, weight = False, -1.0
                    break
                fx, fy = _circle(0.0, 0.0, ax, ay, bx, by)
                sx, sy = fx, fy  # of the polygon that the sample b loses: begin and the corner before
                lx, ly = fx, fy
                area = 0.0
                at, place = t, m
                for _turn in range(_MOST):
                    area += lx * uy[place] - ly * ux[place]
                    lx, ly = ux[place], uy[place]
                    corner = 0
                    for r in range(3):
                        if corners[at, r] == b:
                            corner = r
                    # The edge that leaves b lies opposite to the corner after the next.
                    beyond = across[at, (corner + 2) % 3]
                    place = -1
                    for r in range(count):
                        if beyond >= 0 and cavity[r] == beyond:
                            place = r
                            break
                    if place < 0:  # an edge of the cavity again: the polygon ends
                        e = corners[at, (corner + 1) % 3]
                        gx, gy = _circle(0.0, 0.0, bx, by, x[e] - qx, y[e] - qy)
                        area += lx * gy - ly * gx
                        area += gx * sy - gy * sx
                        break
                    at = beyond
                area = abs(0.5 * area)
                if not np.isfinite(area):
                    fine = False
                    break
                total += area * values[b]
                weight += area
        if weight > 0.0 and fine:
            out[i] = total / weight
        elif weight >= 0.0:  # linear in the triangle
            a, b, c = corners[t0, 0], corners[t0, 1], corners[t0, 2]
            d = (x[b] - x[a]) * (y[c] - y[a]) - (y[b] - y[a]) * (x[c] - x[a])
            s = ((qx - x[a]) * (y[c] - y[a]) - (qy - y[a]) * (x[c] - x[a])) / d
            r = ((x[b] - x[a]) * (qy - y[a]) - (y[b] - y[a]) * (qx - x[a])) / d
            out[i] = (1.0 - s - r) * values[a] + s * values[b] + r * values[c]


def natural_at(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    at_x: FloatArray,
    at_y: FloatArray,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return values at places (m,) from samples (n,); all in metres, values in any unit.

    Raises
    ------
    InputError
        With fewer than three samples, or all on one line.
    """
    from scipy.spatial import Delaunay, QhullError

    cx, cy = float(x.mean()), float(y.mean())
    sx, sy = np.ascontiguousarray(x - cx), np.ascontiguousarray(y - cy)
    wrong = InputError(
        "the samples lie on one line, or there are fewer than three", fix="Use inverse distance or nearest neighbour"
    )
    if len(x) < 3:
        raise wrong
    try:
        mesh = Delaunay(np.column_stack([sx, sy]))
    except QhullError as error:
        raise wrong from error
    corners, across = mesh.simplices.astype(np.int64), mesh.neighbors.astype(np.int64)
    held = np.ascontiguousarray(values, dtype=float)
    out = np.empty(len(at_x))
    for begin in range(0, len(at_x), _CHUNK):
        part = slice(begin, begin + _CHUNK)
        px, py = np.ascontiguousarray(at_x[part] - cx), np.ascontiguousarray(at_y[part] - cy)
        start = mesh.find_simplex(np.column_stack([px, py])).astype(np.int64)
        made = np.full(len(px), np.nan)
        _interpolate(px, py, start, sx, sy, held, corners, across, made)
        beyond = np.flatnonzero(start < 0)
        if len(beyond):
            made[beyond] = _on_hull(px[beyond], py[beyond], sx, sy, held, mesh.convex_hull)
        out[part] = made
        progress(min(begin + _CHUNK, len(at_x)) / len(at_x), "Natural neighbours")
    return out


def _on_hull(
    px: FloatArray, py: FloatArray, x: FloatArray, y: FloatArray, values: FloatArray, edges: IntArray
) -> FloatArray:
    """Values at the nearest place on the hull, linear along its edges (h, 2)."""
    best, out = np.full(len(px), np.inf), np.empty(len(px))
    for a, b in edges.tolist():
        dx, dy = x[b] - x[a], y[b] - y[a]
        long = dx * dx + dy * dy
        share = np.clip(((px - x[a]) * dx + (py - y[a]) * dy) / long if long > 0 else 0.0 * px, 0.0, 1.0)
        away = (x[a] + share * dx - px) ** 2 + (y[a] + share * dy - py) ** 2
        nearer = away < best
        best = np.where(nearer, away, best)
        out = np.where(nearer, values[a] + share * (values[b] - values[a]), out)
    return out
