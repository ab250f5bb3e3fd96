"""How much room there is on a section beside each hole before the next one."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

LEVELS = 96

FloatArray = NDArray[np.float64]


def room_beside(hole: NDArray[np.integer], along: FloatArray, z: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the least distance in metres from each hole to the next one on its left and on its right.

    Holes are compared at equal elevations, so that one far above another leaves it all the room.

    Parameters
    ----------
    hole, along, z
        Number of the hole (0, 1, …), distance along the section and elevation in metres of points along traces,
        shape (n,); the points of a hole stand together, from its collar down.

    Returns
    -------
    left, right
        Shape (number of holes,); infinite where no hole stands beside.
    """
    count = int(hole.max()) + 1 if len(hole) else 0
    left, right = np.full(count, np.inf), np.full(count, np.inf)
    if count < 2:
        return left, right
    known = np.isfinite(along) & np.isfinite(z)
    if not known.any():
        return left, right
    levels = np.linspace(float(z[known].min()), float(z[known].max()), LEVELS)
    at = np.full((count, LEVELS), np.nan)
    rows = np.flatnonzero(known)
    rows = rows[np.lexsort((z[rows], hole[rows]))]  # hole by hole, upwards
    edges = np.searchsorted(hole[rows], np.arange(count + 1))
    up, across = z[rows], along[rows]
    for k, (a, b) in enumerate(itertools.pairwise(edges.tolist())):
        if b > a:
            at[k] = np.interp(levels, up[a:b], across[a:b], left=np.nan, right=np.nan)
    order = np.argsort(at, axis=0)  # those that do not reach a level come last
    gap = np.diff(np.take_along_axis(at, order, axis=0), axis=0)
    for level in range(LEVELS):
        steps = gap[:, level]
        there = np.isfinite(steps)
        np.minimum.at(right, order[:-1, level][there], steps[there])
        np.minimum.at(left, order[1:, level][there], steps[there])
    return left, right
