"""Rock classes as soft clusters of what is inverted: cells are drawn to the class that they are nearest to.

Memberships are those of fuzzy c-means (Bezdek 1981, Pattern Recognition with Fuzzy Objective Function Algorithms) with
centres that are given; a guided inversion measures its model from the mixture that they make (Sun & Li 2015,
Geophysics 80, ID1).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from .inversion import Constraints, Inversion

FloatArray = NDArray[np.float64]
_ROUNDS = 4


def memberships(values: FloatArray, centres: FloatArray, scale: FloatArray) -> FloatArray:
    """Return how far each cell belongs to each class, shape (cells, classes), adding to 1.

    Parameters
    ----------
    values, centres
        Shapes (cells, properties) and (classes, properties), in the units of the properties.
    scale
        What counts as one step of each property, shape (properties,).
    """
    away = (((values[:, None, :] - centres[None, :, :]) / scale) ** 2).sum(axis=2)
    closeness = 1.0 / np.maximum(away, 1e-12)
    return np.asarray(closeness / closeness.sum(axis=1, keepdims=True))


def drawn(values: FloatArray, centres: FloatArray, scale: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return what cells are drawn to, shape (cells, properties), and how surely, shape (cells,): 0 between classes, 1 at one."""
    u2 = memberships(values, centres, scale) ** 2
    total = u2.sum(axis=1)
    count = len(centres)
    return (u2 @ centres) / total[:, None], np.clip((count * total - 1.0) / (count - 1.0), 0.0, 1.0)


def scale_of(centres: FloatArray) -> FloatArray:
    """Return the range of each property over the classes, 1 where they do not differ."""
    span = np.ptp(centres, axis=0)
    return np.where(span > 0, span, 1.0)


def guided(
    run: Callable[[Sequence[Constraints], int], list[Inversion]],
    known: Sequence[Constraints],
    found: list[Inversion],
    centres: FloatArray,
    pull: float,
    rounds: int = _ROUNDS,
) -> list[Inversion]:
    """Return models that were inverted again, each round measured from the classes that its cells are nearest to.

    Parameters
    ----------
    run
        Inverts with constraints (one for each property) in some round, and returns the models.
    known, found
        Constraints and models to begin with, one for each property.
    centres
        Shape (classes, properties).
    pull
        Weight of departures from a sure class against that of a size without one.
    """
    for number in range(rounds):
        values = np.column_stack([f.model * _blurred(f.model, c) for f, c in zip(found, centres.T, strict=True)])
        targets, sure = drawn(values, centres, scale_of(centres))
        found = run([_towards(k, t, pull * sure, f) for k, t, f in zip(known, targets.T, found, strict=True)], number)
    return found


def _blurred(model: FloatArray, centres: FloatArray) -> float:
    """How much weaker than its strongest class a model is: one that is smooth falls short of what its bodies have."""
    return max(1.0, float(np.abs(centres).max()) / max(float(np.abs(model).max()), 1e-300))


def _towards(known: Constraints, target: FloatArray, weight: FloatArray, found: Inversion) -> Constraints:
    """What is known already stays as it was trusted; only what nothing is known of begins at the class instead."""
    told = (np.ones_like(target) if known.trust is None else known.trust) - 1.0
    told = np.maximum(told, 0.0)
    reference = (told * known.reference + (1.0 + weight) * target) / (told + 1.0 + weight)
    return replace(known, reference=reference, trust=1.0 + told + weight, start=found.model)
