"""What a geological map tells of a contact: places on both sides of it with their distance, and places on it."""

from __future__ import annotations

from typing import Any

import numpy as np

_MOST = 1_500  # places beside each contact


def contact_on_map(one: Any, other: Any, box: Any, cell: float, cap: float) -> tuple[np.ndarray, np.ndarray]:
    """Return places (n, 2) of a map with metres inside (n,): those beside the contact first, then those on it, which have 0.

    Parameters
    ----------
    one, other
        Polygons of what lies inside and outside of the contact, metres.
    box
        The part of the map that counts.
    cell
        Places are two cells apart at least, metres.
    cap
        No place counts as farther away than this, metres.
    """
    import shapely

    every = max(2.0 * cell, float(np.sqrt(box.area / _MOST)))
    across = np.arange(box.bounds[0] + every / 2, box.bounds[2], every)
    along = np.arange(box.bounds[1] + every / 2, box.bounds[3], every)
    x, y = (v.ravel() for v in np.meshgrid(across, along))
    contact = shapely.intersection(one.boundary, other.buffer(0.5))
    points = shapely.points(x, y)
    inside, outside = shapely.contains(one, points), shapely.contains(other, points)
    away = shapely.distance(points, contact) if not contact.is_empty else np.full(len(x), np.inf)
    value = np.where(inside, 1.0, -1.0) * np.minimum(np.where(np.isfinite(away), away, cap), cap)
    keep = (inside | outside) & (np.abs(value) > 0)
    lines = [g for g in shapely.get_parts(contact) if g.geom_type == "LineString" and g.length > 0]
    on = [
        np.array([line.interpolate(s).coords[0] for s in np.arange(every / 4, line.length, every / 2)]).reshape(-1, 2)
        for line in lines
    ]
    edge = np.vstack(on) if on else np.empty((0, 2))
    return np.vstack([np.column_stack([x[keep], y[keep]]), edge]), np.concatenate([value[keep], np.zeros(len(edge))])
