"""Closed surfaces around the part of a field that is above a cut-off."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

from ...errors import ConvergenceError, InputError
from ..geometry.triangles import is_closed, volume

FloatArray = NDArray[np.float64]
_HAIR = 1e-4  # of a cell
_NUDGES = (1e-3, 0.01, 0.03, 0.06, 0.1)  # of a cell; the next is tried when the surface still touches itself


def closed_shell(
    field: FloatArray, origin: tuple[float, float, float], cell: float, level: float = 0.0
) -> tuple[FloatArray, NDArray[np.int32], float]:
    """Return the surface where a field passes `level`, closed at the edge of its box.

    Parameters
    ----------
    field
        Values (nx, ny, nz) at nodes, which are the middles of cells; NaN counts as outside.
    origin
        Place of the first node in metres.
    cell
        Distance of nodes in metres.

    Returns
    -------
    vertices (n, 3) in metres, triangles (m, 3) facing outward, volume in m3

    Raises
    ------
    InputError
        When nothing is above the level.
    ConvergenceError
        When the surface does not close; nothing is returned that could be measured wrongly.

    Notes
    -----
    Marching cubes of Lewiner et al. 2003 (scikit-image); its error in volume is of second order in `cell`. What lies
    above the level at the edge of the box ends there, half a cell beyond the last node, with plane faces: a box of
    ones measures its cells. Beside a missing node it ends half-way to it. A node that equals the level lies outside.
    """
    above = np.where(np.isfinite(field), field - level, np.nan)
    if not (above > 0).any():
        raise InputError("nothing lies above the cut-off", fix="Lower the cut-off, or look at the grades in the table")
    known = _missing_filled(above)
    for least in _NUDGES:
        inside = _off_level(known, least)
        # The last nodes go on to the edge of their cells and end there at once: two layers of nodes, a hair apart.
        edged = np.pad(inside, 2, mode="edge")
        edge = np.ones(edged.shape, dtype=bool)
        edge[1:-1, 1:-1, 1:-1] = False
        edged[edge] = -np.abs(edged[edge])
        vertices, triangles, _, _ = marching_cubes(edged, 0.0, allow_degenerate=False)
        if is_closed(triangles):
            break
    else:
        raise ConvergenceError(
            "the surface does not close",
            fix="Take a slightly other cut-off or cell size; what touches itself can't be measured",
        )
    places = [
        np.concatenate([[-0.5 - _HAIR, -0.5 + _HAIR], np.arange(n, dtype=float), [n - 0.5 - _HAIR, n - 0.5 + _HAIR]])
        for n in field.shape
    ]
    counted = np.asarray(vertices, dtype=float)
    vertices = np.stack([np.interp(counted[:, k], np.arange(len(places[k])), places[k]) for k in range(3)], axis=1)
    vertices = vertices * cell + np.asarray(origin)
    triangles = np.ascontiguousarray(triangles, dtype=np.int32)
    held = volume(vertices, triangles)
    if held < 0:
        triangles, held = np.ascontiguousarray(triangles[:, ::-1]), -held
    return vertices, triangles, held


def _off_level(above: FloatArray, share: float) -> FloatArray:
    """Nodes at the level, or as good as at it, moved off it: there the surface would touch itself in a corner.

    By a share of how much the field varies around the node, which moves the surface by about that share of a cell.
    """
    from scipy.ndimage import maximum_filter, minimum_filter

    vary = maximum_filter(above, 3, mode="nearest") - minimum_filter(above, 3, mode="nearest")
    if share > _NUDGES[0]:  # two sheets share an edge where four nodes around it are alike: they are made unlike
        above = above + share * vary * np.random.default_rng(0).uniform(-1.0, 1.0, above.shape)
    least = share * np.where(vary > 0, vary, np.abs(above))
    return np.where(np.abs(above) < least, np.where(above > 0, least, -least), above)


def _missing_filled(above: FloatArray) -> FloatArray:
    """Missing nodes as far below the level as their highest neighbour is above it: the surface ends half-way to them."""
    from scipy.ndimage import maximum_filter

    missing = ~np.isfinite(above)
    if not missing.any():
        return above
    known = np.where(missing, -np.inf, above)
    cross = np.zeros((3, 3, 3), dtype=bool)
    cross[1, 1, :] = cross[1, :, 1] = cross[:, 1, 1] = True
    near = maximum_filter(known, footprint=cross, mode="constant", cval=-np.inf)
    far = -float(np.max(known))
    return np.where(missing, np.where(near > 0, -near, min(far, -1e-12)), above)
