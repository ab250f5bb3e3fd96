"""Where Emberlow lies, its rocks and what they are made of.

Local coordinates are metres east and north of `ORIGIN`; elevations are metres above sea level.
Everything is invented.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

CRS = "EPSG:32629"
ORIGIN = (501_600.0, 5_599_800.0)
WIDTH, HEIGHT = 6_000.0, 5_000.0

APEX = (2_050.0, 2_500.0)  # the main cupola, drilled
SKARN_CUPOLA = (3_520.0, 1_620.0)  # hidden; the carbonate bed stands on it
LENS_CUPOLA = (3_300.0, 3_980.0)  # hidden; a greisen lens lies on its crest
GABBRO = (4_950.0, 3_450.0)  # barren stock
ICE_TOWARDS = 138.0  # degrees; the way the ice moved
ICE_DRAG = 300.0  # metres that it dragged what it took up

VEIN_STRIKE, VEIN_DIP = 62.0, 80.0
FAULT_STRIKE, FAULT_DIP, FAULT_THROW, FAULT_ALONG = 350.0, 68.0, 118.0, 40.0
FAULT_POINT = (2_480.0, 2_500.0, 300.0)
DYKE_STRIKE = 152.0
DOLERITE_STRIKE = 95.0

CODES = ("TILL", "CLAY", "SLATE", "CARB", "SKARN", "GRAN", "GREIS", "PORPH", "QTZT", "GRSL", "GABB", "DOLR")
NAMES = {
    "TILL": "Till",
    "CLAY": "Kaolin clay",
    "SLATE": "Slate",
    "CARB": "Marble",
    "SKARN": "Skarn",
    "GRAN": "Granite",
    "GREIS": "Greisen",
    "PORPH": "Quartz porphyry",
    "QTZT": "Quartzite",
    "GRSL": "Graphitic slate",
    "GABB": "Gabbro",
    "DOLR": "Dolerite",
}
# Density g/cm3, susceptibility SI, resistivity ohm.m, chargeability mV/V. Within the ranges that
# handbooks give for these rocks (Telford, Geldart & Sheriff 1990, tables 2.2, 3.1, 5.2 and 9.2;
# from memory); what lies above the base of oxidation has half of its chargeability.
PROPERTIES = {
    "TILL": (2.05, 2e-4, 250.0, 2.0),
    "CLAY": (2.20, 1e-4, 25.0, 4.0),
    "SLATE": (2.70, 3e-4, 600.0, 6.0),
    "CARB": (2.72, 1e-4, 1500.0, 3.0),
    "SKARN": (3.25, 8e-2, 60.0, 70.0),
    "GRAN": (2.61, 1e-4, 3000.0, 3.0),
    "GREIS": (2.68, 1e-4, 4000.0, 32.0),
    "PORPH": (2.65, 8e-3, 1800.0, 8.0),
    "QTZT": (2.65, 1e-4, 5000.0, 2.0),
    "GRSL": (2.68, 4e-4, 18.0, 60.0),
    "GABB": (2.95, 2.8e-2, 2500.0, 6.0),
    "DOLR": (2.93, 2.5e-2, 2200.0, 5.0),
}
REDUCTION = 2.67  # g/cm3; what the gravity survey was reduced with


def code_of(name: str) -> int:
    """Index of a rock's code."""
    return CODES.index(name)


def along_and_across(x: FloatArray, y: FloatArray, azimuth: float) -> tuple[FloatArray, FloatArray]:
    """Components of a horizontal vector along an azimuth and to its right, degrees and metres."""
    a = np.radians(azimuth)
    return x * np.sin(a) + y * np.cos(a), x * np.cos(a) - y * np.sin(a)


def off_plane(
    x: FloatArray, y: FloatArray, z: FloatArray, point: tuple[float, float, float], strike: float, dip: float
) -> FloatArray:
    """Distance in metres from a plane, positive on its hangingwall (right-hand rule)."""
    s, d = np.radians(strike), np.radians(dip)
    normal = (np.cos(s) * np.sin(d), -np.sin(s) * np.sin(d), np.cos(d))
    return np.asarray((x - point[0]) * normal[0] + (y - point[1]) * normal[1] + (z - point[2]) * normal[2])
