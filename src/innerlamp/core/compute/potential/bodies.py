"""Bodies of a model: cells that hang together, their volume and middle, and how far two models agree on them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

FloatArray = NDArray[np.float64]
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Body:
    """Cells that share faces.

    Attributes
    ----------
    number
        From 1, the largest first.
    volume
        m³.
    middle
        East, north, elevation in metres of the centre of its volume.
    top
        Elevation of its highest cell's middle in metres.
    """

    number: int
    volume: float
    middle: FloatArray
    top: float


def bodies(
    chosen: Mask, volumes: FloatArray, centres: FloatArray, least: float = 0.0
) -> tuple[NDArray[np.int64], list[Body]]:
    """Return the number of the body of each cell (0 for none) and the bodies of at least some m³.

    Parameters
    ----------
    chosen
        Which cells belong to a body, shape (nx, ny, nz).
    volumes
        m³, shape (nx, ny, nz).
    centres
        Metres, shape (nx, ny, nz, 3).
    """
    labels, count = ndimage.label(chosen)
    sizes = np.bincount(labels.ravel(), weights=volumes.ravel(), minlength=count + 1)
    order = [k for k in np.argsort(sizes[1:])[::-1] + 1 if sizes[k] >= least and sizes[k] > 0]
    number = np.zeros(count + 1, dtype=np.int64)
    found = []
    for place, k in enumerate(order, start=1):
        number[k] = place
        here = labels == k
        weight = volumes[here]
        middle = np.average(centres[here], axis=0, weights=weight)
        found.append(Body(place, float(sizes[k]), middle, float(centres[here][:, 2].max())))
    return np.asarray(number[labels]), found


def dice(first: Mask, second: Mask, volumes: FloatArray) -> float:
    """Return twice the common volume over the sum of both (Dice 1945, Ecology 26): 1 the same, 0 nothing in common."""
    both = float(volumes[first & second].sum())
    total = float(volumes[first].sum() + volumes[second].sum())
    return 2.0 * both / total if total > 0 else 0.0


def middle_of(chosen: Mask, volumes: FloatArray, centres: FloatArray) -> FloatArray:
    """Return the centre (3,) in metres of the volume of cells, NaN for none."""
    weight = volumes[chosen]
    return np.average(centres[chosen], axis=0, weights=weight) if weight.sum() > 0 else np.full(3, np.nan)
