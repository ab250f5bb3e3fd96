"""Closed surfaces around the part of a field that is above a cut-off."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

from ...errors import InputError
from ..geometry.triangles import volume

FloatArray = NDArray[np.float64]


def closed_shell(
    field: FloatArray, origin: tuple[float, float, float], cell: float, level: float = 0.0
) -> tuple[FloatArray, NDArray[np.int32], float]:
    """Return the surface where a field passes `level`, closed at the edge of its box.

    Parameters
    ----------
    field
        Values (nx, ny, nz) at nodes; NaN counts as outside.
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

    Notes
    -----
    Marching cubes of Lewiner et al. 2003 (scikit-image); its error in volume is of second order in `cell`.
    """
    inside = np.where(np.isfinite(field), field, -np.inf) - level
    if not (inside > 0).any():
        raise InputError("nothing lies above the cut-off", fix="Lower the cut-off, or look at the grades in the table")
    # A layer of nodes just outside closes the surface where it meets the box.
    low = -max(float(np.max(inside)), 1e-12)
    padded = np.pad(np.maximum(inside, low * 1e3), 1, constant_values=low)
    vertices, triangles, _, _ = marching_cubes(padded, 0.0, allow_degenerate=False)
    vertices = np.asarray(vertices, dtype=float)
    vertices = (vertices - 1.0) * cell + np.asarray(origin)
    triangles = np.ascontiguousarray(triangles, dtype=np.int32)
    held = volume(vertices, triangles)
    if held < 0:
        triangles, held = np.ascontiguousarray(triangles[:, ::-1]), -held
    return vertices, triangles, held
