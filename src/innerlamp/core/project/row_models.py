"""What the rows of a catalogue must be: one strict model of each, through which all of them are read.

A project may come from anywhere, and a row whose checksum fits may hold anything. What is not as it must be raises
`ValueError` where it is read, so that the item it belongs to is named and the rest opens.
"""

from __future__ import annotations

import json
import math
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, TypeVar

from pydantic import AfterValidator, Field, TypeAdapter, ValidationError

from ..items.attributes import Attribute
from ..items.base import Bounds
from ..items.legend import RAMPS, Legend
from ..items.style import Style
from ..shown import clipped
from .records import Recipe

T = TypeVar("T")
# Digests of contents, and the archives of the first schema.
FileName = Annotated[str, Field(pattern=r"^[0-9a-f]{40}\.(parquet|npy|npz)$")]


def _in_range(found: Style) -> Style:
    numbers = (found.size, found.opacity, found.every, found.raised, *found.slices, *found.plane)
    if not (all(math.isfinite(v) for v in numbers) and 0.0 <= found.opacity <= 1.0 and found.size >= 0 <= found.every):
        raise ValueError("a number is out of its range")
    return found


@dataclass(frozen=True)
class Head:
    """The state of an item: see `records.Entry`."""

    name: Annotated[str, Field(min_length=1)]
    version: int
    held: bool = False
    dated: str = ""
    place: Annotated[float, Field(allow_inf_nan=False)] = 0.0
    lit: Annotated[int, Field(ge=0)] = 0
    style: Annotated[Style, AfterValidator(_in_range)] = field(default_factory=Style)


@dataclass(frozen=True)
class Whereabouts:
    """The manifest of a version: the files of its parts, and the values that are in none."""

    kind: str
    meta: dict[str, Any]
    tables: dict[str, FileName]
    arrays: dict[str, FileName] | FileName | None = None
    columns: dict[str, dict[str, str]] = field(default_factory=dict)
    had_arrays: dict[str, FileName] | FileName | None = None
    trimmed: bool = False


_HEAD = TypeAdapter(Head)
_LEGEND = TypeAdapter(Legend)
_MANIFEST = TypeAdapter(Whereabouts)
_STEP = TypeAdapter(Recipe)
_FACTS = TypeAdapter(dict[str, str])
_BOUNDS = TypeAdapter(Bounds)
_ATTRIBUTES = TypeAdapter(dict[str, Annotated[list[str], Field(min_length=1, max_length=3)]])
_MOVES = TypeAdapter(
    list[tuple[Literal["head", "legend"], str, dict[str, Any] | None, dict[str, Any] | None]],
)


def _read(adapter: TypeAdapter[T], text: str | bytes) -> T:
    try:
        return adapter.validate_json(text, strict=True)
    except ValidationError as error:
        first = error.errors(include_url=False, include_context=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        raise ValueError(clipped(f"{where}: {first['msg']}" if where else str(first["msg"]), 120)) from error


def head(text: str) -> Head:
    """The state of an item."""
    return _read(_HEAD, text)


def legend(text: str, attribute: str) -> Legend:
    """How an attribute is coloured; it must be that of the row."""
    found = _read(_LEGEND, text)
    if found.attribute != attribute:
        raise ValueError("attribute: it is another one than its row says")
    if found.ramp not in RAMPS:
        raise ValueError("ramp: there is none of that name")
    return found


def manifest(data: Any) -> dict[str, Any]:
    """A manifest whose long texts are in their places."""
    _read(_MANIFEST, json.dumps(data))
    return dict(data)


def step(data: Any) -> Recipe:
    """A step whose long texts are in their places."""
    return _read(_STEP, json.dumps(data))


def facts(text: str) -> dict[str, str]:
    """Sizes in words."""
    return _read(_FACTS, text)


def bounds(text: str) -> Bounds:
    """West, east, south, north, lowest, highest; NaN where there is nothing."""
    return _read(_BOUNDS, text)


def attributes(text: str) -> dict[str, Attribute]:
    """What can be coloured by."""
    return {name: Attribute.from_json(told) for name, told in _read(_ATTRIBUTES, text).items()}


def moves(text: str) -> list[tuple[Literal["head", "legend"], str, dict[str, Any] | None, dict[str, Any] | None]]:
    """Pointers that a change of the history moved; states that it puts in whole must be whole."""
    found = _read(_MOVES, text)
    for table, key, before, after in found:
        whole = before is None or after is None
        for side in (before, after):
            if side is None:
                continue
            if table == "legend":
                legend(json.dumps(side), key)
            else:  # of a state that stays only what moved is named, and what was not there is none
                rest = {} if whole else {"name": "-", "version": 0}
                head(json.dumps(rest | {k: v for k, v in side.items() if whole or v is not None}))
    return found
