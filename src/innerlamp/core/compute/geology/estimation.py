"""Grades of blocks from samples around them: nearest sample, inverse distance, ordinary kriging, by search ellipsoid, octants and passes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numba import prange
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from ..compiled import compiled
from ..gridding.kriging_equations import krige_at
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
class Estimates:
    """Of blocks (m,): grade and kriging variance (NaN where there is none), samples used, and the pass from 1 on, 0 for none."""

    grade: FloatArray
    variance: FloatArray
    samples: IntArray
    passed: IntArray


@compiled(cache=True)
def _in_octants(p, s, candidates, away, most, each, radius, chosen):  # type: ignore[no-untyped-def]
    # Nearest first, at most `each` of an octant; returns how many were taken.
    counts = np.zeros(8, np.int64)
    taken = 0
    for k in range(len(candidates)):
        j = candidates[k]
        if taken == most or j < 0 or j >= len(s) or away[k] > radius:
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
    return taken


@compiled(parallel=True, cache=True)
def _estimate(  # type: ignore[no-untyped-def]
    points, samples, values, near, away, method, power, least, most, each, radius,
    nugget, shape, sill, lengths, grade, variance, count,
):  # fmt: skip
    for i in prange(len(points)):
        chosen = np.empty(most, np.int64)
        n = _in_octants(points[i], samples, near[i], away[i], most, each, radius, chosen)
        grade[i], variance[i], count[i] = np.nan, np.nan, n
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
        grade[i], variance[i] = krige_at(points[i], samples, values, chosen[:n], False, nugget, shape, sill, lengths)


def estimate(
    points: FloatArray,
    values: FloatArray,
    at: FloatArray,
    search: Search,
    method: Method = "kriging",
    variogram: Variogram | None = None,
    power: float = 2.0,
    progress: Progress = SILENT,
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
    grade, variance = np.full(m, np.nan), np.full(m, np.nan)
    count, passed = np.zeros(m, np.int64), np.zeros(m, np.int64)
    wanted = min(search.most * (_CANDIDATES if search.each_octant else 1), len(values))
    left = np.arange(m)
    for turn, times in enumerate(search.passes, start=1):
        radius = search.reach * times / across
        for start in range(0, len(left), _CHUNK):
            progress((turn - 1 + start / max(len(left), 1)) / len(search.passes), f"Pass {turn}")
            rows = left[start : start + _CHUNK]
            places = np.ascontiguousarray((at[rows] - origin) @ matrix.T)
            away, near = tree.query(places, k=wanted, distance_upper_bound=radius * (1 + 1e-12), workers=-1)
            away, near = away.reshape(len(rows), -1), near.reshape(len(rows), -1)
            g, v, n = np.empty(len(rows)), np.empty(len(rows)), np.empty(len(rows), np.int64)
            _estimate(
                places, samples, values, near, away, ("nearest", "inverse distance", "kriging").index(method), power,
                search.least, search.most, search.each_octant, radius, nugget, shape, sill, lengths, g, v, n,
            )  # fmt: skip
            good = np.isfinite(g)
            grade[rows[good]], variance[rows[good]] = g[good], v[good]
            count[rows[good]], passed[rows[good]] = n[good], turn
        left = np.flatnonzero(passed == 0)
        if not len(left):
            break
    progress(1.0, "Estimated")
    return Estimates(grade, variance, count, passed)


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
