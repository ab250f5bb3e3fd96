"""Checks of where holes are: against the ground, against each other, and of how sharply they bend."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...findings import Findings
from .desurvey import Path, dogleg

FloatArray = NDArray[np.float64]
LEAST_BEND = 2.0  # degrees; the repeatability of survey tools is about half a degree (common practice, no source)
FAR = 50_000.0  # metres from the middle of all collars; no prospect is so wide


def check_off_ground(collars: pd.DataFrame, ground: FloatArray, limit: float, found: Findings, file: str) -> None:
    """Report collars whose elevation differs from the ground there (metres, NaN unknown) by more than `limit`."""
    off = collars["z"].to_numpy(float) - ground
    with np.errstate(invalid="ignore"):
        far = np.abs(off) > limit
    if far.any():
        rows = collars[far]
        what = [f"collar is {abs(v):.1f} m {'above' if v > 0 else 'below'} the ground surface" for v in off[far]]
        found.add(
            "look", what, "kept", file=file, table="collar", line=rows["line"].to_numpy(), hole=rows["hole"].to_numpy()
        )


def check_far_away(
    collars: pd.DataFrame, found: Findings, file: str, area: tuple[float, float, float, float] | None = None
) -> None:
    """Report collars that lie outside the area (west, east, south, north) or far from all others.

    Where easting and northing changed round would lie well, that is said; otherwise another zone
    or system is likely.
    """
    x, y = collars["x"].to_numpy(float), collars["y"].to_numpy(float)
    if len(x) < 2 and area is None:
        return
    if area is not None:
        west, east, south, north = area
        wide, high = 0.25 * (east - west) + 1000.0, 0.25 * (north - south) + 1000.0
        away = (x < west - wide) | (x > east + wide) | (y < south - high) | (y > north + high)
        swapped = (y > west - wide) & (y < east + wide) & (x > south - high) & (x < north + high)
    else:
        mx, my = float(np.median(x)), float(np.median(y))
        away = np.hypot(x - mx, y - my) > FAR
        swapped = np.hypot(y - mx, x - my) < FAR
    if away.any():
        rows = collars[away]
        what = [
            "easting and northing look changed round" if s else "collar lies far from the rest: another zone or system?"
            for s in swapped[away]
        ]
        found.add(
            "look", what, "kept", file=file, table="collar", line=rows["line"].to_numpy(), hole=rows["hole"].to_numpy()
        )


def check_kinks(path: Path, holes: NDArray[np.object_], limit: float, found: Findings, file: str) -> None:
    """Report places where a hole bends by more than `limit` degrees per 30 m between two readings.

    Bends below `LEAST_BEND` degrees in all are what readings a short way apart show anyway.

    `holes` names the holes of the path, shape (h,).
    """
    bend = dogleg(path)
    turned = bend * np.diff(path.depth) / 30.0
    for at in np.flatnonzero((bend > limit) & (turned > LEAST_BEND)):
        a, b = path.depth[at], path.depth[at + 1]
        found.add(
            "look",
            f"hole bends by {bend[at]:.1f}° per 30 m from {a:g} to {b:g} m",
            "kept",
            file=file,
            table="survey",
            hole=str(holes[path.hole[at]]),
        )
