"""Variograms: from sample pairs, as models, and fitted.

A model is a nugget and one or more structures; ranges of exponential and Gaussian structures are
practical ones, at which 95 % of the sill is reached.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
Shape = Literal["spherical", "exponential", "gaussian"]
SHAPES: tuple[Shape, ...] = ("spherical", "exponential", "gaussian")
MOST_PAIRS_FROM = 4000


@dataclass(frozen=True)
class Structure:
    """One nested part: its shape, partial sill, and range in metres along the major axis."""

    shape: Shape
    sill: float
    range: float


@dataclass(frozen=True)
class Model:
    """A variogram model.

    Attributes
    ----------
    nugget
        Jump at the origin.
    structures
        Nested parts, added up.
    azimuth
        Direction of the longest range, degrees clockwise from grid north.
    ratio
        Range across divided by range along, above 0 to 1.
    """

    nugget: float
    structures: tuple[Structure, ...]
    azimuth: float = 0.0
    ratio: float = 1.0

    @property
    def sill(self) -> float:
        return self.nugget + sum(s.sill for s in self.structures)

    def check(self) -> None:
        """Refuse what is no model.

        Raises
        ------
        InputError
            For negative sills, ranges that are not positive, a ratio outside 0..1, or no variance at all.
        """
        if self.nugget < 0 or any(s.sill < 0 for s in self.structures) or not self.sill > 0:
            raise InputError("nugget and sills can't be negative, and not all zero")
        if any(not s.range > 0 for s in self.structures) or not 0 < self.ratio <= 1:
            raise InputError("ranges must be above 0, and the ratio of ranges above 0 and at most 1")

    def reduced(self, dx: FloatArray, dy: FloatArray) -> FloatArray:
        """Return distances in which the anisotropy is taken out: metres along the major axis.

        Offsets to the east and north in metres have any shape, and the result has it too.
        """
        a = np.radians(self.azimuth)
        along, across = dx * np.sin(a) + dy * np.cos(a), dx * np.cos(a) - dy * np.sin(a)
        return np.asarray(np.hypot(along, across / self.ratio))

    def gamma(self, distance: FloatArray) -> FloatArray:
        """Return the semivariance at reduced distances; 0 at 0, where the nugget does not count.

        Distances in metres have any shape; the result has it too, in the squared unit of the values.
        """
        h = np.asarray(distance, dtype=float)
        out = np.full(h.shape, self.nugget)
        for s in self.structures:
            out = out + s.sill * _shape(s.shape, h / s.range)
        return np.where(h > 0, out, 0.0)


def _shape(shape: Shape, ratio: FloatArray) -> FloatArray:
    if shape == "spherical":
        r = np.minimum(ratio, 1.0)
        return 1.5 * r - 0.5 * r**3
    return 1.0 - np.exp(-3.0 * ratio) if shape == "exponential" else 1.0 - np.exp(-3.0 * ratio**2)


@dataclass(frozen=True)
class Experimental:
    """Semivariances of pairs by distance: mean distance (m), semivariance and number of pairs of each bin."""

    distance: FloatArray
    gamma: FloatArray
    pairs: NDArray[np.int64]


def experimental(
    x: FloatArray,
    y: FloatArray,
    values: FloatArray,
    width: float,
    bins: int,
    azimuth: float = float("nan"),
    tolerance: float = 22.5,
    seed: int = 1,
) -> Experimental:
    """Return the semivariance of pairs in bins (k width, (k + 1) width] (Matheron 1963).

    With an azimuth (degrees clockwise from north) only pairs within `tolerance` degrees of it, either
    way, count. Of more than 4,000 samples as many are drawn at random, always the same ones. Bins
    without a pair are left out.

    Raises
    ------
    InputError
        With fewer than three samples, or when no pair falls into any bin.
    """
    if len(values) < 3:
        raise InputError(f"{len(values)} samples are too few for a variogram", fix="It needs three at least")
    if not width > 0 or bins < 1:
        raise InputError("bins of a variogram must be wider than 0")
    if len(values) > MOST_PAIRS_FROM:
        chosen = np.random.default_rng(seed).choice(len(values), MOST_PAIRS_FROM, replace=False)
        x, y, values = x[chosen], y[chosen], values[chosen]
    total, squares, count = np.zeros(bins), np.zeros(bins), np.zeros(bins, dtype=np.int64)
    wanted = np.radians(azimuth)
    for k in range(len(values) - 1):  # row by row: all pairs at once would not fit into memory
        dx, dy = x[k + 1 :] - x[k], y[k + 1 :] - y[k]
        h = np.hypot(dx, dy)
        bin_ = np.ceil(h / width - 1e-9).astype(np.int64) - 1
        good = (h > 0) & (bin_ < bins)
        if np.isfinite(azimuth):
            aside = np.abs(dx * np.cos(wanted) - dy * np.sin(wanted))
            good &= aside <= h * np.sin(np.radians(min(tolerance, 90.0))) + 1e-9  # 90 degrees take in all
        bin_ = bin_[good]
        difference = values[k + 1 :][good] - values[k]
        total += np.bincount(bin_, h[good], bins)
        squares += np.bincount(bin_, difference**2, bins)
        count += np.bincount(bin_, minlength=bins)
    has = count > 0
    if not has.any():
        raise InputError(
            "no pair of samples falls into the bins of the variogram", fix="Take wider bins, or more of them"
        )
    return Experimental(total[has] / count[has], 0.5 * squares[has] / count[has], count[has])


def propose_bins(x: FloatArray, y: FloatArray, bins: int = 15) -> tuple[float, int]:
    """Return bin width and count that reach a third of the diagonal of the area (common practice, no source).

    Places in metres have shape (n,); the width is in metres.

    Raises
    ------
    InputError
        When all samples lie at one place.
    """
    diagonal = float(np.hypot(np.ptp(x), np.ptp(y)))
    if not diagonal > 0:
        raise InputError("all values lie at one place")
    return diagonal / 3.0 / bins, bins


def fit(
    data: Experimental,
    shape: Shape = "spherical",
    azimuth: float = 0.0,
    ratio: float = 1.0,
    structures: int = 1,
    second: Shape | None = None,
) -> Model:
    """Return the model nearest to an experimental variogram, weighted by pairs over squared distance (Cressie 1985).

    Nugget and sills are not negative. A second structure has the shape `second`, or the same one.

    Raises
    ------
    InputError
        With fewer than three bins, or when all semivariances are zero.
    """
    from scipy.optimize import least_squares

    top = float(data.gamma.max())
    if not top > 0:
        raise InputError("all values are the same: there is nothing to fit")
    if len(data.gamma) < 3:
        raise InputError("the variogram has fewer than three bins with pairs", fix="Take narrower bins")
    weight = np.sqrt(data.pairs) / data.distance
    weight = weight / weight.max()
    longest = float(data.distance.max())

    def model_of(p: FloatArray) -> Model:
        parts = tuple(
            Structure(shape if k == 0 else second or shape, float(p[1 + 2 * k]) * top, float(p[2 + 2 * k]) * longest)
            for k in range(structures)
        )
        return Model(float(p[0]) * top, parts, azimuth, ratio)

    def misfit(p: FloatArray) -> FloatArray:
        return np.asarray(weight * (model_of(p).gamma(data.distance) - data.gamma) / top)

    best = None
    starts: Sequence[float] = (0.15, 0.4, 0.8)
    for start in starts:
        first = [0.1]
        for k in range(structures):
            first += [0.9 / structures, start * (1.0 if k == 0 else 2.0)]
        low = [0.0, *([0.0, 1e-3] * structures)]
        high = [2.0, *([3.0, 4.0] * structures)]
        found = least_squares(misfit, np.clip(first, low, high), bounds=(low, high), xtol=1e-12, ftol=1e-12, gtol=1e-12)
        if best is None or found.cost < best.cost:
            best = found
    assert best is not None
    model = model_of(best.x)
    if second not in (None, shape):  # each keeps its place: the form names them
        return model
    return replace(model, structures=tuple(sorted(model.structures, key=lambda s: s.range)))
