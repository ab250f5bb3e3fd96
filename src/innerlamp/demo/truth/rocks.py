"""The rocks of Emberlow: folded slates, three cupolas of granite, dykes, a stock, a fault.

Old to young: the folded beds; the granite with its skarn, greisen and porphyry; the normal fault
that displaces all of these; the gabbro and the swarm of dolerite dykes; clay and till.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from . import land
from .frame import (
    APEX,
    DOLERITE_STRIKE,
    DYKE_STRIKE,
    FAULT_ALONG,
    FAULT_DIP,
    FAULT_POINT,
    FAULT_STRIKE,
    FAULT_THROW,
    GABBRO,
    LENS_CUPOLA,
    SKARN_CUPOLA,
    VEIN_DIP,
    VEIN_STRIKE,
    FloatArray,
    along_and_across,
    code_of,
    off_plane,
)

FOLD_AXIS = 20.0  # azimuth of the syncline's axis, which plunges south-south-west
_HINGE = (3_100.0, 2_500.0)
# Beds by height above the middle of the marble, in metres of the fold's own column.
BEDS = (("QTZT", 118.0, 146.0), ("GRSL", 225.0, 285.0), ("CARB", -40.0, 44.0))
DOLERITES = (
    (470.0, 9.0),
    (655.0, 6.0),
    (1_130.0, 11.0),
    (2_010.0, 7.0),
    (3_210.0, 8.0),
    (3_465.0, 12.0),
    (4_590.0, 7.0),
)
_DOLERITE_EAST = 3_000.0  # where the northings of `DOLERITES` hold
LENS_AXES = (165.0, 105.0, 30.0)  # half axes of the blind lens: along its strike, across, up
LENS_STRIKE = 75.0
BRANCH = (2_760.0, 2_878.0)  # middle of the porphyry's branch east of the fault, before the fault moved it
BRANCH_HALF = 420.0


def restored(x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Where places lay before the fault: its hangingwall moved down the dip, less and less northwards."""
    x, y, z = np.broadcast_arrays(*(np.asarray(v, dtype=np.float64) for v in (x, y, z)))
    moved = np.where(fault_side(x, y, z), fault_share(y), 0.0)
    dx, dy, dz = slip()
    return x - moved * dx, y - moved * dy, z - moved * dz


def slip() -> tuple[float, float, float]:
    """How far the hangingwall moved where the throw is whole: east, north, up in metres."""
    dip, strike = np.radians(FAULT_DIP), np.radians(FAULT_STRIKE)
    out = FAULT_THROW / np.tan(dip)
    dx = out * np.cos(strike) + FAULT_ALONG * np.sin(strike)
    dy = -out * np.sin(strike) + FAULT_ALONG * np.cos(strike)
    return float(dx), float(dy), -FAULT_THROW


def fault_side(x: FloatArray, y: FloatArray, z: FloatArray) -> NDArray[np.bool_]:
    """Whether places lie in the hangingwall of the fault, which is its eastern side."""
    return off_plane(x, y, z, FAULT_POINT, FAULT_STRIKE, FAULT_DIP) > 0


def fault_share(y: FloatArray) -> FloatArray:
    """Share of the throw at northings: whole in the south, nothing from 4,400 m on."""
    s = np.clip((4_400.0 - np.asarray(y)) / 1_500.0, 0.0, 1.0)
    return np.asarray(s * s * (3.0 - 2.0 * s))


