"""What travels beside the numbers: name, system, units, quantities and roles, as plain values under one key."""

from __future__ import annotations

import importlib
import json
from collections.abc import Mapping
from typing import Any

from ..core.errors import InputError
from ..core.items.base import Item

KEY = "inner_lamp"


def library(name: str) -> Any:
    """Import an optional library.

    Raises
    ------
    InputError
        When it is not installed; it says how to install it.
    """
    try:
        return importlib.import_module(name)
    except ImportError as error:
        raise InputError(
            f"{name} is not installed", fix=f"Install it beside Inner Lamp: pip install 'innerlamp[notebook]' or {name}"
        ) from error


def of(item: Item, **more: Any) -> dict[str, Any]:
    """What an item carries along."""
    attributes = {n: a.to_json() for n, a in item.attributes.items()}
    return {"name": item.name, "kind": item.kind, "crs": item.crs, "attributes": attributes, **more}


def as_text(carried: Mapping[str, Any]) -> str:
    """Carried values as a text, for libraries that keep only texts and numbers."""
    return json.dumps(dict(carried))


def read(found: Any) -> dict[str, Any]:
    """Carried values from what a library kept of them; empty when there are none or they were changed beyond use."""
    if isinstance(found, str):
        try:
            found = json.loads(found)
        except ValueError:
            return {}
    return dict(found) if isinstance(found, Mapping) else {}


def described(carried: Mapping[str, Any], names: list[str]) -> dict[str, dict[str, str]]:
    """Units, quantities and roles of the attributes that are still there, as items take them."""
    units, quantities, roles = {}, {}, {}
    for name, told in dict(carried.get("attributes", {})).items():
        if name in names and isinstance(told, list) and len(told) == 3:
            units[name], quantities[name], roles[name] = (str(v) for v in told)
    return {
        "units": {n: u for n, u in units.items() if u},
        "quantities": quantities,
        "roles": {n: r for n, r in roles.items() if r},
    }


def system(carried: Mapping[str, Any], given: str) -> str:
    """The coordinate system: as given, or as it was carried.

    Raises
    ------
    InputError
        When neither says it.
    """
    found = given or str(carried.get("crs", ""))
    if not found:
        raise InputError("the coordinate system is not known", fix="Give it as crs, for example crs='EPSG:32629'")
    return found
