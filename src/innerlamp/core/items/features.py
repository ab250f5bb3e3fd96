"""Lines, polygons and points of a map: geology, contours, boundaries, with attributes."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
import pandas as pd

from ..errors import InputError
from ..numbers import parse_number
from .attributes import Attribute
from .base import Bounds, FloatArray, Item, bounds_of, class_columns, numeric_columns

POINT, LINE, RING, HOLE = 0, 1, 2, 3
NOTE = "note"  # the column of words at a place
SAME = 1e-3  # metres within which two places in space are one


@dataclass(frozen=True, kw_only=True)
class Features(Item):
    """Features of one map, each of one or several parts.

    Attributes
    ----------
    table
        One row a feature: its attributes.
    vertices
        Shape (n, 3), metres; z is NaN where the file has none.
    starts
        Shape (p + 1,): part k has the vertices ``starts[k]:starts[k + 1]``.
    owner
        Shape (p,): row of the feature that a part belongs to.
    part_types
        Shape (p,): POINT, LINE, RING (outer ring of a polygon) or HOLE (ring cut out of the ring before it).
    keys
        Shape (n,): what each feature is known by whatever row it stands in (`feature_keys`); None until one is changed.
    """

    kind: ClassVar[str] = "features"
    title: ClassVar[str] = "Map features"
    formerly: ClassVar[dict[str, str]] = {"part_types": "role"}
    table: pd.DataFrame
    vertices: FloatArray
    starts: np.ndarray
    owner: np.ndarray
    part_types: np.ndarray
    keys: np.ndarray | None = None
    units: dict[str, str] = field(default_factory=dict)
    findings: pd.DataFrame = field(default_factory=pd.DataFrame)

    @property
    def bounds(self) -> Bounds:
        return bounds_of(*self.vertices.T) if len(self.vertices) else super().bounds

    def _attributes(self) -> dict[str, Attribute]:
        return dict(
            sorted(
                self.described(numeric_columns(self.table), class_columns(self.table), self.units).items(),
                key=lambda pair: not pair[1].is_code,
            )
        )

    @property
    def facts(self) -> dict[str, str]:
        kinds = {"Points": (POINT,), "Lines": (LINE,), "Polygons": (RING,)}
        facts = {"Features": f"{len(self.table):,}"}
        for name, types in kinds.items():
            count = int(np.isin(self.part_types, types).sum())
            if count:
                facts[name] = f"{count:,}"
        return facts


def segment_starts(item: Features) -> np.ndarray:
    """Return the vertices from which a piece runs to the next one, leaving out the steps from part to part."""
    inside = np.ones(max(len(item.vertices) - 1, 0), dtype=bool)
    inside[item.starts[1:-1] - 1] = False
    return np.flatnonzero(inside)


def starts_of(parts: Sequence[np.ndarray]) -> np.ndarray:
    """Return where each of some parts (n, ...) starts when they are put in a row, and where the last one ends."""
    return np.concatenate([[0], np.cumsum([len(part) for part in parts])]).astype(np.int64)


OFF_GROUND = 5.0  # metres above or below the ground from which a part lies in space rather than on the map


def in_space(item: Features, above: np.ndarray | None = None) -> np.ndarray:
    """Return which parts lie in space: with elevations, and off the ground somewhere.

    Parameters
    ----------
    above
        Height of each vertex over the ground in metres, NaN where it is not known; None without a ground.
    """
    known = np.isfinite(item.vertices[:, 2])
    off = known if above is None else known & ~(np.abs(above) <= OFF_GROUND)
    starts = item.starts[:-1].astype(np.int64)
    if not len(starts):
        return np.zeros(0, dtype=bool)
    return np.asarray(np.logical_and.reduceat(known, starts) & np.logical_or.reduceat(off, starts))


def is_closed(path: np.ndarray) -> bool:
    """Return whether a path (n, 3) in space is an outline: it ends where it begins."""
    return bool(len(path) > 3 and np.linalg.norm(path[0] - path[-1]) <= SAME)


def with_parts(item: Features, parts: Sequence[FloatArray]) -> Features:
    """Return features whose parts have other vertices (n, 3); owners and types stay."""
    return dataclasses.replace(item, vertices=np.concatenate(parts), starts=starts_of(parts))


def only(item: Features, rows: np.ndarray) -> Features:
    """Return the features of some rows, given as a mask."""
    keep = [k for k in range(len(item.part_types)) if rows[item.owner[k]]]
    parts = [item.vertices[item.starts[k] : item.starts[k + 1]] for k in keep]
    number = np.cumsum(rows) - 1
    return dataclasses.replace(
        item,
        table=item.table[rows].reset_index(drop=True),
        vertices=np.concatenate(parts) if parts else np.empty((0, 3)),
        starts=starts_of(parts),
        owner=number[item.owner[keep]] if keep else item.owner[:0],
        part_types=item.part_types[keep] if keep else item.part_types[:0],
        keys=None if item.keys is None else item.keys[rows],
    )


def one_each(paths: Sequence[FloatArray], part_type: int, z: Sequence[FloatArray] | None = None) -> dict[str, Any]:
    """Return vertices, starts, owners and types of features that are one path (n, 2) each; without `z` they lie nowhere in height."""
    xy = np.concatenate(paths) if paths else np.empty((0, 2))
    height = np.concatenate(z) if z else np.full(len(xy), np.nan)
    count = len(paths)
    return {
        "vertices": np.column_stack([xy, height]),
        "starts": starts_of(paths),
        "owner": np.arange(count, dtype=np.int64),
        "part_types": np.full(count, part_type, dtype=np.int8),
    }


def texts_of(item: Features, column: str) -> np.ndarray:
    """Return a column of features as texts.

    Raises
    ------
    InputError
        When there is no such column; it says which there are.
    """
    if column not in item.table.columns:
        raise InputError(
            f"the map has no column '{column}'",
            where=item.name,
            fix="There are: " + ", ".join(map(str, item.table.columns)),
        )
    return np.asarray(item.table[column].astype(str).to_numpy())


def with_row(table: pd.DataFrame, said: dict[str, Any]) -> pd.DataFrame:
    """Return a table of features with one more row; what is not said of it is missing in numbers and dates, empty in texts.

    Raises
    ------
    InputError
        When what is said of a column of numbers is no number.
    """
    row = {}
    for column in table.columns:
        kind = table[column].dtype.kind
        empty: Any = np.nan if kind in "fiub" else pd.NaT if kind in "Mm" else ""
        if kind == "O" and pd.api.types.infer_dtype(table[column], skipna=True) not in ("string", "empty"):
            empty = None  # truths of which one is missing, and the like
        value = said.get(str(column), empty)
        if kind in "fiu" and isinstance(value, str):
            value = parse_number(value, str(column)) if value.strip() else np.nan
        row[column] = value
    fresh = pd.DataFrame([row], columns=table.columns)
    return pd.concat([table, fresh], ignore_index=True) if len(table) else fresh


def part_vertices(item: Features, part: int) -> FloatArray:
    """Return the vertices (n, 3) of one part."""
    return item.vertices[item.starts[part] : item.starts[part + 1]]
