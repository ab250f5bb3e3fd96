"""Planes and lines in oriented core: from angles to the core to dip and direction, and back.

Alpha is the acute angle between the plane and the core's axis. Beta is measured around the core, clockwise for one who
looks down the hole, from the reference line to the lower (down-hole) apex of the ellipse that the plane cuts. Gamma is
measured in the plane, clockwise looking down the hole, from that apex to a line in it. The reference line runs along
the bottom or the top of the core. Holcombe 2013, "Oriented drillcore: measurement, conversion and QA/QC procedures";
the vectors below follow from these definitions. Vectors are east, north, up.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

NEAR_VERTICAL = 3.0  # degrees from the vertical below which a core has no bottom that could be marked


def _frame(along: FloatArray) -> tuple[FloatArray, FloatArray]:
    """The bottom of the core, and what lies clockwise of it looking down the hole; both square to the hole, shape (n, 3)."""
    down = np.array([0.0, 0.0, -1.0])
    bottom = down - (along @ down)[:, None] * along
    size = np.linalg.norm(bottom, axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        bottom = np.where(size[:, None] > 1e-9, bottom / size[:, None], np.nan)
    return bottom, np.cross(along, bottom)


def plane_normals(alpha: FloatArray, beta: FloatArray, along: FloatArray, top_line: NDArray[np.bool_]) -> FloatArray:
    """Return upward unit normals (n, 3) of planes.

    Parameters
    ----------
    alpha, beta
        Degrees, shape (n,). Where alpha is 90 beta does not matter and may be NaN.
    along
        Unit direction down the hole at each reading, shape (n, 3).
    top_line
        Whether beta is measured from the top of the core rather than from its bottom, shape (n,).

    Returns
    -------
    ndarray
        NaN where an angle is missing, or where the hole is vertical and has no bottom.
    """
    a = np.radians(alpha)
    square = np.isclose(alpha, 90.0)
    b = np.radians(np.where(square, 0.0, beta) + np.where(top_line, 180.0, 0.0))
    bottom, right = _frame(along)
    apex = np.cos(b)[:, None] * bottom + np.sin(b)[:, None] * right
    normal = np.where(square[:, None], along, np.sin(a)[:, None] * along - np.cos(a)[:, None] * apex)
    return np.where(normal[:, 2:] < 0, -normal, normal)


def line_directions(
    alpha: FloatArray, beta: FloatArray, gamma: FloatArray, along: FloatArray, top_line: NDArray[np.bool_]
) -> FloatArray:
    """Return downward unit vectors (n, 3) of lines that lie in planes; parameters as in `plane_normals`, gamma in degrees."""
    a = np.radians(alpha)
    b = np.radians(beta + np.where(top_line, 180.0, 0.0))
    g = np.radians(gamma)
    bottom, right = _frame(along)
    apex = np.cos(b)[:, None] * bottom + np.sin(b)[:, None] * right
    down_plane = np.cos(a)[:, None] * along + np.sin(a)[:, None] * apex  # long axis of the ellipse, down the hole
    across = np.cross(along, apex)
    line = np.cos(g)[:, None] * down_plane + np.sin(g)[:, None] * across
    return np.where(line[:, 2:] > 0, -line, line)


def core_angles(normal: FloatArray, along: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return alpha and beta in degrees, beta from the bottom line, at which planes (n, 3) are met by holes (n, 3)."""
    facing = np.sum(normal * along, axis=1)
    n = np.where(facing[:, None] < 0, -normal, normal)
    alpha = np.degrees(np.arcsin(np.clip(np.abs(facing), 0.0, 1.0)))
    bottom, right = _frame(along)
    low = np.abs(facing)[:, None] * along - n  # where the plane runs farthest down the hole
    beta = np.degrees(np.arctan2(np.sum(low * right, axis=1), np.sum(low * bottom, axis=1))) % 360.0
    return alpha, beta
