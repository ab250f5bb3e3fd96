"""Grades by class: how much of each there is, what it carries, and how its elements go together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from .relations import correlations

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class ClassFacts:
    """One class: its name, samples and their length (m), then by attribute, and by pair of attributes.

    `mean` is weighted by length; `median` and `high` (the 90th percentile) count samples alike; `known` is how many
    samples have the attribute. `pairs` holds the correlation and the number of samples it rests on, NaN below three.
    """

    name: str
    samples: int
    metres: float
    known: dict[str, int]
    mean: dict[str, float]
    median: dict[str, float]
    high: dict[str, float]
    pairs: dict[tuple[str, str], tuple[float, int]]


def grades_by_class(
    codes: NDArray[np.object_], values: Mapping[str, FloatArray], length: FloatArray, by_rank: bool = False
) -> list[ClassFacts]:
    """Return the facts of each class, the longest first; samples of no class ('') are left out.

    Parameters
    ----------
    codes
        Class of each sample, shape (n,).
    values
        Attributes by name, each (n,), NaN where missing.
    length
        Of each sample in metres, the weight of its mean.
    by_rank
        Spearman's correlation instead of Pearson's: it does not hang on the few highest values.
    """
    out = []
    for name in sorted(set(codes.tolist()) - {""}):
        mine = codes == name
        columns = {k: v[mine] for k, v in values.items()}
        weight = length[mine]
        known = {k: np.isfinite(v) for k, v in columns.items()}

        def weighted(k: str, columns: dict[str, FloatArray] = columns, weight: FloatArray = weight) -> float:
            good = np.isfinite(columns[k]) & (weight > 0)
            return float(np.average(columns[k][good], weights=weight[good])) if good.any() else np.nan

        def at(k: str, percent: float, columns: dict[str, FloatArray] = columns) -> float:
            values = columns[k][np.isfinite(columns[k])]
            return float(np.percentile(values, percent)) if len(values) else np.nan

        matrix, count = correlations(list(columns.values()), by_rank)
        pairs = {
            (a, b): (float(matrix[i, j]), int(count[i, j])) for (i, a), (j, b) in combinations(enumerate(columns), 2)
        }
        out.append(
            ClassFacts(
                str(name),
                int(mine.sum()),
                float(weight.sum()),
                {k: int(v.sum()) for k, v in known.items()},
                {k: weighted(k) for k in columns},
                {k: at(k, 50.0) for k in columns},
                {k: at(k, 90.0) for k in columns},
                pairs,
            )
        )
    return sorted(out, key=lambda f: -f.metres)
