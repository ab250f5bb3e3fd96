"""Grades of several metals as one: by what each is worth and how much of it is won.

The equivalent grade is the sum of grade x price x recovery of all metals, over price x recovery of the main one. A
report of it must name prices, recoveries and formula (JORC Code 2012, clause 50).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...units import factor

FloatArray = NDArray[np.float64]

# Kilograms that a price is for: the troy ounce and the avoirdupois pound by definition.
PER = {"t": 1000.0, "kg": 1.0, "g": 0.001, "oz": 0.0311034768, "lb": 0.45359237}


@dataclass(frozen=True)
class Metal:
    """A metal in an equivalent: column name, unit of its grades, price for a `per` (`PER`), share that is won (0..1)."""

    name: str
    unit: str
    price: float
    per: str
    recovery: float


def factors(metals: Sequence[Metal]) -> FloatArray:
    """Return what a grade of each metal, in its own unit, counts for in the unit of the first: shape (k,), 1 first.

    Raises
    ------
    InputError
        When there is no metal, a unit is none of a grade, a price is not positive, or a recovery lies outside of 0 to 1.
    """
    if not metals:
        raise InputError("an equivalent needs at least one metal")
    worth = []
    for each in metals:
        if each.per not in PER:
            raise InputError(f"a price for a '{each.per}' is not known", fix="Take one of: " + ", ".join(PER))
        if not (np.isfinite(each.price) and each.price > 0):
            raise InputError(f"the price of {each.name} must be above 0")
        if not 0 < each.recovery <= 1:
            raise InputError(f"the recovery of {each.name} must be above 0 and at most 1", fix="Give 0.85 for 85 %")
        worth.append(factor(each.unit, "ppb") * each.price / PER[each.per] * each.recovery)
    return np.array(worth) / worth[0]


def equivalent(metals: Sequence[Metal], grades: FloatArray) -> FloatArray:
    """Return equivalent grades (n,) in the unit of the first metal, of grades (n, k) in the order of the metals.

    A metal without an assay counts as none; where no metal has one the result is NaN.
    """
    weights = factors(metals)
    known = np.isfinite(grades)
    total = np.where(known, grades, 0.0) @ weights
    return np.where(known.any(axis=1), total, np.nan)


def formula(metals: Sequence[Metal], name: str) -> str:
    """Return the formula in words with prices and recoveries, as it must stand beside every equivalent."""
    weights = factors(metals)
    terms = [metals[0].name] + [f"{w:.6g} x {m.name}" for m, w in zip(metals[1:], weights[1:], strict=True)]
    given = "; ".join(f"{m.name.split('_')[0]} {m.price:g} a {m.per}, recovery {100 * m.recovery:g} %" for m in metals)
    return f"{name} ({metals[0].unit}) = {' + '.join(terms)} [{given}]"
