"""Where planes meet holes: the depth at which a body seen in one hole is expected in the others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .desurvey import Path, locate

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_STEP = 5.0  # metres between places that a hole is tried at


def piercings(
    path: Path, end: FloatArray, hole: int, points: FloatArray, normals: FloatArray
) -> tuple[IntArray, FloatArray]:
    """Return which planes a hole goes through and at which depth (m), the first one of each; planes that it misses are left out.

    Parameters
    ----------
    path, end
        Desurveyed holes, and the depth to which each reaches.
    hole
        Index of the hole.
    points, normals
        A place on each plane and its unit normal, shape (n, 3).
    """
    count = max(int(np.ceil(end[hole] / _STEP)), 1)
    depth = np.linspace(0.0, float(end[hole]), count + 1)
    places = locate(path, np.full(count + 1, hole), depth)
    if not np.isfinite(places).all() or not len(points):
        return np.empty(0, dtype=np.int64), np.empty(0)
    side = places @ normals.T - np.sum(points * normals, axis=1)  # (places, planes)
    crossed = (side[:-1] <= 0) != (side[1:] <= 0)
    plane = np.flatnonzero(crossed.any(axis=0))
    at = crossed[:, plane].argmax(axis=0)
    a, b = depth[at].copy(), depth[at + 1].copy()
    low = side[at, plane] <= 0
    for _ in range(40):
        middle = 0.5 * (a + b)
        here = np.sum((locate(path, np.full(len(plane), hole), middle) - points[plane]) * normals[plane], axis=1) <= 0
        a, b = np.where(here == low, middle, a), np.where(here == low, b, middle)
    return plane, 0.5 * (a + b)


def spread_of(
    path: Path, end: FloatArray, hole: int, point: FloatArray, normal: FloatArray, angle: float
) -> tuple[float, float]:
    """Return the least and largest depth at which one plane may meet a hole when its normal is wrong by an angle (degrees).

    The normal is turned in eight directions; where a turned plane misses the hole its range is open: minus or plus infinity.
    """
    first = np.cross(normal, [0.0, 0.0, 1.0] if abs(normal[2]) < 0.9 else [1.0, 0.0, 0.0])
    first /= np.linalg.norm(first)
    second = np.cross(normal, first)
    turn = np.linspace(0.0, 2 * np.pi, 8, endpoint=False)[:, None]
    aside = np.cos(turn) * first + np.sin(turn) * second
    turned = np.cos(np.radians(angle)) * normal + np.sin(np.radians(angle)) * aside
    hit, depth = piercings(path, end, hole, np.broadcast_to(point, turned.shape), turned)
    if not len(hit):
        return -np.inf, np.inf
    missed = len(hit) < len(turned)
    nearer = missed and float(depth.min()) < 0.5 * end[hole]
    return (
        -np.inf if nearer else float(depth.min()),
        np.inf if missed and not nearer else float(depth.max()),
    )
