"""Drawing in plan: snapping to what is there, following shared boundaries, corners, splitting and joining."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
SAME = 1e-3  # metres within which two corners are one


@dataclass(frozen=True)
class Snap:
    """Where a click went to: the place, on a corner or an edge of path `path` at `position` (corners counted along it)."""

    x: float
    y: float
    on: Literal["", "corner", "edge"]
    path: int = -1
    position: float = 0.0


def boxes_of(paths: Sequence[FloatArray]) -> FloatArray:
    """Return west, south, east, north of each path, shape (n, 4): worked out once, they make snapping to many quick."""
    return np.array([[*path.min(axis=0), *path.max(axis=0)] for path in paths]).reshape(-1, 4)


def snap(x: float, y: float, paths: Sequence[FloatArray], within: float, boxes: FloatArray | None = None) -> Snap:
    """Return the nearest corner of some paths (n, 2) within `within` metres, else the nearest place on an edge, else the place itself.

    `boxes` are those of `boxes_of` where they are at hand.
    """
    best: tuple[float, Snap] | None = None
    edge: tuple[float, Snap] | None = None
    here = np.array([x, y])
    boxes = boxes_of(paths) if boxes is None else boxes
    near = (boxes[:, :2] - within <= here).all(axis=1) & (here <= boxes[:, 2:] + within).all(axis=1)
    for number in np.flatnonzero(near).tolist():
        path = paths[number]
        away = np.hypot(*(path - here).T)
        k = int(np.argmin(away))
        if away[k] <= within and (best is None or away[k] < best[0]):
            best = (float(away[k]), Snap(float(path[k, 0]), float(path[k, 1]), "corner", number, float(k)))
        if best is not None or len(path) < 2:
            continue
        run = np.diff(path, axis=0)
        length = np.maximum((run**2).sum(axis=1), 1e-12)
        share = np.clip(((here - path[:-1]) * run).sum(axis=1) / length, 0.0, 1.0)
        foot = path[:-1] + share[:, None] * run
        off = np.hypot(*(foot - here).T)
        k = int(np.argmin(off))
        if off[k] <= within and (edge is None or off[k] < edge[0]):
            edge = (float(off[k]), Snap(float(foot[k, 0]), float(foot[k, 1]), "edge", number, k + float(share[k])))
    return best[1] if best else edge[1] if edge else Snap(x, y, "")


def followed(path: FloatArray, start: float, stop: float) -> FloatArray:
    """Return the corners (n, 2) between two positions of a path, along it; along a closed one the shorter way round."""
    n = len(path) - 1
    closed = n > 2 and np.allclose(path[0], path[-1], atol=SAME)

    def between(a: float, b: float) -> list[int]:
        return (
            list(range(int(np.floor(a)) + 1, int(np.ceil(b))))
            if b > a
            else list(range(int(np.ceil(a)) - 1, int(np.floor(b)), -1))
        )

    straight = between(start, stop)
    if not closed:
        return path[straight]
    around = between(start, stop + n) if stop < start else between(start, stop - n)
    other = [k % n for k in around]

    def length(rows: list[int]) -> float:
        ends = [_at(path, start), *path[rows], _at(path, stop)]
        return float(np.hypot(*np.diff(np.array(ends), axis=0).T).sum())

    return path[straight] if length(straight) <= length(other) else path[other]


def _at(path: FloatArray, position: float) -> FloatArray:
    k = min(int(position), len(path) - 2) if len(path) > 1 else 0
    return np.asarray(path[k] + (position - k) * (path[k + 1] - path[k]) if len(path) > 1 else path[0])


def with_corners(path: FloatArray, places: FloatArray) -> FloatArray:
    """Return a path (n, 2 or 3) with a corner at each place (m, 2) that lies on one of its edges (within a millimetre)."""
    out = path
    for place in places:
        if np.hypot(*(out[:, :2] - place).T).min() <= SAME:
            continue
        found = snap(float(place[0]), float(place[1]), [out[:, :2]], SAME)
        if found.on == "edge":
            corner = np.full((1, out.shape[1]), np.nan)
            corner[0, :2] = place
            out = np.insert(out, int(found.position) + 1, corner, axis=0)
    return out


def polygon(points: FloatArray) -> Any:
    """Return a shapely polygon of corners (n, 2).

    Raises
    ------
    InputError
        With fewer than three corners, without any area, or when it crosses itself.
    """
    import shapely

    distinct = np.unique(np.round(points, 3), axis=0)
    if len(distinct) < 3:
        raise InputError(f"a polygon needs three corners, not {len(distinct)}")
    shape = shapely.Polygon(points)
    if not shape.is_valid:
        raise InputError(
            f"the polygon would cross itself ({shapely.is_valid_reason(shape)})",
            fix="Take the last corners back (Ctrl+Z) and go round in order",
        )
    if shape.area <= 1e-6:
        raise InputError("the polygon has no area")
    return shape


def within_outline(corners: Any, x: FloatArray, y: FloatArray, what: str) -> NDArray[np.bool_]:
    """Return which places (n,) lie within an outline of corners (m, 2), metres; `what` names it in what is said of it.

    Raises
    ------
    InputError
        When it is no polygon.
    """
    import shapely

    try:
        shape = polygon(np.asarray(corners, dtype=float))
    except InputError as error:
        raise InputError(
            f"the {what} crosses itself, or has no area or less than three corners", fix="Move its corners"
        ) from error
    shapely.prepare(shape)
    return np.asarray(shapely.contains_xy(shape, x, y))


def is_area(shape: Any) -> bool:
    """Return whether a shapely geometry is a polygon or several."""
    return str(shape.geom_type).endswith("Polygon")


def split(shape: Any, cut: Any) -> list[Any]:
    """Return the parts of a polygon or line that a line cuts it into; one part where the line does not cross it."""
    import shapely
    from shapely.ops import polygonize
    from shapely.ops import split as split_line

    if is_area(shape):
        edges = shapely.union_all([shape.boundary, cut])
        # Faces that lie in holes are no part of the polygon.
        return [face for face in polygonize(edges) if shape.contains(face.representative_point())]
    if shape.geom_type.endswith("LineString"):
        return [part for line in getattr(shape, "geoms", [shape]) for part in split_line(line, cut).geoms]
    return [shape]
