"""Four-electrode arrays: geometric factors, depths of investigation, repeated and reciprocal readings.

An array is a row (a, b, m, n) of electrode indices; -1 stands for an electrode at infinity. Current
flows in at a and out at b; the voltage is that of m against n.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
# Pairs of an array whose distances enter, with the sign of each: AM, BM, AN, BN.
_PAIRS = ((0, 2, 1.0), (1, 2, -1.0), (0, 3, -1.0), (1, 3, 1.0))


def _distances(electrodes: FloatArray, abmn: IntArray) -> list[tuple[FloatArray, float]]:
    out = []
    for i, j, sign in _PAIRS:
        apart = np.linalg.norm(electrodes[abmn[:, i]] - electrodes[abmn[:, j]], axis=1)
        out.append((np.where((abmn[:, i] < 0) | (abmn[:, j] < 0), np.inf, apart), sign))
    return out


def geometric_factor(electrodes: FloatArray, abmn: IntArray, buried: FloatArray | None = None) -> FloatArray:
    """Return the factor in metres that turns resistance into apparent resistivity of a half-space.

    On the surface ``k = 2 pi / (1/AM - 1/BM - 1/AN + 1/BN)`` (Keller & Frischknecht 1966), with straight
    distances between electrodes of shape (e, 3) in metres. For electrodes below the surface each current
    electrode has an image as far above it, ``k = 4 pi / sum of sign (1/r + 1/r')`` (method of images: Telford
    et al. 1990, ch. 8); the surface is taken as plane between the two electrodes of a pair. It is infinite
    where the array sees no voltage and NaN where a current and a voltage electrode are the same.

    `buried` holds the depths (e,) of the electrodes below the ground in metres, none by default.
    """
    total = np.zeros(len(abmn))
    bad = np.zeros(len(abmn), dtype=bool)
    depth = np.zeros(len(electrodes)) if buried is None else np.maximum(np.nan_to_num(buried), 0.0)
    ground = electrodes + depth[:, None] * np.array([0.0, 0.0, 1.0])
    images = _distances(ground, abmn)
    for (apart, sign), (along, _), (i, j, _) in zip(_distances(electrodes, abmn), images, _PAIRS, strict=True):
        bad |= apart <= 0
        image = np.hypot(along, np.where(np.isfinite(along), depth[abmn[:, i]] + depth[abmn[:, j]], 0.0))
        total += 0.5 * sign * (1.0 / np.where(apart > 0, apart, np.inf) + 1.0 / np.where(image > 0, image, np.inf))
    with np.errstate(divide="ignore"):
        factor = 2.0 * np.pi / np.where(np.abs(total) < 1e-12, 0.0, total)
    return np.where(bad, np.nan, factor)


def median_depth(electrodes: FloatArray, abmn: IntArray) -> FloatArray:
    """Return the depth in metres above which half of a reading over uniform ground comes from.

    The response of a half-space to a thin layer at depth z is ``z / (r**2 + 4 z**2)**1.5`` for each
    pair of electrodes (Roy & Apparao 1971; Barker 1989); its integral is closed, so the median is
    found by halving. NaN where the array sees no voltage.
    """
    pairs = _distances(electrodes, abmn)
    whole = sum((sign / np.where(apart > 0, apart, np.inf) for apart, sign in pairs), np.zeros(len(abmn)))
    finite = np.array([np.where(np.isfinite(apart), apart, 0.0) for apart, _ in pairs])
    low, high = np.zeros(len(abmn)), np.maximum(finite.max(axis=0), 1e-9) * 4.0
    for _ in range(60):
        middle = 0.5 * (low + high)
        above = np.zeros(len(abmn))
        for apart, sign in pairs:
            above += sign * (
                1.0 / np.where(apart > 0, apart, np.inf) - 1.0 / np.sqrt(np.square(apart) + 4.0 * np.square(middle))
            )
        deeper = above / np.where(whole == 0, np.nan, whole) < 0.5
        low, high = np.where(deeper, middle, low), np.where(deeper, high, middle)
    return np.where(np.abs(whole) < 1e-12, np.nan, 0.5 * (low + high))


def impossible(abmn: IntArray) -> NDArray[np.bool_]:
    """Return which arrays use one electrode twice: fillers of an instrument's channels, not readings."""
    bad = np.zeros(len(abmn), dtype=bool)
    for i in range(4):
        for j in range(i + 1, 4):
            bad |= (abmn[:, i] == abmn[:, j]) & (abmn[:, i] >= 0)
    return bad


def same_array(abmn: IntArray) -> tuple[IntArray, FloatArray]:
    """Return a number for each array, the same for repeats, and +1 or -1 for its polarity.

    Exchanging a and b, or m and n, is the same array with the opposite sign of the voltage.
    """
    current, voltage = np.sort(abmn[:, :2], axis=1), np.sort(abmn[:, 2:], axis=1)
    sign = np.where((abmn[:, 0] > abmn[:, 1]) ^ (abmn[:, 2] > abmn[:, 3]), -1.0, 1.0)
    _, number = np.unique(np.hstack([current, voltage]), axis=0, return_inverse=True)
    return number.ravel().astype(np.int64), sign


def reciprocals(abmn: IntArray) -> tuple[IntArray, FloatArray]:
    """Return for each array the row of its reciprocal (current and voltage exchanged), -1 for none, and the sign.

    By reciprocity both have the same resistance; their difference is a measure of the error
    (Slater et al. 2000).
    """
    current, voltage = np.sort(abmn[:, :2], axis=1), np.sort(abmn[:, 2:], axis=1)
    polarity = np.where((abmn[:, 0] > abmn[:, 1]) ^ (abmn[:, 2] > abmn[:, 3]), -1.0, 1.0)
    place = {tuple(key): row for row, key in enumerate(np.hstack([current, voltage]).tolist())}
    other = np.array([place.get(tuple(key), -1) for key in np.hstack([voltage, current]).tolist()], dtype=np.int64)
    sign = np.where(other >= 0, polarity * polarity[other], 0.0)
    return other, sign
