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
    hole = [runs.hole[:-1][used]]
    depth = [0.5 * (runs.stop[:-1] + runs.start[1:])[used]]
    value = [np.zeros(int(used.sum()))]
    # Runs of one side that touch are one for the distances in them; a run that tells nothing ends them.
    for first, last in _same_side(runs, side, touch):
        top = depth_of_change(runs, change, first - 1)
        foot = depth_of_change(runs, change, last)
        start, stop = runs.start[first], runs.stop[last]
        at = _places(start, stop, np.isfinite(top), np.isfinite(foot), step, cap)
        away = np.minimum(np.minimum(np.abs(at - top), np.abs(at - foot)), cap) if len(at) else at
        away = np.where(np.isfinite(away), away, cap)
        nearest = np.where(np.abs(at - top) <= np.abs(at - foot), first - 1, last)
        told = (away >= cap) | used[np.clip(nearest, 0, len(used) - 1)] if len(used) else np.ones(len(at), bool)
        at, away = at[told], away[told]
        hole.append(np.full(len(at), runs.hole[first]))
        depth.append(at)
        value.append(side[first] * away)
    return SidedSamples(np.concatenate(hole), np.concatenate(depth), np.concatenate(value))


def depth_of_change(runs: Runs, change: NDArray[np.bool_], after: int) -> float:
    """Return the depth in metres of the contact behind a run, infinite where there is none; `change` has the shape (n - 1,)."""
    if 0 <= after < len(change) and change[after]:
        return float(0.5 * (runs.stop[after] + runs.start[after + 1]))
    return float("inf")


def _same_side(runs: Runs, side: NDArray[np.integer], touch: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and last run of each stretch of one side that is not 0."""
    out: list[tuple[int, int]] = []
    first = 0
    for k in range(len(side)):
        ends = k == len(side) - 1 or not touch[k] or side[k + 1] != side[k]
        if ends:
            if side[k] != 0:
                out.append((first, k))
            first = k + 1
    return out


def _places(start: float, stop: float, top: bool, foot: bool, step: float, cap: float) -> FloatArray:
    """Depths in a stretch: close together where a contact is near, else far apart; none nearer than half a step to one."""
    if stop - start < step:
        return np.array([0.5 * (start + stop)])
    near = np.arange(step, min(cap, stop - start) + 0.5 * step, step)
    parts = []
    if top:
        parts.append(start + near[near < stop - start - 0.25 * step])
    if foot:
        parts.append(stop - near[near < stop - start - 0.25 * step])
    inner = (start + (cap if top else 0.0), stop - (cap if foot else 0.0))
    if inner[1] > inner[0]:
        count = max(int((inner[1] - inner[0]) / (4.0 * step)), 1)
        parts.append(inner[0] + (np.arange(count) + 0.5) * (inner[1] - inner[0]) / count)
    return np.unique(np.round(np.concatenate(parts), 3)) if parts else np.array([0.5 * (start + stop)])


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
