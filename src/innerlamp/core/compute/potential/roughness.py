"""Size and roughness of a model on the cells of a mesh, with weights of their own for each cell and each face.

x'Qx with Q = S + sum over axes of (L/h)² D'FD on the active cells (Li & Oldenburg 1996): S weighs the size of each
cell, F the step over each face between two active cells, h is the distance between the centres of neighbours. Layers
of a draped mesh are neighbours of the same layer in the next column. Re-weighting by the model itself makes it the
measure of another norm (Last & Kubik 1983; Portniaguine & Zhdanov 1999).

Where the model is to be smooth along directions of its own, such as those of bedding, the steps are weighed by a tensor
in each cell instead: the mean over the eight corners of the cell of g'Tg, g the steps towards the corner (Lelièvre &
Oldenburg 2009, Geophysical Journal International 178, 623, with differences on all sides, so that none goes unseen).
"""

from __future__ import annotations

import os

import numpy as np
from numba import prange
from numpy.typing import NDArray
from scipy import fft

from ...errors import InputError
from ...geometry.mesh import Mesh, TensorMesh
from ..compiled import compiled

FloatArray = NDArray[np.float64]
_WORKERS = os.cpu_count() or 1


@compiled(cache=True, error_model="numpy", parallel=True)
def _applied(box, size, fx, fy, fz, out):  # type: ignore[no-untyped-def]
    nx, ny, nz = box.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                here = box[i, j, k]
                value = size[i, j, k] * here
                if i > 0:
                    value += fx[i - 1, j, k] * (here - box[i - 1, j, k])
                if i < nx - 1:
                    value += fx[i, j, k] * (here - box[i + 1, j, k])
                if j > 0:
                    value += fy[i, j - 1, k] * (here - box[i, j - 1, k])
                if j < ny - 1:
                    value += fy[i, j, k] * (here - box[i, j + 1, k])
                if k > 0:
                    value += fz[i, j, k - 1] * (here - box[i, j, k - 1])
                if k < nz - 1:
                    value += fz[i, j, k] * (here - box[i, j, k + 1])
                out[i, j, k] = value


@compiled(cache=True, error_model="numpy", parallel=True)
def _steps_around(box, active, hx, hy, hz, out):  # type: ignore[no-untyped-def]
    # Steps per metre to the six neighbours: behind and ahead along x, y, z; nothing where there is none.
    nx, ny, nz = box.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                for side in range(6):
                    out[i, j, k, side] = 0.0
                if not active[i, j, k]:
                    continue
                here = box[i, j, k]
                if i > 0 and active[i - 1, j, k]:
                    out[i, j, k, 0] = (here - box[i - 1, j, k]) / hx[i - 1]
                if i < nx - 1 and active[i + 1, j, k]:
                    out[i, j, k, 1] = (box[i + 1, j, k] - here) / hx[i]
                if j > 0 and active[i, j - 1, k]:
                    out[i, j, k, 2] = (here - box[i, j - 1, k]) / hy[j - 1]
                if j < ny - 1 and active[i, j + 1, k]:
                    out[i, j, k, 3] = (box[i, j + 1, k] - here) / hy[j]
                if k > 0 and active[i, j, k - 1]:
                    out[i, j, k, 4] = (here - box[i, j, k - 1]) / hz[i, j, k - 1]
                if k < nz - 1 and active[i, j, k + 1]:
                    out[i, j, k, 5] = (box[i, j, k + 1] - here) / hz[i, j, k]


@compiled(cache=True, error_model="numpy", parallel=True)
def _weighed_steps(g, tensor):  # type: ignore[no-untyped-def]
    # In place: what the mean over the corners of g'Tg gives back to each of the six steps.
    nx, ny, nz = g.shape[:3]
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                x = 0.25 * (g[i, j, k, 0] + g[i, j, k, 1])
                y = 0.25 * (g[i, j, k, 2] + g[i, j, k, 3])
                z = 0.25 * (g[i, j, k, 4] + g[i, j, k, 5])
                xx, yy, zz = tensor[i, j, k, 0], tensor[i, j, k, 1], tensor[i, j, k, 2]
                xy, xz, yz = tensor[i, j, k, 3], tensor[i, j, k, 4], tensor[i, j, k, 5]
                for side in range(2):
                    g[i, j, k, side] = 0.5 * xx * g[i, j, k, side] + xy * y + xz * z
                    g[i, j, k, 2 + side] = 0.5 * yy * g[i, j, k, 2 + side] + xy * x + yz * z
                    g[i, j, k, 4 + side] = 0.5 * zz * g[i, j, k, 4 + side] + xz * x + yz * y


