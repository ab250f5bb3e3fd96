"""What operations on holes ask of a set: paths, grades, means over lengths, runs of rock, planes of readings."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...compute.drilling.cells import rock_runs
from ...compute.drilling.weighted import means_over
from ...errors import InputError
from ...items.attributes import orientation
from ...items.base import numeric_columns
from ...items.holes import INTERVAL_ROLES, HoleSet, hole_codes, table_with
from ...items.points import PointSet

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


def grades_of(holes: HoleSet, name: str) -> pd.DataFrame:
    """Return the table of intervals that has a column of numbers.

    Raises
    ------
    InputError
        When there is none.
    """
    hit = table_with(holes, name)
    if hit is None or name not in numeric_columns(hit[1], INTERVAL_ROLES):
        raise InputError(f"'{name}' is not a grade of these holes", where=holes.name)
    return hit[1]


def spans(table: pd.DataFrame, index: pd.Index) -> tuple[IntArray, FloatArray, FloatArray]:
    """Return number of the hole, start and stop (m) of the rows of a table of intervals."""
    hole = hole_codes(table["hole"], index).astype(np.int64)
    return hole, table["from_m"].to_numpy(float), table["to_m"].to_numpy(float)


def mean_over(
    holes: HoleSet, name: str, index: pd.Index, cells: tuple[IntArray, FloatArray, FloatArray], top_cut: float = np.inf
) -> tuple[FloatArray, FloatArray]:
    """Return length-weighted means of a grade over lengths of holes (hole, start, stop), and how much of each was sampled.

    Raises
    ------
    InputError
        When it is no grade, or an interval ends above its start.
    """
    table = grades_of(holes, name)
    hole, start, stop = spans(table, index)
    if (stop <= start).any():
        raise InputError("an interval ends above its start", where=holes.name)
    return means_over(*cells, hole, start, stop, np.minimum(table[name].to_numpy(float), top_cut))


def runs_of(
    log: pd.DataFrame, column: str, index: pd.Index
) -> tuple[IntArray, FloatArray, FloatArray, NDArray[np.object_]]:
    """Return the runs of one code in a logged column: hole, start, stop (m) and code."""
    codes = log[column].fillna("").astype(str).to_numpy(dtype=object)
    return rock_runs(*spans(log, index), codes)


def planes_of(item: PointSet) -> tuple[FloatArray, FloatArray]:
    """Return dip and dip direction of readings in degrees.

    Raises
    ------
    InputError
        When they have none.
    """
    names = orientation(item.attributes)
    if names is None:
        raise InputError("the points have no dip and dip direction", where=item.name)
    return item.table[names[0]].to_numpy(float), item.table[names[1]].to_numpy(float)
