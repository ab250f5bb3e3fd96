"""Regular lattices of cells, found from the centres of the cells."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Lattice:
    """Lower corner and cell sizes in metres, and number of cells, each along east, north, up."""

    low: tuple[float, float, float]
    step: tuple[float, float, float]
    shape: tuple[int, int, int]


def lattice_of(centres: FloatArray, file: str, most: int = 50_000_000) -> tuple[Lattice, tuple[NDArray[np.int64], ...]]:
    """Return the lattice that cell centres (n, 3) lie on, and the place of each centre in it.

    Raises
    ------
    InputError
        When they lie on none, or it would have more than `most` cells.
    """
    low, step, count = [], [], []
    for k, name in enumerate(("easting", "northing", "elevation")):
        places = np.unique(np.round(centres[:, k], 4))
        if len(places) < 2:
            raise InputError(f"all cells have the same {name}", where=file)
        width = float(np.min(np.diff(places)))
        n = round((places[-1] - places[0]) / width) + 1
        off = np.abs((places - places[0]) / width - np.round((places - places[0]) / width))
        if off.max() > 0.01:
            raise InputError(
                f"cells are not on a regular lattice along {name}", where=file, fix="Regularise the model first"
            )
        low.append(float(places[0]) - width / 2)
        step.append(width)
        count.append(int(n))
    if np.prod([float(n) for n in count]) > most:
        raise InputError(f"the cells span a lattice of more than {most / 1e6:g} million cells", where=file)
    at = tuple(np.round((centres[:, k] - low[k]) / step[k] - 0.5).astype(np.int64) for k in range(3))
    return Lattice(tuple(low), tuple(step), tuple(count)), at  # type: ignore[arg-type]
