"""Paths of drillholes from their surveys, and places along them.

Minimum curvature joins two stations by the circular arc that has the surveyed directions at its
ends (Taylor & Mason 1972; Zaremba 1973; formulas as in Bourgoyne et al., Applied Drilling
Engineering, 1986). The balanced tangential method goes half of the way in each direction; so does minimum
curvature between readings that point in opposite ways, which no arc joins. Radius of curvature turns inclination and
azimuth at even rates, so that the path is an arc in plan and one in the vertical (Wilson 1968; Craig & Randall 1976).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Method = Literal["minimum curvature", "balanced tangential", "radius of curvature"]
METHODS: tuple[Method, ...] = ("minimum curvature", "balanced tangential", "radius of curvature")
# Radians from which two readings point in opposite ways: no plane holds an arc between them, so the path goes
# half of the way in each direction, as on the two tangents.
_TURNED = np.pi - 1e-3
_STRAIGHT = 1e-7  # radians; below it an arc and its chord differ by less than rounding


@dataclass(frozen=True)
class Path:
    """Desurveyed stations of many holes, sorted by hole and depth.

    Attributes
    ----------
    hole
        Index of the hole of each station, shape (n,), ascending.
    depth
        Depth along the hole in metres, shape (n,).
    position
        Shape (n, 3), metres, east-north-up.
    tangent
        Unit direction down the hole, shape (n, 3).
    method
        How places between stations are found.
    """

    hole: IntArray
    depth: FloatArray
    position: FloatArray
    tangent: FloatArray
    method: Method = "minimum curvature"


def direction(azimuth: FloatArray, dip: FloatArray) -> FloatArray:
    """Return unit vectors (n, 3) of azimuth (clockwise from north) and dip (negative down), degrees."""
    a, d = np.radians(azimuth), np.radians(dip)
    return np.stack([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), np.sin(d)], axis=-1)


def azimuth_and_dip(direction: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return azimuth (0 to 360, clockwise from north) and dip (negative down) in degrees of unit vectors (..., 3)."""
    east, north, up = np.moveaxis(np.asarray(direction, dtype=float), -1, 0)
    return np.degrees(np.arctan2(east, north)) % 360.0, np.degrees(np.arcsin(np.clip(up, -1.0, 1.0)))


def angle_between(first: FloatArray, second: FloatArray) -> FloatArray:
    """Return the angle in radians between unit vectors (n, 3), exact for small angles too."""
    return np.asarray(
        2.0 * np.arctan2(np.linalg.norm(first - second, axis=-1), np.linalg.norm(first + second, axis=-1))
    )


def desurvey(
    collar: FloatArray,
    end: FloatArray,
    hole: IntArray,
    depth: FloatArray,
    azimuth: FloatArray,
    dip: FloatArray,
    method: Method = "minimum curvature",
) -> Path:
    """Return the paths of holes.

    Parameters
    ----------
    collar
        Shape (m, 3), metres: place of depth 0 of each hole.
    end
        Shape (m,): depth to which each path is continued in its last direction, metres.
    hole, depth, azimuth, dip
        Survey stations, shape (n,): index of the hole, depth in metres, degrees clockwise from
        grid north, degrees negative down. Any order; at most one per hole and depth.
        The first direction of a hole also holds from the collar down to it. Holes without any
        station are vertical.
    method
        One of `METHODS`.

    Raises
    ------
    InputError
        For stations at negative depth, twice at one depth, or not finite.
    """
    count = len(collar)
    if not (np.isfinite(depth).all() and np.isfinite(azimuth).all() and np.isfinite(dip).all()):
        raise InputError("a survey reading is not a number")
    if (depth < 0).any():
        raise InputError("a survey reading has a negative depth")
    order = np.lexsort((depth, hole))
    hole, depth = hole[order].astype(np.int64), depth[order]
    tangent = direction(azimuth[order], dip[order])
    if len(hole) and ((np.diff(hole) == 0) & (np.diff(depth) <= 0)).any():
        raise InputError("a hole has two survey readings at one depth")

    first = np.searchsorted(hole, np.arange(count), "left")
    last = np.searchsorted(hole, np.arange(count), "right") - 1
    surveyed = last >= first
    down = np.array([[0.0, 0.0, -1.0]])
    head = np.where(surveyed[:, None], tangent[np.minimum(first, len(hole) - 1)] if len(hole) else down, down)
    tail = np.where(surveyed[:, None], tangent[last] if len(hole) else down, down)
    start_depth = np.where(surveyed, depth[np.minimum(first, len(hole) - 1)] if len(hole) else 0.0, np.inf)
    last_depth = np.where(surveyed, depth[last] if len(hole) else 0.0, 0.0)

    need_head = start_depth > 0
    need_tail = end > np.maximum(last_depth, 0.0) + 1e-9
    ids = np.arange(count)
    all_hole = np.concatenate([ids[need_head], hole, ids[need_tail]])
    all_depth = np.concatenate([np.zeros(need_head.sum()), depth, end[need_tail]])
    all_tangent = np.concatenate([head[need_head], tangent, tail[need_tail]])
    order = np.lexsort((all_depth, all_hole))
    hole, depth, tangent = all_hole[order], all_depth[order], all_tangent[order]

    same = hole[1:] == hole[:-1]
    length = np.where(same, np.diff(depth), 0.0)
    step = _half_steps(tangent[:-1], tangent[1:], length, method)
    walked = np.concatenate([np.zeros((1, 3)), np.cumsum(step, axis=0)])
    begin = np.searchsorted(hole, ids, "left")
    position = walked - walked[begin][hole] + collar[hole]
    return Path(hole, depth, position, tangent, method)


def method_named(name: str) -> Method:
    """Return the method of a name; minimum curvature for any that is not known."""
    return next((m for m in METHODS if m == name), "minimum curvature")


