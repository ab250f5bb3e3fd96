"""Products with gravity and magnetic kernels without the kernel: cells near a sensor in closed form, the rest by FFT.

A particle-mesh method with near-field correction (Hockney & Eastwood 1988, Computer Simulation Using Particles,
chapter 8): cells are spread over common levels, a fast Fourier transform gives their field on a lattice that the
sensors lie in, six-point Lagrange interpolation takes it to each sensor, and for the cells within some columns of it
what the lattice gave is replaced by the closed form. Sensors may lie anywhere outside of the cells, so that a drape
is kept. Cells may have any thickness and columns any top; their plan must be even.

Measured against the matrix (tests): data of a model to 1e-4 of their size.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from ...errors import InputError
from ...geometry.mesh import DrapedMesh, Mesh, TensorMesh
from ...progress import SILENT, Progress
from . import lattice_kernels as lk
from .fields import FieldKernel

FloatArray = NDArray[np.float64]
_HIGH = 8  # steps of the lattice within which a cell is near along the vertical
_WORKERS = os.cpu_count() or 1
Reals = NDArray[np.floating[Any]]
Waves = NDArray[np.complexfloating[Any, Any]]


class Lattice:
    """What sensors measure of the cells of a mesh, as an operator (see `linear.Operator`).

    Parameters
    ----------
    mesh
        Cells with an even plan.
    obs
        Sensors (n, 3) in metres, outside of the cells.
    fields
        What is measured, one for each component of the model; the model is (components x active cells,).
    active
        Which cells take part, shape (nx, ny, nz) or flat; all by default. Cells without thickness never do.
    reach
        Columns on each side of a sensor's own within which the closed form is used.
    dtype
        In which lattice and near field are kept: float32 takes half the time and memory.

    Raises
    ------
    InputError
        When the plan of the mesh is not even.
    """

    def __init__(
        self,
        mesh: Mesh,
        obs: FloatArray,
        fields: Sequence[FieldKernel],
        active: NDArray[np.bool_] | None = None,
        reach: int = 6,
        dtype: type = np.float32,
        progress: Progress = SILENT,
    ) -> None:
        plan = mesh.even_plan
        if plan is None:
            raise InputError("columns of different widths have no lattice", fix="Take columns of one width")
        self._box = mesh.shape
        self._active = np.ones(mesh.size, bool) if active is None else np.asarray(active, bool).ravel()
        self._kinds, self._count = len(fields), int(self._active.sum())
        self._dtype, self._complex = dtype, np.complex64 if dtype is np.float32 else np.complex128
        between = _interfaces(mesh)
        p, q = mesh.from_map(obs[:, 0], obs[:, 1])
        here = np.ascontiguousarray(np.column_stack([p, q, obs[:, 2]]))
        high = _step(between, plan)
        z0 = float(between.min()) + 0.5 * high - lk.POINTS * high
        self._deposits(between, z0, high, plan)
        self._nodes_of(here, z0, (*plan, high))
        progress(0.1, "Kernel")
        tables = self._tables([f.along(mesh) for f in fields], (*plan, high), reach)
        squares = (tables**2).sum(axis=0)
        self._spectra: list[Waves] = [self._forward(t).astype(self._complex) for t in tables]
        progress(0.3, "Kernel")
        column = np.stack([np.floor(p / plan[0]), np.floor(q / plan[1])], axis=1).astype(np.int64)
        extra = self._near(mesh, here, column, between, [f.along(mesh) for f in fields], tables, squares, reach, high)
        self._norms = self._squares(squares, extra)
        progress(1.0, "Kernel")

    # ---- making it

    def _deposits(self, between: FloatArray, z0: float, high: float, plan: tuple[float, float]) -> None:
        start, count = np.zeros(self._box, np.int32), np.zeros(self._box, np.int32)
        lk.deposit_sizes(between, z0, high, start, count)
        self._start = start
        self._ptr = np.concatenate([[0], np.cumsum(count.ravel(), dtype=np.int64)])
        nodes, shares = np.polynomial.legendre.leggauss(4)
        weights: Reals = np.zeros(int(self._ptr[-1]), self._dtype)
        nodes, shares = 0.5 * (nodes + 1.0), 0.5 * shares
        lk.deposit_weights(between, z0, high, plan[0] * plan[1], start, self._ptr, nodes, shares, weights)
        self._weights = weights
        self._levels = int((start + count).max()) if count.any() else lk.POINTS

    def _nodes_of(self, here: FloatArray, z0: float, step: tuple[float, float, float]) -> None:
        t = np.column_stack([here[:, 0] / step[0] - 0.5, here[:, 1] / step[1] - 0.5, (here[:, 2] - z0) / step[2]])
        nodes, weights = np.empty((len(here), 3), np.int64), np.empty((len(here), 3, lk.POINTS))
        lk.place_weights(t, nodes, weights)
        self._first = nodes.min(axis=0)
        self._nodes, self._at = nodes - self._first, weights
        self._field = tuple(int(n) for n in self._nodes.max(axis=0) + lk.POINTS)
        source = (self._box[0], self._box[1], self._levels)
        self._size = tuple(
            fft.next_fast_len(a + b, real=axis == 2)
            for axis, (a, b) in enumerate(zip(source, self._field, strict=True))
        )

    def _tables(self, fields: Sequence[FieldKernel], step: tuple[float, float, float], reach: int) -> FloatArray:
        first = np.array([*self._first, *self._field], dtype=np.int64)
        # A cell that is not near is at least so many steps from each node that a sensor is interpolated from.
        core = np.array([reach - 3, reach - 3, _HIGH - 6], dtype=np.int64)
        out = np.empty((len(fields), *self._size))
        for kind, f in enumerate(fields):
            lk.fill_table(first, np.array(step), core, f.coefficients, f.is_gravity, out[kind])
            out[kind] *= f.scale
        return out

    def _near(
        self,
        mesh: Mesh,
        here: FloatArray,
        column: NDArray[np.int64],
        between: FloatArray,
        fields: Sequence[FieldKernel],
        tables: FloatArray,
        squares: FloatArray,
        reach: int,
        high: float,
    ) -> Reals:
        n, runs = len(here), (2 * reach + 1) ** 2
        self._runs, self._lengths = np.empty((n, runs), np.int32), np.empty((n, runs), np.int16)
        lk.near_runs(here[:, 2].copy(), column, between, reach, _HIGH * high, self._runs, self._lengths)
        self._near_ptr = np.concatenate([[0], np.cumsum(self._lengths.sum(axis=1, dtype=np.int64))])
        near: Reals = np.zeros((len(fields), int(self._near_ptr[-1])), self._dtype)
        extra: Reals = np.zeros(near.shape[1], self._dtype)
        levels = _common_levels(mesh, between)
        xe, ye = mesh.plan_edges
        lk.fill_near(
            here,
            column,
            self._nodes,
            self._at,
            xe,
            ye,
            between,
            np.zeros(1) if levels is None else levels,
            levels is not None,
            reach,
            self._runs,
            self._lengths,
            self._near_ptr,
            self._start,
            self._ptr,
            self._weights,
            tables,
            squares,
            np.stack([f.coefficients for f in fields]),
            np.array([f.scale for f in fields]),
            fields[0].is_gravity,
            near,
            extra,
        )
        self._values = near
        return extra

    def _squares(self, squares: FloatArray, extra: Reals) -> FloatArray:
        """Length of the data of each active cell, all components together."""
        ones = np.ones(len(self._nodes))
        spectrum: Waves = self._forward(squares).astype(self._complex)
        far = self._down(ones, [spectrum])[0]
        volume = np.add.reduceat(np.append(self._weights, 0.0).astype(float), self._ptr[:-1])
        volume[self._ptr[1:] == self._ptr[:-1]] = 0.0
        total = far.ravel() * volume + self._near_down(extra, ones)
        whole = np.maximum(total[self._active], 0.0)
        return np.asarray(np.sqrt(np.maximum(whole, 1e-12 * whole.max(initial=0.0))))

    # ---- transforms: only the lines that hold something are done

    def _forward(self, values: Reals) -> Waves:
        out = fft.rfft(values, self._size[2], axis=2, workers=_WORKERS)
        out = fft.fft(out, self._size[1], axis=1, workers=_WORKERS, overwrite_x=True)
        return np.asarray(fft.fft(out, self._size[0], axis=0, workers=_WORKERS, overwrite_x=True))

    def _back(self, spectrum: Waves, shape: Sequence[int]) -> Reals:
        out = fft.ifft(spectrum, axis=0, workers=_WORKERS, overwrite_x=True)[: shape[0]]
        out = fft.ifft(out, axis=1, workers=_WORKERS)[:, : shape[1]]
        return np.ascontiguousarray(fft.irfft(out, self._size[2], axis=2, workers=_WORKERS)[:, :, : shape[2]])

    def _down(self, data: FloatArray, spectra: Sequence[Waves]) -> list[Reals]:
        """Far part of the transposed product, for each spectrum in the shape of the mesh."""
        field: Reals = np.zeros(self._field, self._dtype)
        lk.scatter(data, self._nodes, self._at, field)
        seen = self._forward(field)
        out = []
        for spectrum in spectra:
            levels = self._back(seen * spectrum.conj(), (self._box[0], self._box[1], self._levels))
            box: Reals = np.zeros(self._box, self._dtype)
            lk.collect(levels, self._start, self._ptr, self._weights, box)
            out.append(box)
        return out

    def _near_down(self, near: Reals, data: FloatArray) -> Reals:
        boxes: Reals = np.zeros((min(_WORKERS, 4), int(np.prod(self._box))), self._dtype)
        lk.near_transposed(near, self._near_ptr, self._runs, self._lengths, data, boxes)
        return np.asarray(boxes.sum(axis=0))

    # ---- the operator

    @property
    def shape(self) -> tuple[int, int]:
        return len(self._nodes), self._kinds * self._count

    @property
    def nbytes(self) -> int:
        """Memory that it holds."""
        arrays = (*self._spectra, self._values, self._runs, self._lengths, self._weights, self._ptr, self._start)
        return int(sum(a.nbytes for a in arrays))

    def apply(self, model: FloatArray) -> FloatArray:
        """Return the data (n,), in the unit of the fields, of a model (components x active cells,)."""
        out = np.zeros(len(self._nodes))
        total: Waves | None = None
        for kind, part in enumerate(np.split(np.asarray(model), self._kinds)):
            box: Reals = np.zeros(self._box, self._dtype)
            box.reshape(-1)[self._active] = part
            levels: Reals = np.zeros((self._box[0], self._box[1], self._levels), self._dtype)
            lk.deposit(box, self._start, self._ptr, self._weights, levels)
            product = self._forward(levels) * self._spectra[kind]
            total = product if total is None else total + product
            lk.near_apply(self._values[kind], self._near_ptr, self._runs, self._lengths, box.reshape(-1), out)
        assert total is not None
        lk.gather(self._back(total, self._field), self._nodes, self._at, out)
        return out

    def transposed(self, data: FloatArray) -> FloatArray:
        """Return the product (components x active cells,) of the transposed operator with data (n,)."""
        data = np.ascontiguousarray(data, dtype=float)
        parts = []
        for kind, far in enumerate(self._down(data, self._spectra)):
            whole = far.reshape(-1) + self._near_down(self._values[kind], data)
            parts.append(whole[self._active].astype(float))
        return np.concatenate(parts)

    def column_norms(self) -> FloatArray:
        """Length of the data of each cell; of a model of several components one length for all of a cell's."""
        return np.tile(self._norms, self._kinds)


def _interfaces(mesh: Mesh) -> FloatArray:
    if isinstance(mesh, DrapedMesh):
        return np.ascontiguousarray(mesh.interfaces)
    assert isinstance(mesh, TensorMesh)
    return np.ascontiguousarray(np.broadcast_to(mesh.z_edges, (*mesh.shape[:2], mesh.shape[2] + 1)))


def _step(between: FloatArray, plan: tuple[float, float]) -> float:
    """Distance of the lattice's levels in metres: that of the layers, where this is not far from the width of cells."""
    thick = np.diff(between, axis=2)
    usual = float(np.median(thick[thick > 0])) if (thick > 0).any() else plan[0]
    narrow = min(plan)
    return float(np.clip(usual, 0.5 * narrow, narrow))


def _common_levels(mesh: Mesh, between: FloatArray) -> FloatArray | None:
    """Levels that all columns are cut from but for their tops, None where there are none."""
    levels = between.max(axis=(0, 1))
    if isinstance(mesh, TensorMesh):
        return np.asarray(levels)
    if not (np.diff(levels) > 0).all():
        return None
    there = np.diff(between, axis=2) > 0
    return np.asarray(levels) if (np.abs(between[:, :, :-1] - levels[:-1])[there] < 1e-9).all() else None
