"""Where a prospect was drilled: the part with most of the holes, without single ones far off."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_REACH = 4.0  # times the usual distance to the next hole up to which holes belong together
SIZES = (1.0, 2.0, 2.5, 5.0, 10.0, 20.0, 25.0, 50.0, 100.0, 200.0, 250.0, 500.0, 1_000.0)  # of cells in metres


def main_group(x: FloatArray, y: FloatArray) -> NDArray[np.bool_]:
    """Return which of some collars (n,), in metres, belong to the largest group of holes that stand together.

    Holes stand together when one can go from each to the next by steps of at most four times the median distance between
    neighbours. Common practice, no source.
    """
    places, of = np.unique(np.column_stack([x, y]), axis=0, return_inverse=True)  # holes of one pad stand on one place
    count = len(places)
    if count < 3:
        return np.ones(len(x), dtype=bool)
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    tree = cKDTree(places)
    apart = tree.query(places, k=2)[0][:, 1]
    pairs = tree.query_pairs(_REACH * float(np.median(apart)), output_type="ndarray")
    joined = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    _, group = connected_components(joined, directed=False)
    mine = group[of.ravel()]
    return np.asarray(mine == np.bincount(mine).argmax())


def cell_for(width: float, length: float, height: float, most: float) -> float:
    """Return the smallest usual size of cells in plan, 0.4 of it high, with which a block (metres) has at most so many."""
    return next((s for s in SIZES if width * length * height / (0.4 * s**3) <= most), SIZES[-1])
