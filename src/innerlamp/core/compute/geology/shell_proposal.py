"""What a grade shell holds of what it is made for, and which cell, search and continuity would hold it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
_FLAT = 0.5  # of the middle spread of places: below it they lie in a plane


@dataclass(frozen=True)
class Proposal:
    """Parameters of a shell in metres and degrees (strike by the right-hand rule), told from the composites above the cut-off.

    `width` and `spacing` are what they were told from: metres of a run in a hole, and between holes that have one.
    """

    cell: float
    search_radius_m: float
    ratio: float
    azimuth: float
    dip: float
    width: float
    spacing: float

    @property
    def smoothing(self) -> float:
        """Metres by which the field may be smoothed without losing runs of that width."""
        return _round(self.width / 20.0)

    @property
    def basis(self) -> str:
        """What they were told from."""
        return f"runs of {self.width:.3g} m, holes with them {self.spacing:.3g} m apart"

    @property
    def words(self) -> str:
        """As the parameters are written."""
        turned = f" azimuth={self.azimuth:g} dip={self.dip:g}" if self.ratio > 1 else ""
        return f"cell={self.cell:g} search_radius_m={self.search_radius_m:g} smoothing={self.smoothing:g} ratio={self.ratio:g}{turned}"


def held(inside: NDArray[np.bool_], length: FloatArray, grade: FloatArray, cutoff: float) -> tuple[float, float]:
    """Return the parts (0 to 1) of the metres and of the metal at or above the cut-off that are inside; NaN without any.

    Inside, lengths in metres and grades in any unit have the shape (n,).
    """
    rich = grade >= cutoff
    metres, metal = length[rich], (length * grade)[rich]
    if not metres.sum() > 0:
        return float("nan"), float("nan")
    mine = inside[rich]
    return float(metres[mine].sum() / metres.sum()), float(metal[mine].sum() / metal.sum())


def proposal(
    places: FloatArray,
    hole: NDArray[np.int64],
    start: FloatArray,
    length: FloatArray,
    rich: NDArray[np.bool_],
    most: float,
) -> Proposal | None:
    """Return parameters that would hold the composites above a cut-off; None where fewer than two holes have any.

    Parameters
    ----------
    places
        Middles of composites (n, 3), metres.
    hole, start, length
        Number of the hole, depth and length in metres of each (n,).
    rich
        Which are at or above the cut-off (n,).
    most
        Nodes that the field may have.
    """
    from scipy.spatial import cKDTree

    at = np.flatnonzero(rich)
    if len(np.unique(hole[at])) < 2:
        return None
    width = float(np.median(_runs(hole[at], start[at], length[at])))
    nearest = []
    for each in np.unique(hole[at]):
        mine, others = places[at][hole[at] == each], places[at][hole[at] != each]
        nearest.append(float(cKDTree(others).query(mine)[0].min()))
    spacing = max(float(np.median(nearest)), width)
    ratio, azimuth, dip = 1.0, 0.0, 90.0
    if len(at) >= 4:
        spread, axes = np.linalg.eigh(np.cov(places[at].T))
        if np.sqrt(max(spread[0], 0.0)) < _FLAT * np.sqrt(spread[1]):
            normal = axes[:, 0] if axes[2, 0] >= 0 else -axes[:, 0]
            dip = float(np.degrees(np.arccos(np.clip(normal[2], -1.0, 1.0))))
            direction = float(np.degrees(np.arctan2(normal[0], normal[1]))) % 360.0
            azimuth = (direction - 90.0) % 360.0
            ratio = float(np.clip(1.5 * spacing / width, 1.0, 20.0))
    radius = _round(max(0.75 * spacing, width))
    span = np.ptp(places, axis=0) + 2 * radius
    cell = max(width / 3.0, float(np.cbrt(np.prod(span) / most)) * 1.05)
    return Proposal(_round(cell), radius, _round(ratio), round(azimuth) % 360, round(dip), width, spacing)


def _runs(hole: NDArray[np.int64], start: FloatArray, length: FloatArray) -> FloatArray:
    """Metres of each run of composites that follow one another in a hole."""
    order = np.lexsort((start, hole))
    h, a, n = hole[order], start[order], length[order]
    new = np.concatenate([[True], (h[1:] != h[:-1]) | (a[1:] > (a + n)[:-1] + 0.01)])
    return np.asarray(np.bincount(np.cumsum(new) - 1, weights=n))


def _round(value: float) -> float:
    return float(f"{value:.2g}")
