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


def section_line(start: FloatArray, end: FloatArray, width: float) -> FloatArray | None:
    """Return the ends (2, 2) of the section along the drilling that has most holes within half its width, metres.

    It runs the way the holes go in plan; where they are steep on the whole, along the longest extent of their collars. Common
    practice, no source.

    Parameters
    ----------
    start, end
        Collars and ends of holes in plan, shape (n, 2), metres.
    width
        Of the corridor, metres.
    """
    good = np.isfinite(start).all(axis=1) & np.isfinite(end).all(axis=1)
    start, end = start[good], end[good]
    if not len(start):
        return None
    group = main_group(start[:, 0], start[:, 1])
    start, end = start[group], end[group]
    run = end - start
    # Holes drilled from both sides of a body lie on one section: directions are doubled before they are added up.
    angle = 2.0 * np.arctan2(run[:, 1], run[:, 0])
    length = np.hypot(run[:, 0], run[:, 1])
    east, north = float((length * np.cos(angle)).sum()), float((length * np.sin(angle)).sum())
    if np.hypot(east, north) > 0.2 * max(float(length.sum()), 1e-9) and float(length.mean()) > 5.0:
        turn = 0.5 * np.arctan2(north, east)
        along = np.array([np.cos(turn), np.sin(turn)])
    elif len(start) > 1 and np.ptp(start, axis=0).max() > 0:
        along = np.linalg.svd(start - start.mean(axis=0), full_matrices=False)[2][0]
    else:
        along = np.array([1.0, 0.0])
    if along[0] < -1e-9 or (abs(along[0]) <= 1e-9 and along[1] >= 0):
        along = -along  # seen from the south, or from the west
    aside = np.array([-along[1], along[0]])
    off = 0.5 * (start + end) @ aside
    order = np.sort(off)
    best = np.searchsorted(order, off + 0.5 * width, "right") - np.searchsorted(order, off - 0.5 * width, "left")
    middle = float(np.median(off))
    through = off[max(range(len(off)), key=lambda k: (best[k], -abs(off[k] - middle)))]
    mine = np.abs(off - through) <= 0.5 * width
    reach = np.concatenate([start[mine], end[mine]]) @ along
    margin = max(0.15 * float(np.ptp(reach)), 50.0)
    low, high = float(reach.min()) - margin, float(reach.max()) + margin
    return np.array([low * along + through * aside, high * along + through * aside])
