"""Points of map files as rows of a table, so that samples in a Shapefile, GeoPackage or GeoJSON come in as those of a table do."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa

from ...errors import CrsError, InputError
from ...findings import Findings
from . import database, vectors
from .rawtable import Layout, RawTable, unique
from .sheets import column_of

MEDIUM = "points of a map layer"
ENDINGS = (".shp", ".gpkg", ".geojson", ".json")
# The places of the points; fields of the layer may be called by other names for the same, or be those of another system.
X, Y, Z = "Shape X", "Shape Y", "Shape Z"


def is_map(path: Path) -> bool:
    """Whether a file holds layers of map features."""
    if path.suffix.lower() not in ENDINGS:
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
    read = _points(path, part)
    names = unique([*_axes(read), *read.fields])
    return Layout("", "", 0, names, medium=MEDIUM, part=part, system=_system(read.crs))


def read(path: Path, part: str, found: Findings, table: str, layout: Layout | None = None) -> RawTable:
    """Read all points, each of several in one feature as a row of its own; the line of a row is the number of its feature."""
    if _is_plain_table(path, part):
        return database.read(path, part, found, table, layout)
    import shapely

    read = _points(path, part)
    layout = layout or look(path, part)
    missing = shapely.is_missing(read.shapes) | shapely.is_empty(read.shapes)
    if missing.any():
        line = np.flatnonzero(missing) + 1
        found.add("left out", "feature has no geometry", "left out", file=path.name, table=table, line=line)
    coordinates, row = shapely.get_coordinates(read.shapes, include_z=True, return_index=True)
    cells: list[pa.Array] = [pa.array(coordinates[:, k]) for k in range(len(_axes(read)))]
    for values in read.fields.values():
        mine = values[row]
        cells.append(pa.array(mine) if mine.dtype.kind == "f" else column_of([_text(v) for v in mine]))
    return RawTable(path, layout, pa.table(dict(zip(layout.columns, cells, strict=True))), row.astype(np.int64) + 1)


def _text(value: object) -> str:
    return "" if value is None else str(value)


def _axes(read: vectors.VectorLayer) -> tuple[str, ...]:
    import shapely

    high = shapely.get_coordinates(read.shapes, include_z=True)[:, 2]
    return (X, Y, Z) if bool((np.isfinite(high) & (high != 0)).any()) else (X, Y)


def _is_plain_table(path: Path, part: str) -> bool:
    return bool(part) and vectors.kind_of(path) == "gpkg" and part not in vectors.layers(path)


def _points(path: Path, part: str) -> vectors.VectorLayer:
    import shapely

    read = vectors.read(path, part)
    kinds = shapely.get_type_id(read.shapes)
    there = kinds[kinds >= 0]
    if not len(there):
        raise InputError("the layer holds no features with a place", where=path.name)
    if not np.isin(there, [0, 4]).all():
        raise InputError(
            "the layer holds lines or polygons, which are no rows of a table",
            where=path.name,
            fix="Bring it in as map features",
        )
    return read


def _system(crs: str) -> str:
    """The system that a file names, '' where that is none: a plane without a place on the earth."""
    from ...crs import parse_any

    try:
        return "" if not crs or parse_any(crs).is_engineering else crs
    except CrsError:
        return ""
