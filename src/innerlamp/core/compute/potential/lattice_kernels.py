"""Compiled loops of the lattice operator: what is near in closed form, deposits on levels, weights of places."""

from __future__ import annotations

import numpy as np
from numba import prange

from ..compiled import compiled
from .fastmath import fast_atan
from .prisms import away, far_value, log_sum

POINTS = 6  # of an interpolation along one axis
BEFORE = 2  # of them before the interval in which a place lies


@compiled(forceinline=True, error_model="numpy")
def _node(x, y, z, c, gravity):  # type: ignore[no-untyped-def]
    # Antiderivative of the kernel at one corner: Nagy 1966 for gravity, Bhattacharyya 1964 for second derivatives.
    xx, yy, zz = x * x, y * y, z * z
    r = np.sqrt(xx + yy + zz)
    if gravity:
        return x * log_sum(r, y, xx + zz) + y * log_sum(r, x, yy + zz) - z * fast_atan(x * y / (z * r))
    value = -c[0] * fast_atan(y * z / (x * r)) - c[1] * fast_atan(x * z / (y * r)) - c[2] * fast_atan(x * y / (z * r))
    return value + c[3] * log_sum(r, z, xx + yy) + c[4] * log_sum(r, y, xx + zz) + c[5] * log_sum(r, x, yy + zz)


@compiled(cache=True, error_model="numpy")
def _along_z(x, y, zs, oz, c, gravity, out):  # type: ignore[no-untyped-def]
    if gravity:
        for k in range(zs.size):
            out[k] = _node(x, y, away(zs[k] - oz), c, True)
    else:
        for k in range(zs.size):
            out[k] = _node(x, y, away(zs[k] - oz), c, False)


@compiled(cache=True, error_model="numpy")
def _along_x(xs, y, z, c, gravity, out):  # type: ignore[no-untyped-def]
    if gravity:
        for i in range(xs.size):
            out[i] = _node(xs[i], y, z, c, True)
    else:
        for i in range(xs.size):
            out[i] = _node(xs[i], y, z, c, False)


@compiled(cache=True, error_model="numpy", parallel=True)
def fill_table(first, step, core, c, gravity, out):  # type: ignore[no-untyped-def]
    """Far field per m³ at every offset of the lattice, (fx, fy, fz), wrapped round; zero within `core` offsets.

    `first` is the offset in steps that stands at (0, 0, 0), `step` the spacings in metres (z up from source to sensor).
    """
    fx, fy, fz = out.shape
    h1, h2 = step[0] ** 2 / 24.0, step[1] ** 2 / 24.0
    for a in prange(fx):
        i = first[0] + (a if a < first[3] else a - fx)
        for b in range(fy):
            j = first[1] + (b if b < first[4] else b - fy)
            for d in range(fz):
                k = first[2] + (d if d < first[5] else d - fz)
                if abs(i) <= core[0] and abs(j) <= core[1] and abs(k) <= core[2]:
                    out[a, b, d] = 0.0
                else:  # from sensor to source
                    out[a, b, d] = far_value(-i * step[0], -j * step[1], -k * step[2], c, h1, h2, 0.0, gravity)


@compiled(cache=True, error_model="numpy")
def lagrange(t, out):  # type: ignore[no-untyped-def]
    """Weights of `POINTS` neighbours for a place at `t` steps; returns the number of the first."""
    low = int(np.floor(t))
    s = t - low + BEFORE
    for m in range(POINTS):
        value = 1.0
        for n in range(POINTS):
            if n != m:
                value *= (s - n) / (m - n)
        out[m] = value
    return low - BEFORE


@compiled(cache=True, error_model="numpy")
def place_weights(t, first, weights):  # type: ignore[no-untyped-def]
    """Weights (n, 3, POINTS) and first neighbours (n, 3) of places given in steps (n, 3)."""
    for d in range(t.shape[0]):
        for axis in range(3):
            first[d, axis] = lagrange(t[d, axis], weights[d, axis])


@compiled(cache=True, error_model="numpy", parallel=True)
def deposit_sizes(between, z0, h, start, count):  # type: ignore[no-untyped-def]
    """First level and number of levels onto which each cell (nx, ny, nz) is spread; none for one without thickness."""
    nx, ny, nz = start.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                low, high = (between[i, j, k] - z0) / h, (between[i, j, k + 1] - z0) / h
                if high - low < 1e-9:
                    count[i, j, k] = 0
                    continue
                start[i, j, k] = int(np.floor(low)) - BEFORE
                count[i, j, k] = int(np.floor(high)) - BEFORE + POINTS - start[i, j, k]


