"""Fields of layers from contacts and sides: a contact is a value, a side only says which of two it is on.

Samples that tell their side alone are inequalities. As values of some metres they flatten the field far from contacts and pull
it to their mean between holes, so that layers come out thin. The few that would be violated are made to hold, as in an
active set (Nocedal & Wright 2006, Numerical Optimization, ch. 16); all others say nothing.
"""

from __future__ import annotations

from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from . import rbf, scalar_fields

FloatArray = NDArray[np.float64]
BARELY = 0.3  # metres on its side at which a sample is held that would lie on the wrong one
_ROUNDS, _AT_ONCE, _APART = 8, 80, 25.0
_LEAST = 4  # contacts from which on a direction is looked for
_COARSE, _FINE = (15.0, 30.0), (5.0, 10.0)  # degrees of dip and of its direction


def growth(
    contacts: FloatArray,
    layer: NDArray[np.int64],
    sides: FloatArray,
    of_layer: NDArray[np.int64],
    signs: FloatArray,
    normals: FloatArray,
) -> tuple[FloatArray, FloatArray]:
    """Return the direction (3,) in which layers get younger, of length one, and the slope (3,) of the planes' field, without unit.

    Parallel planes, one a base, are laid through the contacts (n, 3), whose bases are `layer` (n,). Of directions on a
    lattice the one is taken for which the fewest samples (m, 3) lie on the wrong side of their base `of_layer` (m,): signs
    (m,) are +1 above it. With readings that agree their normals (k, 3) decide. Places are in metres.
    """
    if len(normals):
        mean = normals.mean(axis=0)
        if np.linalg.norm(mean) > 0.5:
            n = mean / np.linalg.norm(mean)
            return n, n
    origin = contacts.mean(axis=0)
    some = np.linspace(0, max(len(sides) - 1, 0), min(len(sides), 3_000)).astype(np.int64)
    at, beside, sign = contacts - origin, sides[some] - origin, signs[some]
    count = int(max(layer.max(initial=0), of_layer.max(initial=0))) + 1
    constant = np.equal.outer(layer, np.arange(count)).astype(float)

    def planes(dip: float, way: float) -> tuple[float, FloatArray, FloatArray]:
        """How bad a direction is, the direction, and the slope of the planes' field."""
        d, w = np.radians(dip), np.radians(way)
        n = np.array([np.sin(d) * np.sin(w), np.sin(d) * np.cos(w), np.cos(d)])
        u = np.cross(n, np.eye(3)[int(np.argmin(np.abs(n)))])
        u /= np.linalg.norm(u)
        v = np.cross(n, u)
        # What contacts do not tell of a slope stays level: the least of the solutions.
        found, *_ = np.linalg.lstsq(np.column_stack([at @ u, at @ v, constant]), -(at @ n), rcond=1e-3)
        field = beside @ n + (beside @ u) * found[0] + (beside @ v) * found[1] + found[2:][of_layer[some]]
        wrong = float(np.mean(sign * field < 0)) if len(some) else 0.0
        # Few contacts can be met by planes that stand steeply on their direction: that is bad, too.
        return wrong + 0.02 * float(np.hypot(found[0], found[1])), n, n + found[0] * u + found[1] * v

    best, at_dip, at_way = planes(0.0, 0.0), 0.0, 0.0
    if len(contacts) < _LEAST or len(some) < 2:
        return best[1:]
    plan = np.linalg.svd(beside[:, :2] - beside[:, :2].mean(axis=0), full_matrices=False)
    # Holes in one line say nothing of a slope across it.
    blind = np.array([*plan[2][1], 0.0]) if plan[1][1] < 0.05 * plan[1][0] else np.zeros(3)

    def better(tried: tuple[float, FloatArray, FloatArray]) -> bool:
        return bool(tried[0] < best[0] - 1e-3 and abs(tried[1] @ blind) < 0.3)

    # Of those that are as good the one nearest to upright is taken.
    for dip, way in product(np.arange(_COARSE[0], 91.0, _COARSE[0]), np.arange(0.0, 360.0, _COARSE[1])):
        if better(tried := planes(dip, way)):
            best, at_dip, at_way = tried, dip, way
    for dip, way in product(at_dip + _FINE[0] * np.arange(-2, 3), at_way + _FINE[1] * np.arange(-2, 3)):
        if dip > 0 and better(tried := planes(dip, way)):
            best = tried
    return best[1:]


def held(
    points: FloatArray,
    values: FloatArray,
    nugget: FloatArray,
    sides: FloatArray,
    levels: FloatArray,
    signs: FloatArray,
    softness: FloatArray,
    planes: tuple[FloatArray, FloatArray],
    options: dict[str, Any],
    room: int,
) -> NDArray[np.int64]:
    """Return which samples of a side have to be held where they are, so that all lie on theirs.

    Parameters
    ----------
    points, values, nugget
        Contacts: shapes (n, 3), (n,), (n,), metres.
    sides, levels, signs, softness
        Samples: shapes (m, 3), (m,), (m,), (m,): the field of the contact that they lie beside, +1 above it or -1 below, and
        their nugget in metres where they are held.
    planes
        Places and normals of readings, each (k, 3).
    options
        As of `scalar_fields.fit_with_planes`.
    room
        How many may be held at most.
    """
    from scipy.spatial import cKDTree

    active = np.empty(0, dtype=np.int64)
    if not len(sides):
        return active
    for _ in range(_ROUNDS):
        field = scalar_fields.fit_with_planes(
            np.vstack([points, sides[active]]),
            np.concatenate([values, levels[active] + BARELY * signs[active]]),
            *planes,
            nugget=np.concatenate([nugget, softness[active]]),
            **options,
        )
        # Kernel -r: a sample that pulls the field to its side has a weight of that sign; one that holds it back is let go.
        weight = -field.weights[len(points) : len(points) + len(active)]
        active = active[weight * signs[active] > 0]
        off = signs * (rbf.evaluate(field, sides) - levels)
        off[active] = np.inf
        order = np.argsort(off)
        order = order[off[order] < 0]
        if not len(order) or len(active) >= room:
            return active
        chosen: list[int] = []
        worst = order[: 20 * _AT_ONCE]
        near, taken = cKDTree(sides[worst]), np.zeros(len(worst), dtype=bool)
        for k, row in enumerate(worst):
            if not taken[k]:
                chosen.append(int(row))
                taken[near.query_ball_point(sides[row], _APART)] = True
                if len(chosen) >= min(_AT_ONCE, room - len(active)):
                    break
        active = np.concatenate([active, np.array(chosen, dtype=np.int64)])
    return active
