"""The way of layering at places, from structural readings around them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_NEAR = 12  # readings that a place goes by


def normals_near(
    places: FloatArray, at: FloatArray, normals: FloatArray, reach: float
) -> tuple[FloatArray, FloatArray]:
    """Return the mean normal of planes at places, and how much it tells.

    The mean is the principal axis of the orientation tensor of the nearest readings, weighted by a Gaussian of their
    distance (Woodcock 1977, GSA Bulletin 88, 1231): normals have no sense, so that a plane and the same one overturned
    are one.

    Parameters
    ----------
    places, at
        Shapes (n, 3) and (m, 3) in metres; readings without an elevation count by their distance in plan.
    normals
        Unit normals (m, 3) of the readings.
    reach
        Distance in metres at which a reading counts 1/e.

    Returns
    -------
    normals, shares
        Shapes (n, 3) and (n,): 1 where readings are near and agree, falling to 0 where there is none within three times the
        reach, or where those near go all ways.
    """
    from scipy.spatial import cKDTree

    flat = not np.isfinite(at[:, 2]).all()
    here, there = (places[:, :2], at[:, :2]) if flat else (places, at)
    away, near = cKDTree(there).query(here, k=min(_NEAR, len(at)), distance_upper_bound=3.0 * reach)
    away, near = away.reshape(len(places), -1), near.reshape(len(places), -1)
    weight = np.where(np.isfinite(away), np.exp(-((np.where(np.isfinite(away), away, 0.0) / reach) ** 2)), 0.0)
    padded = np.vstack([normals, np.zeros(3)])[near]
    tensor = np.einsum("nk,nki,nkj->nij", weight, padded, padded)
    total = weight.sum(axis=1)
    values, vectors = np.linalg.eigh(tensor / np.maximum(total, 1e-300)[:, None, None])
    # Of eigenvalues that add to 1: all alike 1/3 for readings that go all ways, 1, 0, 0 for one plane.
    agree = np.clip(1.5 * (values[:, 2] - 1.0 / 3.0), 0.0, 1.0)
    share = np.where(total > 0, agree * np.minimum(weight.max(axis=1, initial=0.0) * np.e, 1.0), 0.0)
    out = np.where(total[:, None] > 0, vectors[:, :, 2], np.array([0.0, 0.0, 1.0]))
    return out, share
