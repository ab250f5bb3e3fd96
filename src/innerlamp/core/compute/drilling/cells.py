"""The lengths of holes over which grades are composited: from the collar, between benches, or within one rock."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from .desurvey import Path, locate

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Leftover = Literal["keep", "join to the one above", "leave out", "spread evenly"]
Cells = tuple[IntArray, FloatArray, FloatArray]

_TOUCH = 1e-6  # metres
MOST = 20_000_000


def divided(
    hole: IntArray, start: FloatArray, stop: FloatArray, length: float, leftover: Leftover = "keep"
) -> tuple[IntArray, FloatArray, FloatArray, IntArray]:
    """Return runs cut into equal lengths from their tops: hole, start and stop of each, and the number of its run.

    Parameters
    ----------
    hole, start, stop
        Runs, shape (n,): index of the hole and depths in metres.
    length
        Metres; infinite leaves every run whole.
    leftover
        What becomes of the rest at the end of a run: kept as a shorter one, joined to the one above it, left out, or all
        of a run made equally long, as near to `length` as they can be. A run that is shorter than `length` is kept whole
        unless rests are left out.

    Raises
    ------
    InputError
        When the length is not positive, or more than 20 million pieces would come out.
    """
    if not length > 0:
        raise InputError("the composite length must be positive", fix="Give a length in metres, such as 2")
    run = stop - start
    if np.isinf(length):
        return hole, start, stop, np.arange(len(hole))
    whole = np.floor(run / length + 1e-9)
    rest = run - whole * length
    rest = np.where(rest > _TOUCH, rest, 0.0)
    step = np.full(len(run), float(length))
    if leftover == "spread evenly":
        count = np.maximum(np.rint(run / length), 1.0)
        step = run / count
    elif leftover == "join to the one above":
        count = np.maximum(whole, 1.0)
    elif leftover == "leave out":
        count = whole
    else:
        count = whole + (rest > 0)
    count = np.where(run > _TOUCH, count, 0.0)
    if count.sum() > MOST:
        raise InputError(f"that would make {count.sum():,.0f} composites", fix="Take a longer length")
    number = count.astype(np.int64)
    row = np.repeat(np.arange(len(run)), number)
    k = np.arange(int(number.sum())) - np.repeat(np.cumsum(number) - number, number)
    top = start[row] + k * step[row]
    last = k == number[row] - 1
    reaches_end = leftover != "leave out"
    end = np.where(last & reaches_end, stop[row], start[row] + (k + 1) * step[row])
    return hole[row], top, end, row


def rock_runs(
    hole: IntArray, start: FloatArray, stop: FloatArray, code: NDArray[np.object_]
) -> tuple[IntArray, FloatArray, FloatArray, NDArray[np.object_]]:
    """Return the runs of one rock: logged intervals of the same code that touch are one; those without a code none.

    All are of shape (n,): index of the hole, depths in metres, code; and so are the runs.
    """
    known = np.isfinite(start) & np.isfinite(stop) & (stop > start) & (hole >= 0) & (code.astype(str) != "")
    order = np.flatnonzero(known)[np.lexsort((start[known], hole[known]))]
    h, a, b, c = hole[order], start[order], stop[order], code[order]
    if not len(h):
        return h, a, b, c
    new = np.concatenate([[True], (h[1:] != h[:-1]) | (c[1:] != c[:-1]) | (np.abs(a[1:] - b[:-1]) > 1e-3)])
    first = np.flatnonzero(new)
    last = np.append(first[1:], len(h)) - 1
    return h[first], a[first], b[last], c[first]


def bench_cells(
    path: Path, end: FloatArray, height: float, level: float = 0.0
) -> tuple[IntArray, FloatArray, FloatArray, FloatArray]:
    """Return the parts of holes between level surfaces: hole, start and stop (m along the hole), elevation of the bench's foot.

    Parameters
    ----------
    path
        Desurveyed holes; where one turns upwards again a bench is passed more than once.
    end
        Depth to which each hole reaches, metres, shape (number of holes,).
    height
        Bench height in metres.
    level
        Elevation of one of the levels, metres.

    Raises
    ------
    InputError
        When the height is not positive, or more than 20 million parts would come out.
    """
    if not height > 0:
        raise InputError("the bench height must be positive", fix="Give a height in metres, such as 10")
    rise = np.ptp(path.position[:, 2]) if len(path.hole) else 0.0
    if rise / height * max(len(end), 1) > MOST:
        raise InputError("that would make too many benches", fix="Take a greater bench height")
    # Between stations a path bends by little: cut into pieces short enough that none turns and comes back.
    step = min(max(height / 2.0, 1.0), 10.0)
    count = np.maximum(np.ceil(end / step), 1).astype(np.int64)
    hole = np.repeat(np.arange(len(end)), count + 1)
    k = np.arange(int((count + 1).sum())) - np.repeat(np.cumsum(count + 1) - count - 1, count + 1)
    depth = end[hole] * k / count[hole]
    bench = (locate(path, hole, depth)[:, 2] - level) / height
    same = (hole[1:] == hole[:-1]) & np.isfinite(bench[1:]) & np.isfinite(bench[:-1])
    low, high = np.minimum(bench[1:], bench[:-1]), np.maximum(bench[1:], bench[:-1])
    crossed = np.where(same, np.maximum(np.floor(high) - np.ceil(low) + 1, 0), 0).astype(np.int64)
    row = np.repeat(np.arange(len(crossed)), crossed)
    nth = np.arange(int(crossed.sum())) - np.repeat(np.cumsum(crossed) - crossed, crossed)
    wanted = np.ceil(low[row]) + nth
    a, b = depth[:-1][row].copy(), depth[1:][row].copy()
    falling = bench[1:][row] < bench[:-1][row]
    for _ in range(48):
        middle = 0.5 * (a + b)
        z = (locate(path, hole[:-1][row], middle)[:, 2] - level) / height
        beyond = np.where(falling, z < wanted, z > wanted)
        a, b = np.where(beyond, a, middle), np.where(beyond, middle, b)
    all_hole = np.concatenate([np.arange(len(end)), hole[:-1][row], np.arange(len(end))])
    all_depth = np.concatenate([np.zeros(len(end)), 0.5 * (a + b), end])
    order = np.lexsort((all_depth, all_hole))
    h, d = all_hole[order], all_depth[order]
    part = np.flatnonzero((h[1:] == h[:-1]) & (np.diff(d) > 1e-3))
    start, stop = d[part], d[part + 1]
    z = locate(path, h[part], 0.5 * (start + stop))[:, 2]
    return h[part], start, stop, np.floor((z - level) / height) * height + level
