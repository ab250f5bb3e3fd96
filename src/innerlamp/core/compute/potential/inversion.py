"""Depth-weighted, bounded linear inversion on the cells of a mesh, smooth or compact.

Minimises the chi-square misfit plus beta times a weighted size and roughness of the model's difference from a
reference (Li & Oldenburg 1996, 1998), with the sensitivity of each cell as its weight, under bounds kept by
projection onto them with conjugate gradients on the free cells (Bertsekas 1982), and beta lowered until the misfit
meets its target (discrepancy principle). Compact models come of re-weighting by the model itself after that (Last &
Kubik 1983; Portniaguine & Zhdanov 1999).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ...errors import ConvergenceError, InputError
from ...geometry.mesh import Mesh
from ...progress import SILENT, Progress
from .linear import Operator
from .roughness import Roughness

FloatArray = NDArray[np.float64]
_HOLD = 0.05  # part by which the misfit may differ from its target
_OPTIMAL = 5e-4  # length of the free gradient against that of the start at which a model counts as found
_STEPS = 12  # conjugate gradients of one iteration at most


@dataclass(frozen=True)
class Inversion:
    """Outcome of an inversion.

    Attributes
    ----------
    model
        Value of each active cell, components after each other.
    predicted
        Data of the model, trend included.
    regional
        The trend alone, zero without one.
    chi2
        Mean squared residual in units of the noise; 1 is the target by default.
    history
        One row an iteration: iteration, beta, chi2, size and roughness of the model.
    reached
        Whether the target misfit was reached.
    optimality
        Length of the gradient on the free cells against its length at the start: 0 where nothing can be gained.
    sensitivity
        Length of the data of each cell with value 1, against the largest.
    """

    model: FloatArray
    predicted: FloatArray
    chi2: float
    history: list[tuple[int, float, float, float]] = field(default_factory=list)
    reached: bool = True
    regional: FloatArray = field(default_factory=lambda: np.zeros(0))
    optimality: float = 0.0
    sensitivity: FloatArray = field(default_factory=lambda: np.zeros(0))


@dataclass(frozen=True)
class Settings:
    """How an inversion is run.

    Attributes
    ----------
    smoothness
        Length in metres over which the model is held smooth, one for all axes or one each (first, second, up).
    exponent
        Power of the sensitivity weighting: 0 none (sources rise to the surface), 0.4-0.5 finds blocks at about their
        depth in tests, 0.75 goes with distance as z^-1.5 for magnetics and is too deep.
    target
        Mean squared misfit in units of the noise to stop at.
    norm_size, norm_steps
        2 smooth; 1 blocky; 0 compact. Other than 2 needs `compact_iterations` more iterations at most.
    """

    smoothness: float | tuple[float, float, float]
    exponent: float = 0.45
    target: float = 1.0
    norm_size: float = 2.0
    norm_steps: float = 2.0
    max_iterations: int = 40
    compact_iterations: int = 15

    @property
    def is_compact(self) -> bool:
        return self.norm_size != 2.0 or self.norm_steps != 2.0


@dataclass(frozen=True)
class Constraints:
    """What is known of the model: arrays (components x cells,) or one number.

    Attributes
    ----------
    lower, upper
        Bounds.
    reference
        Values that the model departs from only where the data ask for it.
    trust
        Weight of each cell's (cells,) departure from the reference against that of others; 1 by default.
    start
        Model to begin with, such as that of an earlier run; the reference by default.
    faces
        Factors of the steps between cells, see `Roughness`.
    weigh_by
        Sensitivity of each cell that the model is weighed by; that of the kernel by default.
    directions
        Tensors (cells, 6) of the directions in which the model is smooth, see `Roughness`.
    """

    lower: FloatArray | float = -np.inf
    upper: FloatArray | float = np.inf
    reference: FloatArray | float = 0.0
    trust: FloatArray | None = None
    start: FloatArray | None = None
    faces: tuple[FloatArray, FloatArray, FloatArray] | None = None
    weigh_by: FloatArray | None = None
    directions: FloatArray | None = None


def invert(
    kernel: Operator,
    data: FloatArray,
    noise: FloatArray,
    mesh: Mesh,
    active: NDArray[np.bool_],
    settings: Settings,
    known: Constraints | None = None,
    *,
    trend: FloatArray | None = None,
    look: Callable[[FloatArray], None] | None = None,
    progress: Progress = SILENT,
) -> Inversion:
    """Invert data for the values of active cells.

    Parameters
    ----------
    kernel
        From the values of the active cells (components x cells,) to data; see `linear.Operator`.
    data, noise
        Shape (n,): data and their standard deviations, in one unit.
    known
        Bounds, reference, start; nothing is known by default.
    trend
        Columns (n, k) of a regional that the data may contain; fitted along with the model.
    look
        Gets the model after each iteration.
    progress
        Gets ``iteration``, ``misfit`` (chi2) and ``target``.

    Raises
    ------
    InputError
        When sizes do not fit, noise is not positive, or bounds leave no room.
    ConvergenceError
        When no model fits better than none at all.
    """
    problem = Problem(kernel, data, noise, mesh, active, settings, known or Constraints(), trend)
    floor = float(problem.b @ problem.b) / len(data)
    if floor <= settings.target:
        raise ConvergenceError(
            "the data are already within the noise", fix="Lower the noise, or look for signal elsewhere"
        )
    history: list[tuple[int, float, float, float]] = []

    def told(chi2: float, beta: float, size: float, share: float) -> bool:
        history.append((len(history) + 1, beta, chi2, size))
        progress(share, "Inverting", iteration=len(history), misfit=chi2, target=settings.target)
        if look is not None:
            look(problem.model())
        return progress.enough

    reached = smooth(problem, settings, floor, told)
    if settings.is_compact and reached and not progress.enough:
        reached = _compact(problem, settings, history[-1][1], told)
    if problem.chi2 > 0.98 * floor and not progress.enough:
        raise ConvergenceError(
            "no model explains the data", fix="Check the main field, the coordinate system and the ground surface"
        )
    return outcome(problem, history, reached)


def outcome(problem: Problem, history: list[tuple[int, float, float, float]], reached: bool) -> Inversion:
    """Return what a problem has come to: its data and regional are worked out anew."""
    model = problem.model()
    fit = problem.kernel.apply(model)
    regional = problem.regional(fit)
    chi2 = float(np.mean(((problem.data - fit - regional) / problem.noise) ** 2))
    return Inversion(
        model,
        fit + regional,
        chi2,
        history,
        reached or abs(chi2 / problem.target - 1) < 0.08,
        regional,
        problem.optimality(history[-1][1]),
        problem.norms / problem.norms.max(),
    )


class Problem:
    """The weighted problem in y = w (m - reference), and where it stands; parameters as in `invert`."""

    def __init__(
        self,
        kernel: Operator,
        data: FloatArray,
        noise: FloatArray,
        mesh: Mesh,
        active: NDArray[np.bool_],
        settings: Settings,
        known: Constraints,
        trend: FloatArray | None,
    ) -> None:
        n, unknowns = kernel.shape
        cells = int(active.sum())
        if len(data) != n or len(noise) != n or not cells or unknowns % cells:
            raise InputError("data, noise, cells and kernel do not have the same sizes")
        if not (np.isfinite(noise).all() and (noise > 0).all()):
            raise InputError("the noise must be positive", fix="Give a noise level, such as 2")
        if not np.isfinite(data).all():
            raise InputError("some data have no value")
        self.kernel, self.data, self.noise, self._wd = kernel, data, noise, 1.0 / noise
        self.target, self._trend = settings.target, trend
        self.norms = kernel.column_norms()
        if not self.norms.max() > 0:
            raise InputError("the data do not see any cell", fix="Check that the area lies under the readings")
        weigh = self.norms if known.weigh_by is None else known.weigh_by
        w = np.maximum(weigh / weigh.max(), 1e-6) ** settings.exponent
        lower, upper, reference = (
            np.broadcast_to(np.asarray(v, dtype=float), (unknowns,))
            for v in (known.lower, known.upper, known.reference)
        )
        if not (lower < upper).all() or np.isnan(reference).any():
            raise InputError(
                f"bounds leave no room in {int((~(lower < upper)).sum()):,} cells",
                fix="Give a lower bound below the upper one",
            )
        self.w, self._reference = w, np.clip(reference, lower, upper)
        self._basis = None if trend is None else np.linalg.qr(trend * self._wd[:, None])[0]
        self._more: Callable[[FloatArray], FloatArray] | None = None
        self.rough = Roughness(
            mesh, active, settings.smoothness, unknowns // cells, known.trust, known.faces, known.directions
        )
        self.low, self.high = (lower - self._reference) * w, (upper - self._reference) * w
        self.b = self._clean(self._wd * (data - kernel.apply(self._reference)))
        start = np.zeros(unknowns) if known.start is None else (known.start - self._reference) * w
        self.y = np.clip(start, self.low, self.high)
        self.residual = -self.b if known.start is None else self.forward(self.y) - self.b
        self.qy = self._measure(self.y)

    def _measure(self, y: FloatArray) -> FloatArray:
        q = self.rough.apply(y)
        return q if self._more is None else q + self._more(y)

    def couple(self, more: Callable[[FloatArray], FloatArray]) -> None:
        """Measure the model by another symmetric quadratic form as well, given as its product with y."""
        self._more = more
        self.qy = self._measure(self.y)

    def _clean(self, v: FloatArray) -> FloatArray:
        return v - self._basis @ (self._basis.T @ v) if self._basis is not None else v

    def forward(self, y: FloatArray) -> FloatArray:
        """Return the data (n,) of y (components x cells,) in units of the noise, what the trend explains taken off."""
        return self._clean(self._wd * self.kernel.apply(y / self.w))

    def adjoint(self, r: FloatArray) -> FloatArray:
        """Return the transposed of `forward` for residuals (n,) in units of the noise."""
        return np.asarray(self.kernel.transposed(self._wd * self._clean(r)) / self.w)

    def model(self) -> FloatArray:
        """Return the model (components x cells,) in its own unit."""
        return np.asarray(self._reference + self.y / self.w)

    def regional(self, fit: FloatArray) -> FloatArray:
        """Return the trend that is left beside the data of a model."""
        if self._trend is None:
            return np.zeros(len(self.data))
        wd = self._wd
        coefficients, *_ = np.linalg.lstsq(self._trend * wd[:, None], wd * (self.data - fit), rcond=None)
        return np.asarray(self._trend @ coefficients)

    @property
    def chi2(self) -> float:
        return float(self.residual @ self.residual) / len(self.b)

    @property
    def size(self) -> float:
        return float(self.y @ self.qy)

    def first_beta(self) -> float:
        """Return a beta, without unit, with which the measure of the model outweighs the misfit."""
        v = self._first_gradient
        fv = self.forward(v)
        return 0.3 * float(fv @ fv) / max(float(v @ self.rough.apply(v)), 1e-300)

    def optimality(self, beta: float) -> float:
        """Return the length of the gradient on the free cells against that of the start, without unit."""
        gradient = self.adjoint(self.residual) + beta * self.qy
        start = float(np.linalg.norm(self._first_gradient))
        return float(np.linalg.norm(gradient[self._free(gradient)]) / max(start, 1e-300))

    @cached_property
    def _first_gradient(self) -> FloatArray:
        """Downhill from no model at all; it stays, so that its product is made once."""
        return self.adjoint(self.b)

    def _free(self, gradient: FloatArray) -> NDArray[np.bool_]:
        return np.asarray(((self.y > self.low) | (gradient < 0)) & ((self.y < self.high) | (gradient > 0)))

    def reweight(self, small: float, settings: Settings) -> None:
        """Measure by other norms around the present model; values below `small`, in units of y, count as nothing."""
        self.rough.reweight(self.y, small, settings.norm_size, settings.norm_steps)
        self.qy = self._measure(self.y)

    def advance(self, beta: float, by_diagonal: bool = False) -> None:
        """One projected step of conjugate gradients."""
        gradient = self.adjoint(self.residual) + beta * self.qy
        step = self._solve_free(beta, gradient, self._free(gradient), by_diagonal)
        here = float(self.residual @ self.residual) + beta * self.size
        length = 1.0
        for _ in range(6):
            trial = np.clip(self.y + length * step, self.low, self.high)
            new = self.forward(trial) - self.b
            q_new = self._measure(trial)
            there = float(new @ new) + beta * float(trial @ q_new)
            if there <= here * (1 + 1e-9):
                break
            length *= 0.4
        self.y, self.residual, self.qy = trial, new, q_new

    def _solve_free(
        self, beta: float, gradient: FloatArray, free: NDArray[np.bool_], by_diagonal: bool, tolerance: float = 0.2
    ) -> FloatArray:
        # Preconditioned conjugate gradients for (A'A + beta Q) p = -gradient on the free cells.
        def eased(r: FloatArray) -> FloatArray:
            return np.where(free, (r / self.rough.diagonal if by_diagonal else self.rough.solve_box(r)) / beta, 0.0)

        p = np.zeros_like(gradient)
        r = np.where(free, -gradient, 0.0)
        start = float(np.linalg.norm(r))
        if start == 0.0:
            return p
        z = eased(r)
        d = z
        rz = float(r @ z)
        for _ in range(_STEPS):
            q = np.where(free, self.adjoint(self.forward(d)) + beta * self._measure(d), 0.0)
            curvature = float(d @ q)
            if curvature <= 0:
                break
            alpha = rz / curvature
            p = p + alpha * d
            r = r - alpha * q
            if float(np.linalg.norm(r)) < tolerance * start:
                break
            z = eased(r)
            rz, old = float(r @ z), rz
            d = z + rz / old * d
        return p


Told = Callable[[float, float, float, float], bool]  # whether that is enough


def smooth(problem: Problem, settings: Settings, floor: float, told: Told) -> bool:
    """Lower beta until the misfit meets its target; whether it did."""
    target = settings.target
    beta = problem.first_beta()
    chi2s = [floor]
    stalled, slope, before = 0, 1.0, (beta, np.inf)
    for _ in range(settings.max_iterations):
        problem.advance(beta)
        chi2 = problem.chi2
        share = np.log(floor / max(chi2, 1e-9)) / np.log(floor / target + 1e-9) if floor > target else 1.0
        within = 0.45 if settings.is_compact else 0.9
        if told(chi2, beta, problem.size, float(np.clip(0.05 + share * within, 0.0, 0.98))):
            return abs(chi2 / target - 1.0) < _HOLD
        if abs(chi2 / target - 1.0) < _HOLD:
            # Beta stays, so that the model can settle; one that no longer moves the misfit is found as well.
            still = abs(chi2 - chi2s[-1]) < 0.01 * target
            if problem.optimality(beta) < (_OPTIMAL * 5 if still else _OPTIMAL):
                return True
            chi2s.append(chi2)
            continue
        if np.isfinite(before[1]) and abs(np.log(before[0] / beta)) > 0.05:  # how the misfit goes with beta here
            slope = float(np.clip(np.log(before[1] / chi2) / np.log(before[0] / beta), 0.6, 1.6))
        before = (beta, chi2)
        old = beta
        beta *= float(np.clip((target / chi2) ** (1.0 / slope), 0.4, 2.5))
        stuck = len(chi2s) > 3 and chi2 > target * (1 + _HOLD) and chi2 > 0.995 * chi2s[-1] and beta < old
        stalled = stalled + 1 if stuck else 0
        chi2s.append(chi2)
        if stalled >= 6:
            break
    return False


def _compact(problem: Problem, settings: Settings, beta: float, told: Told) -> bool:
    """Re-weight by the model until it no longer changes, holding the misfit; whether it is held in the end."""
    target = settings.target
    small = float(np.abs(problem.y).max())
    least = 0.03 * small
    for number in range(settings.compact_iterations):
        before, size = problem.y, problem.size
        small = max(0.5 * small, least)
        problem.reweight(small, settings)
        beta *= size / max(problem.size, 1e-300)
        problem.advance(beta, by_diagonal=True)
        chi2 = problem.chi2
        if told(chi2, beta, problem.size, 0.5 + 0.48 * (number + 1) / settings.compact_iterations):
            break
        moved = float(np.linalg.norm(problem.y - before)) / max(float(np.linalg.norm(problem.y)), 1e-300)
        if small <= least and moved < 0.05 and abs(chi2 / target - 1.0) < _HOLD:
            return True
        beta *= float(np.clip((target / chi2) ** 1.2, 0.3, 3.0))
    return abs(problem.chi2 / target - 1.0) < 2 * _HOLD
