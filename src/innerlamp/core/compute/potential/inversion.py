"""Smooth, depth-weighted, bounded linear inversion on the cells of a mesh.

Minimises the chi-square misfit plus beta times a weighted size and roughness of the model
(Li & Oldenburg 1996, 1998), with the sensitivity of each cell as its weight, under bounds kept
by projection, and beta lowered until the misfit meets its target (discrepancy principle).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.fft import dctn, idctn

from ...errors import ConvergenceError, InputError
from ...geometry.mesh import Mesh, TensorMesh
from ...progress import SILENT, Progress
from .linear import Operator

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Inversion:
    """Outcome of an inversion.

    Attributes
    ----------
    model
        Value of each active cell.
    predicted
        Data of the model, trend included.
    chi2
        Mean squared residual in units of the noise; 1 is the target by default.
    history
        One row an iteration: iteration, beta, chi2, size and roughness of the model.
    reached
        Whether the target misfit was reached.
    """

    model: FloatArray
    predicted: FloatArray
    chi2: float
    history: list[tuple[int, float, float, float]] = field(default_factory=list)
    reached: bool = True


class Roughness:
    """x'Qx with Q = I + sum over axes of (L/h)^2 D'D on the active cells of a mesh.

    h is the distance between the centres of neighbours; layers of a draped mesh are neighbours of
    the same layer in the next column.
    """

    def __init__(self, mesh: Mesh, active: NDArray[np.bool_], length: float) -> None:
        self.shape = mesh.shape
        self.active = active.reshape(self.shape)
        self.weights = tuple(self._weights(mesh, axis, length) for axis in range(3))
        lam = np.ones(self.shape)
        for axis, n in enumerate(self.shape):
            # The box is solved as if all its cells had their usual distance: exact on equal cells.
            mean = float(np.median(self.weights[axis])) if self.weights[axis].size else 0.0
            values = mean * (2.0 - 2.0 * np.cos(np.pi * np.arange(n) / n))
            lam += values.reshape([-1 if a == axis else 1 for a in range(3)])
        self._eigen = lam

    @staticmethod
    def _weights(mesh: Mesh, axis: int, length: float) -> FloatArray:
        """(L/h)^2 between neighbours along an axis, in a shape that fits (nx, ny, nz) less one along it."""
        if axis == 2 and not isinstance(mesh, TensorMesh):
            i, j, k = np.meshgrid(*(np.arange(n) for n in mesh.shape), indexing="ij")
            bottom, top = mesh.levels(i, j, k)
            away = 0.5 * np.diff(bottom + top, axis=2)
            return (length / np.maximum(away, 1e-3 * length)) ** 2
        widths = (mesh.u, mesh.v, mesh.w)[axis] if isinstance(mesh, TensorMesh) else (mesh.u, mesh.v)[axis]
        away = 0.5 * (widths[1:] + widths[:-1])
        return ((length / away) ** 2).reshape([-1 if a == axis else 1 for a in range(3)])

    def apply(self, x: FloatArray) -> FloatArray:
        """Return Q x for values of the active cells."""
        box = np.zeros(self.shape)
        box[self.active] = x
        out = box.copy()
        for axis, w in enumerate(self.weights):
            low, high = _sides(axis)
            step = w * (box[high] - box[low]) * (self.active[high] & self.active[low])
            out[high] += step
            out[low] -= step
        return out[self.active]

    def solve_box(self, x: FloatArray) -> FloatArray:
        """Return the solution of Q y = x as if the whole box were active (exact there, by cosine transform)."""
        box = np.zeros(self.shape)
        box[self.active] = x
        return np.asarray(idctn(dctn(box, type=2, norm="ortho") / self._eigen, type=2, norm="ortho")[self.active])


def _sides(axis: int) -> tuple[tuple[slice, ...], tuple[slice, ...]]:
    """Index of the cells before and behind each step along an axis."""
    low = tuple(slice(None, -1) if a == axis else slice(None) for a in range(3))
    return low, tuple(slice(1, None) if a == axis else slice(None) for a in range(3))


def invert(
    kernel: Operator,
    data: FloatArray,
    noise: FloatArray,
    mesh: Mesh,
    active: NDArray[np.bool_],
    *,
    smoothness: float,
    exponent: float = 0.45,
    target: float = 1.0,
    lower: float = 0.0,
    upper: float = np.inf,
    trend: FloatArray | None = None,
    max_iterations: int = 40,
    progress: Progress = SILENT,
) -> Inversion:
    """Invert data for the values of active cells.

    Parameters
    ----------
    kernel
        From the values of the active cells to data; see `linear.Operator`.
    data, noise
        Shape (n,): data and their standard deviations, in one unit.
    smoothness
        Length in metres over which the model is held smooth.
    exponent
        Power of the sensitivity weighting: 0 none (sources rise to the surface), 0.4-0.5 finds
        blocks at about their depth in tests, 0.75 goes with distance as z^-1.5 and is too deep.
    target
        Mean squared misfit in units of the noise to stop at.
    lower, upper
        Bounds of the model.
    trend
        Columns (n, k) of a regional that the data may contain; fitted along with the model.
    progress
        Gets ``iteration``, ``misfit`` (chi2) and ``target``.

    Raises
    ------
    InputError
        When sizes do not fit or noise is not positive.
    ConvergenceError
        When no model fits better than none at all.
    """
    n, cells = kernel.shape
    if len(data) != n or len(noise) != n or int(active.sum()) != cells:
        raise InputError("data, noise, cells and kernel do not have the same sizes")
    if not (np.isfinite(noise).all() and (noise > 0).all()):
        raise InputError("the noise must be positive", fix="Give a noise level, such as 2")
    if lower > 0 or upper <= max(lower, 0.0):
        raise InputError("bounds must enclose zero", fix="Give a lower bound of 0 or less and an upper bound above 0")
    norms = kernel.column_norms()
    w = np.maximum(norms / norms.max(), 1e-6) ** exponent
    wd = 1.0 / noise
    basis = _basis(trend, wd)
    rough = Roughness(mesh, active, smoothness)
    lo, hi = lower * w, upper * w

    def clean(v: FloatArray) -> FloatArray:
        return v - basis @ (basis.T @ v) if basis is not None else v

    def forward(x: FloatArray) -> FloatArray:
        return clean(wd * kernel.apply(x / w))

    def adjoint(r: FloatArray) -> FloatArray:
        return np.asarray(kernel.transposed(wd * clean(r)) / w)

    b = clean(wd * data)
    x = np.zeros(cells)
    residual = -b  # forward(x) - b
    qx = np.zeros(cells)
    v = adjoint(b)
    fv = forward(v)
    beta = 0.3 * float(fv @ fv) / max(float(v @ rough.apply(v)), 1e-300)
    floor = float(b @ b) / n
    if floor <= target:
        raise ConvergenceError(
            "the data are already within the noise", fix="Lower the noise, or look for signal elsewhere"
        )
    history: list[tuple[int, float, float, float]] = []
    previous = np.inf
    chi2 = floor
    stalled = 0
    reached = False
    for iteration in range(1, max_iterations + 1):
        gradient = adjoint(residual) + beta * qx
        free = ((x > lo) | (gradient < 0)) & ((x < hi) | (gradient > 0))
        step = _solve_free(forward, adjoint, rough, beta, gradient, free)
        here = float(residual @ residual) + beta * float(x @ qx)
        size = 1.0
        for _ in range(6):
            trial = np.clip(x + size * step, lo, hi)
            new = forward(trial) - b
            q_new = rough.apply(trial)
            there = float(new @ new) + beta * float(trial @ q_new)
            if there <= here * (1 + 1e-9):
                break
            size *= 0.4
        x, residual, qx = trial, new, q_new
        chi2 = float(residual @ residual) / n
        change = abs(previous - there) / max(there, 1e-300)
        previous = there
        history.append((iteration, beta, chi2, float(x @ qx)))
        done = (
            min(0.98, 0.05 + np.log(floor / max(chi2, 1e-9)) / np.log(floor / target + 1e-9) * 0.9)
            if floor > target
            else 0.9
        )
        progress(max(0.0, done), "Inverting", iteration=iteration, misfit=chi2, target=target)
        if abs(chi2 / target - 1.0) < 0.05 and change < 0.02:
            reached = True
            break
        old_beta = beta
        if chi2 > 1.5 * target:
            beta *= 0.4
        else:
            beta *= float(np.clip((target / chi2) ** 1.2, 0.4, 2.5))
        stalled = (
            stalled + 1
            if len(history) > 3 and chi2 > target * 1.05 and chi2 > 0.995 * history[-2][2] and beta < old_beta
            else 0
        )
        if stalled >= 6:
            break
    if chi2 > 0.98 * floor:
        raise ConvergenceError(
            "no model explains the data", fix="Check the main field, the coordinate system and the ground surface"
        )
    fit = kernel.apply(x / w)
    if trend is not None:
        coefficients, *_ = np.linalg.lstsq(trend * wd[:, None], wd * (data - fit), rcond=None)
        fit = fit + trend @ coefficients
    chi2 = float(np.mean(((data - fit) * wd) ** 2))
    return Inversion(x / w, fit, chi2, history, reached or abs(chi2 / target - 1) < 0.08)


def _basis(trend: FloatArray | None, wd: FloatArray) -> FloatArray | None:
    if trend is None:
        return None
    q, _ = np.linalg.qr(trend * wd[:, None])
    return np.asarray(q)


def _solve_free(
    forward: Callable[[FloatArray], FloatArray],
    adjoint: Callable[[FloatArray], FloatArray],
    rough: Roughness,
    beta: float,
    gradient: FloatArray,
    free: NDArray[np.bool_],
    limit: int = 12,
    tolerance: float = 0.05,
) -> FloatArray:
    # Preconditioned conjugate gradients for (A'A + beta Q) p = -gradient on the free cells.
    p = np.zeros_like(gradient)
    r = np.where(free, -gradient, 0.0)
    start = float(np.linalg.norm(r))
    if start == 0.0:
        return p
    z = np.where(free, rough.solve_box(r) / beta, 0.0)
    d = z
    rz = float(r @ z)
    for _ in range(limit):
        q = np.where(free, adjoint(forward(d)) + beta * rough.apply(d), 0.0)
        curvature = float(d @ q)
        if curvature <= 0:
            break
        alpha = rz / curvature
        p = p + alpha * d
        r = r - alpha * q
        if float(np.linalg.norm(r)) < tolerance * start:
            break
        z = np.where(free, rough.solve_box(r) / beta, 0.0)
        rz, old = float(r @ z), rz
        d = z + rz / old * d
    return p
