"""Points of map files as rows of a table, so that samples in a Shapefile, GeoPackage or GeoJSON come in as those of a table do."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pyarrow as pa

from ...errors import InputError
from ...findings import Findings
from . import database, vectors
from .rawtable import Layout, RawTable, unique
from .sheets import column_of

MEDIUM = "points of a map layer"
# The places of the points; fields of the layer may be called by other names for the same, or be those of another system.
AXES = ("Shape X", "Shape Y", "Shape Z")
_LOOKED_AT = 200  # features of a layer that tell its columns
_NO_POINTS = re.compile(rb'"geometry"\s*:\s*\{\s*"type"\s*:\s*"(Multi)?(LineString|Polygon)"')


def is_map(path: Path) -> bool:
    """Whether a file holds layers of map features."""
    if path.suffix.lower() not in vectors.DRIVERS:
        return False
    try:
        vectors.kind_of(path)
    except InputError:
        return False
    return True


def parts(path: Path) -> tuple[str, ...]:
    """Return the names of layers, and of the tables without places that a GeoPackage holds beside them."""
    if vectors.kind_of(path) != "gpkg":
        return ()
    names = vectors.layers(path)
    own = ("gpkg_", "rtree_")
    return (*names, *(n for n in database.parts(path) if n not in names and not n.startswith(own)))


def look(path: Path, part: str) -> Layout:
    """Return the columns of a layer of points: places first, then its fields; its system is that of the layout.

    Raises
    ------
    InputError
        When the layer can't be read, or holds lines or polygons.
    """
    if _is_plain_table(path, part):
        return database.look(path, part)
    import shapely

    read = _points(path, part, _LOOKED_AT)
    high = bool(shapely.has_z(read.shapes).any())
    names = unique([*AXES[: 2 + high], *read.fields])
    return Layout("", "", 0, names, medium=MEDIUM, part=part, system=read.system)


def read(
    path: Path, part: str, found: Findings, table: str, layout: Layout | None = None, most: int | None = None
) -> RawTable:
    """Read all points, each of several in one feature as a row of its own; the line of a row is the number of its feature.

    Heights that are all zero are none.
    """
    if _is_plain_table(path, part):
        return database.read(path, part, found, table, layout, most)
    import shapely

    layout = layout or look(path, part)
    read = _points(path, part, most)
    missing = shapely.is_missing(read.shapes) | shapely.is_empty(read.shapes)
    if missing.any():
        line = np.flatnonzero(missing) + 1
        found.add("left out", "feature has no geometry", "left out", file=path.name, table=table, line=line)
    coordinates, row = shapely.get_coordinates(read.shapes, include_z=True, return_index=True)
    if not np.nan_to_num(coordinates[:, 2]).any():
        coordinates[:, 2] = np.nan
    cells: list[pa.Array] = [pa.array(coordinates[:, k]) for k in range(len(layout.columns) - len(read.fields))]
    for values in read.fields.values():
        mine = values[row]
        cells.append(
            pa.array(mine) if mine.dtype.kind == "f" else column_of(["" if v is None else str(v) for v in mine])
        )
    return RawTable(path, layout, pa.table(dict(zip(layout.columns, cells, strict=True))), row.astype(np.int64) + 1)


def _is_plain_table(path: Path, part: str) -> bool:
    return bool(part) and vectors.kind_of(path) == "gpkg" and part not in vectors.layers(path)


def _points(path: Path, part: str, most: int | None = None) -> vectors.VectorLayer:
    """A layer, or the first features of it, that holds points and nothing else."""
    import shapely

    if not _begins_with_others(path):
        read = vectors.read(path, part, most)
        kinds = shapely.get_type_id(read.shapes)
        if not (kinds >= 0).any():
            if most is not None and len(kinds) == most:  # none of the first has a place
                return _points(path, part)
            raise InputError("the layer holds no features with a place", where=path.name)
        if np.isin(kinds, [-1, 0, 4]).all():
            return read
    raise InputError(
        "the layer holds lines or polygons, which are no rows of a table",
        where=path.name,
        fix="Bring it in as map features",
    )


def _begins_with_others(path: Path) -> bool:
    """Whether GeoJSON begins with lines or polygons: it can't be read in part, and a large one should not be for nothing."""
    if vectors.kind_of(path) != "geojson":
        return False
    with path.open("rb") as handle:
        return _NO_POINTS.search(handle.read(65536)) is not None
