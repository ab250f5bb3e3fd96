"""Closed bodies of units, and shares of units in blocks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .... import limits
from ....errors import InputError
from ....geometry.mesh import Mesh
from .cutting import Simplices, cut, read_at
from .model import FloatArray, IntArray, UnitModel
from .simplices import PATHS, lattice_nodes, tetrahedra

MOST_CELLS = 6_000_000


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
    volumes
        Cubic metres of each unit (units,).
    """

    places: FloatArray
    triangles: IntArray
    sides: IntArray
    volumes: FloatArray

    def of(self, unit: int) -> tuple[FloatArray, IntArray]:
        """Return the closed body of a unit: corners (k, 3), and triangles (t, 3) that look outward."""
        faces = np.concatenate(
            [self.triangles[self.sides[:, 0] == unit], self.triangles[self.sides[:, 1] == unit][:, ::-1]]
        )
        used, back = np.unique(faces, return_inverse=True)
        return self.places[used], back.reshape(-1, 3)


def nodes_between(low: float, high: float, step: float) -> FloatArray:
    """Return places from one end to the other, evenly, at most `step` apart."""
    return np.linspace(low, high, max(int(np.ceil((high - low) / step - 1e-9)), 1) + 1)


def solids(model: UnitModel, cell: float, threads: int = 2) -> Solids:
    """Return the bodies of all units in the box of the model.

    Parameters
    ----------
    cell
        Metres between nodes of the lattice that is cut; what lies between two nodes without passing one is not seen.

    Raises
    ------
    InputError
        When the lattice would have more cells than `MOST_CELLS`.
    """
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
    return Solids(found.places, faces, sides, volumes_of(found.places, faces, sides, len(model.units)))


def volumes_of(places: FloatArray, triangles: IntArray, sides: IntArray, units: int) -> FloatArray:
    """Return cubic metres (units,) within bodies that share triangles (t, 3), from the units (t, 2) on their sides."""
    six = np.einsum("ij,ij->i", np.cross(places[triangles[:, 0]], places[triangles[:, 1]]), places[triangles[:, 2]])
    return np.array([(six[sides[:, 0] == k].sum() - six[sides[:, 1] == k].sum()) / 6.0 for k in range(units)])


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
    i, j, k = (w.ravel() for w in np.meshgrid(np.arange(nx), np.arange(ny), np.arange(nz), indexing="ij"))
    edges_u, edges_v = mesh.plan_edges
    out = np.zeros((len(i), len(model.units)), dtype=np.float32)
    labels = model.piece_units
    slab = max(1, 400_000 // max(ny * nz, 1))
    for first in range(0, nx, slab):
        rows = np.flatnonzero((i >= first) & (i < first + slab))
        low, high = mesh.levels(i[rows], j[rows], k[rows])
        there = high - low > 1e-9
        rows, low, high = rows[there], low[there], high[there]
        corner = np.empty((len(rows), 8, 3))
        for c in range(8):
            u, v = edges_u[i[rows] + ((c >> 2) & 1)], edges_v[j[rows] + ((c >> 1) & 1)]
            corner[:, c, 0], corner[:, c, 1] = mesh.to_map(u, v)
            corner[:, c, 2] = high if c & 1 else low
        at = np.ascontiguousarray(corner.reshape(-1, 3))
        codes, values = read_at(model, at)
        positive = (values > 0).reshape(len(rows), 8, -1).sum(axis=1)
        mixed = ((positive > 0) & (positive < 8)).any(axis=1)
        plain = np.flatnonzero(~mixed)
        unit = model.unit_at(corner[plain].mean(axis=1))
        out[rows[plain[unit >= 0]], unit[unit >= 0]] = 1.0
        many = np.flatnonzero(mixed)
        if not len(many):
            continue
        nodes = np.ascontiguousarray(corner[many].reshape(-1, 3))
        read = codes.reshape(-1, 8)[many].ravel(), values.reshape(len(rows), 8, -1)[many].reshape(len(nodes), -1)
        base = 8 * np.arange(len(many))[:, None]
        tets = (base[:, None] + PATHS[None]).reshape(-1, 4)
        owner = np.repeat(np.arange(len(many)), len(PATHS))
        found = cut(
            model,
            Simplices(nodes, tets, np.zeros(len(nodes), np.int64), owner),
            faces=False,
            sums=True,
            threads=threads,
            read=read,
        )
        total = found.sums.sum(axis=1, keepdims=True)
        part = found.sums / np.where(total > 0, total, 1.0)
        for label, unit_number in enumerate(labels):
            if unit_number >= 0:
                out[rows[many], unit_number] += part[:, label].astype(np.float32)
    return out


def bodies_closed(places: FloatArray, triangles: IntArray) -> bool:
    """Whether each edge of a body belongs to an even count of its triangles, half of them each way."""
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    key = edges[:, 0] * len(places) + edges[:, 1]
    back = edges[:, 1] * len(places) + edges[:, 0]
    return bool(np.array_equal(np.sort(key), np.sort(back)))
