"""Even axes found from the places of cells."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

FloatArray = NDArray[np.float64]


def even_axis(values: FloatArray, file: str) -> tuple[float, float, int, NDArray[np.int64]]:
    """Return first place, step and number of cells of the even axis that places (n,) lie on, and the cell of each.

    Places may be rounded by up to a hundredth of the step, as files write them.

    Raises
    ------
    InputError
        When they lie on none.
    """
    wrong = InputError("the places are not on a regular lattice", where=file, fix="Import it as samples and grid it")
    places = np.unique(values)
    if len(places) < 2:
        raise wrong
    # Places of one column may differ in their last digits: those nearer than a thousandth of the widest step are one.
    gaps = np.diff(places)
    split = np.flatnonzero(gaps > 1e-3 * float(gaps.max()))
    starts = np.concatenate([[0], split + 1])
    middle = np.add.reduceat(places, starts) / np.diff(np.append(starts, len(places)))
    if len(middle) < 2:
        raise wrong
    gaps = np.diff(middle)
    # The mean of the single steps has less rounding in it than any of them.
    step = float(gaps[gaps < 1.5 * gaps.min()].mean())
    count = round(float(middle[-1] - middle[0]) / step)
    step = float(middle[-1] - middle[0]) / count
    cell = (values - middle[0]) / step
    if np.abs(cell - np.round(cell)).max() > 0.02:
        raise wrong
    return float(middle[0]), step, count + 1, np.round(cell).astype(np.int64)
