"""Compiled reading of a model of units: splines, sheets, and places taken back along faults."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...compiled import compiled


class Packed(NamedTuple):
    """All numbers of a model; contacts first, then faults, both as signed surfaces (s of them).

    Attributes
    ----------
    weights, start, shape, origin, inverse
        Spline weights of all lattices behind each other, where each begins, its nodes, first node and nodes a metre.
    kind
        (s,) 0 a field in space, 1 a sheet.
    fields
        (s, 2) lattices of a surface, -1 for none.
    factors
        (s, 4): of the metres off the plane, of the first field, of the second, and a constant.
    frame
        (s, 4, 3): origin and axes of its plane.
    moved
        (s,) bits of the faults that moved it.
    slip, tips, ends
        Of each fault: its movement, two over its length and height, and on which side of others it is (0 for any).
    piece_start, piece_contacts
        The contacts of each piece.
    """

    weights: NDArray[np.float32]
    start: NDArray[np.int64]
    shape: NDArray[np.int64]
    origin: NDArray[np.float64]
    inverse: NDArray[np.float64]
    kind: NDArray[np.int64]
    fields: NDArray[np.int64]
    factors: NDArray[np.float64]
    frame: NDArray[np.float64]
    moved: NDArray[np.int64]
    slip: NDArray[np.float64]
    tips: NDArray[np.float64]
    ends: NDArray[np.float64]
    piece_start: NDArray[np.int64]
    piece_contacts: NDArray[np.int64]


@compiled(cache=True, error_model="numpy", inline="always")
def _weights(t):  # type: ignore[no-untyped-def]
    """The four weights of a cubic B-spline at a share of a cell."""
    u = 1.0 - t
    return (
        u * u * u / 6.0,
        (3.0 * t * t * t - 6.0 * t * t + 4.0) / 6.0,
        (3.0 * u * u * u - 6.0 * u * u + 4.0) / 6.0,
        t * t * t / 6.0,
    )


@compiled(cache=True, error_model="numpy")
def spline_at(p, k, x, y, z):  # type: ignore[no-untyped-def]
    """Return lattice k of a model at a place; beyond its edge what is there goes on."""
    nx, ny, nz = p.shape[k, 0], p.shape[k, 1], p.shape[k, 2]
    a = min(max((x - p.origin[k, 0]) * p.inverse[k, 0], 1.0), nx - 2.000001)
    b = min(max((y - p.origin[k, 1]) * p.inverse[k, 1], 1.0), ny - 2.000001)
    i, j = int(a), int(b)
    ax, bx, cx, dx = _weights(a - i)
    ay, by, cy, dy = _weights(b - j)
    w = p.weights
    if nz == 1:
        row = p.start[k] + (i - 1) * ny + j - 1
        s0 = ay * w[row] + by * w[row + 1] + cy * w[row + 2] + dy * w[row + 3]
        row += ny
        s1 = ay * w[row] + by * w[row + 1] + cy * w[row + 2] + dy * w[row + 3]
        row += ny
        s2 = ay * w[row] + by * w[row + 1] + cy * w[row + 2] + dy * w[row + 3]
        row += ny
        s3 = ay * w[row] + by * w[row + 1] + cy * w[row + 2] + dy * w[row + 3]
        return ax * s0 + bx * s1 + cx * s2 + dx * s3
    c = min(max((z - p.origin[k, 2]) * p.inverse[k, 2], 1.0), nz - 2.000001)
    m = int(c)
    az, bz, cz, dz = _weights(c - m)
    total = 0.0
    base = p.start[k] + ((i - 1) * ny + j - 1) * nz + m - 1
    for u in range(4):
        wx = ax if u == 0 else (bx if u == 1 else (cx if u == 2 else dx))
        row = base + u * ny * nz
        s0 = az * w[row] + bz * w[row + 1] + cz * w[row + 2] + dz * w[row + 3]
        row += nz
        s1 = az * w[row] + bz * w[row + 1] + cz * w[row + 2] + dz * w[row + 3]
        row += nz
        s2 = az * w[row] + bz * w[row + 1] + cz * w[row + 2] + dz * w[row + 3]
        row += nz
        s3 = az * w[row] + bz * w[row + 1] + cz * w[row + 2] + dz * w[row + 3]
        total += wx * (ay * s0 + by * s1 + cy * s2 + dy * s3)
    return total


@compiled(cache=True, error_model="numpy")
def surface_there(p, s, x, y, z):  # type: ignore[no-untyped-def]
    """Return surface s at a place that was taken back already."""
    if p.kind[s] == 0:
        return p.factors[s, 1] * spline_at(p, p.fields[s, 0], x, y, z) + p.factors[s, 3]
    f = p.frame[s]
    x, y, z = x - f[0, 0], y - f[0, 1], z - f[0, 2]
    u = f[1, 0] * x + f[1, 1] * y + f[1, 2] * z
    v = f[2, 0] * x + f[2, 1] * y + f[2, 2] * z
    w = f[3, 0] * x + f[3, 1] * y + f[3, 2] * z
    out = p.factors[s, 0] * w + p.factors[s, 3]
    if p.fields[s, 0] >= 0:
        out += p.factors[s, 1] * spline_at(p, p.fields[s, 0], u, v, 0.0)
    if p.fields[s, 1] >= 0:
        out += p.factors[s, 2] * spline_at(p, p.fields[s, 1], u, v, 0.0)
    return out


@compiled(cache=True, error_model="numpy")
def share_there(p, j, code, x, y, z):  # type: ignore[no-untyped-def]
    """Return what part of its movement fault j has at a place that younger faults were taken back for."""
    first = p.kind.shape[0] - p.slip.shape[0]
    f = p.frame[first + j]
    a, b, c = x - f[0, 0], y - f[0, 1], z - f[0, 2]
    u = (f[1, 0] * a + f[1, 1] * b + f[1, 2] * c) * p.tips[j, 0]
    v = (f[2, 0] * a + f[2, 1] * b + f[2, 2] * c) * p.tips[j, 1]
    left = 1.0 - u * u - v * v
    if left <= 0.0:
        return 0.0
    for i in range(p.slip.shape[0]):
        side = p.ends[j, i]
        if side != 0.0:
            # Of a younger fault the side is known; of an older one it is where the place lies now.
            over = (code >> i) & 1 if i < j else surface_there(p, first + i, x, y, z) > 0.0
            if (side > 0.0) != (over != 0):
                return 0.0
    return np.sqrt(left)


@compiled(cache=True, error_model="numpy")
def _taken_back(p, mask, code, x, y, z):  # type: ignore[no-untyped-def]
    """Return where a place was before the faults of the bits of `mask`, the others on the sides of `code`."""
    j = 0
    while mask:
        if mask & 1:
            part = share_there(p, j, code, x, y, z)
            x, y, z = x - part * p.slip[j, 0], y - part * p.slip[j, 1], z - part * p.slip[j, 2]
        mask >>= 1
        j += 1
    return x, y, z


@compiled(cache=True, error_model="numpy")
def surface_at(p, s, code, x, y, z):  # type: ignore[no-untyped-def]
    """Return surface s at a place now, on the sides of faults that the bits of `code` say (1 the hangingwall)."""
    x, y, z = _taken_back(p, p.moved[s] & code, code, x, y, z)
    return surface_there(p, s, x, y, z)


@compiled(cache=True, error_model="numpy")
def share_at(p, j, code, x, y, z):  # type: ignore[no-untyped-def]
    """Return what part of its movement fault j has at a place now, younger faults on the sides of `code`."""
    x, y, z = _taken_back(p, code & ((1 << j) - 1), code, x, y, z)
    return share_there(p, j, code, x, y, z)


@compiled(cache=True, error_model="numpy")
def natural_code(p, x, y, z):  # type: ignore[no-untyped-def]
    """Return on which sides of the faults a place lies, as bits: 1 for a hangingwall that moved there."""
    code, many = 0, p.slip.shape[0]
    first = p.kind.shape[0] - many
    for j in range(many):
        if surface_there(p, first + j, x, y, z) > 0.0:
            part = share_there(p, j, code, x, y, z)
            if part > 0.0:
                code |= 1 << j
                x, y, z = x - part * p.slip[j, 0], y - part * p.slip[j, 1], z - part * p.slip[j, 2]
    return code


@compiled(cache=True, parallel=True, error_model="numpy")
def _codes(p, at, out):  # type: ignore[no-untyped-def]
    for i in prange(at.shape[0]):
        out[i] = natural_code(p, at[i, 0], at[i, 1], at[i, 2])


@compiled(cache=True, parallel=True, error_model="numpy")
def values_at(p, at, codes, out):  # type: ignore[no-untyped-def]
    """Write the first surfaces (as many as `out` (n, k) has columns) at places (n, 3) on the sides of `codes` (n,)."""
    for i in prange(at.shape[0]):
        for s in range(out.shape[1]):
            out[i, s] = surface_at(p, s, codes[i], at[i, 0], at[i, 1], at[i, 2])


@compiled(cache=True, parallel=True, error_model="numpy")
def shares_at(p, at, codes, out):  # type: ignore[no-untyped-def]
    """Write what part (n, faults) of each fault's movement places (n, 3) have on the sides of `codes` (n,)."""
    for i in prange(at.shape[0]):
        for j in range(out.shape[1]):
            out[i, j] = share_at(p, j, codes[i], at[i, 0], at[i, 1], at[i, 2])


def natural_codes(p: Packed, at: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return on which sides (n,) of the faults places (n, 3) lie, as bits."""
    out = np.zeros(len(at), dtype=np.int64)
    if len(p.slip):
        _codes(p, at, out)
    return out