def bed_height(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """Height in the fold's column (metres above the middle of the marble) at restored places.

    An open western limb and an eastern limb that is sheared westwards until it is overturned.
    """
    v, u = along_and_across(x - _HINGE[0], y - _HINGE[1], FOLD_AXIS)
    lean = np.clip(u / 420.0, 0.0, 1.0)
    lean = lean * lean * (3.0 - 2.0 * lean)
    flat = u + 1.05 * (z - 250.0) * lean
    west = 760.0 * (1.0 - np.exp(-((flat / 830.0) ** 2)))
    east = 1_560.0 * (1.0 - np.exp(-((flat / 900.0) ** 2)))
    return np.asarray(z + 265.0 - np.where(flat < 0, west, east) - 0.05 * v)


def bedding(x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[FloatArray, FloatArray, NDArray[np.bool_]]:
    """Dip and dip direction of the beds at places, degrees, and whether they are overturned, from the gradient of their height."""

    def height(dx: float, dy: float, dz: float) -> FloatArray:
        return bed_height(*restored(x + dx, y + dy, z + dz))

    h = 2.0
    steps = ((h, 0.0, 0.0), (0.0, h, 0.0), (0.0, 0.0, h))
    g = np.array([height(*s) - height(*(-v for v in s)) for s in steps])
    turned = g[2] < 0
    up = np.where(turned, -g, g)
    dip = np.degrees(np.arctan2(np.hypot(up[0], up[1]), up[2]))
    return dip, np.degrees(np.arctan2(up[0], up[1])) % 360.0, turned


def granite_top(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the granite's roof at restored places: three cupolas over a deep floor."""
    along, across = along_and_across(x - APEX[0], y - APEX[1], 35.0)
    r2 = (across / 520.0) ** 2 + (along / 820.0) ** 2
    main = 185.0 - 640.0 * (1.0 - np.exp(-r2 / 1.3)) - 0.06 * along
    under_skarn = 178.0 - 680.0 * (
        1.0 - np.exp(-(((x - SKARN_CUPOLA[0]) / 360.0) ** 2) - ((y - SKARN_CUPOLA[1]) / 330.0) ** 2)
    )
    under_lens = 148.0 - 640.0 * (
        1.0 - np.exp(-(((x - LENS_CUPOLA[0]) / 400.0) ** 2) - ((y - LENS_CUPOLA[1]) / 340.0) ** 2)
    )
    return np.asarray(np.maximum(np.maximum(main, under_skarn), under_lens))


def over_crest(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """How well places lie in the zone of sheeted veins, 0..1: over the main crest, and its continuation east of the fault."""
    return _vein_zone(*restored(x, y, z))


def _vein_zone(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    above = z - granite_top(x, y)
    r = np.hypot(x - APEX[0] + 20.0, (y - APEX[1] - 30.0) * 1.15)
    main = np.exp(-((r / 430.0) ** 4)) * np.exp(-(((above - 40.0) / 150.0) ** 4))
    t, n = along_and_across(x - APEX[0], y - APEX[1], VEIN_STRIKE)
    beyond = np.exp(-(((t - 800.0) / 270.0) ** 4) - (n / 165.0) ** 4 - ((z - 232.0) / 130.0) ** 4)
    return np.asarray(np.maximum(main, beyond))


def vein_distance(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """Distance in metres from the middle of the nearest greisen vein."""
    return _off_vein(*restored(x, y, z))


def _off_vein(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    across = off_plane(x, y, z, (APEX[0], APEX[1], 200.0), VEIN_STRIKE, VEIN_DIP)
    return np.asarray(np.abs((across + 22.0 * np.sin(across / 310.0) + 24.0) % 48.0 - 24.0))


def dyke_distance(x: FloatArray, y: FloatArray) -> FloatArray:
    """Distance in metres from the middle of the porphyry dyke or its branch, at restored places."""
    main = np.abs(along_and_across(x - (APEX[0] - 90.0), y - APEX[1], DYKE_STRIKE)[1])
    t, n = along_and_across(x - BRANCH[0], y - BRANCH[1], DYKE_STRIKE)
    branch = np.hypot(np.maximum(np.abs(t) - BRANCH_HALF, 0.0), n)
    return np.asarray(np.minimum(main, branch))


def lens_distance(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """Place in the blind greisen lens: within it where the value is below 1."""
    t, n = along_and_across(x - LENS_CUPOLA[0], y - LENS_CUPOLA[1], LENS_STRIKE)
    up = z - (float(granite_top(*np.array(LENS_CUPOLA))) + 4.0)
    a, b, c = LENS_AXES
    return np.asarray(np.sqrt((t / a) ** 2 + (n / b) ** 2 + (up / c) ** 2))


def dolerite_distance(x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Distance in metres from the middle of the nearest dolerite dyke, and that dyke's half width."""
    best = np.full(np.broadcast(x, y).shape, np.inf)
    half = np.zeros(best.shape)
    for north, wide in DOLERITES:
        off = np.abs(along_and_across(x - _DOLERITE_EAST, y - north, DOLERITE_STRIKE)[1])
        nearer = off < best
        best, half = np.where(nearer, off, best), np.where(nearer, wide / 2.0, half)
    return best, half


def in_gabbro(x: FloatArray, y: FloatArray, z: FloatArray) -> NDArray[np.bool_]:
    """Whether places lie in the barren stock, which widens downwards to 900 m below sea level."""
    r = np.hypot((x - GABBRO[0]) / 1.15, y - GABBRO[1])
    return np.asarray((r < 250.0 + 0.12 * (300.0 - z)) & (z > -900.0))


def skarn_reach(x: FloatArray, y: FloatArray) -> FloatArray:
    """How far above the granite's roof the marble became skarn, in metres, at restored places."""
    flank = np.exp(-(((x - APEX[0] - 420.0) / 330.0) ** 2) - ((y - APEX[1] + 60.0) / 420.0) ** 2)
    hidden = np.exp(-(((x - SKARN_CUPOLA[0]) / 330.0) ** 2) - ((y - SKARN_CUPOLA[1]) / 300.0) ** 2)
    return np.asarray(15.0 + 145.0 * flank + 95.0 * hidden)


def rock(x: FloatArray, y: FloatArray, z: FloatArray) -> NDArray[np.int64]:
    """Index into `CODES` of the rock at places (air is not told apart)."""
    x, y, z = np.broadcast_arrays(*(np.asarray(v, dtype=np.float64) for v in (x, y, z)))
    p = restored(x, y, z)
    above = p[2] - granite_top(p[0], p[1])
    height = bed_height(*p)
    out = np.full(x.shape, code_of("SLATE"))
    for name, low, high in BEDS:
        out = np.where((height > low) & (height < high), code_of(name), out)
    out = np.where((out == code_of("CARB")) & (above < skarn_reach(p[0], p[1])), code_of("SKARN"), out)
    out = np.where(above < 0, code_of("GRAN"), out)
    zone = _vein_zone(*p)
    dyke = dyke_distance(p[0], p[1])
    width = 1.2 + 3.6 * zone * np.exp(-((dyke / 130.0) ** 2)) + 1.2 * zone
    out = np.where((_off_vein(*p) < width) & (zone > 0.25), code_of("GREIS"), out)
    out = np.where(lens_distance(*p) < 1.0, code_of("GREIS"), out)
    out = np.where((dyke < 9.0) & (out != code_of("GREIS")), code_of("PORPH"), out)
    out = np.where(in_gabbro(x, y, z), code_of("GABB"), out)
    off, half = dolerite_distance(x, y)
    out = np.where(off < half, code_of("DOLR"), out)
    depth, cover = land.ground(x, y) - z, land.till(x, y)
    thick = 34.0 * np.exp(-(((x - APEX[0]) / 420.0) ** 2) - ((y - APEX[1]) / 380.0) ** 2)
    clay = (depth < cover + thick) & (depth >= cover) & (out != code_of("GREIS"))
    out = np.where(clay, code_of("CLAY"), out)
    return np.where(depth < cover, code_of("TILL"), out)
