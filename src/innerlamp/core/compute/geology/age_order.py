"""Units in the order of their age: whose field decides at a place, and which kind of contact each has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]
Kind = Literal["overburden", "unconformity", "conformable base", "intrusive contact", "vein", "background"]
KINDS: tuple[Kind, ...] = (
    "overburden",
    "unconformity",
    "conformable base",
    "intrusive contact",
    "vein",
    "background",
)
# Kinds whose unit lies above its contact, as sediments and covers do.
_LAID_DOWN = ("overburden", "unconformity", "conformable base")


@dataclass(frozen=True)
class Unit:
    """A unit of a model and how it meets those that are older."""

    name: str
    kind: Kind


def checked(units: Sequence[Unit]) -> list[Unit]:
    """Return units from the youngest to the oldest, the background last.

    Raises
    ------
    InputError
        When there are too few, a name comes twice, or more or less than one is the background.
    """
    names = [u.name for u in units]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(f"the unit '{twice[0]}' stands in the age order twice", fix="Keep one of them")
    backgrounds = [u for u in units if u.kind == "background"]
    if len(backgrounds) != 1:
        raise InputError(
            f"{len(backgrounds)} units are the background; one must be",
            fix="The oldest, of what is left everywhere else",
        )
    if units[-1].kind != "background":
        raise InputError(f"'{backgrounds[0].name}' is the background, and comes last in the age order")
    if len(units) < 2:
        raise InputError("a model needs a unit beside its background")
    return list(units)


def series(units: Sequence[Unit]) -> list[list[int]]:
    """Return numbers of units that share one field: conformable ones that follow each other; every other has its own."""
    out: list[list[int]] = []
    for k, unit in enumerate(units):
        if unit.kind == "background":
            continue
        if unit.kind == "conformable base" and out and out[-1][-1] == k - 1 and units[k - 1].kind == "conformable base":
            out[-1].append(k)
        else:
            out.append([k])
    return out


def sides(units: Sequence[Unit], number: int, run_units: NDArray[np.integer]) -> NDArray[np.int64]:
    """Return on which side of a unit's contact runs lie: 1 inside, -1 outside, 0 where they tell nothing.

    What is older lies outside. What is younger tells nothing, since it took the unit's place; but of layers that were
    laid down in one series the younger ones lie above the base as well.

    Parameters
    ----------
    run_units
        Number of the unit of each run (n,), -1 for rocks of no unit; the result has their shape.
    """
    out = np.zeros(len(run_units), dtype=np.int64)
    out[run_units == number] = 1
    out[run_units > number] = -1
    if units[number].kind == "conformable base":
        mine = next(group for group in series(units) if number in group)
        out[np.isin(run_units, [k for k in mine if k < number])] = 1
    return out


def combined(fields: Sequence[FloatArray]) -> tuple[NDArray[np.int64], list[FloatArray]]:
    """Return the unit of each place, and how far inside of it each place lies.

    Parameters
    ----------
    fields
        For each unit but the background, from the youngest on: metres inside of its contact (n,), as far as the contact
        alone decides. The youngest that has a place inside takes it.

    Returns
    -------
    unit
        Numbers (n,): those of the fields, and their count for the background.
    margins
        For each unit and the background: metres (n,) inside of what is left to it, negative outside. They are
        continuous, so that their zero is the unit's surface without steps.
    """
    count = len(fields[0])
    unit = np.full(count, len(fields), dtype=np.int64)
    free = np.full(count, np.inf)
    margins = []
    for number, field in enumerate(fields):
        margin = np.minimum(field, free)
        margins.append(margin)
        unit[(margin > 0) & (unit == len(fields))] = number
        free = np.minimum(free, -field)
    margins.append(free)
    return unit, margins


def laid_down(kind: Kind) -> bool:
    """Whether a unit of this kind lies above its contact."""
    return kind in _LAID_DOWN
