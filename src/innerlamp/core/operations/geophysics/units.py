"""Which geological unit lies at places, told by a block model or by the polygons of a map."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from ...declaring.operation import Inputs
from ...errors import InputError
from ...formats.shapes.features import polygons_of
from ...items.features import Features, texts_of
from ...items.fields import BlockModel

if TYPE_CHECKING:
    from collections.abc import Sequence

COVER = "cover"


def unit_words(model: BlockModel, attribute: str, values: np.ndarray) -> np.ndarray:
    """Names of units that a model numbers: its own, else whole numbers without a point; '' for no value."""
    if attribute in model.names:
        return model.named(attribute, values)
    codes, distinct = pd.factorize(values.ravel())  # -1 for NaN
    names = np.array([*(f"{v:g}" for v in distinct), ""], dtype=object)
    return np.asarray(names[codes]).reshape(values.shape)


def units_at(inputs: Inputs, slot: str, attribute: str, places: np.ndarray) -> np.ndarray:
    """Unit at places (n, 3), '' where there is none; units of a map go straight down.

    Raises
    ------
    InputError
        When the attribute does not tell units.
    """
    item = inputs.need(slot, BlockModel, Features)
    if isinstance(item, BlockModel):
        name = attribute or next(iter(item.properties), "")
        if name not in item.properties:
            raise InputError(f"there is no property '{name}'", where=item.name)
        values = item.properties[name]
        known = values[np.isfinite(values)]
        if (known != np.round(known)).any() or len(np.unique(known)) > 200:
            raise InputError(
                f"'{name}' does not number units", where=item.name, fix="Choose a property of whole numbers"
            )
        return unit_words(item, name, item.mesh.values_at(values, *places.T))
    codes = [n for n, a in item.attributes.items() if a.is_code]
    if not attribute and not codes:
        raise InputError("the map has no column of units", where=item.name)
    names = texts_of(item, attribute or codes[0])
    out = np.full(len(places), "", dtype=object)
    import shapely

    for row, shape in polygons_of(item):
        shapely.prepare(shape)
        out[shapely.contains_xy(shape, places[:, 0], places[:, 1])] = names[row]
    return out


def rows_for(units: np.ndarray, named: Sequence[str], where: str) -> list[np.ndarray]:
    """Which places are of each unit that is named; each must be somewhere.

    Raises
    ------
    InputError
        When a unit is named twice or lies nowhere; it says which there are.
    """
    twice = sorted({n for n in named if list(named).count(n) > 1})
    if twice:
        raise InputError(f"the unit '{twice[0]}' stands in the table twice", fix="Keep one of them")
    out = []
    there = sorted({str(u) for u in units if u})
    for name in named:
        rows = units == name
        if not rows.any():
            most = ", ".join(there[:12]) + (" …" if len(there) > 12 else "")
            raise InputError(
                f"the unit '{name}' does not lie below the readings", where=where, fix=f"There are: {most}"
            )
        out.append(rows)
    return out