@compiled(cache=True, error_model="numpy", parallel=True)
def _gathered(g, active, hx, hy, hz, size, box, out):  # type: ignore[no-untyped-def]
    nx, ny, nz = box.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                value = 0.0
                if active[i, j, k]:
                    value = size[i, j, k] * box[i, j, k]
                    if i > 0 and active[i - 1, j, k]:
                        value += (g[i, j, k, 0] + g[i - 1, j, k, 1]) / hx[i - 1]
                    if i < nx - 1 and active[i + 1, j, k]:
                        value -= (g[i, j, k, 1] + g[i + 1, j, k, 0]) / hx[i]
                    if j > 0 and active[i, j - 1, k]:
                        value += (g[i, j, k, 2] + g[i, j - 1, k, 3]) / hy[j - 1]
                    if j < ny - 1 and active[i, j + 1, k]:
                        value -= (g[i, j, k, 3] + g[i, j + 1, k, 2]) / hy[j]
                    if k > 0 and active[i, j, k - 1]:
                        value += (g[i, j, k, 4] + g[i, j, k - 1, 5]) / hz[i, j, k - 1]
                    if k < nz - 1 and active[i, j, k + 1]:
                        value -= (g[i, j, k, 5] + g[i, j, k + 1, 4]) / hz[i, j, k]
                out[i, j, k] = value


class Roughness:
    """The measure of a model of one or more components, each of the active cells.

    Parameters
    ----------
    length
        Metres over which the model is held smooth, along the axes of the mesh (first, second, up), or one for all.
    components
        Parts of the model that are measured alike, such as the three of a magnetisation.
    size
        Weight of each active cell's size; 1 by default. More where the reference is trusted.
    faces
        Factors of the steps along the axes, shapes (nx - 1, ny, nz), (nx, ny - 1, nz), (nx, ny, nz - 1); 1 by default.
        Zero lets the model jump there.
    directions
        Tensors (cells, 6) of the active cells in the frame of the mesh, xx yy zz xy xz yz, that take the place of the
        squared lengths as if each were a share of them: see `along_planes`.

    Raises
    ------
    InputError
        When weights do not fit the cells or are negative.
    """

    def __init__(
        self,
        mesh: Mesh,
        active: NDArray[np.bool_],
        length: float | tuple[float, float, float],
        components: int = 1,
        size: FloatArray | None = None,
        faces: tuple[FloatArray, FloatArray, FloatArray] | None = None,
        directions: FloatArray | None = None,
    ) -> None:
        self.shape = mesh.shape
        self.active = np.asarray(active, bool).reshape(self.shape)
        self.count, self.components = int(self.active.sum()), components
        lengths = (length,) * 3 if isinstance(length, int | float) else length
        self._size = np.zeros(self.shape)
        self._size[self.active] = 1.0 if size is None else size
        self._faces = []
        for axis in range(3):
            low, high = _sides(axis)
            both = self.active[high] & self.active[low]
            weight = np.where(both, _weights(mesh, axis, float(lengths[axis])), 0.0)
            if faces is not None:
                if faces[axis].shape != weight.shape:
                    raise InputError("the weights of faces do not fit the mesh")
                weight = weight * faces[axis]
            self._faces.append(np.ascontiguousarray(weight))
        self._tensor: FloatArray | None = None
        if directions is not None:
            if faces is not None:
                raise InputError("weights of faces and directions of smoothness can't be had together")
            self._direct(mesh, directions, lengths)
        if min(self._size.min(), *(f.min(initial=0.0) for f in self._faces)) < 0:
            raise InputError("weights of a model can't be negative")
        self._first = (self._size, *self._faces)
        self._settle()

    def _direct(self, mesh: Mesh, directions: FloatArray, lengths: tuple[float, float, float]) -> None:
        if directions.shape != (self.count, 6):
            raise InputError("the directions of smoothness do not fit the cells")
        pairs = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))
        self._tensor = np.zeros((*self.shape, 6))
        self._tensor[self.active] = directions * np.array([lengths[a] * lengths[b] for a, b in pairs])
        self._apart = [0.5 * (w[1:] + w[:-1]) for w in (mesh.u, mesh.v)]
        self._rise = np.ascontiguousarray(np.broadcast_to(_away_up(mesh), (*self.shape[:2], self.shape[2] - 1)))
        for axis in range(3):  # what stands for the tensor where the box is solved as if it were even
            low, high = _sides(axis)
            square = self._tensor[..., axis] / lengths[axis] ** 2
            self._faces[axis] = self._faces[axis] * 0.5 * (square[low] + square[high])

    def _settle(self) -> None:
        # The box is solved as if all its cells were alike: exact on equal cells with equal weights.
        known = self._size[self.active]
        lam = np.full(self.shape, float(known.mean()) if known.size else 1.0)
        for axis, n in enumerate(self.shape):
            face = self._faces[axis]
            there = face[face > 0]
            usual = float(np.median(there)) if there.size else 0.0
            values = usual * (2.0 - 2.0 * np.cos(np.pi * np.arange(n) / n))
            lam += values.reshape([-1 if a == axis else 1 for a in range(3)])
        self._eigen = lam.astype(np.float32)
        diagonal = self._size.copy()
        for axis in range(3):
            low, high = _sides(axis)
            diagonal[high] += self._faces[axis]
            diagonal[low] += self._faces[axis]
        self.diagonal = np.tile(diagonal[self.active], self.components)

    def apply(self, x: FloatArray) -> FloatArray:
        """Return Q x for values of the active cells, component by component."""
        parts = []
        for part in np.split(x, self.components):
            box = np.zeros(self.shape)
            box[self.active] = part
            out = np.empty(self.shape)
            if self._tensor is None:
                _applied(box, self._size, *self._faces, out)
            else:
                steps = np.empty((*self.shape, 6))
                _steps_around(box, self.active, *self._apart, self._rise, steps)
                _weighed_steps(steps, self._tensor)
                _gathered(steps, self.active, *self._apart, self._rise, self._size, box, out)
            parts.append(out[self.active])
        return np.concatenate(parts)

    def solve_box(self, x: FloatArray) -> FloatArray:
        """Return the solution of Q y = x as if the whole box were active and alike (by cosine transform)."""
        parts = []
        for part in np.split(x, self.components):
            box = np.zeros(self.shape, np.float32)
            box[self.active] = part
            box = fft.dctn(box, type=2, norm="ortho", workers=_WORKERS, overwrite_x=True)
            box /= self._eigen
            box = fft.idctn(box, type=2, norm="ortho", workers=_WORKERS, overwrite_x=True)
            parts.append(box[self.active].astype(float))
        return np.concatenate(parts)

    def reweight(self, x: FloatArray, small: float, norm_size: float, norm_steps: float) -> None:
        """Weigh sizes and steps so that x'Qx measures them by other norms: 2 smooth, 1 blocky, 0 compact.

        Values below `small` count as nothing. With several components the length of all of them counts.

        Raises
        ------
        InputError
            When steps are measured by another norm where the model is smooth along directions of its own.
        """
        if self._tensor is not None and norm_steps != 2.0:
            raise InputError("a blocky model has no directions of smoothness", fix="Take smooth or compact")
        size, *faces = self._first
        boxes = []
        for part in np.split(x, self.components):
            box = np.zeros(self.shape)
            box[self.active] = part
            boxes.append(box)
        length2 = np.sum([b * b for b in boxes], axis=0)
        self._size = size * (1.0 + length2 / small**2) ** (norm_size / 2.0 - 1.0)
        self._faces = []
        for axis in range(3):
            low, high = _sides(axis)
            steps2 = np.sum([(b[high] - b[low]) ** 2 for b in boxes], axis=0)
            self._faces.append(
                np.ascontiguousarray(faces[axis] * (1.0 + steps2 / small**2) ** (norm_steps / 2.0 - 1.0))
            )
        self._settle()


