"""Structural readings: planes and lines as they are written down, turned to dip and dip direction."""

from __future__ import annotations

import re
from typing import Literal

import numpy as np
import pandas as pd

from ..errors import InputError
from ..findings import Findings
from ..formats.tables import columns
from ..formats.tables.rawtable import RawTable
from .reading import number_column

Planes = Literal[
    "auto", "dip and dip direction", "strike by right-hand rule", "strike by left-hand rule", "strike and letter"
]
_LETTERS = {"N": 0.0, "NE": 45.0, "E": 90.0, "SE": 135.0, "S": 180.0, "SW": 225.0, "W": 270.0, "NW": 315.0}
_DIP = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*°?\s*([NESWnesw]{1,2})?\s*$")
_STRIKE = re.compile(r"^\s*([NSns])\s*(\d+(?:\.\d+)?)\s*°?\s*([EWew])\s*$")


def read_bearing(text: str) -> float:
    """Return degrees clockwise from north of ``035`` or of a quadrant such as ``N35E``; NaN when it is neither."""
    found = _STRIKE.match(text)
    if found:
        angle = float(found.group(2))
        if angle > 90:
            return float("nan")
        north, east = found.group(1).upper() == "N", found.group(3).upper() == "E"
        return (angle if east else 360.0 - angle) % 360.0 if north else (180.0 - angle if east else 180.0 + angle)
    try:
        return float(text)
    except ValueError:
        return float("nan")


def dip_direction(strike: np.ndarray, letter: list[str]) -> np.ndarray:
    """Return the dip direction of planes given by strike and the letter of the side that they dip to.

    Of the two directions at right angles to the strike, the one nearer to the letter's; NaN where
    there is no letter, or where it lies along the strike.
    """
    out = np.full(len(strike), np.nan)
    for k, (bearing, side) in enumerate(zip(strike, letter, strict=True)):
        wanted = _LETTERS.get(side.upper())
        if wanted is None or not np.isfinite(bearing):
            continue
        away = [abs((bearing + turn - wanted + 180.0) % 360.0 - 180.0) for turn in (90.0, -90.0)]
        if abs(away[0] - away[1]) > 1e-6:
            out[k] = (bearing + (90.0 if away[0] < away[1] else -90.0)) % 360.0
    return out


def _is_strike(heading: str, dip: str) -> bool:
    """Return whether a heading is that of a strike. A bare 'direction' is one in French, Spanish and Portuguese only."""
    if columns.tells(heading, "dip direction") or {"dip", "ddir"} & set(columns.words_in(heading)):
        return False
    if columns.spellings(heading)[-1] in ("direction", "direccion", "direcao"):
        return not {"dip", "plunge"} & set(columns.words_in(dip))
    return "str" in heading.lower() or columns.tells(heading, "strike")


# The left-hand rule in the languages of the imports, and its short forms.
_LEFT = re.compile(r"left|izquierd|gauche|esquerd|links|vasen|vanster")


def _says_left(heading: str) -> bool:
    words = columns.words_in(heading)
    return any(_LEFT.match(w) for w in words) or bool({"lhr", "lh", "lhs", "rmi", "rmg"} & set(words))


def settle_planes(
    raw: RawTable, role: dict[str, str], convention: Planes, found: Findings
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Return columns ``dip`` and ``dip direction`` (degrees; for lines plunge and trend) and their units.

    What can't be read is left empty and reported with its line; nothing is guessed in silence.

    Raises
    ------
    InputError
        When the convention asks for letters and no dip has one.
    """
    dips = raw.text(role["dip"]).fillna("").astype(str)
    parts = [_DIP.match(t) for t in dips]
    letters = [(m.group(2) or "") if m else "" for m in parts]
    dip = np.array([float(m.group(1)) if m else np.nan for m in parts])
    whole = number_column(raw, role["dip"])
    dip = np.where(np.isfinite(whole), whole, dip)
    texts = raw.text(role["direction"]).fillna("").astype(str).str.strip()
    bearing = np.array([read_bearing(t) for t in texts])
    chosen = convention
    if chosen == "auto":
        strike = _is_strike(role["direction"], role["dip"])
        chosen = (
            "strike and letter"
            if strike and any(letters)
            else "strike by left-hand rule"
            if strike and _says_left(role["direction"])
            else "strike by right-hand rule"
            if strike
            else "dip and dip direction"
        )
        found.add(
            "note",
            f"'{role['direction']}' is read as {'strike' if strike else 'dip direction'}",
            chosen,
            file=raw.file,
            table="structures",
        )
    if chosen == "dip and dip direction":
        direction = bearing
    elif chosen == "strike by right-hand rule":
        direction = bearing + 90.0
    elif chosen == "strike by left-hand rule":
        direction = bearing - 90.0
    else:
        if not any(letters):
            raise InputError("no dip has a letter for its side", where=raw.file, fix="Choose another convention")
        direction = dip_direction(bearing, letters)
    flipped = np.isfinite(dip) & (dip < 0)
    if flipped.any():
        found.add(
            "mended",
            "dip is negative",
            "taken to dip to the other side",
            file=raw.file,
            table="structures",
            line=raw.line[flipped],
        )
        direction = np.where(flipped, direction + 180.0, direction)
        dip = np.abs(dip)
    direction = direction % 360.0
    bad = ~np.isfinite(dip) | (dip > 90.0)
    if bad.any():
        what = [f"dip '{t}' is not an angle from 0 to 90°" for t in dips[bad]]
        found.add("look", what, "left empty", file=raw.file, table="structures", line=raw.line[bad])
        dip = np.where(bad, np.nan, dip)
    lost = ~np.isfinite(direction) & ~(dip == 0)
    if lost.any():
        what = [f"direction '{t}' is not a bearing" for t in texts[lost]]
        found.add("look", what, "left empty", file=raw.file, table="structures", line=raw.line[lost])
    return pd.DataFrame({"dip": dip, "dip direction": direction}), {"dip": "°", "dip direction": "°"}
