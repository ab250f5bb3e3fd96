"""Exchanging the shapes of some features of a map, without touching the thousands beside them."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd

from ...items.features import Features, only
from .features import flatten, shapes_of


def part_boxes(item: Features) -> np.ndarray:
    """Return west, south, east and north (p, 4) of each part, metres."""
    if not len(item.part_types):
        return np.empty((0, 4))
    starts = item.starts[:-1].astype(np.int64)
    xy = item.vertices[:, :2]
    return np.concatenate([np.minimum.reduceat(xy, starts, axis=0), np.maximum.reduceat(xy, starts, axis=0)], axis=1)


def rows_near(item: Features, box: Sequence[float], margin: float = 0.0) -> np.ndarray:
    """Return the rows of features with a part whose box meets a box (west, south, east, north), both in metres."""
    boxes = part_boxes(item)
    west, south, east, north = box
    hit = (boxes[:, 0] <= east + margin) & (boxes[:, 2] >= west - margin)
    hit &= (boxes[:, 1] <= north + margin) & (boxes[:, 3] >= south - margin)
    return np.unique(item.owner[hit]).astype(np.int64)


def shapes_at(item: Features, rows: Sequence[int] | np.ndarray) -> dict[int, Any]:
    """Return shapely geometries of some features, by row."""
    mask = np.zeros(len(item.table), dtype=bool)
    mask[np.asarray(rows, dtype=np.int64)] = True
    return dict(zip(np.flatnonzero(mask).tolist(), shapes_of(only(item, mask)), strict=True))


def changed(
    item: Features,
    sources: Sequence[int] | np.ndarray,
    shapes: Mapping[int, Any],
    table: pd.DataFrame,
    keys: np.ndarray,
) -> Features:
    """Return features in a new order, some with new shapes.

    Parameters
    ----------
    sources
        Of each new feature, shape (n,), the row of `item` whose shape it has; a negative number where it is in `shapes`.
    shapes
        New shapes by the number of the new feature (0 to n - 1); one that is empty goes, with its row.
    table, keys
        Rows (n) and keys (n,) of the new features.
    """
    sources = np.asarray(sources, dtype=np.int64)
    place = np.full(len(item.table), -1, dtype=np.int64)
    kept = np.flatnonzero(sources >= 0)
    place[sources[kept]] = kept
    numbers = [k for k, shape in shapes.items() if not shape.is_empty]
    vertices, starts, owner, types = flatten([shapes[k] for k in numbers])
    mine = place[item.owner] >= 0
    owners = np.concatenate([place[item.owner[mine]], np.array(numbers, dtype=np.int64)[owner]])
    begin = np.concatenate([item.starts[:-1][mine], starts[:-1] + len(item.vertices)]).astype(np.int64)
    count = np.concatenate([np.diff(item.starts)[mine], np.diff(starts)]).astype(np.int64)
    order = np.argsort(owners, kind="stable")
    owners, begin, count = owners[order], begin[order], count[order]
    ends = np.cumsum(count)
    index = np.repeat(begin - ends + count, count) + np.arange(int(ends[-1]) if len(ends) else 0)
    both = np.concatenate([item.vertices, vertices])
    there = np.ones(len(sources), dtype=bool)
    there[[k for k, shape in shapes.items() if shape.is_empty]] = False
    number = np.cumsum(there) - 1
    return dataclasses.replace(
        item,
        table=table[there].reset_index(drop=True),
        vertices=both[index],
        starts=np.concatenate([[0], ends]).astype(np.int64),
        owner=number[owners],
        part_types=np.concatenate([item.part_types[mine], types])[order].astype(np.int8),
        keys=keys[there],
    )
