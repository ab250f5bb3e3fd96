"""The made-up prospect Emberlow: one truth from which all its data are generated.

A hidden granite cupola under slates and a carbonate bed; skarn where the carbonate nears the
contact; steep sheeted greisen veins over the crest, richest near a porphyry dyke and offset by a
later fault; clay above, till on top. Everything is invented. Local coordinates are metres east
and north of `ORIGIN`; elevations are metres above sea level.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

CRS = "EPSG:32629"
ORIGIN = (502_000.0, 5_601_000.0)
WIDTH, HEIGHT = 3_200.0, 2_600.0
APEX = (1_650.0, 1_300.0)
VEIN_STRIKE, VEIN_DIP = 62.0, 80.0
FAULT_STRIKE, FAULT_DIP, FAULT_SHIFT = 145.0, 72.0, 70.0
DYKE_STRIKE = 152.0
CODES = ("TILL", "CLAY", "SLATE", "CARB", "SKARN", "GRAN", "GREIS", "PORPH")
# Density g/cm3, susceptibility SI, resistivity ohm.m
PROPERTIES = {
    "TILL": (2.05, 2e-4, 250.0),
    "CLAY": (2.20, 1e-4, 25.0),
    "SLATE": (2.74, 3e-4, 600.0),
    "CARB": (2.72, 1e-4, 1500.0),
    "SKARN": (3.25, 8e-2, 120.0),
    "GRAN": (2.62, 1e-4, 3000.0),
    "GREIS": (2.68, 1e-4, 4000.0),
    "PORPH": (2.65, 8e-3, 1800.0),
}
# Wave length (m), direction (degrees) and phase of the smaller hills and gullies.
_RELIEF = (
    (830.0, 20.0, 0.4),
    (610.0, 75.0, 1.9),
    (470.0, 130.0, 3.1),
    (390.0, 165.0, 0.9),
    (310.0, 48.0, 2.2),
    (240.0, 110.0, 4.4),
    (190.0, 5.0, 5.0),
    (150.0, 82.0, 1.2),
)


def ground(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the ground."""
    z = 300.0 + 0.018 * (x - 1600.0) - 0.012 * (y - 1300.0)
    for cx, cy, wide, high in (
        (1500, 1500, 620, 70),
        (700, 700, 500, 45),
        (2600, 2000, 560, 55),
        (2500, 500, 450, -40),
        (400, 2200, 400, -30),
    ):
        z = z + high * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / (2.0 * wide**2))
    for length, azimuth, phase in _RELIEF:
        a = np.radians(azimuth)
        wave = np.sin(
            (x * np.sin(a) + y * np.cos(a) + 60.0 * np.sin((x * np.cos(a) - y * np.sin(a)) / length + phase))
            * 2
            * np.pi
            / length
            + phase
        )
        z = z + 0.009 * length * wave
    return z


def till(x: FloatArray, y: FloatArray) -> FloatArray:
    """Thickness of the till."""
    return (
        6.0
        + 4.0 * np.sin(x / 330.0 + 1.0) * np.sin(y / 270.0)
        + 3.0 * np.exp(-((x - 2400) ** 2 + (y - 600) ** 2) / (2 * 500.0**2))
    )


