"""How the demo's geology is modelled: from holes, map and readings, and from map and readings alone."""

from __future__ import annotations

from typing import Any

from . import truth
from .truth.frame import DOLERITE_STRIKE, DYKE_STRIKE, FAULT_ALONG, FAULT_DIP, FAULT_POINT, FAULT_STRIKE, FAULT_THROW

MODEL, FROM_MAP = "Emberlow geology", "Geology from the map"
_DYKES: list[dict[str, Any]] = [
    {"unit": "Dolerite", "kind": "vein", "codes": "DOLR", "dip": 90.0, "dip_direction": DOLERITE_STRIKE + 90.0, "apart": 60.0,
     "thickness": 8.0, "beyond": 600.0},
    {"unit": "Porphyry", "kind": "vein", "codes": "PORPH", "dip": 90.0, "dip_direction": DYKE_STRIKE + 90.0, "apart": 60.0,
     "beyond": 600.0},
]  # fmt: skip
UNITS: list[dict[str, Any]] = [
    {"unit": "Till", "kind": "overburden", "codes": "TILL"},
    {"unit": "Clay", "kind": "overburden", "codes": "CLAY"},
    _DYKES[0],
    {"unit": "Greisen veins", "kind": "vein", "codes": "GREIS", "dip": truth.VEIN_DIP, "dip_direction": truth.VEIN_STRIKE + 90.0,
     "apart": 14.0, "beyond": 120.0},
    _DYKES[1],
    {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN", "follows": "smooth"},
    {"unit": "Skarn", "kind": "intrusive contact", "codes": "SKARN"},
    {"unit": "Marble", "kind": "intrusive contact", "codes": "CARB", "reach": 4.0},
    {"unit": "Slate", "kind": "background", "codes": "SLATE; *"},
]  # fmt: skip
MAPPED: list[dict[str, Any]] = [
    {"unit": "Gabbro", "kind": "intrusive contact", "codes": "GABB", "dip": 85.0, "dip_direction": 0.0},
    _DYKES[1],
    {"unit": "Marble", "kind": "intrusive contact", "codes": "CARB", "reach": 2.0},
    {"unit": "Slate", "kind": "background", "codes": "SLATE; *"},
]
# Which unit of the models each true rock belongs to.
OF_ROCKS = {
    "TILL": "Till", "CLAY": "Clay", "DOLR": "Dolerite", "GREIS": "Greisen veins", "PORPH": "Porphyry", "GRAN": "Granite",
    "SKARN": "Skarn", "CARB": "Marble", "SLATE": "Slate", "QTZT": "Slate", "GRSL": "Slate", "GABB": "Slate",
}  # fmt: skip


def fault(cuts_from: str) -> dict[str, Any]:
    """The fault as it was mapped and drilled: it cuts from a unit on."""
    x, y, z = FAULT_POINT
    return {
        "fault": "East fault", "east": truth.ORIGIN[0] + x, "north": truth.ORIGIN[1] + y, "elevation": z, "dip": FAULT_DIP,
        "dip_direction": (FAULT_STRIKE + 90.0) % 360.0, "throw": FAULT_THROW, "along": FAULT_ALONG, "cuts_from": cuts_from,
    }  # fmt: skip


def _box(west: float, south: float, east: float, north: float) -> list[list[float]]:
    x, y = truth.ORIGIN
    return [[x + a, y + b] for a, b in ((west, south), (east, south), (east, north), (west, north))]


def model_params(cell: float = 25.0, cell_z: float = 15.0) -> dict[str, Any]:
    """Parameters of the model from holes, map and readings."""
    return {
        "attribute": "Rock", "units": UNITS, "faults": [fault("Greisen veins")], "cell": cell, "cell_z": cell_z, "base": -50.0,
        "outline": _box(1_400.0, 1_900.0, 2_800.0, 3_200.0), "step": 5.0, "map_units": "code", "name": MODEL, "layers": "follow the ground",
    }  # fmt: skip


def map_params(cell: float = 50.0, cell_z: float = 25.0) -> dict[str, Any]:
    """Parameters of the model of the whole map, without any hole."""
    return {
        "units": MAPPED, "faults": [fault("Porphyry")], "cell": cell, "cell_z": cell_z, "base": 0.0,
        "outline": _box(1_400.0, 1_000.0, 5_600.0, 4_200.0), "map_units": "code", "map_reach": 200.0, "name": FROM_MAP,
    }  # fmt: skip


STEPS: tuple[tuple[str, dict[str, Any], dict[str, str], dict[str, str]], ...] = (
    (
        "build-units",
        model_params(),
        {"holes": "holes", "ground": "ground", "map": "geology", "structures": "structures+oriented"},
        {"model": "units", "contacts": "contacts", "misses": "misses", "throws": "throws"},
    ),
    ("unit-surface", {"unit": "Granite", "name": "Granite cupola"}, {"model": "units"}, {"surface": "cupola"}),
    (
        "score-model",
        {"attribute": "Rock"},
        {"holes": "holes", "model": "units"},
        {"beside": "beside", "by_hole": "by hole"},
    ),
    (
        "build-units",
        map_params(),
        {"ground": "ground", "map": "geology", "structures": "structures"},
        {"model": "mapped units"},
    ),
)
