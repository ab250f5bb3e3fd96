"""Colours of the cells of block models: by value, or by the unit that a number stands for."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ....core.items.fields import BlockModel
from ....core.items.legend import Legend
from .colours import class_colour, colour_values

FloatArray = NDArray[np.float64]


def cell_colours(
    item: BlockModel, attribute: str, legend: Legend, values: FloatArray, hide_below: bool = False
) -> NDArray[np.uint8]:
    """Return colours (..., 4) of values of a property; what is hidden or has no value is transparent."""
    if attribute not in item.names:
        return colour_values(legend, values, hide_below=hide_below)
    palette = np.zeros((len(item.names[attribute]) + 1, 4), dtype=np.uint8)
    for number, name in enumerate(item.names[attribute]):
        colour = class_colour(legend, name)
        if name not in legend.hidden:
            palette[number] = (colour.red(), colour.green(), colour.blue(), 255)
    known = np.isfinite(values) & (values >= 0) & (values < len(palette) - 1)
    return np.asarray(palette[np.where(known, np.nan_to_num(values), len(palette) - 1).astype(np.int64)])


def shown_units(item: BlockModel, attribute: str, legend: Legend) -> NDArray[np.bool_]:
    """Return which cells of a model of units are drawn: all but those of hidden units, and of the background (the last).

    A solid block would hide everything; the background is drawn where nothing else would be.
    """
    return np.asarray(np.isin(item.properties[attribute], units_drawn(item.names[attribute], legend)))


def units_drawn(names: tuple[str, ...], legend: Legend) -> list[int]:
    """Return the numbers of the units that are drawn in space: see `shown_units`."""
    wanted = [k for k, name in enumerate(names) if name not in legend.hidden]
    return [k for k in wanted if k < len(names) - 1] or wanted
