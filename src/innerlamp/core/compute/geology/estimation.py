"""Grades of blocks from samples around them: nearest sample, inverse distance, ordinary kriging, by search ellipsoid, octants and passes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..compiled import compiled
from ..gridding.kriging_equations import gamma_within, krige_at, krige_block_at
from ..gridding.variogram import SHAPES, Structure
from .rbf import Ellipsoid

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Method = Literal["kriging", "inverse distance", "nearest"]
_CHUNK = 50_000
_CANDIDATES = 6  # times the samples that are looked at to fill octants


@dataclass(frozen=True)
class Search:
    """Which samples a block is estimated from.

    Attributes
    ----------
    ellipsoid
        Directions of continuity.
    reach
        Metres along the main direction; shorter in the others by the ellipsoid.
    least, most
        A block with fewer samples is left to the next pass; the nearest `most` are taken.
    each_octant
        At most so many of each octant of the ellipsoid's axes; 0 for no octants.
    passes
        Times the reach, one after the other for blocks that have no estimate yet.
    """

    ellipsoid: Ellipsoid = field(default_factory=Ellipsoid)
    reach: float = 100.0
    least: int = 2
    most: int = 24
    each_octant: int = 0
    passes: tuple[float, ...] = (1.0,)


@dataclass(frozen=True)
class Variogram:
    """Nugget and structures, whose ranges are along the main direction in metres."""

    nugget: float
    structures: tuple[Structure, ...]


@dataclass(frozen=True)
class Blocks:
    """Blocks as volumes, for kriging.

    Attributes
    ----------
    sizes
        Shape (m, 3): metres along both axes in plan and up.
    axes
        Unit vectors (2, 2) of the axes in plan, east and north.
    points
        In how many parts a block is divided along each axis; its mean is taken over their middles.
    """

    sizes: FloatArray
    axes: FloatArray
    points: tuple[int, int, int] = (4, 4, 2)

    def middles(self) -> FloatArray:
        """Middles of the parts (k, 3), in shares of the size from the middle of the block."""
        lines = [(np.arange(n) + 0.5) / n - 0.5 for n in self.points]
        return np.stack(np.meshgrid(*lines, indexing="ij"), axis=-1).reshape(-1, 3)


@dataclass(frozen=True)
class Estimates:
    """Of blocks (m,): grade and kriging variance (NaN where there is none), samples used, and the pass from 1 on, 0 for none.

    Of blocks that were kriged as volumes also the efficiency of kriging and the slope of regression, NaN else.
    """

    grade: FloatArray
    variance: FloatArray
    samples: IntArray
    passed: IntArray
    efficiency: FloatArray
    slope: FloatArray


@compiled(cache=True)
def _in_octants(p, s, candidates, away, most, each, radius, chosen):  # type: ignore[no-untyped-def]
    # Nearest first, at most `each` of an octant; returns how many were taken, and whether more candidates could add to them.
    counts = np.zeros(8, np.int64)
    taken, open_ended = 0, True
    for k in range(len(candidates)):
        j = candidates[k]
        if taken == most or j < 0 or j >= len(s) or away[k] > radius:
            open_ended = False
            break
        octant = 0
        for axis in range(3):
            if s[j, axis] >= p[axis]:
                octant += 1 << axis
        if each > 0 and counts[octant] >= each:
            continue
        counts[octant] += 1
        chosen[taken] = j
        taken += 1
    full = taken == most
    if each > 0 and not full:
        full = True
        for octant in range(8):
            full = full and counts[octant] >= each
    return taken, open_ended and not full


@compiled(parallel=True, cache=True)
def _hidden(points, samples, near, away, most, each, radius, out):  # type: ignore[no-untyped-def]
    for i in prange(len(points)):
        chosen = np.empty(most, np.int64)
        _, out[i] = _in_octants(points[i], samples, near[i], away[i], most, each, radius, chosen)


@compiled(parallel=True, cache=True)
def _estimate(  # type: ignore[no-untyped-def]
    points, samples, values, near, away, method, power, least, most, each, radius,
    nugget, shape, sill, lengths, sizes, middles, axes, within, grade, variance, count, efficiency, slope,
):  # fmt: skip
    for i in prange(len(points)):
        chosen = np.empty(most, np.int64)
        n, _ = _in_octants(points[i], samples, near[i], away[i], most, each, radius, chosen)
        grade[i], variance[i], count[i] = np.nan, np.nan, n
        efficiency[i], slope[i] = np.nan, np.nan
        if n < least:
            continue
        if method == 0:
            grade[i] = values[chosen[0]]
            continue
        if method == 1:
            total, weights = 0.0, 0.0
            for a in range(n):
                d = 0.0
                for axis in range(3):
                    d += (samples[chosen[a], axis] - points[i, axis]) ** 2
                w = 1.0 / max(d, 1e-12) ** (0.5 * power)
                total += w * values[chosen[a]]
                weights += w
            grade[i] = total / weights
            continue
        if len(sizes) == 0:
            grade[i], variance[i], _ = krige_at(
                points[i], samples, values, chosen[:n], False, nugget, shape, sill, lengths
            )
            continue
        parts = np.empty((len(middles), 3))
        for k in range(len(middles)):
            for axis in range(3):
                parts[k, axis] = points[i, axis]
                for along in range(3):
                    parts[k, axis] += middles[k, along] * sizes[i, along] * axes[along, axis]
        grade[i], variance[i], efficiency[i], slope[i] = krige_block_at(
            parts, samples, values, chosen[:n], within[i], nugget, shape, sill, lengths
        )


def estimate(
    points: FloatArray,
    values: FloatArray,
    at: FloatArray,
    search: Search,
    method: Method = "kriging",
    variogram: Variogram | None = None,
    power: float = 2.0,
    progress: Progress = SILENT,
    blocks: Blocks | None = None,
) -> Estimates:
    """Return grades at places, such as the middles of blocks.

    Parameters
    ----------
    points, values
        Samples: shapes (n, 3) in metres and (n,); no two at one place for kriging.
    at
        Shape (m, 3), metres.
    variogram
        For kriging (Matheron 1963); distances are those of the search ellipsoid.
    power
        Of inverse distance.
    blocks
        The volumes (m,) whose middles the places are, for kriging; without them points are kriged.

    Raises
    ------
    InputError
        When there are too few samples, kriging has no variogram, or the search is none.
    """
    from scipy.spatial import cKDTree

    if method == "kriging" and variogram is None:
        raise InputError("kriging needs a variogram")
    if len(values) < search.least or len(values) < 1:
        raise InputError(f"{len(values)} samples are too few", fix=f"{search.least} are asked for each block")
    if not (search.reach > 0 and 1 <= search.least <= search.most and search.passes and min(search.passes) > 0):
        raise InputError(
            "the search finds nothing: reach, passes and samples must be positive, the least not above the most"
        )
    matrix, origin = search.ellipsoid.matrix(), points.mean(axis=0)
    samples = np.ascontiguousarray((points - origin) @ matrix.T)
    tree = cKDTree(samples)
    across = search.ellipsoid.along  # metres along the main direction over those of the scaled space
    shape, sill, lengths = np.zeros(0, np.int64), np.zeros(0), np.zeros(0)
    nugget = 0.0
    if variogram is not None:
        nugget = variogram.nugget
        shape = np.array([SHAPES.index(s.shape) for s in variogram.structures], dtype=np.int64)
        sill = np.array([s.sill for s in variogram.structures], dtype=float)
        lengths = np.array([s.range for s in variogram.structures], dtype=float) / across
    m = len(at)
    grade, variance, efficiency, slope = (np.full(m, np.nan) for _ in range(4))
    sizes, middles, axes, within = np.zeros((0, 3)), np.zeros((0, 3)), np.zeros((3, 3)), np.zeros(0)
    if blocks is not None and method == "kriging":
        sizes, middles = np.ascontiguousarray(blocks.sizes, dtype=float), blocks.middles()
        world = np.eye(3)
        world[:2, :2] = blocks.axes
        axes = np.ascontiguousarray(world @ matrix.T)
        kinds, kind = np.unique(np.round(sizes, 6), axis=0, return_inverse=True)
        each = [gamma_within((middles * one) @ axes, nugget, shape, sill, lengths) for one in kinds]
        within = np.array(each)[np.ravel(kind)]
    count, passed = np.zeros(m, np.int64), np.zeros(m, np.int64)
    wanted = min(search.most * (_CANDIDATES if search.each_octant else 1), len(values))
    left = np.arange(m)
    for turn, times in enumerate(search.passes, start=1):
        radius = search.reach * times / across
        for start in range(0, len(left), _CHUNK):
            progress((turn - 1 + start / max(len(left), 1)) / len(search.passes), f"Pass {turn}")
            rows = left[start : start + _CHUNK]
            places = np.ascontiguousarray((at[rows] - origin) @ matrix.T)
            found = _near(tree, places, samples, wanted, search, radius)
            for some, near, away in found:
                mine = rows[some]
                g, v, e, t = (np.empty(len(mine)) for _ in range(4))
                n = np.empty(len(mine), np.int64)
                _estimate(
                    places[some], samples, values, near, away, ("nearest", "inverse distance", "kriging").index(method),
                    power, search.least, search.most, search.each_octant, radius, nugget, shape, sill, lengths,
                    sizes[mine] if len(sizes) else sizes, middles, axes, within[mine] if len(within) else within,
                    g, v, n, e, t,
                )  # fmt: skip
                good = np.isfinite(g)
                grade[mine[good]], variance[mine[good]] = g[good], v[good]
                efficiency[mine[good]], slope[mine[good]] = e[good], t[good]
                count[mine[good]], passed[mine[good]] = n[good], turn
        left = np.flatnonzero(passed == 0)
        if not len(left):
            break
    progress(1.0, "Estimated")
    return Estimates(grade, variance, count, passed, efficiency, slope)


def _near(
    tree: Any, places: FloatArray, samples: FloatArray, wanted: int, search: Search, radius: float
) -> list[tuple[IntArray, IntArray, FloatArray]]:
    """The samples nearest to places: rows of places, and for each the numbers of samples and how far away they are.

    With octants a dense hole could be all that lies near: places whose octants may find more are looked around farther.
    """
    out = []
    left = np.arange(len(places))
    while len(left):
        away, near = tree.query(places[left], k=wanted, distance_upper_bound=radius * (1 + 1e-12), workers=-1)
        away, near = away.reshape(len(left), -1), near.reshape(len(left), -1)
        hidden = np.zeros(len(left), dtype=np.bool_)
        if search.each_octant and wanted < len(samples):
            _hidden(places[left], samples, near, away, search.most, search.each_octant, radius, hidden)
        done = ~hidden
        if done.any():
            out.append((left[done], np.ascontiguousarray(near[done]), np.ascontiguousarray(away[done])))
        left, wanted = left[hidden], min(4 * wanted, len(samples))
    return out


def grade_and_tonnage(
    grade: FloatArray, volume: FloatArray, density: FloatArray | float, cutoffs: Sequence[float]
) -> list[tuple[float, float, float]]:
    """Return for each cut-off: the cut-off, tonnes at or above it, and their mean grade (NaN for none).

    Grades (n,) in any unit, volumes (n,) in m³, density in t/m³.
    """
    known = np.isfinite(grade)
    tonnes = np.where(known, volume * density, 0.0)
    out = []
    for cutoff in cutoffs:
        above = known & (grade >= cutoff)
        mass = float(tonnes[above].sum())
        out.append((float(cutoff), mass, float((tonnes[above] @ grade[above]) / mass) if mass > 0 else float("nan")))
    return out
