"""Checks of where holes are: against the ground, against each other, and of how sharply they bend."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ...findings import Findings
from .desurvey import Path, dogleg

FloatArray = NDArray[np.float64]
LEAST_BEND = 2.0  # degrees; the repeatability of survey tools is about half a degree (common practice, no source)


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


def check_feet(collars: pd.DataFrame, ground: FloatArray, found: Findings, file: str) -> None:
    """Report a ground that stands 3.28 times as high as most collars, or as low: one of the two is in feet.

    `ground` is its elevation at each collar in metres, shape (n,), NaN unknown.
    """
    z = collars["z"].to_numpy(float)
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = ground / z
    known = np.isfinite(ratio) & (np.abs(z) > 20.0)
    if known.sum() < 3:
        return
    middle = float(np.median(ratio[known]))
    for times, words in ((1 / 0.3048, "the ground surface is in feet"), (0.3048, "the collars are in feet")):
        if abs(middle / times - 1.0) < 0.05:
            found.add(
                "look",
                f"the ground stands {middle:.2f} times as high as the collars: {words}",
                "kept; import it again with its unit (unit=ft of a grid, height_unit=ft of collars)",
                file=file,
                table="collar",
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
