"""The look of a section: what is drawn beside its holes, on which side and how wide, and what stands above it."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal, get_args

from ..errors import InputError
from .base import class_columns, numeric_columns
from .holes import INTERVAL_ROLES, HoleSet

Way = Literal["intervals", "patterns", "bars", "curve", "values", "ticks"]
Hand = Literal["left", "right"]
WAYS: tuple[Way, ...] = get_args(Way)
HANDS: tuple[Hand, ...] = get_args(Hand)
MOST_BESIDE, MOST_PANELS = 12, 4
_FORMAT = "inner-lamp-section-look"


@dataclass(frozen=True)
class Beside:
    """One column of logged or sampled values beside each hole of a section.

    Attributes
    ----------
    way
        intervals: coloured strips; patterns: strips with the patterns of their classes; bars: as long as their value;
        curve: values joined along the hole, filled to it; values: written; ticks: marks where a class or sample begins
        and ends.
    attribute
        The column.
    hand
        Side of the hole as it is seen.
    offset, width
        Metres of ground from the hole to where it begins, and across.
    """

    way: Way
    attribute: str
    hand: Hand = "right"
    offset: float = 4.0
    width: float = 30.0


@dataclass(frozen=True)
class SectionLook:
    """What a section shows beside what is lit.

    Attributes
    ----------
    beside
        Beside each hole; without any the column that colours it, as bars to the right.
    panels
        Names of grids whose values stand as profiles above the section.
    strip
        Whether a plan of the corridor stands above it.
    depths
        Whether depths stand along the holes.
    """

    beside: tuple[Beside, ...] = ()
    panels: tuple[str, ...] = ()
    strip: bool = False
    depths: bool = False

    def with_beside(self, one: Beside) -> SectionLook:
        """Return it with one more column, outside of those that are on its side already."""
        taken = [b.offset + b.width for b in self.beside if b.hand == one.hand]
        place = max(taken) + 3.0 if taken else one.offset
        return replace(self, beside=(*self.beside, replace(one, offset=place))[:MOST_BESIDE])


def ways_for(holes: HoleSet, attribute: str) -> tuple[Way, ...]:
    """Return how a column of intervals can stand beside holes, the usual way first."""
    table = next((t for t in holes.tables.values() if attribute in t.columns), None)
    if table is None:
        return ()
    if attribute in numeric_columns(table, INTERVAL_ROLES):
        return ("bars", "curve", "intervals", "values", "ticks")
    if attribute in class_columns(table, INTERVAL_ROLES):
        return ("intervals", "patterns", "ticks", "values")
    return ("values", "ticks")


def as_data(look: SectionLook) -> dict[str, Any]:
    """Return a look as plain values."""
    return {
        "beside": [asdict(b) for b in look.beside],
        "panels": list(look.panels),
        "strip": look.strip,
        "depths": look.depths,
    }


def from_data(data: object) -> SectionLook:
    """Return the look that plain values stand for; what is none, as in a file of somebody else, is passed over."""
    if not isinstance(data, Mapping):
        return SectionLook()
    panels = data.get("panels", [])
    names = tuple(str(p)[:200] for p in panels if isinstance(p, str)) if isinstance(panels, list | tuple) else ()
    return SectionLook(
        beside_from(data.get("beside", [])),
        names[:MOST_PANELS],
        bool(data.get("strip", False)),
        bool(data.get("depths", False)),
    )


def beside_from(rows: object) -> tuple[Beside, ...]:
    """Return the columns beside holes that plain values stand for."""
    out = []
    for row in rows if isinstance(rows, Sequence) and not isinstance(rows, str) else []:
        if not isinstance(row, Mapping) or row.get("way") not in WAYS or row.get("hand") not in HANDS:
            continue
        numbers = [row.get(k, d) for k, d in (("offset", 4.0), ("width", 30.0))]
        if not isinstance(row.get("attribute"), str) or not all(
            isinstance(v, int | float) and math.isfinite(v) for v in numbers
        ):
            continue
        offset, width = min(max(float(numbers[0]), 0.0), 2_000.0), min(max(float(numbers[1]), 1.0), 2_000.0)
        out.append(Beside(row["way"], row["attribute"][:200], row["hand"], offset, width))
    return tuple(out[:MOST_BESIDE])


def look_text(look: SectionLook) -> str:
    """Return a look as a file holds it."""
    return json.dumps({"format": _FORMAT, "version": 1, **as_data(look)}, indent=1) + "\n"


def look_of_text(text: str, where: str = "") -> SectionLook:
    """Return the look that a file holds.

    Raises
    ------
    InputError
        When it holds none.
    """
    try:
        data = json.loads(text)
    except (json.JSONDecodeError, RecursionError):
        data = None
    if not isinstance(data, dict) or data.get("format") != _FORMAT:
        raise InputError("it is no look of a section", where=where, fix="Choose a file that 'Write to a file' made")
    return from_data(data)
