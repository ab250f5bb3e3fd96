"""What people put into a model by hand, as places with metres inside."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

import numpy as np

from ....errors import InputError
from ..veins import mean_plane


class Placed(NamedTuple):
    """Places (n, 3), metres inside (n,), and which lie on the contact (n,)."""

    points: np.ndarray
    values: np.ndarray
    contact: np.ndarray


def densified(path: np.ndarray, step: float) -> np.ndarray:
    """Return places along a path (n, 3), metres, with its corners and at most `step` between them."""
    if len(path) < 2:
        return path
    out = [path[:1]]
    for a, b in pairwise(path):
        count = max(int(np.ceil(np.linalg.norm(b - a) / step)), 1)
        out.append(a + (np.arange(1, count + 1) / count)[:, None] * (b - a))
    return np.vstack(out)


def along_path(path: np.ndarray, step: float, closed: bool, outside: bool) -> tuple[np.ndarray, np.ndarray]:
    """Return places (m, 3) that a drawn path (n, 3) tells, and metres inside (m,): a line lies on the contact; of an outline what it encloses lies inside, or `outside` for a hole, as far as its edge is away.

    Raises
    ------
    InputError
        When an outline crosses itself.
    """
    on = densified(path, step)
    if not closed or len(path) < 4:
        return on, np.zeros(len(on))
    import shapely

    middle, axes = mean_plane(path[:-1])
    flat = (path - middle) @ axes[:2].T
    shape = shapely.Polygon(flat)
    if not shape.is_valid:
        raise InputError("an outline crosses itself", fix="Move its corners in the drawing")
    low, high = flat.min(axis=0), flat.max(axis=0)
    every = max(step, float((high - low).max()) / 20.0)
    u, v = (w.ravel() for w in np.meshgrid(*(np.arange(low[k] + every / 2, high[k], every) for k in (0, 1))))
    inside = shapely.contains_xy(shape, u, v)
    away = shapely.distance(shape.exterior, shapely.points(u[inside], v[inside]))
    at = middle + np.column_stack([u[inside], v[inside]]) @ axes[:2]
    return np.vstack([on, at]), np.concatenate([np.zeros(len(on)), -away if outside else away])