def _half_steps(t0: FloatArray, t1: FloatArray, length: FloatArray, method: Method) -> FloatArray:
    if method == "radius of curvature":
        return _on_cylinder(t0, t1, length, np.ones(len(length)))
    factor = np.ones(len(length))
    if method == "minimum curvature":
        theta = angle_between(t0, t1)
        bent = (theta > _STRAIGHT) & (theta < _TURNED)
        factor[bent] = 2.0 / theta[bent] * np.tan(theta[bent] / 2.0)
    return 0.5 * (length * factor)[:, None] * (t0 + t1)


def locate(path: Path, hole: IntArray, depth: FloatArray) -> FloatArray:
    """Return places (n, 3) in metres at depths along holes.

    Between stations the place is on the arc (or on the two half tangents of the balanced
    tangential method); above the first and below the last station the path goes on straight.
    NaN for holes that have no path.
    """
    if len(path.hole) == 0 or len(hole) == 0:
        return np.full((len(hole), 3), np.nan)
    scale = float(max(path.depth.max(), np.nanmax(depth) if len(depth) else 0.0) + 1.0) * 2.0
    keys = path.hole * scale + path.depth
    at = np.searchsorted(keys, hole * scale + np.maximum(depth, 0.0), "right") - 1
    at = np.clip(at, 0, len(keys) - 1)
    known = path.hole[at] == hole
    after = np.minimum(at + 1, len(keys) - 1)
    inside = (path.hole[after] == hole) & (after > at)
    along = depth - path.depth[at]
    t0, t1 = path.tangent[at], path.tangent[after]
    span = np.where(inside, path.depth[after] - path.depth[at], 1.0)
    f = along / span
    if path.method == "minimum curvature":
        bend = np.append(angle_between(path.tangent[:-1], path.tangent[1:]), 0.0)  # once a station, not once a place
        offset = _on_arc(t0, t1, span, f, bend[at])
    elif path.method == "radius of curvature":
        offset = _on_cylinder(t0, t1, span, f)
    else:
        offset = span[:, None] * (np.minimum(f, 0.5)[:, None] * t0 + np.maximum(f - 0.5, 0.0)[:, None] * t1)
    straight = ~inside | (along < 0.0)  # above the collar and below the last station
    offset = np.where(straight[:, None], along[:, None] * t0, offset)
    return np.where(known[:, None], path.position[at] + offset, np.nan)


def direction_at(path: Path, hole: IntArray, depth: FloatArray) -> FloatArray:
    """Return unit directions down the hole (n, 3) at depths along holes, east-north-up; NaN for holes without a path."""
    reach = 0.01  # metres: short against any bend, long against rounding of coordinates
    step = locate(path, hole, depth + reach) - locate(path, hole, depth - reach)
    length = np.linalg.norm(step, axis=1)
    return np.asarray(step / np.where(length > 0, length, np.nan)[:, None])


def _on_arc(t0: FloatArray, t1: FloatArray, span: FloatArray, f: FloatArray, theta: FloatArray) -> FloatArray:
    # Integral of the direction turning evenly by theta from t0 to t1 over the fraction f of the arc.
    a, b = f - f * f / 2.0, f * f / 2.0
    bent = (theta > _STRAIGHT) & (theta < _TURNED)
    turned = theta >= _TURNED
    a[turned], b[turned] = np.minimum(f[turned], 0.5), np.maximum(f[turned] - 0.5, 0.0)
    th, fb = theta[bent], f[bent]
    below = th * np.sin(th)
    a[bent] = (np.cos((1.0 - fb) * th) - np.cos(th)) / below
    b[bent] = (1.0 - np.cos(fb * th)) / below
    return span[:, None] * (a[:, None] * t0 + b[:, None] * t1)


def _on_cylinder(t0: FloatArray, t1: FloatArray, span: FloatArray, f: FloatArray) -> FloatArray:
    # Inclination (from the vertical, down) turns evenly along the hole, azimuth evenly along its plan.
    flat0, flat1 = (np.hypot(t[:, 0], t[:, 1]) for t in (t0, t1))
    i0, i1 = np.arctan2(flat0, -t0[:, 2]), np.arctan2(flat1, -t1[:, 2])
    a0, a1 = np.arctan2(t0[:, 0], t0[:, 1]), np.arctan2(t1[:, 0], t1[:, 1])
    a0, a1 = np.where(flat0 > _STRAIGHT, a0, a1), np.where(flat1 > _STRAIGHT, a1, a0)  # a vertical end has no azimuth
    turn = (a1 - a0 + np.pi) % (2.0 * np.pi) - np.pi
    bend = i1 - i0

    def gone(part: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Plan length and depth after a part of the span."""
        half = 0.5 * bend * part
        mean, round_ = i0 + half, np.sinc(half / np.pi)
        return span * part * np.sin(mean) * round_, span * part * np.cos(mean) * round_

    plan, depth = gone(f)
    whole, _ = gone(np.ones(len(f)))
    share = np.divide(plan, whole, out=f.copy(), where=np.abs(whole) > 1e-12)
    half = 0.5 * turn * share
    chord, to = plan * np.sinc(half / np.pi), a0 + half
    return np.stack([chord * np.sin(to), chord * np.cos(to), -depth], axis=-1)


def dogleg(path: Path) -> FloatArray:
    """Return the bend in degrees per 30 m from each station to the next of its hole, shape (n-1,)."""
    length = np.diff(path.depth)
    same = (path.hole[1:] == path.hole[:-1]) & (length > 0)
    bend = np.degrees(angle_between(path.tangent[:-1], path.tangent[1:]))
    return np.where(same, bend * 30.0 / np.where(same, length, 1.0), 0.0)