def granite_top(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the granite's roof: a cupola that plunges gently to the north-east."""
    u, v = _rotate(x - APEX[0], y - APEX[1], 35.0)
    r2 = (u / 520.0) ** 2 + (v / 820.0) ** 2
    return 185.0 - 640.0 * (1.0 - np.exp(-r2 / 1.3)) - 0.06 * v


def carbonate(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """Signed depth in the carbonate bed: within it where |value| < 1."""
    dip, towards = np.radians(28.0), np.radians(100.0)
    along = (x - APEX[0]) * np.sin(towards) + (y - APEX[1]) * np.cos(towards)
    middle = 100.0 - (along - 380.0) * np.tan(dip)
    return np.asarray((z - middle) / 42.0)


def fault_side(x: FloatArray, y: FloatArray, z: FloatArray) -> NDArray[np.bool_]:
    """Whether a place lies in the hangingwall of the fault."""
    return _across(x, y, z, (1_930.0, 1_300.0, 250.0), FAULT_STRIKE, FAULT_DIP) > 0


def vein_distance(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """Distance in metres from the middle of the nearest greisen vein, before the fault moved it."""
    s = np.where(fault_side(x, y, z), FAULT_SHIFT, 0.0)
    angle = np.radians(FAULT_STRIKE)
    x, y = x - s * np.sin(angle), y - s * np.cos(angle)
    across = _across(x, y, z, (APEX[0], APEX[1], 200.0), VEIN_STRIKE, VEIN_DIP)
    return np.abs((across + 22.0 * np.sin(across / 310.0) + 24.0) % 48.0 - 24.0)


def over_crest(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """How well a place lies in the zone of veins over the cupola's crest, 0..1."""
    above = z - granite_top(x, y)
    r = np.hypot(x - APEX[0] + 20.0, (y - APEX[1] - 30.0) * 1.15)
    return np.exp(-((r / 430.0) ** 4)) * np.exp(-(((above - 40.0) / 150.0) ** 4))


def dyke_distance(x: FloatArray, y: FloatArray) -> FloatArray:
    """Distance in metres from the middle of the porphyry dyke."""
    return np.abs(_across(x, y, np.zeros_like(x), (1_560.0, 1_300.0, 0.0), DYKE_STRIKE, 90.0))


def rock(x: FloatArray, y: FloatArray, z: FloatArray) -> NDArray[np.int64]:
    """Index into `CODES` of the rock at places (air is not told apart)."""
    x, y, z = np.broadcast_arrays(x, y, z)
    above = z - granite_top(x, y)
    depth = ground(x, y) - z
    out = np.where(above < 0, 5, 2)
    bed = np.abs(carbonate(x, y, z)) < 1
    out = np.where((out == 2) & bed, 3, out)
    # Skarn is thickest on the eastern flank, where the bed meets the granite roof.
    flank = np.exp(-(((x - APEX[0] - 420.0) / 330.0) ** 2 + ((y - APEX[1] + 60.0) / 420.0) ** 2))
    out = np.where((out == 3) & (above < 20.0 + 150.0 * flank), 4, out)
    crest = over_crest(x, y, z)
    width = 1.2 + 3.6 * crest * np.exp(-((dyke_distance(x, y) / 130.0) ** 2)) + 1.2 * crest
    out = np.where((vein_distance(x, y, z) < width) & (crest > 0.25), 6, out)
    out = np.where((dyke_distance(x, y) < 9.0) & (out != 6), 7, out)
    cover = till(x, y)
    clay = (depth < cover + 34.0 * np.exp(-(((x - APEX[0]) / 420.0) ** 2 + ((y - APEX[1]) / 380.0) ** 2))) & (
        depth >= cover
    )
    out = np.where(clay & (out != 6), 1, out)
    return np.where(depth < cover, 0, out)


def grades(x: FloatArray, y: FloatArray, z: FloatArray) -> dict[str, FloatArray]:
    """Expected grades, without local variation: Sn, W, As in ppm, Cu in %."""
    code = rock(x, y, z)
    crest = over_crest(x, y, z)
    halo = np.exp(-vein_distance(x, y, z) / 5.0)
    shoot = np.exp(-((dyke_distance(x, y) / 140.0) ** 2))
    strong = crest * halo * (0.25 + 1.6 * shoot)
    skarn = (code == 4).astype(float)
    cover = np.where(code == 0, 0.08, 1.0)
    return {
        "Sn": cover * (6.0 + 5_200.0 * strong + 420.0 * skarn),
        "W": cover * (3.0 + 1_500.0 * strong * (0.4 + shoot) + 160.0 * skarn),
        "Cu": cover * (0.004 + 0.10 * strong + 0.62 * skarn),
        "As": cover * (18.0 + 1_900.0 * strong + 260.0 * skarn),
    }


def _rotate(x: FloatArray, y: FloatArray, azimuth: float) -> tuple[FloatArray, FloatArray]:
    # Components along (v) and across (u) an azimuth.
    a = np.radians(azimuth)
    return x * np.cos(a) - y * np.sin(a), x * np.sin(a) + y * np.cos(a)


def _across(
    x: FloatArray, y: FloatArray, z: FloatArray, point: tuple[float, float, float], strike: float, dip: float
) -> FloatArray:
    # Distance from a plane, positive on its hangingwall (right-hand rule).
    s, d = np.radians(strike), np.radians(dip)
    normal = (np.cos(s) * np.sin(d), -np.sin(s) * np.sin(d), np.cos(d))
    return np.asarray((x - point[0]) * normal[0] + (y - point[1]) * normal[1] + (z - point[2]) * normal[2])
