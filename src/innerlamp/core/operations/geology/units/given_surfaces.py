"""Contacts that come from outside: a grid of elevations, an open surface, or a closed one."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ....compute.geology.age_order import Kind, laid_down
from ....declaring.operation import Inputs
from ....errors import InputError
from ....items.base import Item
from ....items.fields import Grid, Surface
from .model_extent import height_at


def given_by_name(inputs: Inputs) -> dict[str, Grid | Surface]:
    """Return the items of the slot `surfaces` by name."""
    out: dict[str, Grid | Surface] = {}
    for item in inputs.all("surfaces", Item):
        if not isinstance(item, Grid | Surface):
            raise InputError("a given surface must be a grid or a surface", where=item.name)
        out[item.name] = item
    return out


def inside_of(name: str, given: Mapping[str, Grid | Surface], kind: Kind, places: np.ndarray) -> np.ndarray:
    """Return metres (n,) inside of a unit whose contact is a given surface, at places (n, 3).

    Above a grid or an open surface for what was laid down, below it for other kinds; inside of a closed one.

    Raises
    ------
    InputError
        When no such surface is given.
    """
    item = given.get(name)
    if item is None:
        raise InputError(
            f"no given surface is called '{name}'",
            fix=f"Given are: {', '.join(given) or 'none'}; choose it under 'Given surfaces'",
        )
    if isinstance(item, Surface) and (not len(item.triangles) or not np.isfinite(item.vertices).all()):
        raise InputError("the given surface has no triangles, or places that are no numbers", where=item.name)
    if isinstance(item, Surface) and item.closed:
        from ....compute.geometry.surface_distance import distance_to_surface
        from ....compute.geometry.winding import inside_mesh

        away = distance_to_surface(places, item.vertices, item.triangles)
        return np.where(inside_mesh(places, item.vertices, item.triangles), away, -away)
    if isinstance(item, Grid):
        height = height_at(item, places[:, 0], places[:, 1])
        slope = np.hypot(*np.gradient(item.values, item.dy, item.dx))
        steep = np.nanmedian(slope) if np.isfinite(slope).any() else 0.0
    else:
        height = heights(item, places)
        steep = 0.0
    above = (places[:, 2] - height) / np.sqrt(1.0 + float(steep) ** 2)
    above = np.where(np.isfinite(above), above, -np.inf if laid_down(kind) else np.inf)
    return np.asarray(above if laid_down(kind) else -above)


def heights(surface: Surface, places: np.ndarray) -> np.ndarray:
    """Return the elevation of an open surface at places (n, 3), in metres; beyond its edge that of its nearest corner."""
    from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator
    from scipy.spatial import QhullError

    _, first = np.unique(np.round(surface.vertices[:, :2], 3), axis=0, return_index=True)
    if len(first) < 3:
        raise InputError("the surface has no extent in plan", where=surface.name)
    xy, z = surface.vertices[first, :2], surface.vertices[first, 2]
    try:
        height = LinearNDInterpolator(xy, z)(places[:, :2])
    except QhullError as error:
        raise InputError(
            "the surface has no extent in plan: its corners lie on one line", where=surface.name
        ) from error
    lost = ~np.isfinite(height)
    height[lost] = NearestNDInterpolator(xy, z)(places[lost, :2])
    return np.asarray(height)