@compiled(cache=True, error_model="numpy", parallel=True)
def deposit_weights(between, z0, h, plan, start, ptr, nodes, shares, weights):  # type: ignore[no-untyped-def]
    """Shares (m³) of each cell's volume on its levels: the mean over the cell of the interpolation between levels."""
    nx, ny, nz = start.shape
    for i in prange(nx):
        each = np.empty(POINTS)
        for j in range(ny):
            for k in range(nz):
                cell = (i * ny + j) * nz + k
                for q in range(ptr[cell], ptr[cell + 1]):
                    weights[q] = 0.0
                low, high = (between[i, j, k] - z0) / h, (between[i, j, k + 1] - z0) / h
                if high - low < 1e-9:
                    continue
                parts = int(np.ceil(high - low))  # each part no thicker than a step
                size = (high - low) / parts
                for part in range(parts):
                    for g in range(nodes.size):
                        n = lagrange(low + (part + nodes[g]) * size, each)
                        for m in range(POINTS):
                            weights[ptr[cell] + n + m - start[i, j, k]] += shares[g] * size * h * plan * each[m]


@compiled(cache=True, error_model="numpy", parallel=True)
def near_runs(z, column, between, reach, zr, start, count):  # type: ignore[no-untyped-def]
    """Runs of cells near to each sensor: for each column of its box the first cell's place and how many."""
    nx, ny, nz = between.shape[0], between.shape[1], between.shape[2] - 1
    width = 2 * reach + 1
    for d in prange(z.size):
        for a in range(width):
            i = column[d, 0] - reach + a
            for b in range(width):
                j = column[d, 1] - reach + b
                count[d, a * width + b] = 0
                start[d, a * width + b] = 0
                if i < 0 or i >= nx or j < 0 or j >= ny:
                    continue
                k0, k1 = 0, nz
                while k0 < nz and between[i, j, k0 + 1] < z[d] - zr:
                    k0 += 1
                while k1 > k0 and (between[i, j, k1 - 1] > z[d] + zr or between[i, j, k1] <= between[i, j, k1 - 1]):
                    k1 -= 1
                start[d, a * width + b] = (i * ny + j) * nz + k0
                count[d, a * width + b] = k1 - k0


@compiled(cache=True, error_model="numpy")
def _exact_shared(o, column, xe, ye, between, levels, reach, runs, lengths, c, gravity, out):  # type: ignore[no-untyped-def]
    # Closed form of a sensor's near cells whose levels are common to all columns but for the tops.
    nx, ny, nz = between.shape[0], between.shape[1], between.shape[2] - 1
    width = 2 * reach + 1
    k0, k1 = nz, 0
    for s in range(width * width):
        if lengths[s] > 0:
            first = runs[s] % nz
            k0, k1 = min(k0, first), max(k1, first + lengths[s])
    if k1 <= k0:
        return
    i0, i1 = max(0, column[0] - reach), min(nx, column[0] + reach + 1)
    j0, j1 = max(0, column[1] - reach), min(ny, column[1] + reach + 1)
    xs = np.empty(i1 - i0 + 1)
    for i in range(xs.size):
        xs[i] = away(xe[i0 + i] - o[0])
    high = k1 - k0 + 1
    upper, lower = np.empty((high, xs.size)), np.empty((high, xs.size))
    two, four = np.empty(2), np.empty(2)
    for j in range(j0, j1 + 1):
        y = away(ye[j] - o[1])
        for k in range(high):
            _along_x(xs, y, away(levels[k0 + k] - o[2]), c, gravity, upper[k])
        if j > j0:
            before = away(ye[j - 1] - o[1])
            for i in range(i1 - i0):
                s = (i0 + i - column[0] + reach) * width + (j - 1 - column[1] + reach)
                if lengths[s] == 0:
                    continue
                first = runs[s] % nz
                below = (upper[first - k0, i + 1] - upper[first - k0, i]) - (
                    lower[first - k0, i + 1] - lower[first - k0, i]
                )
                for k in range(first, first + lengths[s]):
                    top = between[i0 + i, j - 1, k + 1]
                    if abs(top - levels[k + 1]) < 1e-9:
                        q = k + 1 - k0
                        above = (upper[q, i + 1] - upper[q, i]) - (lower[q, i + 1] - lower[q, i])
                    else:
                        z = away(top - o[2])
                        _along_x(xs[i : i + 2], y, z, c, gravity, two)
                        _along_x(xs[i : i + 2], before, z, c, gravity, four)
                        above = (two[1] - two[0]) - (four[1] - four[0])
                    out[s, k - first] = above - below
                    below = above
        upper, lower = lower, upper


