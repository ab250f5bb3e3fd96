"""Placing a picture or a local grid on the map by points that are known in both."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
Fit = Literal["affine", "similarity"]


def fit_places(pixels: FloatArray, places: FloatArray, kind: Fit = "affine") -> tuple[FloatArray, FloatArray]:
    """Return the six coefficients of a placing and the residual of each point in metres.

    Least squares over points that are known as (col, row) and as (easting, northing). ``affine`` has
    six unknowns, so three points fit exactly; ``similarity`` (one scale, one turn, one shift; rows
    count downward) has four, and shows a residual from three points on.

    Parameters
    ----------
    pixels, places
        Shape (n, 2) each.

    Returns
    -------
    coefficients
        (a, b, c, d, e, f): x is ``a col + b row + c``, y is ``d col + e row + f``.
    residuals
        Shape (n,), metres.

    Raises
    ------
    InputError
        With fewer than three points, or when they lie on one line or on one spot.
    """
    if len(pixels) < 3:
        raise InputError(f"{len(pixels)} points are too few to place a picture", fix="Pick at least three, far apart")
    from_mean = pixels - pixels.mean(axis=0)
    sizes = np.linalg.svd(from_mean, compute_uv=False)
    spread = np.linalg.svd(places - places.mean(axis=0), compute_uv=False)
    if sizes[-1] < 1e-3 * max(sizes[0], 1e-12) or spread[-1] < 1e-3 * max(spread[0], 1e-12):
        raise InputError("the points lie on one line", fix="Pick them far apart, around the picture")
    centre, target = pixels.mean(axis=0), places.mean(axis=0)
    u, v = from_mean.T
    x, y = (places - target).T
    if kind == "affine":
        matrix = np.column_stack([u, v])
        (a, b), (d, e) = (np.linalg.lstsq(matrix, values, rcond=None)[0] for values in (x, y))
    else:
        # x = p u + q v, y = q u - p v: rows grow downward, northing upward.
        matrix = np.concatenate([np.column_stack([u, v]), np.column_stack([-v, u])])
        p, q = np.linalg.lstsq(matrix, np.concatenate([x, y]), rcond=None)[0]
        a, b, d, e = p, q, q, -p
    c, f = target[0] - a * centre[0] - b * centre[1], target[1] - d * centre[0] - e * centre[1]
    fitted = np.column_stack([a * pixels[:, 0] + b * pixels[:, 1] + c, d * pixels[:, 0] + e * pixels[:, 1] + f])
    return np.array([a, b, c, d, e, f]), np.linalg.norm(fitted - places, axis=1)
