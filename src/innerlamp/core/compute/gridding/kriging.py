"""Ordinary kriging, and kriging with a linear drift, from the nearest samples of each place."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..compiled import compiled
from .kriging_equations import krige_at
from .variogram import SHAPES, Model

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_CHUNK = 40_000
_MOST_LOOKED = 2_000
_CANDIDATES = 6  # times the neighbours that are looked at to find some in each quadrant
_FLAT = 0.02  # width over length of the samples below which no plane is told from them


@compiled(parallel=True, cache=True)
def _solve(  # pragma: no cover
    places: FloatArray,
    samples: FloatArray,
    values: FloatArray,
    near: IntArray,
    nugget: float,
    shape: IntArray,
    sill: FloatArray,
    range_m: FloatArray,
    drift: NDArray[np.bool_],
    estimate: FloatArray,
    variance: FloatArray,
    multiplier: FloatArray,
) -> None:
    # Coordinates are reduced already: the anisotropy is taken out of them.
    for i in prange(len(places)):
        n = 0
        for k in range(near.shape[1]):
            if near[i, k] >= 0:
                n += 1
        if n == 0:
            estimate[i], variance[i], multiplier[i] = np.nan, np.nan, np.nan
        else:
            estimate[i], variance[i], multiplier[i] = krige_at(
                places[i], samples, values, near[i, :n], drift[i], nugget, shape, sill, range_m
            )


class Kriged(NamedTuple):
    """Estimates and variances at places (m,), at which of them the drift was left out (see `krige`), and multipliers."""

    estimate: FloatArray
    variance: FloatArray
    plain: NDArray[np.bool_]
    multiplier: FloatArray

    @property
    def lacking(self) -> FloatArray:
        """How much less the estimate varies than the value that it stands for, (m,), in squared units (Journel 1980).

        An estimate is smoother than what it estimates. Whoever kriged another function of a value needs this to turn it
        back without bias: the mean of ``exp(Y)`` is ``exp(estimate + lacking / 2)``, that of ``Y**2`` is
        ``estimate**2 + lacking``, where Y is normal and varies as the variogram says.
        """
        return self.variance - 2.0 * self.multiplier


def _reduced(x: FloatArray, y: FloatArray, model: Model) -> tuple[FloatArray, FloatArray]:
    a = np.radians(model.azimuth)
    return x * np.cos(a) / model.ratio - y * np.sin(a) / model.ratio, x * np.sin(a) + y * np.cos(a)


def without_twins(
    x: FloatArray, y: FloatArray, values: FloatArray, rule: str = "mean"
) -> tuple[FloatArray, FloatArray, FloatArray, int]:
    """Return samples with those at one place (to the millimetre) made one, and how many went: twins have no solution.

    `rule` says what stands for them: mean, median, highest or first.

    Places in metres and values have shape (n,).
    """
    keys = np.round(np.column_stack([x, y]), 3)
    _, first, inverse, count = np.unique(keys, axis=0, return_index=True, return_inverse=True, return_counts=True)
    if len(first) == len(x):
        return x, y, values, 0
    inverse = inverse.ravel()
    if rule == "first":
        merged = values[first]
    elif rule == "highest":
        merged = np.full(len(first), -np.inf)
        np.maximum.at(merged, inverse, values)
    elif rule == "median":
        order = np.lexsort((values, inverse))
        stops = np.cumsum(count)
        ordered, starts = values[order], stops - count
        merged = 0.5 * (ordered[starts + (count - 1) // 2] + ordered[starts + count // 2])
    else:
        merged = np.bincount(inverse, values) / count
    return x[first], y[first], merged, len(x) - len(first)


def krige(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    at_x: FloatArray,
    at_y: FloatArray,
    model: Model,
    neighbours: int = 24,
    drift: bool = False,
    search_radius_m: float = float("inf"),
    leave_one_out: IntArray | None = None,
    progress: Progress = SILENT,
) -> Kriged:
    """Return estimates and kriging variances at places (Matheron 1963; with a linear drift: Matheron 1969).

    With a drift the samples are sought in the four quadrants about the place, so that a near line does not
    hide the others; where those that are found still lie on one line, or are fewer than four, the drift is
    undetermined: the mean is taken as constant there, and the outcome says where.

    Parameters
    ----------
    x, y, values
        Samples, shape (n,), metres; no two at one place (see `without_twins`).
    at_x, at_y
        Places, shape (m,).
    model
        The variogram.
    neighbours
        Each place is estimated from so many nearest samples, nearest in the sense of the model's
        anisotropy. At a sample the estimate is the sample.
    drift
        Whether the mean is a plane (kriging with a linear drift) instead of an unknown constant.
    search_radius_m
        Samples farther than this, in metres along the major axis, do not take part.
    leave_one_out
        For each place a sample that does not take part, -1 for none: for leaving one out.

    Raises
    ------
    InputError
        When there are too few samples or the model is none.
    """
    from scipy.spatial import cKDTree

    model.check()
    least = 4 if drift else 2
    if len(values) < least:
        raise InputError(f"{len(values)} samples are too few for kriging", fix=f"It needs {least} at least")
    if drift and bool(_on_a_line(x - x.mean(), y - y.mean(), np.arange(len(x))[None, :])[0]):
        raise InputError("the samples lie on one line: no plane can be fitted", fix="Krige without drift")
    centre = (float(x.mean()), float(y.mean()))
    sx, sy = _reduced(x - centre[0], y - centre[1], model)
    samples = np.column_stack([sx, sy])
    tree = cKDTree(samples)
    shape = np.array([SHAPES.index(s.shape) for s in model.structures], dtype=np.int64)
    sill, lengths = (np.array([getattr(s, n) for s in model.structures], dtype=float) for n in ("sill", "range"))
    m = len(at_x)
    estimate, variance, multiplier = np.empty(m), np.empty(m), np.empty(m)
    plain = np.zeros(m, dtype=bool)
    wanted = neighbours + (leave_one_out is not None)
    count = min(_CANDIDATES * wanted if drift else wanted, len(values))
    for start in range(0, m, _CHUNK):
        part = slice(start, min(start + _CHUNK, m))
        px, py = _reduced(at_x[part] - centre[0], at_y[part] - centre[1], model)
        mine = None if leave_one_out is None else leave_one_out[part]
        near = _nearest(tree, px, py, count, search_radius_m, mine)
        if drift:
            near = _by_quadrant(px, py, sx, sy, near, neighbours)
            plain[part] = _on_a_line(sx, sy, near)
            looked = count
            while plain[part].any() and looked < min(len(values), _MOST_LOOKED):  # close readings of one far line
                looked = min(4 * looked, len(values), _MOST_LOOKED)
                again = np.flatnonzero(plain[part])
                left = None if mine is None else mine[again]
                more = _nearest(tree, px[again], py[again], looked, search_radius_m, left)
                near[again] = _by_quadrant(px[again], py[again], sx, sy, more, neighbours)[:, : near.shape[1]]
                plain[part] = _on_a_line(sx, sy, near)
        else:
            near = near[:, :neighbours]
        with_drift = ~plain[part] if drift else np.zeros(len(px), dtype=bool)
        _solve(
            np.column_stack([px, py]),
            samples,
            values,
            near,
            model.nugget,
            shape,
            sill,
            lengths,
            with_drift,
            estimate[part],
            variance[part],
            multiplier[part],
        )
        progress(part.stop / m, "Kriging")
    return Kriged(estimate, variance, plain & np.isfinite(estimate), multiplier)


def _nearest(tree: Any, px: FloatArray, py: FloatArray, count: int, within: float, left: IntArray | None) -> IntArray:
    """The nearest samples (m, count) of places, -1 where there are fewer; without the one that is left out of each."""
    away, found = tree.query(np.column_stack([px, py]), k=count, distance_upper_bound=within, workers=-1)
    near: IntArray = np.where(np.isfinite(away), found, -1).reshape(len(px), -1).astype(np.int64)
    if left is not None:
        near = np.where(near == left[:, None], -1, near)
        order = np.argsort(near < 0, axis=1, kind="stable")  # those that are left move to the front
        near = np.take_along_axis(near, order, axis=1)
    return near


def _by_quadrant(
    px: FloatArray, py: FloatArray, sx: FloatArray, sy: FloatArray, near: IntArray, neighbours: int
) -> IntArray:
    """Of candidates (m, k), nearest first, a quarter of the neighbours from each quadrant, the rest the nearest."""
    there = near >= 0
    dx, dy = sx[near] - px[:, None], sy[near] - py[:, None]
    quadrant = np.where(there, 2 * (dx >= 0) + (dy >= 0), -1)
    quota = -(-neighbours // 4)
    chosen = np.zeros(near.shape, dtype=bool)
    for each in range(4):
        mine = quadrant == each
        chosen |= mine & (np.cumsum(mine, axis=1) <= quota)
    order = np.argsort(np.where(there, ~chosen, 2), axis=1, kind="stable")
    return np.ascontiguousarray(np.take_along_axis(near, order, axis=1)[:, :neighbours])


def _on_a_line(sx: FloatArray, sy: FloatArray, near: IntArray) -> NDArray[np.bool_]:
    """Which places have samples (m, k) that do not determine a plane: fewer than four, or nearly on one line."""
    there = near >= 0
    count = np.maximum(there.sum(axis=1), 1)
    x, y = np.where(there, sx[near], 0.0), np.where(there, sy[near], 0.0)
    u = np.where(there, x - (x.sum(axis=1) / count)[:, None], 0.0)
    v = np.where(there, y - (y.sum(axis=1) / count)[:, None], 0.0)
    a, b, c = (u * u).sum(axis=1), (u * v).sum(axis=1), (v * v).sum(axis=1)
    root = np.sqrt(0.25 * (a - c) ** 2 + b * b)
    least, most = 0.5 * (a + c) - root, 0.5 * (a + c) + root
    return np.asarray((there.sum(axis=1) < 4) | (np.maximum(least, 0.0) <= _FLAT**2 * most))
