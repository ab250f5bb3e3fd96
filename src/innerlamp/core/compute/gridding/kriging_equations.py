"""The equations of kriging at one place, compiled: of grids and of blocks, in the plane and in space."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..compiled import compiled

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


@compiled(cache=True, fastmath=False)
def gamma(h: float, nugget: float, shape: IntArray, sill: FloatArray, range_m: FloatArray) -> float:  # pragma: no cover
    """Return the variogram at a distance in metres, in the unit of the sills; structures have the shape (k,)."""
    if h <= 0.0:
        return 0.0
    out = nugget
    for k in range(len(shape)):
        r = h / range_m[k]
        if shape[k] == 0:
            out += sill[k] * (1.5 * r - 0.5 * r * r * r) if r < 1.0 else sill[k]
        elif shape[k] == 1:
            out += sill[k] * (1.0 - np.exp(-3.0 * r))
        else:
            out += sill[k] * (1.0 - np.exp(-3.0 * r * r))
    return out


@compiled(cache=True)
def gauss(given: FloatArray, side: FloatArray) -> FloatArray:  # pragma: no cover
    """Return the solution (n,) of equations without unit, given (n, n) with a right side (n,); NaN where they have none."""
    # Elimination with pivots: for thirty unknowns quicker than a call of a library, and it never stops on a singular one.
    a, b = given.copy(), side.copy()
    n = len(b)
    for k in range(n):
        best = k
        for r in range(k + 1, n):
            if abs(a[r, k]) > abs(a[best, k]):
                best = r
        if abs(a[best, k]) < 1e-300:
            return np.full(n, np.nan)
        if best != k:
            for c in range(k, n):
                a[k, c], a[best, c] = a[best, c], a[k, c]
            b[k], b[best] = b[best], b[k]
        for r in range(k + 1, n):
            f = a[r, k] / a[k, k]
            if f != 0.0:
                for c in range(k + 1, n):
                    a[r, c] -= f * a[k, c]
                b[r] -= f * b[k]
    for k in range(n - 1, -1, -1):
        for c in range(k + 1, n):
            b[k] -= a[k, c] * b[c]
        b[k] /= a[k, k]
    return b


@compiled(cache=True)
def _between(  # pragma: no cover
    samples: FloatArray,
    chosen: IntArray,
    size: int,
    nugget: float,
    shape: IntArray,
    sill: FloatArray,
    range_m: FloatArray,
) -> FloatArray:
    # The left side: the variogram between the chosen samples, whose weights are one together; the rest of its rows are empty.
    n = len(chosen)
    matrix = np.zeros((size, size))
    for a in range(n):
        for b in range(a):
            d = 0.0
            for axis in range(samples.shape[1]):
                d += (samples[chosen[a], axis] - samples[chosen[b], axis]) ** 2
            g = gamma(np.sqrt(d), nugget, shape, sill, range_m)
            matrix[a, b] = g
            matrix[b, a] = g
        matrix[a, n] = 1.0
        matrix[n, a] = 1.0
    return matrix


@compiled(cache=True)
def krige_at(  # pragma: no cover
    place: FloatArray,
    samples: FloatArray,
    values: FloatArray,
    chosen: IntArray,
    drift: bool,
    nugget: float,
    shape: IntArray,
    sill: FloatArray,
    range_m: FloatArray,
) -> tuple[float, float, float]:
    """Return estimate, kriging variance and multiplier at a place (Matheron 1963; with a linear drift in plan: Matheron 1969).

    The multiplier is that of the sum of weights, in the equations with the variogram (gamma w + multiplier = gamma to the place).

    Parameters
    ----------
    place, samples
        Shapes (d,) and (n, d) in metres that the anisotropy is taken out of.
    values
        Shape (n,).
    chosen
        Numbers of the samples that take part.
    drift
        Whether the mean is a plane over the first two axes.
    nugget, shape, sill, range_m
        The variogram, see `gamma`.
    """
    n = len(chosen)
    size = n + (3 if drift else 1)
    matrix = _between(samples, chosen, size, nugget, shape, sill, range_m)
    right = np.zeros(size)
    scale = 0.0
    for a in range(n):
        d = 0.0
        for axis in range(len(place)):
            d += (samples[chosen[a], axis] - place[axis]) ** 2
        scale = max(scale, np.sqrt(d))
        right[a] = gamma(np.sqrt(d), nugget, shape, sill, range_m)
    right[n] = 1.0
    if drift:
        if scale <= 0.0:
            scale = 1.0
        for a in range(n):
            for axis in range(2):
                u = (samples[chosen[a], axis] - place[axis]) / scale
                matrix[a, n + 1 + axis] = u
                matrix[n + 1 + axis, a] = u
    weight = gauss(matrix, right)
    total, spread = 0.0, 0.0
    for a in range(n):
        total += weight[a] * values[chosen[a]]
        spread += weight[a] * right[a]
    return total, max(spread + weight[n], 0.0), weight[n]


@compiled(cache=True)
def _structured(h: float, shape: IntArray, sill: FloatArray, range_m: FloatArray) -> float:  # pragma: no cover
    # The variogram without its nugget, also where the distance is none.
    return gamma(h, 0.0, shape, sill, range_m) if h > 0.0 else 0.0


@compiled(cache=True)
def gamma_within(  # pragma: no cover
    parts: FloatArray, nugget: float, shape: IntArray, sill: FloatArray, range_m: FloatArray
) -> float:
    """Return the mean of the variogram between all pairs of the parts (k, 3) of a block (Journel & Huijbregts 1978, II.C).

    The nugget counts whole: that of a volume has no part at the distance zero.
    """
    total = 0.0
    for a in range(len(parts)):
        for b in range(a):
            d = 0.0
            for axis in range(3):
                d += (parts[a, axis] - parts[b, axis]) ** 2
            total += 2.0 * _structured(np.sqrt(d), shape, sill, range_m)
    return nugget + total / (len(parts) * len(parts))


@compiled(cache=True)
def krige_block_at(  # pragma: no cover
    parts: FloatArray,
    samples: FloatArray,
    values: FloatArray,
    chosen: IntArray,
    within: float,
    nugget: float,
    shape: IntArray,
    sill: FloatArray,
    range_m: FloatArray,
) -> tuple[float, float, float, float]:
    """Return estimate, kriging variance, efficiency and slope of regression of a block (Journel & Huijbregts 1978, V.A).

    Parameters
    ----------
    parts, samples
        Places within the block (k, 3), and of samples (n, 3), in metres that the anisotropy is taken out of.
    values
        Shape (n,).
    chosen
        Numbers of the samples that take part.
    within
        What `gamma_within` gives for the block.
    nugget, shape, sill, range_m
        The variogram, see `gamma`.

    Efficiency is the share of the variance of blocks that is explained (Krige 1996); the slope is that of true on estimated
    grades of blocks, 1 without conditional bias.
    """
    n = len(chosen)
    matrix = _between(samples, chosen, n + 1, nugget, shape, sill, range_m)
    right = np.zeros(n + 1)
    for a in range(n):
        for k in range(len(parts)):
            d = 0.0
            for axis in range(3):
                d += (samples[chosen[a], axis] - parts[k, axis]) ** 2
            right[a] += _structured(np.sqrt(d), shape, sill, range_m)
        right[a] = nugget + right[a] / len(parts)
    right[n] = 1.0
    weight = gauss(matrix, right)
    total, spread, whole = 0.0, 0.0, nugget
    for a in range(n):
        total += weight[a] * values[chosen[a]]
        spread += weight[a] * right[a]
    for k in range(len(sill)):
        whole += sill[k]
    variance = max(spread + weight[n] - within, 0.0)
    of_blocks = whole - within
    efficiency = (of_blocks - variance) / of_blocks if of_blocks > 0.0 else np.nan
    of_estimates = whole - spread + weight[n]
    slope = (whole - spread) / of_estimates if of_estimates > 1e-12 * whole else np.nan
    return total, variance, efficiency, slope
