"""Lineaments: where the horizontal gradient of a field (or the field itself) has a ridge.

A cell is on a ridge when it exceeds its neighbours on both sides in some of four directions (Blakely &
Simpson 1986); cells are thinned to lines of one cell and followed from end to end.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Lineament:
    """A line of places (n, 2) with its mean strength, length (m), and direction (degrees from north, 0 to 180)."""

    xy: FloatArray
    strength: float
    length: float
    azimuth: float


def ridges(values: FloatArray) -> NDArray[np.int8]:
    """Return in how many of four directions (0 to 4) each cell (ny, nx) exceeds both of its neighbours."""
    padded = np.pad(values, 1, constant_values=np.nan)
    ny, nx = values.shape
    count = np.zeros(values.shape, dtype=np.int8)
    with np.errstate(invalid="ignore"):
        for dj, di in ((0, 1), (1, 0), (1, 1), (1, -1)):
            ahead = padded[1 + dj : 1 + dj + ny, 1 + di : 1 + di + nx]
            behind = padded[1 - dj : 1 - dj + ny, 1 - di : 1 - di + nx]
            count += ((values > ahead) & (values > behind)).astype(np.int8)
    return count


def _chains(places: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Return chains of rows of `places` (n, 2; cells): from end to end and between branches."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import minimum_spanning_tree
    from scipy.spatial import cKDTree

    n = len(places)
    pairs = cKDTree(places).query_pairs(1.5, output_type="ndarray")
    if not len(pairs):
        return []
    length = np.hypot(*(places[pairs[:, 0]] - places[pairs[:, 1]]).T)
    tree = minimum_spanning_tree(coo_matrix((length, (pairs[:, 0], pairs[:, 1])), shape=(n, n)).tocsr()).tocoo()
    neighbours: list[list[int]] = [[] for _ in range(n)]
    for a, b in zip(tree.row.tolist(), tree.col.tolist(), strict=True):
        neighbours[a].append(b)
        neighbours[b].append(a)
    out = []
    for start in range(n):
        if len(neighbours[start]) in (0, 2):
            continue
        for step in neighbours[start]:
            chain, before, here = [start], start, step
            while len(neighbours[here]) == 2:
                chain.append(here)
                before, here = here, next(k for k in neighbours[here] if k != before)
            chain.append(here)
            if start <= here:  # each chain is met from both ends
                out.append(np.array(chain))
    return out


def lineaments(
    values: FloatArray,
    x0: float,
    y0: float,
    dx: float,
    dy: float,
    shortest: float,
    strongest: float = 0.5,
    directions: int = 2,
) -> list[Lineament]:
    """Return the ridges of a grid as lines.

    Parameters
    ----------
    values
        Shape (ny, nx), such as a horizontal gradient.
    shortest
        Lines shorter than this many metres are left out.
    strongest
        Share of the cells, 0 to 1: only the strongest ones of the grid can be part of a line.
    directions
        In how many of four directions a cell must exceed its neighbours: 1 is generous, 3 strict.

    Raises
    ------
    InputError
        When the grid is blank.
    """
    from shapely import LineString
    from skimage.morphology import skeletonize

    known = np.isfinite(values)
    if not known.any():
        raise InputError("the grid has no values")
    floor = float(np.quantile(values[known], 1.0 - strongest))
    mask = (ridges(values) >= directions) & (np.nan_to_num(values, nan=-np.inf) >= floor)
    places = np.argwhere(skeletonize(mask))
    found = []
    for chain in _chains(places) if len(places) > 1 else []:
        cells = places[chain]
        xy = np.column_stack([x0 + dx * cells[:, 1], y0 + dy * cells[:, 0]])
        length = float(np.hypot(*np.diff(xy, axis=0).T).sum())
        if length < shortest:
            continue
        # Steps from cell to cell are no bends of the ground.
        line = np.asarray(LineString(xy).simplify(0.75 * max(dx, dy)).coords)
        run = xy - xy.mean(axis=0)
        along = np.linalg.svd(run, full_matrices=False)[2][0]
        azimuth = float(np.degrees(np.arctan2(along[0], along[1])) % 180.0)
        found.append(Lineament(line, float(values[cells[:, 0], cells[:, 1]].mean()), length, azimuth))
    return sorted(found, key=lambda each: -each.length)
