"""Closed bodies of units, and shares of units in blocks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .... import limits
from ....errors import InputError
from ....geometry.mesh import Mesh, TensorMesh
from ...geometry.triangles import volume
from .cutting import Simplices, cut, read_at
from .model import FloatArray, IntArray, UnitModel
from .simplices import PATHS, lattice_nodes, nodes_between, tetrahedra

MOST_CELLS, USUAL_CELLS = 6_000_000, 60_000
_AT_ONCE = 400_000  # blocks


@dataclass(frozen=True)
class Solids:
    """Bodies that share their faces.

    Attributes
    ----------
    places
        Corners (k, 3), metres.
    triangles
        Corners (t, 3), each triangle once.
    sides
        Units (t, 2): the one that the triangle looks away from, the one that it looks to; -1 outside and in the air.
    units
        How many units there are.
    """

    places: FloatArray
    triangles: IntArray
    sides: IntArray
    units: int

    @property
    def volumes(self) -> FloatArray:
        """Cubic metres (units,) of each unit."""
        return np.array([volume(self.places, self._faces(unit)) for unit in range(self.units)])

    def of(self, unit: int) -> tuple[FloatArray, IntArray]:
        """Return the closed body of a unit: corners (k, 3), and triangles (t, 3) that look outward."""
        faces = self._faces(unit)
        used, back = np.unique(faces, return_inverse=True)
        return self.places[used], back.reshape(-1, 3)

    def _faces(self, unit: int) -> IntArray:
        return np.concatenate(
            [self.triangles[self.sides[:, 0] == unit], self.triangles[self.sides[:, 1] == unit][:, ::-1]]
        )


def solids(model: UnitModel, cell: float | None = None, threads: int = 2) -> Solids:
    """Return the bodies of all units in the box of the model.

    Parameters
    ----------
    cell
        Metres between nodes of the lattice that is cut; what lies between two nodes without passing one is not seen. So
        many that there are about `USUAL_CELLS` cells by default.

    Raises
    ------
    InputError
        When the lattice would have more cells than `MOST_CELLS`.
    """
    if cell is None:
        cell = float(np.prod(model.high - model.low) / USUAL_CELLS) ** (1.0 / 3.0)
    x, y, z = (nodes_between(float(model.low[k]), float(model.high[k]), cell) for k in range(3))
    shape = (len(x), len(y), len(z))
    count = (shape[0] - 1) * (shape[1] - 1) * (shape[2] - 1)
    if count > MOST_CELLS:
        raise InputError(f"bodies would be cut from {count:,} cells", fix="Take a larger cell")
    limits.afford(float(count), 200.0, "cells that bodies are cut from", "Take a larger cell")
    nodes, rim = lattice_nodes(x, y, z)
    read = read_at(model, nodes)
    passed = _passed(read[1], shape)
    passed[[0, -1]] = passed[:, [0, -1]] = passed[:, :, [0, -1]] = True
    tets = tetrahedra(np.argwhere(passed), shape)
    found = cut(model, Simplices(nodes, tets, rim), threads=threads, read=read)
    names = np.append(model.piece_units, -1)
    sides = names[np.where(found.sides < 0, len(names) - 1, found.sides)]
    differ = sides[:, 0] != sides[:, 1]
    faces, sides = found.faces[differ], sides[differ]
    return Solids(found.places, faces, sides, len(model.units))


def _passed(values: FloatArray, shape: tuple[int, int, int]) -> NDArray[np.bool_]:
    """Which cells a contact or a fault passes: some surface is positive at one corner and negative at another."""
    out = np.zeros(tuple(n - 1 for n in shape), dtype=bool)

    def mixed(values: np.ndarray) -> np.ndarray:
        w = values.reshape(shape)
        total = np.zeros(out.shape, dtype=np.int8)
        for a in (0, 1):
            for b in (0, 1):
                for c in (0, 1):
                    total += w[a : shape[0] - 1 + a, b : shape[1] - 1 + b, c : shape[2] - 1 + c]
        return np.asarray((total > 0) & (total < 8))

    for s in range(values.shape[1]):
        out |= mixed((values[:, s] > -1e-3).astype(np.int8))
    return out


def shares(model: UnitModel, mesh: Mesh, threads: int = 2) -> NDArray[np.float32]:
    """Return what part of each block each unit has, shape (cells, units), cells in the order of the mesh; rows sum to 1 but for air.

    Blocks that no contact passes are told by their middle, the others by cutting them.
    """
    nx, ny, nz = mesh.shape
    out = np.zeros((nx * ny * nz, len(model.units)), dtype=np.float32)
    slab = max(1, _AT_ONCE // max(ny * nz, 1))
    for first in range(0, nx, slab):
        last = min(first + slab, nx)
        nodes, corners, there = _corners(mesh, first, last)
        rows = first * ny * nz + np.flatnonzero(there)
        codes, values = read_at(model, nodes)
        positive = values[:, : len(model.contacts)] > 0
        count = np.zeros((len(corners), positive.shape[1]), dtype=np.int8)
        for c in range(8):
            count += positive[corners[:, c]]
        # The first piece that may have a part of a block has all of it where all of its contacts are positive all over.
        label, mixed = np.full(len(corners), len(model.pieces)), np.zeros(len(corners), dtype=bool)
        open_still = np.ones(len(corners), dtype=bool)
        for k, piece in enumerate(model.pieces):
            own = count[:, list(piece.contacts)]
            maybe, surely = (own > 0).all(axis=1), (own == 8).all(axis=1)
            mixed |= open_still & maybe & ~surely
            label[open_still & surely] = k
            open_still &= ~surely & ~mixed
        unit = model.piece_units[label]
        plain = ~mixed & (unit >= 0)
        out[rows[plain], unit[plain]] = 1.0
        many = np.flatnonzero(mixed)
        if not len(many):
            continue
        used, back = np.unique(corners[many], return_inverse=True)
        tets = back.reshape(-1, 8)[:, PATHS].reshape(-1, 4)
        what = Simplices(
            np.ascontiguousarray(nodes[used]),
            tets,
            np.zeros(len(used), np.int64),
            np.repeat(np.arange(len(many)), len(PATHS)),
        )
        read = codes[used], np.ascontiguousarray(values[used])
        found = cut(model, what, faces=False, sums=True, threads=threads, read=read)
        total = found.sums.sum(axis=1, keepdims=True)
        part = found.sums / np.where(total > 0, total, 1.0)
        for k, number in enumerate(model.piece_units):
            if number >= 0:
                out[rows[many], number] += part[:, k].astype(np.float32)
    return out


def _corners(mesh: Mesh, first: int, last: int) -> tuple[FloatArray, IntArray, NDArray[np.bool_]]:
    """Places (n, 3) of the corners of blocks of the columns from `first` to `last`, the corners (m, 8) of those that have a height, and which have one."""
    _, ny, nz = mesh.shape
    edges_u, edges_v = mesh.plan_edges
    count = last - first
    if isinstance(mesh, TensorMesh):  # blocks side by side share their corners
        shape = (count + 1, ny + 1, nz + 1)
        u, v, z = np.meshgrid(edges_u[first : last + 1], edges_v, mesh.z_edges, indexing="ij")
        x, y = mesh.to_map(u.ravel(), v.ravel())
        cells = np.stack(np.meshgrid(*(np.arange(n) for n in (count, ny, nz)), indexing="ij"), axis=-1).reshape(-1, 3)
        stride = np.array([shape[1] * shape[2], shape[2], 1])
        corner = np.array([[(c >> 2) & 1, (c >> 1) & 1, c & 1] for c in range(8)]) @ stride
        return np.column_stack([x, y, z.ravel()]), (cells @ stride)[:, None] + corner, np.ones(len(cells), dtype=bool)
    i, j, k = (w.ravel() for w in np.meshgrid(np.arange(first, last), np.arange(ny), np.arange(nz), indexing="ij"))
    low, high = mesh.levels(i, j, k)
    there = high - low > 1e-9
    i, j, low, high = i[there], j[there], low[there], high[there]
    at = np.empty((len(i), 8, 3))
    for c in range(8):
        at[:, c, 0], at[:, c, 1] = mesh.to_map(edges_u[i + ((c >> 2) & 1)], edges_v[j + ((c >> 1) & 1)])
        at[:, c, 2] = high if c & 1 else low
    return at.reshape(-1, 3), np.arange(8 * len(i)).reshape(-1, 8), there


def bodies_closed(places: FloatArray, triangles: IntArray) -> bool:
    """Whether each edge of a body, corners (k, 3) in metres, belongs to an even count of its triangles (t, 3), half of them each way."""
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    key = edges[:, 0] * len(places) + edges[:, 1]
    back = edges[:, 1] * len(places) + edges[:, 0]
    return bool(np.array_equal(np.sort(key), np.sort(back)))
