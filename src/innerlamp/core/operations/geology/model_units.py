"""Models of units as inputs of other operations."""

from __future__ import annotations

import numpy as np

from ...declaring.operation import Input
from ...errors import InputError
from ...items.fields import BlockModel

OFF = "off "  # begins the name of the property that says how far off a fault a cell lies, positive on its hangingwall
INSIDE = "inside "  # begins the name of the property that says how far inside of a unit a cell lies


def model_slot(slot: str = "model", label: str = "Model of units", optional: bool = False, help: str = "") -> Input:
    """Return the input slot of a model whose units have names."""
    return Input(
        slot,
        label,
        ("blocks",),
        optional=optional,
        proposed=not optional,
        need=lambda e: "unit" in e.attributes and e.attributes["unit"].is_code,
        help=help,
    )


def unit_number(model: BlockModel | None, unit: str) -> int:
    """Return the number of a unit of a model.

    Raises
    ------
    InputError
        When there is no model, or it has no such unit; it says which there are.
    """
    if model is None:
        raise InputError("a unit is named, but no model has it", fix="Give the model of units")
    names = model.names.get("unit", ())
    if unit.strip() not in names:
        raise InputError(
            f"the model has no unit '{unit}'", where=model.name, fix=f"There are: {', '.join(names) or 'none'}"
        )
    return names.index(unit.strip())


def in_unit(model: BlockModel, number: int, at: np.ndarray) -> np.ndarray:
    """Return which places (n, 3) lie in cells of a unit."""
    return np.asarray(model.mesh.values_at(model.properties["unit"], *at.T) == number)
