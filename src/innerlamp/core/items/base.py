"""What all items have in common, and how an item is turned into named parts and back.

An item is a frozen record: a name, a CRS, arrays, tables and plain values. It has no verbs;
computation lives in `core.compute` and drawing in `app`.
"""

from __future__ import annotations

import dataclasses
import json
import typing
import weakref
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from html import escape
from typing import Any, ClassVar, Self

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from pydantic import TypeAdapter, ValidationError

from ..geometry.mesh import Mesh
from ..shown import clipped
from .attributes import Attribute, described, roles_told, told_by, told_of_old
from .frozen import frozen, kept

FloatArray = NDArray[np.float64]
Bounds = tuple[float, float, float, float, float, float]
EMPTY_BOUNDS: Bounds = (np.nan,) * 6
_ATTRIBUTES: dict[int, dict[str, Attribute]] = {}  # of items that live, by their id

_PLAIN_TYPES: dict[type, dict[str, TypeAdapter[Any]]] = {}


def html_table(rows: Iterable[Iterable[str]], head: Iterable[Iterable[str]] = ()) -> str:
    """Return rows of texts as a small table for a notebook."""
    style = 'style="text-align:left;padding:2px 10px 2px 0"'
    lines = [(tag, row) for tag, part in (("th", head), ("td", rows)) for row in part]
    cells = ("".join(f"<{tag} {style}>{escape(cell)}</{tag}>" for cell in row) for tag, row in lines)
    return "<table>" + "".join(f"<tr>{row}</tr>" for row in cells) + "</table>"


@dataclass(frozen=True)
class Parts:
    """An item taken apart: plain values, tables and arrays, each under a name."""

    meta: dict[str, Any] = field(default_factory=dict)
    tables: dict[str, pd.DataFrame] = field(default_factory=dict)
    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Item:
    """Base of all items.

    Attributes
    ----------
    name
        What the user calls it.
    crs
        Code of the projected system (metres) of all its coordinates.
    quantities, roles
        Quantity and role of attributes, where the unit alone does not tell them.
    """

    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    formerly: ClassVar[dict[str, str]] = {}
    name: str
    crs: str
    quantities: dict[str, str] = field(default_factory=dict)
    roles: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for name, value in list(vars(self).items()):
            if isinstance(value, np.ndarray | pd.DataFrame | dict):
                object.__setattr__(self, name, kept(value))

    @property
    def bounds(self) -> Bounds:
        """West, east, south, north, lowest, highest in metres; NaN where there is nothing."""
        return EMPTY_BOUNDS

    @property
    def attributes(self) -> dict[str, Attribute]:
        """What can be coloured by, by name. An item never changes, so they are looked up once."""
        found = _ATTRIBUTES.get(id(self))
        if found is None:
            found = _ATTRIBUTES[id(self)] = frozen(self._attributes())
            weakref.finalize(self, _ATTRIBUTES.pop, id(self), None)
        return found

    def _attributes(self) -> dict[str, Attribute]:
        return {}

    def described(self, numbers: Iterable[str], codes: Iterable[str], units: Mapping[str, str]) -> dict[str, Attribute]:
        """Return attributes by name from the names of those with numbers and those with codes."""
        texts = tuple(codes)
        return described((*numbers, *texts), units, self.quantities, self.roles, texts)

    @property
    def facts(self) -> dict[str, str]:
        """A few sizes in words, for the card of the item."""
        return {}

    def _repr_html_(self) -> str:
        """What notebooks show of an item: name, kind, system, facts, attributes with unit and quantity."""
        rows = [("Coordinate system", self.crs), *self.facts.items()]
        told = [(n, a.unit, a.shown.label) for n, a in self.attributes.items()]
        head = [("Attribute", "Unit", "Quantity")] if told else []
        return f"<div><b>{escape(self.name)}</b> {escape(self.title)}{html_table(rows)}{html_table(told, head)}</div>"

    def to_parts(self) -> Parts:
        """Take the item apart for storing."""
        parts = Parts()
        for each in dataclasses.fields(self):
            value = getattr(self, each.name)
            if isinstance(value, pd.DataFrame):
                parts.tables[each.name] = value
            elif isinstance(value, Mesh):
                parts.meta[each.name], arrays = value.taken_apart()
                parts.arrays.update({f"{each.name}/{key}": array for key, array in arrays.items()})
            elif isinstance(value, np.ndarray):
                parts.arrays[each.name] = value
            elif _is_map_of(value, pd.DataFrame):
                parts.meta[each.name] = {"@keys": list(value)}
                parts.tables.update({f"{each.name}/{key}": table for key, table in value.items()})
            elif _is_map_of(value, np.ndarray):
                parts.meta[each.name] = {"@keys": list(value)}
                parts.arrays.update({f"{each.name}/{key}": array for key, array in value.items()})
            else:
                parts.meta[each.name] = value
        return parts

    @classmethod
    def from_parts(cls, parts: Parts) -> Self:
        """Put an item together again; unknown names of newer writers are ignored.

        Raises
        ------
        ValueError, LookupError, TypeError
            When a part is missing, or a value is not of the type that the item declares: it may come from anywhere.
        """
        values: dict[str, Any] = {}
        for field_name in (each.name for each in dataclasses.fields(cls)):
            for name in (field_name, cls.formerly.get(field_name, "")):
                if field_name in _plain_types(cls) and (name in parts.tables or name in parts.arrays):
                    raise TypeError(f"'{name}' can't be a table or an array")
                if name in parts.tables:
                    values[field_name] = parts.tables[name]
                elif name in parts.arrays:
                    values[field_name] = parts.arrays[name]
                elif name in parts.meta:
                    value = parts.meta[name]
                    if isinstance(value, dict) and "mesh" in value and isinstance(value["mesh"], str):
                        inside = {k.partition("/")[2]: a for k, a in parts.arrays.items() if k.startswith(f"{name}/")}
                        value = Mesh.put_together(value, inside)
                    elif isinstance(value, dict) and "@keys" in value:
                        source: Mapping[str, Any] = {**parts.tables, **parts.arrays}
                        value = {key: source[f"{name}/{key}"] for key in value["@keys"]}
                    else:
                        value = _plain(cls, field_name, value)
                    values[field_name] = value
        item = cls(**values)
        return item if "quantities" in parts.meta else item.as_today()

    def told_by_headings(self) -> Self:
        """Return an item that came from outside with the quantities that its headings and units tell."""
        told = {n: told_by(n, a.unit, a.is_code) for n, a in self.attributes.items() if n not in self.quantities}
        roles = {n: r for n, r in roles_told(told).items() if n not in self.roles}
        return dataclasses.replace(self, quantities={**told, **self.quantities}, roles={**roles, **self.roles})

    def as_today(self) -> Self:
        """Return an item that was written before attributes had quantities, with those that its headings tell."""
        told, roles = told_of_old(self.attributes)
        return dataclasses.replace(self, quantities=told, roles=roles)


