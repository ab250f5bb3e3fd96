"""The thin plate under tension on large grids: conjugate gradients, preconditioned by multigrid.

Nodes that hold samples are tied to a target by stiff springs; the rest bends freely. Each level of
the multigrid has the plate of its own cells and the springs of the finer level gathered on it;
Chebyshev polynomials of the scaled operator smooth, which (unlike sweeps) run in parallel and give the
same digits on any number of cores (Adams, Brezina, Hu & Tuminaro 2003). The plate itself is that of
`minimum_curvature`, with tension as in Smith & Wessel (1990).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.sparse as sp
from numba import prange
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve

from ...progress import SILENT, Progress
from ..compiled import compiled
from ..geometry.sampling import bilinear
from .plate_energy import plate_energy

FloatArray = NDArray[np.float64]
SingleArray = NDArray[np.float32]
SPRING = 2_000.0  # against 20, the stiffness of a free node
_COARSEST = 24
_WIDE = 100_000  # nodes from which sharing the work among cores pays
_DEGREE = 4
_HIGHEST, _LOWEST = 3.8, 0.2  # eigenvalues of the scaled plate: all lie below the first, rough shapes above the second


def _stencils(bending: float, tension: float) -> FloatArray:
    """The 25 stencils (5, 5, 5, 5) of a plate: of the first two rows, inner ones, and the last two; so for columns."""
    n = 9
    matrix = bending * plate_energy(n, n) + tension * (plate_energy(n, n, 1.0))
    dense = matrix.toarray().reshape(n, n, n, n)
    out = np.zeros((5, 5, 5, 5))
    for a, j in enumerate((0, 1, 4, n - 2, n - 1)):
        for b, i in enumerate((0, 1, 4, n - 2, n - 1)):
            for dj in range(-2, 3):
                for di in range(-2, 3):
                    if 0 <= j + dj < n and 0 <= i + di < n:
                        out[a, b, dj + 2, di + 2] = dense[j, i, j + dj, i + di]
    return out


def _kinds(n: int) -> NDArray[np.int64]:
    """Which of the five kinds of row (or column) each is."""
    return np.array([k if k < 2 else 2 if k < n - 2 else k - n + 5 for k in range(n)], dtype=np.int64)


@compiled(cache=True, fastmath=True)
def _row(z, springs, stencils, j, to):  # type: ignore[no-untyped-def]
    """Write one row of (plate + springs) z."""
    ny, nx = z.shape
    inner = 2 <= j < ny - 2
    if inner:
        s = stencils[2, 2]
        c0, c1, c2, c3 = s[2, 2], s[2, 1], s[1, 1], s[2, 0]
        # Rows as arrays of their own and columns counted from 0: so the loop becomes vector instructions.
        a, b, c, d, e, tied = z[j - 2], z[j - 1], z[j], z[j + 1], z[j + 2], springs[j]
        for i in range(nx - 4):
            to[i + 2] = (
                (c0 + tied[i + 2]) * c[i + 2]
                + c1 * (c[i + 1] + c[i + 3] + b[i + 2] + d[i + 2])
                + c2 * (b[i + 1] + b[i + 3] + d[i + 1] + d[i + 3])
                + c3 * (c[i] + c[i + 4] + a[i + 2] + e[i + 2])
            )
    i = 0
    while i < nx:
        if inner and i == 2:
            i = nx - 2  # the frame alone is left
        edge = stencils[j if j < 2 else (2 if inner else j - ny + 5), i if i < 2 else (2 if i < nx - 2 else i - nx + 5)]
        total = springs[j, i] * z[j, i]
        for dj in range(-2, 3):
            for di in range(-2, 3):
                if 0 <= j + dj < ny and 0 <= i + di < nx:
                    total += edge[dj + 2, di + 2] * z[j + dj, i + di]
        to[i] = total
        i += 1


@compiled(cache=True, fastmath=True)
def _row_step(z, before, right, springs, scale, stencils, a, b, j, out):  # type: ignore[no-untyped-def]
    """Write one row of the next Chebyshev iterate."""
    to = out[j]
    _row(z, springs, stencils, j, to)
    here, past, asked, by = z[j], before[j], right[j], scale[j]
    for i in range(z.shape[1]):
        to[i] = here[i] + a * by[i] * (asked[i] - to[i]) + b * (here[i] - past[i])


@compiled(cache=True, parallel=True)
def _applied_wide(z, springs, stencils, out):  # type: ignore[no-untyped-def]
    for k in prange(z.shape[0]):
        j = np.int64(k)
        _row(z, springs, stencils, j, out[j])


@compiled(cache=True)
def _applied_small(z, springs, stencils, out):  # type: ignore[no-untyped-def]
    for j in range(z.shape[0]):
        _row(z, springs, stencils, j, out[j])


@compiled(cache=True, parallel=True)
def _step_wide(z, before, right, springs, scale, stencils, a, b, out):  # type: ignore[no-untyped-def]
    for k in prange(z.shape[0]):
        _row_step(z, before, right, springs, scale, stencils, a, b, np.int64(k), out)


@compiled(cache=True)
def _step_small(z, before, right, springs, scale, stencils, a, b, out):  # type: ignore[no-untyped-def]
    for j in range(z.shape[0]):
        _row_step(z, before, right, springs, scale, stencils, a, b, j, out)


def _applied(z: NDArray[Any], springs: NDArray[Any], stencils: NDArray[Any]) -> NDArray[Any]:
    """Return (plate + springs) z."""
    out = np.empty_like(z)
    (_applied_wide if z.size > _WIDE else _applied_small)(z, springs, stencils, out)
    return out


@dataclass(frozen=True)
class _Level:
    springs: SingleArray
    stencils: SingleArray
    scale: SingleArray
    up_y: sp.csr_matrix | None  # from the next coarser level's rows and columns to these
    up_x: sp.csr_matrix | None


@compiled(cache=True, parallel=True, fastmath=True)
def _finer_rows(coarse, out):  # type: ignore[no-untyped-def]
    """Interpolate rows onto twice as many: cubic inside, quadratic at both ends."""
    n = coarse.shape[0]
    for k in prange(n):
        m = np.int64(k)
        out[2 * m] = coarse[m]
        if m == n - 1:
            continue
        p, q = coarse[m], coarse[m + 1]
        to = out[2 * m + 1]
        if 1 <= m < n - 2:
            o, r = coarse[m - 1], coarse[m + 2]
            for i in range(len(to)):
                to[i] = 0.5625 * (p[i] + q[i]) - 0.0625 * (o[i] + r[i])
        elif m == 0:
            r = coarse[m + 2]
            for i in range(len(to)):
                to[i] = 0.375 * p[i] + 0.75 * q[i] - 0.125 * r[i]
        else:
            o = coarse[m - 1]
            for i in range(len(to)):
                to[i] = 0.375 * q[i] + 0.75 * p[i] - 0.125 * o[i]


@compiled(cache=True, parallel=True, fastmath=True)
def _finer_columns(coarse, out):  # type: ignore[no-untyped-def]
    """Interpolate columns onto twice as many and add them to `out`."""
    n = coarse.shape[1]
    for j in prange(coarse.shape[0]):
        c, to = coarse[j], out[j]
        for k in range(n):
            to[2 * k] += c[k]
        for k in range(n - 3):
            to[2 * k + 3] += 0.5625 * (c[k + 1] + c[k + 2]) - 0.0625 * (c[k] + c[k + 3])
        to[1] += 0.375 * c[0] + 0.75 * c[1] - 0.125 * c[2]
        to[2 * n - 3] += 0.375 * c[n - 1] + 0.75 * c[n - 2] - 0.125 * c[n - 3]


def _cubic(fine: int) -> sp.csr_matrix:
    """The same interpolation as a matrix (fine, coarse): its transpose gathers what is left over."""
    coarse = (fine + 1) // 2
    rows = np.zeros((fine, coarse), dtype=np.float32)
    _finer_rows(np.eye(coarse, dtype=np.float32), rows)
    return sp.csr_matrix(rows)


def _halved(springs: FloatArray) -> FloatArray:
    def along_rows(v: FloatArray) -> FloatArray:
        out = v[::2].copy()
        out[:-1] += 0.5 * v[1::2]
        out[1:] += 0.5 * v[1::2]
        return out

    return np.ascontiguousarray(along_rows(along_rows(springs).T).T)


def _down(level: _Level, fine: SingleArray) -> SingleArray:
    assert level.up_y is not None and level.up_x is not None
    return np.ascontiguousarray((level.up_x.T @ (level.up_y.T @ fine).T).T)


@compiled(cache=True, parallel=True, fastmath=True)
def _advance(z, rest, along, product, step):  # type: ignore[no-untyped-def]
    """Go a step along, in place."""
    for j in prange(z.shape[0]):
        for i in range(z.shape[1]):
            z[j, i] += step * along[j, i]
            rest[j, i] -= step * product[j, i]


@compiled(cache=True, parallel=True, fastmath=True)
def _turn(along, soft, share):  # type: ignore[no-untyped-def]
    for j in prange(along.shape[0]):
        for i in range(along.shape[1]):
            along[j, i] = soft[j, i] + share * along[j, i]


@compiled(cache=True, parallel=True, fastmath=True)
def _dots(a, b):  # type: ignore[no-untyped-def]
    """Row by row, so that the sum does not depend on the number of cores."""
    out = np.zeros(a.shape[0])
    for j in prange(a.shape[0]):
        total = 0.0
        for i in range(a.shape[1]):
            total += a[j, i] * b[j, i]
        out[j] = total
    return out


class Plate:
    """A plate of (ny, nx) nodes with springs; each side has a multiple of 2**levels cells (see `padded`)."""

    def __init__(self, springs: FloatArray, tension: float = 0.0) -> None:
        self.stencils = _stencils(1.0 - tension, tension)
        self.springs = springs
        self.levels: list[_Level] = []
        level, factor = springs, 1.0
        while True:
            stencils = _stencils((1.0 - tension) * factor, tension)
            ny, nx = level.shape
            diagonal = stencils[np.ix_(_kinds(ny), _kinds(nx))][:, :, 2, 2] + level
            last = min(ny, nx) <= _COARSEST or (ny - 1) % 2 or (nx - 1) % 2
            ups = (None, None) if last else (_cubic(ny).astype(np.float32), _cubic(nx).astype(np.float32))
            self.levels.append(
                _Level(level.astype(np.float32), stencils.astype(np.float32), (1.0 / diagonal).astype(np.float32), *ups)
            )
            if last:
                break
            level, factor = _halved(level), factor / 4.0
        coarse = (1.0 - tension) * factor * plate_energy(nx, ny) + tension * plate_energy(nx, ny, 1.0)
        dense = coarse.toarray() + np.diag(level.ravel() + 1e-9)
        self._bottom = cho_factor(dense, overwrite_a=True, check_finite=False)

    def applied(self, z: FloatArray) -> FloatArray:
        """Return (plate + springs) z."""
        return _applied(z, self.springs, self.stencils)

    def _smoothed(self, level: _Level, z: SingleArray, right: SingleArray) -> SingleArray:
        middle, half = 0.5 * (_HIGHEST + _LOWEST), 0.5 * (_HIGHEST - _LOWEST)
        shape = middle / half
        rho, a, b = 1.0 / shape, 1.0 / middle, 0.0
        step = _step_wide if z.size > _WIDE else _step_small
        before = z
        for _ in range(_DEGREE):
            ahead = np.empty_like(right)
            step(z, before, right, level.springs, level.scale, level.stencils, np.float32(a), np.float32(b), ahead)
            before, z = z, ahead
            new = 1.0 / (2.0 * shape - rho)
            a, b, rho = 2.0 * new / half, new * rho, new
        return z

    def softened(self, right: SingleArray, depth: int = 0) -> SingleArray:
        """Return about (plate + springs)^-1 right: one cycle from the finest level to the coarsest and back."""
        level = self.levels[depth]
        if level.up_y is None:
            return np.asarray(cho_solve(self._bottom, right.ravel().astype(float)), dtype=np.float32).reshape(
                right.shape
            )
        z = self._smoothed(level, np.zeros_like(right), right)
        rest = right - _applied(z, level.springs, level.stencils)
        coarse = self.softened(_down(level, rest), depth + 1)
        rows = np.empty((right.shape[0], coarse.shape[1]), dtype=np.float32)
        _finer_rows(coarse, rows)
        _finer_columns(rows, z)
        return self._smoothed(level, z, right)

    def solve(
        self, right: FloatArray, start: FloatArray, tolerance: float, most: int = 40, progress: Progress = SILENT
    ) -> FloatArray:
        """Return z with (plate + springs) z = right, to a relative tolerance of the energy of the first residual."""
        z = start.copy()
        rest = right - self.applied(z)
        soft = self.softened(rest.astype(np.float32))
        along = soft.astype(float)
        energy = first = float(_dots(rest, along).sum())
        if energy <= 0.0:
            return z
        for count in range(1, most + 1):
            product = self.applied(along)
            _advance(z, rest, along, product, energy / float(_dots(along, product).sum()))
            soft = self.softened(rest.astype(np.float32))
            new = float(_dots(rest, soft).sum())
            if new <= tolerance**2 * first:
                return z
            _turn(along, soft, new / energy)
            energy = new
            progress(count / most, f"Bending the plate: {np.sqrt(new / first):.1e} of the first misfit left")
        return z


def padded(n: int, least: int) -> tuple[int, int]:
    """Return cells added before and after n so that multigrid can halve them down to few."""
    total = n + 2 * least
    levels = max(int(np.floor(np.log2(max(total - 1, 1) / _COARSEST))), 0)
    block = 2**levels
    total = block * int(np.ceil((total - 1) / block)) + 1
    before = (total - n) // 2
    return before, total - n - before


def through(
    u: FloatArray,
    v: FloatArray,
    values: FloatArray,
    nx: int,
    ny: int,
    tension: float,
    rounds: int = 5,
    progress: Progress = SILENT,
) -> FloatArray:
    """Return the plate (ny, nx) whose bilinear value at each sample is the sample, as nearly as cells allow.

    Parameters
    ----------
    u, v, values
        Samples, shape (n,): columns and rows counted in cells from the first node, inside the plate.
    tension
        0 for a plate that only bends, towards 1 for a skin that is only stretched.
    rounds
        Nodes carry the mean of their samples at first; each round moves them by what the surface
        misses the samples by, so that samples between nodes are met too.
    """
    i, j = np.minimum(np.rint(u).astype(np.int64), nx - 1), np.minimum(np.rint(v).astype(np.int64), ny - 1)
    node = j * nx + i
    count = np.bincount(node, minlength=nx * ny)
    held = count > 0

    def at_nodes(values: FloatArray) -> FloatArray:
        """The mean of what the samples of each node have, 0 where there are none."""
        return np.where(held, np.bincount(node, values, nx * ny) / np.maximum(count, 1), 0.0).reshape(ny, nx)

    plate = Plate(np.where(held, SPRING, 0.0).reshape(ny, nx), tension)
    target, z = at_nodes(values), np.zeros((ny, nx))
    for number in range(rounds):
        part = progress.part(number / rounds, (number + 1) / rounds)
        z = plate.solve(SPRING * target, z, 1e-4 if number == 0 else 1e-2, progress=part)
        missed = at_nodes(values - bilinear(z, 0.0, 0.0, 1.0, 1.0, u, v))
        if number + 1 < rounds and np.abs(missed).max() < 1e-4 * np.ptp(values):
            break
        target = target + missed
    return z
