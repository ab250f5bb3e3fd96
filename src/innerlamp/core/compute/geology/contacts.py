"""Contacts between the units of holes: who touches whom, where, and how far a place on a hole is from a change of side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
GAP = 0.5  # metres between two logged runs that still touch


@dataclass(frozen=True)
class Runs:
    """Runs of one unit each, sorted by hole and depth.

    Attributes
    ----------
    hole
        Number of the hole, shape (n,).
    start, stop
        Depths along the hole in metres.
    unit
        Names of the units.
    """

    hole: IntArray
    start: FloatArray
    stop: FloatArray
    unit: NDArray[np.object_]

    def touch(self, gap: float = GAP) -> NDArray[np.bool_]:
        """Return for each run but the last, shape (n - 1,), whether the next one touches it: same hole, no more than a gap in metres between."""
        near = np.asarray(self.start[1:] - self.stop[:-1] <= gap, dtype=bool)
        return np.asarray(np.equal(self.hole[1:], self.hole[:-1]) & near, dtype=bool)


def pairs(runs: Runs) -> pd.DataFrame:
    """Return how often units touch in the holes: upper, lower, count, the most frequent first.

    `upper` is the one that is met first down the hole.
    """
    touch = runs.touch()
    table = pd.DataFrame({"upper": runs.unit[:-1][touch], "lower": runs.unit[1:][touch]})
    out = table.value_counts(["upper", "lower"]).rename("count").reset_index()
    return out.sort_values(["count", "upper", "lower"], ascending=[False, True, True]).reset_index(drop=True)


@dataclass(frozen=True)
class SidedSamples:
    """Places on holes with the side of a surface that they lie on.

    Attributes
    ----------
    hole, depth
        Shape (n,): where they are, metres along the hole.
    value
        0 at a contact; else the distance along the hole to the nearest change of side, up to a cap, positive inside.
    """

    hole: IntArray
    depth: FloatArray
    value: FloatArray

    @property
    def contact(self) -> NDArray[np.bool_]:
        return np.asarray(self.value == 0.0, dtype=bool)


def sided(
    runs: Runs, side: NDArray[np.integer], step: float, cap: float, mine: NDArray[np.bool_] | None = None
) -> SidedSamples:
    """Return contacts between the two sides of a surface, and samples of the runs around them.

    Parameters
    ----------
    side
        Of each run: 1 inside, -1 outside, 0 where the log tells nothing of it (such as a younger rock).
    step
        Metres between samples near a contact; those farther than the cap from one are four times as far apart.
    cap
        Metres from which a sample only tells its side.
    mine
        Of each pair of neighbours (n - 1,) whether its contact feeds this surface; all by default. A contact that feeds
        another one is none here, and samples that are nearest to it are left out: no contact is used twice.
    """
    touch = runs.touch()
    change = touch & (side[1:] * side[:-1] < 0)
    used = change if mine is None else change & mine
    middle = 0.5 * (runs.stop[:-1] + runs.start[1:])
    # Runs of one side that touch are one for the distances in them; a run that tells nothing ends them.
    first, last = _same_side(side, touch)
    top = np.full(len(first), np.inf)
    foot = np.full(len(first), np.inf)
    if len(change):
        above, below = np.clip(first - 1, 0, len(change) - 1), np.clip(last, 0, len(change) - 1)
        top = np.where((first > 0) & change[above], middle[above], np.inf)
        foot = np.where((last < len(change)) & change[below], middle[below], np.inf)
    of, at = _places(runs.start[first], runs.stop[last], np.isfinite(top), np.isfinite(foot), step, cap)
    to_top, to_foot = np.abs(at - top[of]), np.abs(at - foot[of])
    away = np.minimum(np.minimum(to_top, to_foot), cap)
    nearest = np.where(to_top <= to_foot, first[of] - 1, last[of])
    told = (away >= cap) | used[np.clip(nearest, 0, len(used) - 1)] if len(used) else np.ones(len(at), dtype=bool)
    of, at, away = of[told], at[told], away[told]
    return SidedSamples(
        np.concatenate([runs.hole[:-1][used], runs.hole[first[of]]]),
        np.concatenate([middle[used], at]),
        np.concatenate([np.zeros(int(used.sum())), side[first[of]] * away]),
    )


def _same_side(side: NDArray[np.integer], touch: NDArray[np.bool_]) -> tuple[IntArray, IntArray]:
    """First and last run of each stretch of one side that is not 0."""
    if not len(side):
        return np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64)
    last = np.flatnonzero(np.append(~touch | (side[1:] != side[:-1]), True))
    first = np.concatenate([[0], last[:-1] + 1])
    told = side[first] != 0
    return first[told], last[told]


def _numbered(count: IntArray) -> tuple[IntArray, IntArray]:
    """For so many of each: which one it is of, and its number from 0."""
    of = np.repeat(np.arange(len(count)), count)
    return of, np.arange(len(of)) - np.repeat(np.cumsum(count) - count, count)


def _places(
    start: FloatArray, stop: FloatArray, top: NDArray[np.bool_], foot: NDArray[np.bool_], step: float, cap: float
) -> tuple[IntArray, FloatArray]:
    """Depths in stretches, and the stretch of each: close together where a contact is near, else far apart; none nearer than half a step to one."""
    length = stop - start
    short = length < step
    count = np.where(short, 0, np.ceil(np.minimum(cap, length) / step - 0.5)).astype(np.int64)
    of, k = _numbered(np.maximum(count, 0))
    near = step * (k + 1.0)
    good = near < length[of] - 0.25 * step
    down, up = good & top[of], good & foot[of]
    low, high = start + np.where(top, cap, 0.0), stop - np.where(foot, cap, 0.0)
    room = ~short & (high > low)
    many = np.where(room, np.maximum(((high - low) / (4.0 * step)).astype(np.int64), 1), 0)
    inside, number = _numbered(many)
    between = low[inside] + (number + 0.5) * (high - low)[inside] / many[inside]
    alone = np.flatnonzero(short)
    whole = np.concatenate([of[down], of[up], inside, alone])
    at = np.concatenate(
        [
            np.round(start[of[down]] + near[down], 3),
            np.round(stop[of[up]] - near[up], 3),
            np.round(between, 3),
            0.5 * (start + stop)[alone],
        ]
    )
    order = np.lexsort((at, whole))
    whole, at = whole[order], at[order]
    twice = np.zeros(len(at), dtype=bool)
    twice[1:] = (whole[1:] == whole[:-1]) & (at[1:] == at[:-1])
    return whole[~twice], at[~twice]


def pieces(runs: Runs, unit: NDArray[np.integer], number: int) -> tuple[IntArray, FloatArray, FloatArray]:
    """Return the pieces of a unit on holes: hole (n,), start and stop (n,), metres along the hole.

    What is younger (a lower number) took the place of the unit: pieces with nothing else between them are one.
    """
    hole: list[int] = []
    start: list[float] = []
    stop: list[float] = []
    touch = runs.touch()
    open_piece = False
    for k in range(len(unit)):
        if k and not touch[k - 1]:
            open_piece = False
        if unit[k] == number:
            if open_piece:
                stop[-1] = float(runs.stop[k])
            else:
                hole.append(int(runs.hole[k]))
                start.append(float(runs.start[k]))
                stop.append(float(runs.stop[k]))
            open_piece = True
        elif unit[k] < 0 or unit[k] > number:
            open_piece = False
    return np.array(hole, dtype=np.int64), np.array(start), np.array(stop)


def covered(runs: Runs, unit: NDArray[np.integer], number: int) -> tuple[IntArray, FloatArray, NDArray[np.bool_]]:
    """Return down to where holes are covered by units up to a number: hole (n,), depth (n,) in metres, and whether the base was met.

    A hole that begins in something older is covered down to nothing; one that never leaves the cover says that it
    reaches at least to its end. Holes whose log does not begin near the collar are left out.
    """
    hole: list[int] = []
    depth: list[float] = []
    met: list[bool] = []
    touch = runs.touch()
    k = 0
    while k < len(unit):
        last = k
        while last + 1 < len(unit) and runs.hole[last + 1] == runs.hole[k]:
            last += 1
        if runs.start[k] <= 2.0 * GAP:
            base, j = 0.0, k
            while j <= last and 0 <= unit[j] <= number and (j == k or touch[j - 1]):
                base = float(runs.stop[j])
                j += 1
            hole.append(int(runs.hole[k]))
            depth.append(base)
            met.append(j <= last)
        k = last + 1
    return np.array(hole, dtype=np.int64), np.array(depth), np.array(met, dtype=bool)
