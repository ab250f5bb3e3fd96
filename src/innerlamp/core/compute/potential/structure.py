"""A measure of how far the gradients of two models point in different directions: the cross-gradient.

The square of grad m x grad n, summed over the cells, is nothing where both models change along the same direction or
one of them does not change at all (Gallardo & Meju 2003, Geophysical Research Letters 30, 1658). With one model held it
is quadratic in the other.
"""

from __future__ import annotations

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...geometry.mesh import Mesh, TensorMesh
from ..compiled import compiled

FloatArray = NDArray[np.float64]


@compiled(cache=True, error_model="numpy", parallel=True)
def _gradient(box, active, hx, hy, hz, out):  # type: ignore[no-untyped-def]
    # Steps forward to active neighbours, nothing where there is none.
    nx, ny, nz = box.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k, 0] = out[i, j, k, 1] = out[i, j, k, 2] = 0.0
                if not active[i, j, k]:
                    continue
                if i < nx - 1 and active[i + 1, j, k]:
                    out[i, j, k, 0] = (box[i + 1, j, k] - box[i, j, k]) / hx
                if j < ny - 1 and active[i, j + 1, k]:
                    out[i, j, k, 1] = (box[i, j + 1, k] - box[i, j, k]) / hy
                if k < nz - 1 and active[i, j, k + 1]:
                    out[i, j, k, 2] = (box[i, j, k + 1] - box[i, j, k]) / hz[i, j, k]


@compiled(cache=True, error_model="numpy", parallel=True)
def _crossed_twice(g, t):  # type: ignore[no-untyped-def]
    # t x (g x t) in place: the part of each gradient across the other's, times its square.
    nx, ny, nz = g.shape[:3]
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                a, b, c = t[i, j, k, 0], t[i, j, k, 1], t[i, j, k, 2]
                along = a * g[i, j, k, 0] + b * g[i, j, k, 1] + c * g[i, j, k, 2]
                square = a * a + b * b + c * c
                g[i, j, k, 0] = square * g[i, j, k, 0] - along * a
                g[i, j, k, 1] = square * g[i, j, k, 1] - along * b
                g[i, j, k, 2] = square * g[i, j, k, 2] - along * c


@compiled(cache=True, error_model="numpy", parallel=True)
def _gradient_transposed(g, active, hx, hy, hz, out):  # type: ignore[no-untyped-def]
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                value = 0.0
                if active[i, j, k]:
                    if i < nx - 1 and active[i + 1, j, k]:
                        value -= g[i, j, k, 0] / hx
                    if i > 0 and active[i - 1, j, k]:
                        value += g[i - 1, j, k, 0] / hx
                    if j < ny - 1 and active[i, j + 1, k]:
                        value -= g[i, j, k, 1] / hy
                    if j > 0 and active[i, j - 1, k]:
                        value += g[i, j - 1, k, 1] / hy
                    if k < nz - 1 and active[i, j, k + 1]:
                        value -= g[i, j, k, 2] / hz[i, j, k]
                    if k > 0 and active[i, j, k - 1]:
                        value += g[i, j, k - 1, 2] / hz[i, j, k - 1]
                out[i, j, k] = value


class CrossGradient:
    """x'Cx, the squared cross-gradient of a model x / w with another that is held.

    Parameters
    ----------
    active
        Which cells take part, shape (nx, ny, nz).
    w
        Weight of each active cell: the model is measured as x = w m.
    """

    def __init__(self, mesh: Mesh, active: NDArray[np.bool_], w: FloatArray) -> None:
        self._active = np.ascontiguousarray(np.asarray(active, bool).reshape(mesh.shape))
        self._w = w
        self._hx, self._hy = float(mesh.u.mean()), float(mesh.v.mean())
        if isinstance(mesh, TensorMesh):
            heights = np.broadcast_to(0.5 * (mesh.w[1:] + mesh.w[:-1]), (*mesh.shape[:2], mesh.shape[2] - 1))
        else:
            low, high = mesh.levels(*np.meshgrid(*(np.arange(n) for n in mesh.shape), indexing="ij"))
            heights = 0.5 * np.diff(low + high, axis=2)
        self._hz = np.ascontiguousarray(np.maximum(np.pad(heights, ((0, 0), (0, 0), (0, 1)), mode="edge"), 1e-3))
        self._other = np.zeros((*mesh.shape, 3))
        self.weight = 1.0

    def _steps(self, values: FloatArray) -> FloatArray:
        box = np.zeros(self._active.shape)
        box[self._active] = values
        out = np.empty((*box.shape, 3))
        _gradient(box, self._active, self._hx, self._hy, self._hz, out)
        return out

    def hold(self, other: FloatArray) -> None:
        """Take the values (cells,) of the other model; only where it changes counts, not how strongly as a whole."""
        steps = self._steps(other)
        size = np.sqrt((steps**2).sum(axis=3))
        strong = float(np.percentile(size[self._active], 99.5))
        self._other = steps / max(strong, 1e-300)
        size /= max(strong, 1e-300)
        self._other /= np.maximum(size, 1.0)[..., None]  # the steepest places are not to outweigh all others

    def apply(self, x: FloatArray) -> FloatArray:
        """Return C x for weighted values (cells,)."""
        g = self._steps(x / self._w)
        _crossed_twice(g, self._other)
        out = np.empty(self._active.shape)
        _gradient_transposed(g, self._active, self._hx, self._hy, self._hz, out)
        return np.asarray(self.weight * out[self._active] / self._w)
