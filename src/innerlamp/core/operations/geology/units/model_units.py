"""Models of units as inputs of other operations."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ....declaring.operation import Input
from ....errors import InputError
from ....items.fields import BlockModel
from ....kept import KEPT

if TYPE_CHECKING:  # compiled code is loaded only where contacts are read
    from ....compute.geology.bodies.model import UnitModel

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


def contacts_of(model: BlockModel) -> UnitModel | None:
    """Return the contacts that a model of units was made from; None where it has none, or its units were changed since.

    Raises
    ------
    InputError
        When what is kept of them is damaged.
    """
    if not model.rules or "unit" not in model.properties:
        return None

    def put() -> tuple[UnitModel | None]:
        from ....compute.geology.bodies.stored import put_together

        return (put_together(model.rules, model.contacts, model.properties["unit"]),)

    held = KEPT.of(
        ("contacts", id(model)), put, owner=model, size=lambda _: sum(a.nbytes for a in model.contacts.values()) + 1000
    )
    return held[0]


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


def units_at(model: BlockModel, at: np.ndarray) -> np.ndarray:
    """Return the number of the unit (n,) at places (n, 3), metres: by the contacts where the model has them, else of the cell; NaN outside."""
    cells = np.asarray(model.mesh.values_at(model.properties["unit"], *at.T), dtype=float)
    contacts = contacts_of(model)
    if contacts is None:
        return cells
    there = np.flatnonzero(np.isfinite(cells))
    units = contacts.unit_at(np.ascontiguousarray(at[there], dtype=float))
    # The ground of the contacts and the tops of columns differ by a little.
    cells[there] = np.where(units >= 0, units, cells[there])
    return cells


def in_unit(model: BlockModel, number: int, at: np.ndarray) -> np.ndarray:
    """Return which places (n, 3) lie in a unit."""
    return np.asarray(units_at(model, at) == number)


def smoothly_at(model: BlockModel, values: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Return a property of blocks at places (n, 3), even from middle to middle of the cells; NaN outside of the model.

    Up and down it goes by the layers of the nearest column.
    """
    from scipy.ndimage import distance_transform_edt, map_coordinates

    mesh = model.mesh
    i, j = mesh.columns(at[:, 0], at[:, 1])
    there = i >= 0
    out = np.full(len(at), np.nan)
    if not there.any():
        return out
    known = np.isfinite(values)
    filled = values
    if not known.all():
        filled = values[tuple(distance_transform_edt(~known, return_distances=False, return_indices=True))]
    nz = mesh.shape[2]
    columns = [np.repeat(w[there], nz) for w in (i, j)]
    low, high = mesh.levels(columns[0], columns[1], np.tile(np.arange(nz), int(there.sum())))
    middle = 0.5 * (low + high).reshape(-1, nz)
    z = at[there, 2]
    k = np.clip((middle <= z[:, None]).sum(axis=1) - 1, 0, max(nz - 2, 0))
    rows = np.arange(len(k))
    step = middle[rows, np.minimum(k + 1, nz - 1)] - middle[rows, k]
    up = k + np.where(step > 0, (z - middle[rows, k]) / np.where(step > 0, step, 1.0), 0.0)
    p, q = mesh.from_map(at[there, 0], at[there, 1])
    centres = [0.5 * (e[1:] + e[:-1]) for e in mesh.plan_edges]
    place = [np.interp(w, c, np.arange(len(c))) for w, c in zip((p, q), centres, strict=True)]
    out[there] = map_coordinates(filled, np.stack([*place, np.clip(up, 0, nz - 1)]), order=1, mode="nearest")
    return out


def fault_block(model: BlockModel | None, fault: str, side: str) -> np.ndarray:
    """Return how far inside of a fault block cells lie, metres in the shape of the mesh.

    Raises
    ------
    InputError
        When there is no model, or it has no such fault; it says which there are.
    """
    if model is None:
        raise InputError("a fault block is named, but no model has it", fix="Give the model of units")
    name = f"{OFF}{fault.strip()}"
    if name not in model.properties:
        known = ", ".join(n.removeprefix(OFF) for n in model.properties if n.startswith(OFF))
        raise InputError(f"the model has no fault '{fault}'", where=model.name, fix=f"There are: {known or 'none'}")
    return np.asarray(model.properties[name].astype(float) * (1.0 if side == "hangingwall" else -1.0))
