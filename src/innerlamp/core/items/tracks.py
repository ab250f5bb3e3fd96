"""Tracks of a strip log: what stands beside the depths of a hole, from left to right. Plain data, kept as templates."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal, get_args

from .base import class_columns, numeric_columns
from .holes import INTERVAL_ROLES, HoleSet

TrackKind = Literal["rock", "bars", "curve", "filled curve", "values", "notes", "planes", "pictures"]
Scale = Literal["legend", "linear", "log"]
KINDS: tuple[TrackKind, ...] = get_args(TrackKind)
MOST_TRACKS = 64


@dataclass(frozen=True)
class Track:
    """One track.

    Attributes
    ----------
    kind
        rock: classes with colours and patterns; bars: intervals as long as their value; curve and filled curve: readings
        joined along the hole; values and notes: written; planes: dips as dots with a tail towards their direction; pictures: those of core, by depth.
    attributes
        What it shows; curves may be several.
    width
        Pixels.
    scale
        linear, log, or as the attribute's legend is.
    """

    kind: TrackKind
    attributes: tuple[str, ...]
    width: int = 70
    scale: Scale = "legend"

    @property
    def title(self) -> str:
        """What stands above it."""
        return ", ".join(self.attributes) if self.attributes else self.kind


def kinds_for(holes: HoleSet, attribute: str) -> tuple[TrackKind, ...]:
    """Return how an attribute can be shown, the usual way first."""
    tables = [*holes.tables.values(), *holes.readings.values()]
    table = next((t for t in tables if attribute in t.columns), None)
    if table is None:
        return ()
    spans = "from_m" in table.columns
    if attribute in numeric_columns(table, INTERVAL_ROLES):
        return ("bars", "filled curve", "curve", "values") if spans else ("curve", "filled curve", "values")
    if attribute in class_columns(table, INTERVAL_ROLES) and spans:
        return ("rock", "notes")
    return ("notes",)


def columns_of(holes: HoleSet) -> list[str]:
    """Return all columns that a track can show, in the order of the tables."""
    out: dict[str, None] = {}
    for table in (*holes.tables.values(), *holes.readings.values()):
        for name in table.columns:
            if name not in INTERVAL_ROLES:
                out[str(name)] = None
    return list(out)


def proposed(holes: HoleSet, planes: bool = False, pictures: bool = False) -> tuple[Track, ...]:
    """Return the tracks that a set of holes is first shown with: rock, grades, one track of each further table."""
    out: list[Track] = []
    numbers: list[str] = []
    for table in holes.tables.values():
        codes = [c for c in class_columns(table, INTERVAL_ROLES) if table[c].nunique() <= 60]
        if codes:
            out.append(Track("rock", (codes[0],), 54))
        numbers += numeric_columns(table, INTERVAL_ROLES)[: 3 if not numbers else 1]
    out += [Track("bars", (name,), 64) for name in numbers]
    for table in holes.readings.values():
        out += [
            Track("curve", (name,), 70)
            for name in numeric_columns(table, INTERVAL_ROLES)[:2]
            if "lpha" not in name and "eta" not in name
        ]
    if planes:
        out.append(Track("planes", (), 76))
    out = out[:12]
    if pictures:  # beside the rock, where people look for it
        out.insert(sum(t.kind == "rock" for t in out), Track("pictures", (), 90))
    return tuple(out)


def as_data(tracks: Sequence[Track]) -> list[dict[str, Any]]:
    """Return tracks as plain values."""
    return [asdict(t) | {"attributes": list(t.attributes)} for t in tracks]


def from_data(data: object) -> tuple[Track, ...]:
    """Return the tracks that plain values stand for; what is none, as in a file of somebody else, is passed over."""
    out = []
    for row in data if isinstance(data, list) else []:
        if not isinstance(row, Mapping) or row.get("kind") not in KINDS:
            continue
        names = row.get("attributes", [])
        if not isinstance(names, list | tuple) or not all(isinstance(n, str) for n in names):
            continue
        width, scale = row.get("width", 70), row.get("scale", "legend")
        width = int(min(max(width, 20), 600)) if isinstance(width, int | float) and math.isfinite(width) else 70
        known: Scale = "linear" if scale == "linear" else "log" if scale == "log" else "legend"
        out.append(Track(row["kind"], tuple(names)[:6], width, known))
    return tuple(out[:MOST_TRACKS])
