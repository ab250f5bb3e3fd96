"""What lies under the pointer: found through spatial indexes, which are made once for a version of an item."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import shapely

from ....core.compute.geometry.sketching import is_area
from ....core.formats.shapes.features import shapes_of
from ....core.items.features import Features
from ....core.kept import KEPT
from ....core.project.records import Entry

_EACH = 20_000_000  # bytes that an index is taken for


class Picker:
    """Indexes of the rows and features that a pane shows."""

    def row_at(self, entry: Entry, table: pd.DataFrame, x: float, y: float, within: float) -> tuple[float, int] | None:
        """Return distance in metres and row of the place of a table that is nearest, None when none is that near."""
        tree, rows = self._index(entry, "rows", lambda: _tree_of(table))
        if tree is None:
            return None
        away, hit = tree.query((x, y), distance_upper_bound=within)
        return (float(away), int(rows[hit])) if np.isfinite(away) else None

    def feature_at(self, entry: Entry, features: Features, x: float, y: float, within: float) -> int | None:
        """Return the row of the line or point that is nearest and that near, else of the smallest polygon around a place."""
        thin, thin_rows, areas, area_rows = self._index(entry, "features", lambda: _trees_of(features))
        here = shapely.Point(x, y)
        hits, away = thin.query_nearest(here, max_distance=within, return_distance=True)
        if len(hits):
            return int(thin_rows[hits[np.argmin(away)]])
        inside = areas.query(here, predicate="within")
        if not len(inside):
            return None
        return int(area_rows[inside[np.argmin(shapely.area(areas.geometries[inside]))]])

    def _index(self, entry: Entry, kind: str, make: Any) -> Any:
        return KEPT.of(("under the pointer", entry.id, entry.version, kind), make, size=lambda _: _EACH)


def _tree_of(table: pd.DataFrame) -> tuple[Any, np.ndarray]:
    from scipy.spatial import cKDTree

    xy = table[["x", "y"]].to_numpy(float)
    rows = np.flatnonzero(np.isfinite(xy).all(axis=1))
    return (cKDTree(xy[rows]) if len(rows) else None), rows


def _trees_of(features: Features) -> tuple[shapely.STRtree, np.ndarray, shapely.STRtree, np.ndarray]:
    shapes = np.array(shapes_of(features), dtype=object)
    wide = np.array([is_area(shape) for shape in shapes], dtype=bool)
    thin, areas = np.flatnonzero(~wide), np.flatnonzero(wide)
    return shapely.STRtree(shapes[thin]), thin, shapely.STRtree(shapes[areas]), areas
