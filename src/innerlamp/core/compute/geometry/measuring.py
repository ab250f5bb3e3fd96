"""What two and three places tell: distance, plunge and trend of a line; dip and dip direction of a plane."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from .orientations import dip_and_direction

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Line:
    """From one place to another: length and its part in plan in metres, plunge (down positive) and trend in degrees."""

    length: float
    plan: float
    plunge: float
    trend: float


def line_between(first: FloatArray, second: FloatArray) -> Line:
    """Return the line between two places (3,), metres, east-north-up; plunge and trend as seen from the first."""
    dx, dy, dz = (float(v) for v in np.asarray(second, dtype=float) - np.asarray(first, dtype=float))
    plan = float(np.hypot(dx, dy))
    return Line(
        float(np.hypot(plan, dz)),
        plan,
        float(np.degrees(np.arctan2(-dz, plan))),
        float(np.degrees(np.arctan2(dx, dy)) % 360.0),
    )


def plane_through(first: FloatArray, second: FloatArray, third: FloatArray) -> tuple[float, float]:
    """Return dip and dip direction in degrees of the plane through three places (3,).

    Raises
    ------
    InputError
        When they lie on one line.
    """
    a, b, c = (np.asarray(p, dtype=float) for p in (first, second, third))
    normal = np.cross(b - a, c - a)
    size = float(np.linalg.norm(normal))
    longest = max(float(np.linalg.norm(v)) for v in (b - a, c - a, c - b))
    if size <= 1e-6 * max(longest**2, 1e-12):
        raise InputError("the three points lie on one line", fix="Choose a third one beside them")
    dip, to = dip_and_direction((normal / size)[None, :])
    return float(dip[0]), float(to[0])
