"""True thickness of what a hole went through, from the orientation of the body: trigonometry of the angle between them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def true_thickness(
    chord: FloatArray, normal: FloatArray, uncertainty: float = 0.0
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return thickness, and the least and the largest that it may be, all in metres, shape (n,).

    Parameters
    ----------
    chord
        From where the hole enters to where it leaves, metres, shape (n, 3).
    normal
        Unit normals of the body's walls, shape (n, 3) or (3,); the walls are taken as parallel planes.
    uncertainty
        Degrees by which the normal may be wrong, in any direction.
    """
    length = np.linalg.norm(chord, axis=-1)
    across = np.abs(np.sum(chord * normal, axis=-1))
    with np.errstate(invalid="ignore", divide="ignore"):
        angle = np.arccos(np.clip(across / length, 0.0, 1.0))
    wrong = np.radians(uncertainty)
    low = np.where(angle + wrong < np.pi / 2, length * np.cos(angle + wrong), 0.0)
    high = length * np.cos(np.maximum(angle - wrong, 0.0))
    return across, low, high