@compiled(cache=True, error_model="numpy")
def _exact_columns(o, xe, ye, between, runs, lengths, c, gravity, out):  # type: ignore[no-untyped-def]
    # The same column by column, whatever their levels.
    ny, nz = between.shape[1], between.shape[2] - 1
    parts = np.empty((4, nz + 1))
    for s in range(runs.size):
        n = lengths[s]
        if n == 0:
            continue
        i, j, first = runs[s] // nz // ny, runs[s] // nz % ny, runs[s] % nz
        zs = between[i, j, first : first + n + 1]
        for a in range(2):
            for b in range(2):
                x, y = away(xe[i + a] - o[0]), away(ye[j + b] - o[1])
                _along_z(x, y, zs, o[2], c, gravity, parts[2 * a + b])
        below = parts[3, 0] - parts[2, 0] - parts[1, 0] + parts[0, 0]
        for k in range(n):
            above = parts[3, k + 1] - parts[2, k + 1] - parts[1, k + 1] + parts[0, k + 1]
            out[s, k] = above - below
            below = above


@compiled(cache=True, error_model="numpy", fastmath=True)
def _seen_through(table, nodes, weights, first_column, width, l1, levels, out):  # type: ignore[no-untyped-def]
    # What the lattice gives for unit sources on levels l1 - 1 downwards of the columns of a sensor's box:
    # out (width, width, levels). One axis after the other.
    fx, fy, fz = table.shape
    wide, long = width + POINTS - 1, levels + POINTS - 1
    second = np.zeros((wide, width, levels))
    third, line = np.empty((wide, levels)), np.empty(long)
    # Offsets of nodes from columns run from nodes - (first + width - 1) on, those of levels from nodes - (l1 - 1) on.
    ox, oy, oz = nodes[0] - first_column[0] - width + 1, nodes[1] - first_column[1] - width + 1, nodes[2] - l1 + 1
    for a in range(wide):
        qa = (ox + a) % fx
        for b in range(wide):
            qb = (oy + b) % fy
            for n in range(long):
                line[n] = table[qa, qb, (oz + n) % fz]
            row = third[b]
            row[:] = 0.0
            for m in range(POINTS):
                w = weights[2, m]
                for lev in range(levels):
                    row[lev] += w * line[lev + m]
        for b in range(width):
            for m in range(POINTS):
                w = weights[1, m]
                for lev in range(levels):
                    second[a, b, lev] += w * third[width - 1 - b + m, lev]
    for a in range(width):
        out[a] = 0.0
        for m in range(POINTS):
            w = weights[0, m]
            for b in range(width):
                for lev in range(levels):
                    out[a, b, lev] += w * second[width - 1 - a + m, b, lev]


@compiled(cache=True, error_model="numpy", parallel=True)
def fill_near(  # type: ignore[no-untyped-def]
    obs, column, nodes, weights, xe, ye, between, levels, shared, reach, runs, lengths, ptr, dep_start, dep_ptr, dep_w,
    tables, squares, cs, scale, gravity, near, extra,
):  # fmt: skip
    """Closed form less what the lattice gives, of all near cells: `near` (kinds, total); `extra` (total) for squares."""
    width = 2 * reach + 1
    starts = dep_start.ravel()
    for d in prange(obs.shape[0]):
        longest, l0, l1 = 0, 1 << 30, 0
        for s in range(width * width):
            longest = max(longest, lengths[d, s])
            for k in range(lengths[d, s]):
                cell = runs[d, s] + k
                if dep_ptr[cell + 1] > dep_ptr[cell]:
                    l0 = min(l0, starts[cell])
                    l1 = max(l1, starts[cell] + dep_ptr[cell + 1] - dep_ptr[cell])
        if longest == 0 or l1 <= l0:
            continue
        corner = np.array([column[d, 0] - reach, column[d, 1] - reach])
        exact = np.zeros((width * width, longest))
        seen = np.empty((width, width, l1 - l0))
        for kind in range(near.shape[0] + 1):
            square = kind == near.shape[0]
            if not square:
                if shared:
                    _exact_shared(
                        obs[d], column[d], xe, ye, between, levels, reach, runs[d], lengths[d], cs[kind], gravity, exact
                    )
                else:
                    _exact_columns(obs[d], xe, ye, between, runs[d], lengths[d], cs[kind], gravity, exact)
            _seen_through(squares if square else tables[kind], nodes[d], weights[d], corner, width, l1, l1 - l0, seen)
            at = ptr[d]
            for s in range(width * width):
                a, b = s // width, s % width
                for k in range(lengths[d, s]):
                    cell = runs[d, s] + k
                    value, volume = 0.0, 0.0
                    base = l1 - 1 - starts[cell] + dep_ptr[cell]
                    for q in range(dep_ptr[cell], dep_ptr[cell + 1]):
                        value += dep_w[q] * seen[a, b, base - q]
                        volume += dep_w[q]
                    if square:
                        extra[at] -= value * volume
                    else:
                        whole = exact[s, k] * scale[kind] if volume > 0 else 0.0
                        near[kind, at] = whole - value
                        extra[at] += whole * whole
                    at += 1


