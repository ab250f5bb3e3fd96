"""The ground of Emberlow: hills, a stream in its valley, a scarp, till, a wetland, a track, old pits."""

from __future__ import annotations

import numpy as np

from .frame import APEX, FloatArray

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
# Centre, half width and height of the larger hills and basins.
_HILLS = (
    (1_900.0, 2_700.0, 620.0, 62.0),
    (500.0, 3_600.0, 650.0, 138.0),
    (5_150.0, 3_900.0, 700.0, 105.0),
    (5_300.0, 1_100.0, 650.0, 112.0),
    (3_250.0, 4_700.0, 500.0, 45.0),
    (3_000.0, 900.0, 520.0, -38.0),
    (1_500.0, 700.0, 520.0, 40.0),
)
# Where the stream runs: easting of its middle at northings from its spring in the north to the south.
_STREAM_N = np.array([5_300.0, 4_700.0, 4_100.0, 3_500.0, 2_900.0, 2_300.0, 1_700.0, 1_100.0, 500.0, -300.0])
_STREAM_E = np.array([4_150.0, 4_080.0, 4_230.0, 4_120.0, 3_860.0, 3_930.0, 4_210.0, 4_140.0, 3_880.0, 3_800.0])
_STREAM_Z = np.array([262.0, 248.0, 236.0, 224.0, 214.0, 200.0, 184.0, 168.0, 152.0, 132.0])
WETLAND = (
    (3_745.0, 2_420.0),
    (3_900.0, 2_505.0),
    (4_060.0, 2_470.0),
    (4_125.0, 2_330.0),
    (4_070.0, 2_170.0),
    (3_935.0, 2_095.0),
    (3_800.0, 2_160.0),
    (3_735.0, 2_290.0),
)
TRACK = (
    (0.0, 1_900.0),
    (520.0, 2_040.0),
    (960.0, 2_260.0),
    (1_480.0, 2_300.0),
    (1_900.0, 2_350.0),
    (2_300.0, 2_240.0),
    (2_720.0, 2_060.0),
    (3_180.0, 2_010.0),
    (3_560.0, 2_080.0),
)
PITS = (
    ("North pit", ((1_900.0, 2_620.0), (1_965.0, 2_655.0), (1_990.0, 2_610.0), (1_925.0, 2_575.0))),
    ("East pit", ((2_425.0, 2_415.0), (2_490.0, 2_450.0), (2_510.0, 2_405.0), (2_450.0, 2_375.0))),
)
FENCE = ((1_020.0, 3_300.0), (1_900.0, 3_560.0))  # steel wire; the aircraft's magnetometer sees it
STEEP = 25.0  # degrees; no rig stands on steeper ground (common practice, no source)


def stream_easting(y: FloatArray) -> FloatArray:
    """Easting of the stream at northings."""
    return np.asarray(np.interp(y, _STREAM_N[::-1], _STREAM_E[::-1]) + 22.0 * np.sin(np.asarray(y) / 95.0))


def ground(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the ground."""
    x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    z = 312.0 - 0.006 * (x - 3_000.0) + 0.010 * (y - 2_500.0)
    for cx, cy, wide, high in _HILLS:
        z = z + high * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / (2.0 * wide**2))
    # The scarp in the east, steeper than a rig can stand on.
    along = (x - 4_780.0) * 0.94 + (y - 1_500.0) * 0.34
    z = z + 52.0 * np.tanh(along / 50.0) * np.exp(-(((y - 1_300.0) / 1_000.0) ** 2)) * np.exp(-((along / 620.0) ** 2))
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
    off = (x - stream_easting(y)) / 235.0
    valley = np.exp(-(np.abs(off) ** 1.7))
    return np.asarray(z * (1.0 - valley) + np.interp(y, _STREAM_N[::-1], _STREAM_Z[::-1]) * valley)


def slope(x: FloatArray, y: FloatArray, step: float = 10.0) -> FloatArray:
    """Slope of the ground in degrees."""
    gx = (ground(x + step, y) - ground(x - step, y)) / (2 * step)
    gy = (ground(x, y + step) - ground(x, y - step)) / (2 * step)
    return np.asarray(np.degrees(np.arctan(np.hypot(gx, gy))))


def till(x: FloatArray, y: FloatArray) -> FloatArray:
    """Thickness of the till: thick along the stream and east of the fault, thin on the hills."""
    x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    return np.asarray(
        5.5
        + 3.5 * np.sin(x / 330.0 + 1.0) * np.sin(y / 270.0)
        + 7.0 * np.exp(-(((x - stream_easting(y)) / 240.0) ** 2))
        + 11.0 * np.exp(-(((x - 2_900.0) / 330.0) ** 2) - ((y - 2_850.0) / 420.0) ** 2)
        + 6.0 * np.exp(-(((x - 3_300.0) / 420.0) ** 2) - ((y - 3_980.0) / 380.0) ** 2)
    )


def bedrock(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the bedrock under the till."""
    return ground(x, y) - till(x, y)


def oxidation(x: FloatArray, y: FloatArray) -> FloatArray:
    """Elevation of the base of oxidation: a smoothed copy of the ground, deeper over the veins."""
    x, y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    around = sum(ground(x + dx, y + dy) for dx in (-90.0, 0.0, 90.0) for dy in (-90.0, 0.0, 90.0)) / 9.0
    deep = 24.0 + 26.0 * np.exp(-(((x - APEX[0]) / 420.0) ** 2) - ((y - APEX[1]) / 380.0) ** 2)
    return np.asarray(np.minimum(around - deep, bedrock(x, y) - 2.0))
