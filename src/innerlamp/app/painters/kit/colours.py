"""From legends to colours: look-up tables, colours of values, and values gathered in few colour bins."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from PySide6.QtGui import QColor

from ....core.items.legend import RAMPS, Legend, position

_RAMPS = Path(__file__).parents[2] / "theme" / "ramps.npz"  # from colorcet, by scripts/ramps.py
BINS = 24
PALE_START = {"ember", "moss"}
ABSENT = (150, 150, 150, 255)


@functools.cache
def table(ramp: str) -> NDArray[np.uint8]:
    """Return the 256 colours (256, 4) of a ramp."""
    with np.load(_RAMPS, allow_pickle=False) as stored:
        colours = np.asarray(stored[ramp if ramp in RAMPS else "ember"])
    if ramp in PALE_START:  # the first colours would vanish on paper
        colours = colours[np.linspace(26, 255, 256).astype(int)]
    return colours


def colour_values(legend: Legend, values: NDArray[np.float64], hide_below: bool = False) -> NDArray[np.uint8]:
    """Return colours (..., 4) of values; NaN (and, if asked, values under the cut-off) are transparent."""
    place = position(legend, values)
    index = np.nan_to_num(place * 255.0).astype(np.uint8)
    out = table(legend.ramp)[index]
    hidden = ~np.isfinite(place)
    if hide_below and legend.cutoff is not None:
        with np.errstate(invalid="ignore"):
            hidden |= values < legend.cutoff
    out[hidden] = 0
    return out


def colour_at(legend: Legend, place: float) -> QColor:
    """Return the colour at a place 0..1 of a legend's ramp."""
    r, g, b, _ = table(legend.ramp)[int(np.clip(place, 0, 1) * 255)]
    return QColor(int(r), int(g), int(b))


def class_colour(legend: Legend, name: object) -> QColor:
    """Return the colour of a class."""
    return QColor(legend.classes.get(str(name), "#9A9A9A"))


def shown(legend: Legend, values: NDArray[np.generic]) -> NDArray[np.bool_]:
    """Return which values are drawn at all: those whose class is not switched off, or that are not below the cut-off.

    Missing numbers are only without a cut-off.
    """
    if legend.classes and legend.hidden:
        code, found = pd.factorize(np.asarray(values), use_na_sentinel=False)
        return np.asarray(~np.isin(np.asarray(found).astype(str), list(legend.hidden))[code])
    if legend.classes or legend.cutoff is None:
        return np.ones(len(values), dtype=bool)
    with np.errstate(invalid="ignore"):
        return np.asarray(np.asarray(values, dtype=float) >= legend.cutoff)


def coded(legend: Legend, values: NDArray[np.generic]) -> tuple[list[QColor], NDArray[np.int64]]:
    """Return the colours that values take, at most `BINS` or the classes, and the number of the colour of each.

    Missing values come in grey; what is not `shown` has the number -1.
    """
    code = np.full(len(values), -1, dtype=np.int64)
    if legend.classes:
        word, found = pd.factorize(np.asarray(values), use_na_sentinel=False)  # a word is looked at once
        place = {name: k for k, name in enumerate(legend.classes)}
        rest = len(place)
        index = np.array([place.get(str(w), rest) for w in np.asarray(found)], dtype=np.int64)[word]
        there = np.flatnonzero(shown(legend, values))
        used, code[there] = np.unique(index[there], return_inverse=True)
        names = list(legend.classes)
        return [class_colour(legend, names[k]) if k < rest else QColor(*ABSENT) for k in used.tolist()], code
    numbers = np.asarray(values, dtype=float)
    there = np.flatnonzero(shown(legend, numbers))
    share = position(legend, numbers[there])
    index = np.where(np.isfinite(share), np.minimum((np.nan_to_num(share) * BINS).astype(int), BINS - 1), -1)
    used, code[there] = np.unique(index, return_inverse=True)
    return [QColor(*ABSENT) if k < 0 else colour_at(legend, (k + 0.5) / BINS) for k in used.tolist()], code


def bins(legend: Legend, values: NDArray[np.generic]) -> Iterator[tuple[QColor, NDArray[np.bool_]]]:
    """Yield each colour of `coded` and the mask of values that have it."""
    colours, code = coded(legend, values)
    for number, colour in enumerate(colours):
        yield colour, code == number