@compiled(cache=True, error_model="numpy", parallel=True)
def deposit(box, start, ptr, weights, out):  # type: ignore[no-untyped-def]
    """Spread the values of cells (nx, ny, nz) over levels: out (nx, ny, levels)."""
    nx, ny, nz = box.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                cell = (i * ny + j) * nz + k
                value = box[i, j, k]
                if value != 0:
                    for q in range(ptr[cell + 1] - ptr[cell]):
                        out[i, j, start[i, j, k] + q] += value * weights[ptr[cell] + q]


@compiled(cache=True, error_model="numpy", parallel=True)
def collect(levels, start, ptr, weights, out):  # type: ignore[no-untyped-def]
    """The transposed of `deposit`, added to what stands in `out` (nx, ny, nz)."""
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                cell = (i * ny + j) * nz + k
                value = out[i, j, k]
                for q in range(ptr[cell + 1] - ptr[cell]):
                    value += levels[i, j, start[i, j, k] + q] * weights[ptr[cell] + q]
                out[i, j, k] = value


@compiled(cache=True, error_model="numpy", parallel=True)
def gather(field, nodes, weights, out):  # type: ignore[no-untyped-def]
    """Interpolate a lattice at places, added to `out`."""
    for d in prange(nodes.shape[0]):
        value = 0.0
        for a in range(POINTS):
            for b in range(POINTS):
                w = weights[d, 0, a] * weights[d, 1, b]
                for c in range(POINTS):
                    value += w * weights[d, 2, c] * field[nodes[d, 0] + a, nodes[d, 1] + b, nodes[d, 2] + c]
        out[d] += value


@compiled(cache=True, error_model="numpy")
def scatter(values, nodes, weights, field):  # type: ignore[no-untyped-def]
    """The transposed of `gather`."""
    for d in range(nodes.shape[0]):
        for a in range(POINTS):
            for b in range(POINTS):
                w = values[d] * weights[d, 0, a] * weights[d, 1, b]
                for c in range(POINTS):
                    field[nodes[d, 0] + a, nodes[d, 1] + b, nodes[d, 2] + c] += w * weights[d, 2, c]


@compiled(cache=True, error_model="numpy", parallel=True, fastmath=True)
def near_apply(near, ptr, runs, lengths, box, out):  # type: ignore[no-untyped-def]
    """Products of near cells, added to `out` (n)."""
    for d in prange(runs.shape[0]):
        at, value = ptr[d], 0.0
        for s in range(runs.shape[1]):
            first, n = runs[d, s], lengths[d, s]
            run = near[0] * 0  # in the operator's own precision, so that a run is done several at a time
            for k in range(n):
                run += near[at + k] * box[first + k]
            value += run
            at += n
        out[d] += value


@compiled(cache=True, error_model="numpy", parallel=True, fastmath=True)
def near_transposed(near, ptr, runs, lengths, values, boxes):  # type: ignore[no-untyped-def]
    """The transposed of `near_apply`, in one private box (parts, cells) for each part of the sensors."""
    parts, n = boxes.shape[0], runs.shape[0]
    for part in prange(parts):
        for d in range(part * n // parts, (part + 1) * n // parts):
            at, value = ptr[d], values[d]
            for s in range(runs.shape[1]):
                first = runs[d, s]
                for k in range(lengths[d, s]):
                    boxes[part, first + k] += near[at + k] * value
                at += lengths[d, s]
