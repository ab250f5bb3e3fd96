"""Sets of axes: directions without a sense (poles of planes) that lie together, their means and how far they scatter.

Clustering is that of k means on the axes of a sphere (Mardia & Jupp 2000, Directional Statistics, ch. 9-10: the mean axis
is the first eigenvector of the orientation matrix); how many sets there are is proposed by the silhouette (Rousseeuw
1987). Cones of confidence are those of Fisher (1953) about the mean, for axes turned to its side.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

MOST_SETS = 6
_MOST_COMPARED = 1200
_APART = 0.45  # silhouette from which several sets describe axes better than one


@dataclass(frozen=True)
class AxisSet:
    """One set: number of axes, mean axis (3,), and in degrees its spread (root mean square angle) and 95 % cone (NaN below 3)."""

    count: int
    mean: FloatArray
    spread: float
    cone: float


def sets_of(axes: FloatArray, count: int = 0, farthest: float = 90.0) -> tuple[IntArray, list[AxisSet]]:
    """Return the set of each axis (n,), the largest set 0, -1 for none, and the sets.

    Parameters
    ----------
    axes
        Unit vectors, shape (n, 3); their sense does not matter.
    count
        Number of sets; 0 proposes it.
    farthest
        Axes that lie farther than that from every mean, in degrees, belong to no set.

    Raises
    ------
    InputError
        Without axes, with fewer axes than sets, or when all lie too far from the means.
    """
    if not len(axes):
        raise InputError("there is no reading to group")
    if count > len(axes):
        raise InputError(f"{len(axes)} readings can't make {count} sets", fix="Ask for fewer sets")
    labels = _clustered(axes, count or proposed_count(axes))
    means = _means(axes, labels)
    for _ in range(8 if farthest < 90.0 else 1):
        near = np.abs(axes @ means.T)
        labels = near.argmax(axis=1)
        labels[near.max(axis=1) < np.cos(np.radians(farthest)) - 1e-12] = -1
        kept = [k for k in range(len(means)) if (labels == k).any()]
        if not kept:
            raise InputError(f"no reading lies within {farthest:g}° of the mean of its set", fix="Allow more degrees")
        means = np.array([mean_axis(axes[labels == k]) for k in kept])
    order = sorted(range(len(means)), key=lambda k: -int((labels == kept[k]).sum()))
    out = np.full(len(axes), -1, dtype=np.int64)
    found = []
    for new, k in enumerate(order):
        mine = labels == kept[k]
        out[mine] = new
        found.append(_facts(axes[mine]))
    return out, found


def proposed_count(axes: FloatArray) -> int:
    """Return the number of sets, up to 6, that describes axes best; 1 where none describes them well."""
    use = axes
    if len(axes) > _MOST_COMPARED:  # evenly through the rows, so that the same rows give the same number
        use = axes[np.linspace(0, len(axes) - 1, _MOST_COMPARED).astype(int)]
    away = np.degrees(np.arccos(np.clip(np.abs(use @ use.T), 0.0, 1.0)))
    best, number = _APART, 1
    for count in range(2, min(MOST_SETS, len(use) - 1) + 1):
        labels = _clustered(use, count)
        sizes = np.bincount(labels, minlength=count)
        if (sizes < 2).any():
            continue
        total = np.stack([away[:, labels == k].sum(axis=1) for k in range(count)], axis=1)
        rows = np.arange(len(use))
        own = total[rows, labels] / (sizes[labels] - 1)
        other = total / sizes
        other[rows, labels] = np.inf
        nearest = other.min(axis=1)
        score = float(np.mean((nearest - own) / np.maximum(np.maximum(nearest, own), 1e-9)))
        if score > best + 0.01:
            best, number = score, count
    return number


def _clustered(axes: FloatArray, count: int) -> IntArray:
    """The cluster of each axis: k means from centres that lie as far apart as can be, the best of several first ones."""
    best, chosen = -np.inf, np.zeros(len(axes), dtype=np.int64)
    for first in np.linspace(0, len(axes) - 1, min(8, len(axes))).astype(int):
        centres = [axes[first]]
        for _ in range(count - 1):
            centres.append(axes[np.abs(axes @ np.array(centres).T).max(axis=1).argmin()])
        means = np.array(centres)
        labels = np.abs(axes @ means.T).argmax(axis=1)
        for _ in range(60):
            means = _means(axes, labels, means)
            now = np.abs(axes @ means.T).argmax(axis=1)
            if (now == labels).all():
                break
            labels = now
        near = float(np.square(np.abs(axes @ means.T).max(axis=1)).sum())
        if near > best + 1e-12:
            best, chosen = near, labels
    return chosen.astype(np.int64)


def _means(axes: FloatArray, labels: IntArray, before: FloatArray | None = None) -> FloatArray:
    count = int(labels.max()) + 1 if before is None else len(before)
    return np.array(
        [
            mean_axis(axes[labels == k]) if (labels == k).any() else (before if before is not None else axes)[k]
            for k in range(count)
        ]
    )


def mean_axis(axes: FloatArray) -> FloatArray:
    """Return the unit vector (3,) nearest to all axes (unit vectors, shape (n, 3)): the first eigenvector of their orientation matrix."""
    return np.asarray(np.linalg.eigh(axes.T @ axes)[1][:, -1])


def _facts(axes: FloatArray) -> AxisSet:
    mean = mean_axis(axes)
    turned = np.where((axes @ mean)[:, None] < 0, -axes, axes)
    angle = np.degrees(np.arccos(np.clip(turned @ mean, -1.0, 1.0)))
    n, length = len(axes), float(np.linalg.norm(turned.sum(axis=0)))
    cone = np.nan
    if n >= 3:
        value = 1.0 - (n - length) / length * (20.0 ** (1.0 / (n - 1)) - 1.0)
        cone = float(np.degrees(np.arccos(np.clip(value, -1.0, 1.0))))
    return AxisSet(n, mean, float(np.sqrt(np.mean(angle**2))), cone)
