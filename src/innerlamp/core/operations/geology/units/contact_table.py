"""Which contact feeds which surface: each pair of units that touch in holes belongs to one surface, or to none."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ....compute.geology.age_order import Unit
from ....compute.geology.contacts import Runs
from ....declaring.operation import Row, param
from ....errors import InputError

NONE = "none"


class ContactRow(Row):
    one: str = param(..., "Unit")
    other: str = param(..., "touches")
    surface: str = param(
        "", "Feeds the surface of", help="A unit; 'none' leaves the pair out; of the younger when empty"
    )


def feeds(rows: Sequence[ContactRow], units: Sequence[Unit]) -> NDArray[np.int64]:
    """Return for each pair of units (n, n), in either order, the number of the unit whose surface it feeds, -1 for none.

    By default that of the younger of the two.

    Raises
    ------
    InputError
        When a unit is unknown, the background's surface is named, or a pair is named twice with different surfaces.
    """
    names = {u.name: k for k, u in enumerate(units)}
    count = len(units)
    table = np.minimum.outer(np.arange(count), np.arange(count)).astype(np.int64)
    said: dict[tuple[int, int], str] = {}
    for row in rows:
        for name in (row.one, row.other, row.surface):
            if name.strip() and name.strip() not in names and not (name is row.surface and name.strip() == NONE):
                raise InputError(
                    f"the contact table names '{name}', which is no unit of the age order",
                    fix="There are: " + ", ".join(names),
                )
        one, other = sorted((names[row.one.strip()], names[row.other.strip()]))
        surface = row.surface.strip() or units[one].name
        if said.setdefault((one, other), surface) != surface:
            raise InputError(
                f"the contact of '{row.one}' and '{row.other}' is given to '{said[one, other]}' and to '{surface}'",
                fix="A pair feeds one surface only: keep one of the rows",
            )
        number = -1 if surface == NONE else names[surface]
        if number == count - 1:
            raise InputError(
                f"'{surface}' is the background and has no surface of its own",
                fix="Choose the younger unit of the pair",
            )
        table[one, other] = table[other, one] = number
    return table


def touching(
    runs: Runs, numbers: np.ndarray, units: Sequence[Unit], table: NDArray[np.int64]
) -> list[tuple[str, str, int, str]]:
    """Return pairs that touch in holes, in either order: younger, older, how often, and the surface that they feed ('none' for none)."""
    touch = runs.touch()
    a, b = numbers[:-1][touch], numbers[1:][touch]
    count: dict[tuple[int, int], int] = {}
    for one, other in zip(np.minimum(a, b).tolist(), np.maximum(a, b).tolist(), strict=True):
        if 0 <= one != other:
            count[one, other] = count.get((one, other), 0) + 1
    return [
        (units[i].name, units[j].name, many, NONE if table[i, j] < 0 else units[int(table[i, j])].name)
        for (i, j), many in sorted(count.items(), key=lambda pair: (-pair[1], pair[0]))
    ]
