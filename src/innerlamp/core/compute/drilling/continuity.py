"""Which way high grades run: principal axes of places by weight, with the confidence of their direction.

The axes are the eigenvectors of the weighted scatter of the places (Flinn 1962 for their ratios; Woodcock 1977); the
confidence is that of the bootstrap over samples (Efron & Tibshirani 1993), as the angle that 95 of 100 axes keep.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
_DRAWS = 300
LEAST = 6


@dataclass(frozen=True)
class Trend:
    """Where the weight lies and how it is drawn out.

    `middle` (3,) metres; `axes` (3, 3) rows longest first, each pointing down; `lengths` (3,) metres of two standard
    deviations along them; `confidence` (2,) degrees within which 95 of 100 longest and shortest axes lie.
    """

    middle: FloatArray
    axes: FloatArray
    lengths: FloatArray
    confidence: FloatArray


def weighted_trend(places: FloatArray, weight: FloatArray, seed: int = 1) -> Trend:
    """Return the principal axes of places (n, 3) by weight (n,).

    Raises
    ------
    InputError
        With fewer than six places, or without any weight.
    """
    if len(places) < LEAST:
        raise InputError(
            f"{len(places)} samples are too few for a direction", fix=f"At least {LEAST} are needed: lower the cut-off"
        )
    if not (np.isfinite(weight).all() and (weight >= 0).all() and weight.sum() > 0):
        raise InputError("the grades give no weight", fix="Take a cut-off above 0")
    middle, axes, spread = _axes(places, weight)
    rng = np.random.default_rng(seed)
    away = np.empty((_DRAWS, 2))
    for k in range(_DRAWS):
        row = rng.integers(0, len(places), len(places))
        if weight[row].sum() <= 0:
            away[k] = 90.0
            continue
        _, other, _ = _axes(places[row], weight[row])
        near = np.abs(np.sum(other * axes, axis=1))
        away[k] = np.degrees(np.arccos(np.clip(near[[0, 2]], 0.0, 1.0)))
    return Trend(middle, axes, 2.0 * np.sqrt(np.maximum(spread, 0.0)), np.percentile(away, 95, axis=0))


def _axes(places: FloatArray, weight: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    share = weight / weight.sum()
    middle = share @ places
    off = places - middle
    values, vectors = np.linalg.eigh((off * share[:, None]).T @ off)
    axes = vectors.T[::-1]
    axes = np.where(axes[:, 2:] > 0, -axes, axes)
    return middle, axes, values[::-1]
