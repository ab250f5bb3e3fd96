"""What a selection means when its item gets another version: the same rows, wherever they stand now."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from ...core.errors import InputError
from ...core.importing.corrections import tables_of
from ...core.importing.row_keys import Finder, keys_of
from ...core.items import feature_keys
from ...core.items.base import Item
from ...core.items.features import Features
from ...core.items.holes import HoleSet
from .view import Selection

_MOST = 5_000  # rows that are looked for one by one
_PLACES = ("hole", "line", "from_m", "to_m", "depth_m", "x", "y")


@dataclass(frozen=True)
class Meant:
    """Rows of one version of an item, by what they hold."""

    selection: Selection
    keys: Any
    places: tuple[np.ndarray, ...]


def _table(item: Item, name: str) -> pd.DataFrame | None:
    if isinstance(item, HoleSet):
        return tables_of(item).get(name or "collar")
    table = getattr(item, "table", None)
    return table if isinstance(table, pd.DataFrame) else None


def _places(table: pd.DataFrame) -> tuple[np.ndarray, ...]:
    return tuple(
        table[c].astype(str).to_numpy() if c in ("hole", "line") else table[c].to_numpy() for c in _PLACES if c in table
    )


def meant(item: Item, selection: Selection) -> Meant | None:
    """Return what the selected rows of an item are; None where that can't be told."""
    if isinstance(item, Features):
        rows = [r for r in selection.rows if r < len(item.table)]
        return Meant(selection, feature_keys.keys_of(item)[rows], ())
    table = _table(item, selection.table)
    if table is None or not selection.rows or max(selection.rows) >= len(table):
        return None
    few = len(selection.rows) <= _MOST
    return Meant(selection, keys_of(table, selection.rows) if few else None, _places(table))


def found_again(item: Item, version: int, was: Meant) -> Selection:
    """Return the selection of the same rows in another version of the item; those that are gone are left out."""
    rows: list[int] = []
    if isinstance(item, Features):
        rows = np.flatnonzero(np.isin(feature_keys.keys_of(item), was.keys)).tolist()
        return replace(was.selection, rows=tuple(rows), version=version)
    table = _table(item, was.selection.table)
    if table is None:
        return replace(was.selection, rows=(), version=version)
    now = _places(table)
    if len(now) == len(was.places) and all(
        np.array_equal(a, b, equal_nan=a.dtype.kind == "f") for a, b in zip(now, was.places, strict=True)
    ):
        return replace(was.selection, version=version)  # the rows are where they were
    find = Finder(table, item.name)
    for key in was.keys or ():
        with contextlib.suppress(InputError):
            rows.append(find.row(key))
    return replace(was.selection, rows=tuple(rows), version=version)
