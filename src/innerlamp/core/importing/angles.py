"""Which way the dips of a table are measured: down from the horizontal with either sign, or away from the vertical."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from ..elements import letters_of
from ..findings import Findings
from .choices import Dips

# In English, Spanish, French, Portuguese, German, Finnish and Swedish.
_VERTICAL = re.compile(r"vertical|vertikal|zenit|cenit|pystysuor|lotrecht|lodlin|plumb|offset from down")
_HORIZONTAL = re.compile(r"horizon|vaaka|vagrat")
# Words that are used of both: an inclination is from the vertical on a gyro's sheet and from the horizontal on a driller's.
_EITHER = re.compile(r"incl|^inc$|neigung|lutning|kaltevuus|deviat|drift|desvi|devia|angle|angulo|tilt")


@dataclass(frozen=True)
class Sense:
    """How dips are measured, by what it was told, and whether that leaves doubt."""

    dips: Dips
    why: str
    doubt: bool = False


def sense_of(heading: str, dips: NDArray[np.float64]) -> Sense:
    """Return how the dips under a heading are measured, from its words and from the numbers."""
    words = letters_of(heading)
    values = dips[np.isfinite(dips)]
    down = float(np.mean(values < 0)) if len(values) else 0.0
    if _VERTICAL.search(words) and not _HORIZONTAL.search(words):
        return Sense("from vertical", f"'{heading}' is an angle from the vertical")
    if down > 0.5:
        return Sense("negative down", "most dips are negative")
    if not len(values):
        return Sense("negative down", "there are no dips")
    if _EITHER.search(words.strip()) and not _HORIZONTAL.search(words):
        if float(np.median(values)) < 45.0 or (values > 90.0).any():
            return Sense("from vertical", f"'{heading}' may be from the vertical or from the horizontal", True)
        return Sense(
            "positive down", f"'{heading}' is positive, and most of it is steep", bool(np.median(values) < 60.0)
        )
    flat = float(np.median(values)) < 20.0
    return Sense("positive down", "most dips are positive", flat)


def from_vertical(table: pd.DataFrame, found: Findings, file: str) -> pd.DataFrame:
    """Return surveys whose dips were angles from the vertical, negative down; what no such angle can be is left out.

    An angle over 90° goes upward: it is taken where most readings of its hole do, and left out as impossible otherwise.
    """
    angle = table["dip"].to_numpy(float)
    over = (
        pd.Series(angle > 90.0).groupby(table["hole"].to_numpy()).transform("mean").to_numpy() if len(table) else angle
    )
    bad = np.isfinite(angle) & ((angle < 0) | (angle > 180.0) | ((angle > 90.0) & (over <= 0.5)))
    if bad.any():
        rows = table[bad]
        what = [f"an angle of {v:g}° from the vertical is not possible in this hole" for v in angle[bad]]
        found.add(
            "left out",
            what,
            "row left out",
            file=file,
            table="survey",
            line=rows["line"].to_numpy(),
            hole=rows["hole"].to_numpy(),
        )
    kept: pd.DataFrame = table[~bad].reset_index(drop=True)
    return kept.assign(dip=kept["dip"] - 90.0)


def negative_down(
    table: pd.DataFrame,
    dips: Dips,
    heading: str,
    found: Findings,
    file: str,
    known: pd.Series | None = None,
) -> pd.DataFrame:
    """Return surveys with dips in degrees negative down: as was chosen, else as heading and numbers tell.

    `known` are dips (negative down) of holes from elsewhere: in doubt the sense that agrees with them is taken. What was
    taken is said, and asked about where doubt is left.
    """
    if not len(table):
        return table
    sense = Sense(dips, "dips are angles from vertical" if dips == "from vertical" else "")
    if dips == "auto":
        sense = sense_of(heading, table["dip"].to_numpy(float))
        if sense.doubt and known is not None:
            sense = _agreeing(table, known, heading) or sense
    if sense.why:
        done = "90° taken off" if sense.dips == "from vertical" else f"read as {sense.dips}"
        others = " or ".join(f"dips='{d}'" for d in ("positive down", "from vertical") if d != sense.dips)
        more = f", as it is likelier; say {others} where that is not so" if sense.doubt else ""
        found.add("look" if sense.doubt else "note", sense.why, done + more, file=file, table="survey")
    if sense.dips == "from vertical":
        return from_vertical(table, found, file)
    return table.assign(dip=-table["dip"]) if sense.dips == "positive down" else table


def _agreeing(table: pd.DataFrame, known: pd.Series, heading: str) -> Sense | None:
    first = table.sort_values("depth_m", kind="stable").drop_duplicates("hole")
    there = first["hole"].map(known).to_numpy(float)
    dips = first["dip"].to_numpy(float)
    both = np.isfinite(there) & np.isfinite(dips)
    if not both.any():
        return None
    off = {
        "from vertical": float(np.median(np.abs(dips[both] - 90.0 - there[both]))),
        "positive down": float(np.median(np.abs(-dips[both] - there[both]))),
    }
    best: Dips = "from vertical" if off["from vertical"] < off["positive down"] else "positive down"
    if min(off.values()) > 15.0 or abs(off["from vertical"] - off["positive down"]) < 10.0:
        return None
    return Sense(best, f"'{heading}' agrees with the dips of the collars")
