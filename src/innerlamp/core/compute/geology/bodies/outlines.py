"""Areas of units with their outlines, and contacts as lines: on a section, on the ground, on any surface over a plane."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ...compiled import compiled
from .cutting import Cut, cut
from .model import FloatArray, IntArray, UnitModel
from .simplices import line, nodes_between, plane

OUTSIDE = -2  # beyond the rim


@dataclass(frozen=True)
class Outlines:
    """Areas and contacts over a plane.

    Attributes
    ----------
    places
        Corners (k, 2) in the coordinates of the plane, metres.
    rings
        Corners of all rings behind each other (closed without saying the first corner twice), counter-clockwise round an area,
        clockwise round a hole in it.
    start
        Where each ring begins in `rings`, and their count at the end (r + 1,).
    units
        Unit (r,) of each ring; -1 for the air.
    contacts
        Ends (c, 2) of pieces of contacts between two units, corners of `places`.
    sides
        Units (c, 2) left and right of them.
    """

    places: FloatArray
    rings: IntArray
    start: IntArray
    units: IntArray
    contacts: IntArray
    sides: IntArray

    def area(self, unit: int) -> float:
        """Return the area of a unit in square metres."""
        total = 0.0
        for k in np.flatnonzero(self.units == unit):
            x, y = self.places[self.rings[self.start[k] : self.start[k + 1]]].T
            total += 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))
        return total


def over_plane(
    model: UnitModel,
    u: FloatArray,
    v: FloatArray,
    to_space: Callable[[FloatArray], FloatArray],
    to_plane: Callable[[FloatArray], FloatArray],
    threads: int = 2,
) -> Outlines:
    """Return areas and contacts on a surface.

    Parameters
    ----------
    u, v
        Coordinates of the nodes of a lattice over the plane, metres, growing: its fineness is that of what comes out.
    to_space, to_plane
        Give places (n, 3) in metres for coordinates (n, 2), and coordinates for places that lie between them.
    """
    flat, what = plane(np.asarray(u, float), np.asarray(v, float))
    nodes = np.ascontiguousarray(to_space(flat), dtype=float)
    good = np.isfinite(nodes).all(axis=1)
    corners, rim = what.corners, what.rim
    if not good.all():
        # Where the surface has no height there is a rim, too.
        kept = good[corners].all(axis=1)
        lost = np.zeros(len(nodes), dtype=bool)
        lost[corners[~kept]] = True
        corners, rim = corners[kept], np.where(lost, rim | 64, rim)
        nodes = np.where(good[:, None], nodes, 0.0)
    found = cut(model, replace(what, nodes=nodes, corners=corners, rim=rim), threads=threads)
    return _outlined(model, found, to_plane(found.places) if len(found.places) else np.empty((0, 2)))


def _outlined(model: UnitModel, found: Cut, flat: FloatArray) -> Outlines:
    names = np.append(model.piece_units, OUTSIDE)
    sides = names[np.where(found.sides < 0, len(names) - 1, found.sides)]
    differ = sides[:, 0] != sides[:, 1]
    faces, sides = found.faces[differ], sides[differ]
    # Each edge bounds the unit on its left as it goes, and the one on its right the other way round.
    a = np.concatenate([faces[:, 0], faces[:, 1]])
    b = np.concatenate([faces[:, 1], faces[:, 0]])
    whose = np.concatenate([sides[:, 0], sides[:, 1]])
    real = whose != OUTSIDE
    a, b, whose = a[real], b[real], whose[real]
    order = np.lexsort([a, whose])
    a, b, whose = a[order], b[order], whose[order]
    rings, start, first = _chained(a, b, whose, np.ascontiguousarray(flat, dtype=float))
    inner = (sides != OUTSIDE).all(axis=1)
    return Outlines(flat, rings, start, whose[first] if len(first) else whose[:0], faces[inner], sides[inner])


@compiled(cache=True, error_model="numpy")
def _chained(a, b, whose, flat):  # type: ignore[no-untyped-def]
    """Chain edges, sorted by their unit and first corner, to rings; where two go on, the one that turns most to the left."""
    count = a.shape[0]
    used = np.zeros(count, np.bool_)
    rings, start, first = np.empty(count, np.int64), np.empty(count + 1, np.int64), np.empty(count, np.int64)
    length, many = 0, 0
    start[0] = 0
    for e in range(count):
        if used[e]:
            continue
        now = e
        first[many] = e
        while True:
            used[now] = True
            rings[length] = a[now]
            length += 1
            low, high = 0, count  # the first edge of this unit that begins where this one ends
            while low < high:
                middle = (low + high) // 2
                if whose[middle] < whose[e] or (whose[middle] == whose[e] and a[middle] < b[now]):
                    low = middle + 1
                else:
                    high = middle
            following, best = -1, -10.0
            dx, dy = flat[b[now], 0] - flat[a[now], 0], flat[b[now], 1] - flat[a[now], 1]
            while low < count and whose[low] == whose[e] and a[low] == b[now]:
                if not used[low] or low == e:
                    ex, ey = flat[b[low], 0] - flat[a[low], 0], flat[b[low], 1] - flat[a[low], 1]
                    turn = np.arctan2(dx * ey - dy * ex, dx * ex + dy * ey)
                    if b[low] == a[now]:
                        turn = -9.0
                    if turn > best:
                        best, following = turn, low
                low += 1
            if following < 0 or following == e:
                break
            now = following
        many += 1
        start[many] = length
    return rings[:length], start[: many + 1], first[:many]


def section(
    model: UnitModel,
    origin: FloatArray,
    along: FloatArray,
    up: FloatArray,
    extent: tuple[float, float, float, float],
    step: float,
    threads: int = 2,
) -> Outlines:
    """Return areas and contacts on a plane section.

    Parameters
    ----------
    origin
        A place (3,) on it, metres.
    along, up
        Unit vectors (3,) of its two axes, at right angles.
    extent
        From and to along the first axis, and along the second, metres.
    step
        Metres between the places that are looked at; contacts lie within about a thousandth of it where they are smooth.
    """
    u, v = (nodes_between(low, high, step) for low, high in (extent[:2], extent[2:]))
    axes = np.stack([along, up])

    def to_space(flat: FloatArray) -> FloatArray:
        return np.asarray(origin + flat @ axes)

    return over_plane(model, u, v, to_space, lambda at: np.asarray((at - origin) @ axes.T), threads)


def on_ground(
    model: UnitModel,
    x: FloatArray,
    y: FloatArray,
    height: Callable[[FloatArray, FloatArray], FloatArray],
    below: float = 0.02,
    threads: int = 2,
) -> Outlines:
    """Return areas and contacts on the ground, as coordinates of the map.

    Parameters
    ----------
    x, y
        Eastings (n,) and northings (m,) of the lattice that is looked at, metres, growing.
    height
        Elevation of the ground at places; NaN for none.
    below
        Metres beneath the ground at which units are read.
    """

    def to_space(flat: FloatArray) -> FloatArray:
        return np.column_stack([flat, height(flat[:, 0], flat[:, 1]) - below])

    return over_plane(model, x, y, to_space, lambda at: np.asarray(at[:, :2]), threads)


def along_line(model: UnitModel, places: FloatArray, step: float) -> tuple[FloatArray, IntArray]:
    """Return where units begin and end along a line such as a hole.

    Parameters
    ----------
    places
        Of the line (n, 3), metres.
    step
        Metres between the places that are looked at, at most: a unit thinner than it may be missed.

    Returns
    -------
    ends
        Metres (k + 1,) along the line: from 0 to its length.
    units
        Unit (k,) of each piece; -1 in the air.
    """
    at = np.asarray(places, float)
    long = np.linalg.norm(np.diff(at, axis=0), axis=1)
    down = np.concatenate([[0.0], np.cumsum(long)])
    if not down[-1] > 0:
        return np.zeros(1), np.zeros(0, np.int64)
    count = max(int(np.ceil(down[-1] / step)), 1)
    # The corners of the line stay; between them as many places as the step asks.
    spots = np.unique(np.concatenate([down, np.linspace(0.0, down[-1], count + 1)]))
    keep = np.concatenate([[True], np.diff(spots) > 1e-6])
    spots = spots[keep]
    nodes = np.column_stack([np.interp(spots, down, at[:, k]) for k in range(3)])
    found = cut(model, line(nodes), threads=1)
    if not len(found.faces):
        return np.array([0.0, down[-1]]), model.unit_at(nodes[:1])
    where = found.places[found.faces[:, 0]]
    # Along the line: by the nearest segment.
    from scipy.spatial import cKDTree

    _, near = cKDTree(0.5 * (nodes[1:] + nodes[:-1])).query(where, k=min(3, len(nodes) - 1))
    near = np.atleast_2d(near.reshape(len(where), -1))
    best, depth = np.full(len(where), np.inf), np.zeros(len(where))
    for k in range(near.shape[1]):
        a, b = nodes[near[:, k]], nodes[near[:, k] + 1]
        way = b - a
        t = np.clip(np.einsum("ij,ij->i", where - a, way) / np.einsum("ij,ij->i", way, way), 0.0, 1.0)
        off = np.linalg.norm(where - a - t[:, None] * way, axis=1)
        better = off < best
        best[better] = off[better]
        depth[better] = (spots[near[:, k]] + t * (spots[near[:, k] + 1] - spots[near[:, k]]))[better]
    cuts = np.unique(np.round(depth, 9))
    cuts = np.unique(np.concatenate([[0.0], cuts[(cuts > 1e-6) & (cuts < down[-1] - 1e-6)], [down[-1]]]))
    middle = 0.5 * (cuts[1:] + cuts[:-1])
    units = model.unit_at(np.column_stack([np.interp(middle, down, at[:, k]) for k in range(3)]))
    new = np.concatenate([[True], units[1:] != units[:-1]])
    return np.concatenate([cuts[:-1][new], cuts[-1:]]), units[new]