def _weights(mesh: Mesh, axis: int, length: float) -> FloatArray:
    """(L/h)² between neighbours along an axis, in a shape that fits (nx, ny, nz) less one along it."""
    if axis == 2:
        return np.asarray((length / np.maximum(_away_up(mesh), 1e-3 * max(length, 1e-9))) ** 2)
    widths = (mesh.u, mesh.v)[axis]
    away = 0.5 * (widths[1:] + widths[:-1])
    return np.asarray(((length / away) ** 2).reshape([-1 if a == axis else 1 for a in range(3)]))


def _away_up(mesh: Mesh) -> FloatArray:
    """Metres between the middles of neighbours along the vertical, at least 1 mm, in a shape that fits (nx, ny, nz - 1)."""
    if isinstance(mesh, TensorMesh):
        return np.asarray((0.5 * (mesh.w[1:] + mesh.w[:-1])).reshape(1, 1, -1))
    i, j, k = np.meshgrid(*(np.arange(n) for n in mesh.shape), indexing="ij")
    bottom, top = mesh.levels(i, j, k)
    return np.asarray(np.maximum(0.5 * np.diff(bottom + top, axis=2), 1e-3))


def along_planes(normals: FloatArray, stretch: FloatArray | float, mesh: Mesh) -> FloatArray:
    """Return tensors (cells, 6) that hold a model smooth over so many times the length along planes as across them.

    Parameters
    ----------
    normals
        Unit normals (cells, 3): east, north, up.
    stretch
        Length along the plane over that across, 1 or more; one for all or one each.
    """
    n = np.asarray(normals, float).copy()
    if mesh.is_turned:
        n[:, :2] = n[:, :2] @ np.stack(mesh.axes).T
    along = np.broadcast_to(np.asarray(stretch, float) ** 2, (len(n),))
    pairs = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))
    return np.stack([along * (a == b) + (1.0 - along) * n[:, a] * n[:, b] for a, b in pairs], axis=1)


def _sides(axis: int) -> tuple[tuple[slice, ...], tuple[slice, ...]]:
    """Index of the cells before and behind each step along an axis."""
    low = tuple(slice(None, -1) if a == axis else slice(None) for a in range(3))
    return low, tuple(slice(1, None) if a == axis else slice(None) for a in range(3))
