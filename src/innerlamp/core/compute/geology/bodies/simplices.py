"""What a model of units is cut on: boxes, planes, grounds, lines and blocks as simplices."""

from __future__ import annotations

import numpy as np

from .cutting import Simplices
from .model import FloatArray, IntArray

# The six tetrahedra of a cell along its diagonal (Kuhn 1960, IBM Journal of Research and Development 4, 518): paths from its
# lowest to its highest corner, each turned so that its volume is positive. Cells that are side by side fit together.
PATHS = np.array([(0, 4, 6, 7), (0, 4, 7, 5), (0, 2, 7, 6), (0, 2, 3, 7), (0, 1, 5, 7), (0, 1, 7, 3)], dtype=np.int64)


def nodes_between(low: float, high: float, step: float) -> FloatArray:
    """Return places (n,) from one end to the other, metres, evenly, at most `step` apart."""
    return np.linspace(low, high, max(int(np.ceil((high - low) / step - 1e-9)), 1) + 1)


def lattice_nodes(x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[FloatArray, IntArray]:
    """Return the nodes (n, 3) of a lattice, the last axis fastest, and the sides of the whole on which they lie, as bits (n,)."""
    nodes = np.stack(np.meshgrid(x, y, z, indexing="ij"), axis=-1).reshape(-1, 3)
    rim = np.zeros((len(x), len(y), len(z)), dtype=np.int64)
    rim[0] |= 1
    rim[-1] |= 2
    rim[:, 0] |= 4
    rim[:, -1] |= 8
    rim[:, :, 0] |= 16
    rim[:, :, -1] |= 32
    return nodes, rim.ravel()


def tetrahedra(cells: IntArray, shape: tuple[int, int, int]) -> IntArray:
    """Return the tetrahedra (6 n, 4) of cells (n, 3) of a lattice with so many nodes along each axis."""
    stride = np.array([shape[1] * shape[2], shape[2], 1])
    base = cells @ stride
    corner = np.array([[(k >> 2) & 1, (k >> 1) & 1, k & 1] for k in range(8)]) @ stride
    return np.asarray((base[:, None, None] + corner[PATHS][None]).reshape(-1, 4))


def triangles_over(count_u: int, count_v: int) -> IntArray:
    """Return the triangles (m, 3), counter-clockwise, of a lattice of nodes over a plane, the second axis fastest.

    Diagonals alternate, so that none of both directions is preferred.
    """
    i, j = np.meshgrid(np.arange(count_u - 1), np.arange(count_v - 1), indexing="ij")
    a = (i * count_v + j).ravel()
    b, c, d = a + count_v, a + count_v + 1, a + 1
    even = ((i + j) % 2 == 0).ravel()[:, None]
    one = np.where(even, np.column_stack([a, b, c]), np.column_stack([a, b, d]))
    two = np.where(even, np.column_stack([a, c, d]), np.column_stack([b, c, d]))
    return np.stack([one, two], axis=1).reshape(-1, 3)


def plane(u: FloatArray, v: FloatArray) -> tuple[FloatArray, Simplices]:
    """Return coordinates (n, 2) of the nodes of a lattice over a plane, and its triangles, their nodes' places still zero."""
    flat = np.stack(np.meshgrid(u, v, indexing="ij"), axis=-1).reshape(-1, 2)
    rim = np.zeros((len(u), len(v)), dtype=np.int64)
    rim[0] |= 1
    rim[-1] |= 2
    rim[:, 0] |= 4
    rim[:, -1] |= 8
    return flat, Simplices(np.zeros((len(flat), 3)), triangles_over(len(u), len(v)), rim.ravel())


def line(places: FloatArray) -> Simplices:
    """Return the segments of a line through places (n, 3), metres."""
    count = len(places)
    at = np.arange(count - 1)
    rim = np.zeros(count, dtype=np.int64)
    rim[0], rim[-1] = 1, 2
    return Simplices(np.asarray(places, float), np.column_stack([at, at + 1]), rim, at)