def _plain_types(cls: type[Item]) -> dict[str, TypeAdapter[Any]]:
    """What the fields of an item are that no file holds."""
    if cls not in _PLAIN_TYPES:
        hints = typing.get_type_hints(cls)
        names = [each.name for each in dataclasses.fields(cls)]
        _PLAIN_TYPES[cls] = {n: TypeAdapter(hints[n]) for n in names if not _names_data(hints[n])}
    return _PLAIN_TYPES[cls]


def _names_data(hint: Any) -> bool:
    """Whether a type is one of tables, arrays or meshes, or of maps of them."""
    held = typing.get_origin(hint) or hint
    if isinstance(held, type) and issubclass(held, pd.DataFrame | np.ndarray | Mesh):
        return True
    return any(_names_data(each) for each in typing.get_args(hint))


def _plain(cls: type[Item], name: str, value: Any) -> Any:
    """Return a value from the catalogue as the type that its field declares."""
    if name not in _plain_types(cls):
        if value in (None, {}):  # a map without tables, an array that is not there
            return value
        raise TypeError(f"'{name}' must be in a file of its own")
    try:
        return _plain_types(cls)[name].validate_json(json.dumps(value), strict=True)
    except ValidationError as error:
        raise TypeError(f"'{name}' can't be {clipped(repr(value), 60)}: {error.errors()[0]['msg']}") from error


def _is_map_of(value: object, kind: type) -> bool:
    return isinstance(value, dict) and len(value) > 0 and all(isinstance(v, kind) for v in value.values())


def bounds_of(x: Any, y: Any, z: Any) -> Bounds:
    """Return the bounds of coordinate arrays in metres, ignoring NaN."""
    out: list[float] = []
    for values in (x, y, z):
        array = np.asarray(values, dtype=float)
        array = array[np.isfinite(array)]
        out += [float(array.min()), float(array.max())] if array.size else [np.nan, np.nan]
    return (out[0], out[1], out[2], out[3], out[4], out[5])


def rows_of_table(table: pd.DataFrame) -> Iterable[Any]:
    """Return the rows of a table as named tuples, whose values have the types of their columns."""
    return table.itertuples()


def numeric_columns(table: pd.DataFrame, leave: tuple[str, ...] = ()) -> list[str]:
    """Names of the number columns of a table but those in `leave`."""
    return [c for c in table.columns if c not in leave and pd.api.types.is_numeric_dtype(table[c])]


def class_columns(table: pd.DataFrame, leave: tuple[str, ...] = (), most: int = 64) -> list[str]:
    """Names of the text columns with so few different values that they serve as classes."""
    found = []
    for c in table.columns:
        if c in leave or pd.api.types.is_numeric_dtype(table[c]) or pd.api.types.is_datetime64_any_dtype(table[c]):
            continue
        if table[c].nunique() <= most:
            found.append(c)
    return found
