"""Where planes meet holes: the depth at which a body seen in one hole is expected in the others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .desurvey import Path, locate

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_TURNS = 8  # directions in which a normal is turned
_AT_ONCE = 1_000  # planes whose turned copies are held at a time
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


def spreads_of(
    path: Path, end: FloatArray, hole: int, points: FloatArray, normals: FloatArray, angle: float
) -> tuple[FloatArray, FloatArray]:
    """Return the least and largest depth (m) at which each plane may meet a hole when its normal is wrong by an angle (degrees).

    Each normal is turned in eight directions; where a turned plane misses the hole the range is open: minus or plus infinity.

    Parameters
    ----------
    path, end, hole, points, normals
        As for `piercings`, the normals of shape (n, 3).
    angle
        Degrees.
    """
    low, high = np.full(len(points), -np.inf), np.full(len(points), np.inf)
    for start in range(0, len(points), _AT_ONCE):
        rows = slice(start, start + _AT_ONCE)
        n = normals[rows]
        first = np.cross(n, np.where(np.abs(n[:, 2:]) < 0.9, [0.0, 0.0, 1.0], [1.0, 0.0, 0.0]))
        first /= np.linalg.norm(first, axis=1, keepdims=True)
        second = np.cross(n, first)
        turn = np.linspace(0.0, 2 * np.pi, _TURNS, endpoint=False)[None, :, None]
        aside = np.cos(turn) * first[:, None, :] + np.sin(turn) * second[:, None, :]
        turned = np.cos(np.radians(angle)) * n[:, None, :] + np.sin(np.radians(angle)) * aside
        hit, depth = piercings(path, end, hole, np.repeat(points[rows], _TURNS, axis=0), turned.reshape(-1, 3))
        of = hit // _TURNS
        least, most = np.full(len(n), np.inf), np.full(len(n), -np.inf)
        np.minimum.at(least, of, depth)
        np.maximum.at(most, of, depth)
        met = np.bincount(of, minlength=len(n))
        missed = met < _TURNS
        nearer = missed & (least < 0.5 * end[hole])
        low[rows] = np.where((met == 0) | nearer, -np.inf, least)
        high[rows] = np.where((met == 0) | (missed & ~nearer), np.inf, most)
    return low, high
