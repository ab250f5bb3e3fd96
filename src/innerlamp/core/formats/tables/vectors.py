"""Layers of map features out of files, told by their first bytes: GeoPackage and GeoJSON by our own hand, Shapefile
through pyogrio. No text in a file names another file or an address that would be read.

GeoPackage is OGC 12-128r18 (geometry blobs: clause 2.1.3), GeoJSON RFC 7946 with the ``crs`` member of its forerunner.
"""

from __future__ import annotations

import json
import math
import struct
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ...crs import parse_any
from ...errors import CrsError, InputError
from . import sqlite_files

EXPECTED = "Expected GeoPackage, Shapefile, GeoJSON or DXF"
DRIVERS = {".gpkg": "GPKG", ".shp": "ESRI Shapefile", ".geojson": "GeoJSON", ".json": "GeoJSON"}
_MOST_ROWS, _MOST_BYTES = 5_000_000, 1_000_000_000
_GEOJSON = (
    "FeatureCollection", "Feature", "Point", "MultiPoint", "LineString", "MultiLineString", "Polygon", "MultiPolygon",
    "GeometryCollection",
)  # fmt: skip
Kind = Literal["gpkg", "shapefile", "geojson"]
Bounds = tuple[float, float, float, float]


@dataclass(frozen=True)
class VectorLayer:
    """A layer: geometries of shapely (n,), None where there is none; its fields; its system, '' where it names none."""

    shapes: NDArray[np.object_]
    fields: dict[str, NDArray[Any]]
    crs: str

    @property
    def system(self) -> str:
        """The system of the places, '' also where that is none: a plane without a place on the earth, as files without a system write."""
        try:
            return "" if not self.crs or parse_any(self.crs).is_engineering else self.crs
        except CrsError:
            return self.crs


def kind_of(path: Path) -> Kind:
    """Return what a file is by its first bytes.

    Raises
    ------
    InputError
        When it is none of the kinds that are read.
    """
    try:
        with path.open("rb") as handle:
            head = handle.read(512)
    except OSError as error:
        raise InputError(f"can't read the file ({error.strerror})", where=path.name, fix="Check the path") from error
    if head.startswith(sqlite_files.HEAD):
        return "gpkg"
    if len(head) >= 100 and head[:4] == b"\x00\x00\x27\x0a" and head[28:32] == b"\xe8\x03\x00\x00":
        return "shapefile"
    if head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return "geojson"
    raise InputError("can't be read as map features", where=path.name, fix=EXPECTED)


def layers(path: Path) -> tuple[str, ...]:
    """Return the names of the layers of a file."""
    kind = kind_of(path)
    if kind == "geojson":
        _looks_whole(path)
    if kind != "gpkg":
        return (path.stem,)
    with sqlite_files.opened(path) as db:
        tables = _tables(db)
        found = db.execute("SELECT table_name FROM gpkg_contents WHERE data_type='features'").fetchall()
        return tuple(str(name) for (name,) in found if str(name) in tables)


def read(path: Path, layer: str = "", most: int | None = None) -> VectorLayer:
    """Read a layer, the only one when none is named; of a GeoPackage or Shapefile the first `most` features where that is given.

    Raises
    ------
    InputError
        When the file can't be read, is too large, or has several layers and none was named.
    """
    kind = kind_of(path)
    if kind == "gpkg":
        return _gpkg(path, layer, most)
    return _geojson(path) if kind == "geojson" else _shapefile(path, most)


def system_and_bounds(path: Path) -> tuple[str, Bounds | None]:
    """Return the system that the first layer names ('' for none) and its west, south, east and north where they are known."""
    import shapely

    kind = kind_of(path)
    if kind == "shapefile":
        with path.open("rb") as handle:
            box = struct.unpack("<4d", handle.read(100)[36:68])
        return _prj(path), (box[0], box[1], box[2], box[3])
    if kind == "gpkg":
        with sqlite_files.opened(path) as db:
            row = db.execute(
                "SELECT srs_id, min_x, min_y, max_x, max_y FROM gpkg_contents WHERE data_type='features'"
            ).fetchone()
            if row is None:
                raise InputError("the file has no layer of features", where=path.name)
            srs, box = row[0], row[1:]
            known = all(isinstance(v, int | float) for v in box)
            return _gpkg_system(db, srs), (
                float(box[0]),
                float(box[1]),
                float(box[2]),
                float(box[3]),
            ) if known else None
    found = _geojson(path)
    there = shapely.total_bounds(found.shapes) if len(found.shapes) else np.full(4, np.nan)
    return found.crs, (float(there[0]), float(there[1]), float(there[2]), float(there[3]))


# ---- GeoPackage


def _tables(db: Any) -> set[str]:
    """Tables that hold their own rows: neither views nor those that a module makes up."""
    rows = db.execute("SELECT name, sql FROM sqlite_master WHERE type='table'").fetchall()
    return {str(n) for n, sql in rows if not str(sql or "").lstrip().upper().startswith("CREATE VIRTUAL")}


def _gpkg(path: Path, layer: str, most: int | None) -> VectorLayer:
    import shapely

    with sqlite_files.opened(path) as db:
        tables = _tables(db)
        if not {"gpkg_contents", "gpkg_geometry_columns"} <= tables:
            raise InputError("the database is no GeoPackage", where=path.name, fix=EXPECTED)
        found = {
            str(t): (str(c), srs)
            for t, c, srs in db.execute("SELECT table_name, column_name, srs_id FROM gpkg_geometry_columns")
            if str(t) in tables
        }
        if layer and layer not in found:
            raise InputError(f"there is no layer '{layer}'", where=path.name, fix="There are: " + ", ".join(found))
        if not found or (len(found) > 1 and not layer):
            raise InputError(
                f"the file has {len(found)} layers", where=path.name, fix="Name one: " + (", ".join(found) or "none")
            )
        name = layer or next(iter(found))
        geometry, srs = found[name]
        info = db.execute(f"PRAGMA table_info({sqlite_files.quoted(name)})").fetchall()
        columns = [str(r[1]) for r in info if str(r[1]) != geometry and not r[5]]
        wanted = ", ".join(sqlite_files.quoted(c) for c in (geometry, *columns))
        cursor = db.execute(
            f"SELECT {wanted} FROM {sqlite_files.quoted(name)} LIMIT {-1 if most is None else int(most)}"
        )
        rows = sqlite_files.rows_of(cursor, _MOST_ROWS, path.name)
        crs = _gpkg_system(db, srs)
    shapes = shapely.from_wkb(np.array([_wkb(r[0]) for r in rows], dtype=object), on_invalid="ignore")
    fields = {c: _column([r[k + 1] for r in rows]) for k, c in enumerate(columns)}
    return VectorLayer(np.asarray(shapes, dtype=object), fields, crs)


def _wkb(blob: object) -> bytes | None:
    """The well-known binary behind the header of a GeoPackage's geometry; None for none."""
    if not isinstance(blob, bytes) or len(blob) < 13 or blob[:2] != b"GP":
        return None
    flags = blob[3]
    envelope = {0: 0, 1: 32, 2: 48, 3: 48, 4: 64}.get((flags >> 1) & 7)
    if envelope is None or flags & 0x20:  # another encoding of a program's own
        return None
    return blob[8 + envelope :]


def _gpkg_system(db: Any, srs: object) -> str:
    row = db.execute(
        "SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys WHERE srs_id=?", (srs,)
    ).fetchone()
    if row is None or row[1] in (-1, 0):
        return ""
    organization, number, definition = row
    if str(organization).upper() == "EPSG" and isinstance(number, int):
        return f"EPSG:{number}"
    return "" if str(definition or "undefined") == "undefined" else str(definition)


def _column(values: list[Any]) -> NDArray[Any]:
    """Return cells as numbers (NaN where empty) when they hold nothing else, else as texts and None."""
    filled = [v for v in values if v is not None]
    if filled and all(isinstance(v, int | float) for v in filled):
        return np.array([np.nan if v is None else float(v) for v in values], dtype=float)
    out = np.empty(len(values), dtype=object)
    out[:] = [None if v is None or isinstance(v, bytes) else _said(v) for v in values]
    return out


def _said(value: Any) -> str:
    text = json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) else str(value)
    return text.encode("utf-8", "replace").decode("utf-8")  # halves of letters, which JSON can hold


# ---- GeoJSON


def _looks_whole(path: Path) -> None:
    """Refuse a file whose beginning or end is not that of GeoJSON, without reading all of it."""
    with path.open("rb") as handle:
        head = handle.read(65536)
        handle.seek(max(path.stat().st_size - 256, 0))
        tail = handle.read()
    if not tail.rstrip().endswith(b"}") or b'"type"' not in head:
        raise InputError("can't be read as GeoJSON: it is not whole", where=path.name, fix=EXPECTED)


def _geojson(path: Path) -> VectorLayer:
    if path.stat().st_size > _MOST_BYTES:
        raise InputError("the file is larger than 1 GB", where=path.name, fix="Use a GeoPackage")
    try:
        data = json.loads(path.read_text(encoding="utf-8-sig"), parse_constant=float)
    except (OSError, ValueError, RecursionError) as error:
        raise InputError("can't be read as GeoJSON: it is not whole", where=path.name, fix=EXPECTED) from error
    kind = data.get("type") if isinstance(data, dict) else None
    if kind not in _GEOJSON:
        raise InputError(f"'{str(kind)[:40]}' is no GeoJSON", where=path.name, fix=EXPECTED)
    features: Any = data.get("features") if kind == "FeatureCollection" else [data]
    if not isinstance(features, list) or not all(isinstance(f, dict) for f in features):
        raise InputError("the collection holds no features", where=path.name)
    if len(features) > _MOST_ROWS:
        raise InputError(f"the file has more than {_MOST_ROWS:,} features", where=path.name)
    shapes = np.empty(len(features), dtype=object)
    shapes[:] = [_shape(f.get("geometry") if f.get("type") == "Feature" else f) for f in features]
    rows = [p if isinstance(p := f.get("properties"), dict) else {} for f in features]
    rows = [{_said(k): v for k, v in row.items()} for row in rows]
    names = dict.fromkeys(k for row in rows for k in row)
    if len(names) > 2_000:
        raise InputError(f"the features have {len(names):,} different fields, at most 2,000 are read", where=path.name)
    return VectorLayer(shapes, {n: _column([row.get(n) for row in rows]) for n in names}, _geojson_system(data))


def _shape(geometry: Any) -> Any:
    import shapely

    if not isinstance(geometry, dict):
        return None
    try:
        made = shapely.geometry.shape(geometry)
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError, shapely.errors.ShapelyError):
        return None
    return None if made.is_empty or not math.isfinite(sum(made.bounds)) else made


def _geojson_system(data: dict[str, Any]) -> str:
    member: Any = data.get("crs")
    properties = member.get("properties") if isinstance(member, dict) else None
    name = properties.get("name") if isinstance(properties, dict) else None
    if not isinstance(name, str) or not name.strip() or "CRS84" in name:
        return "EPSG:4326"
    return name.strip()


# ---- Shapefile


def _shapefile(path: Path, most: int | None) -> VectorLayer:
    import pyogrio
    import shapely

    if path.suffix.lower() != ".shp":
        raise InputError("a Shapefile's name must end in .shp", where=path.name)
    for ending, what in ((".dbf", "table"), (".shx", "index")):
        if _beside(path, (ending,)) is None:
            raise InputError(
                f"the {what} of the Shapefile ({path.stem}{ending}) is not beside it",
                where=path.name,
                fix="Copy all of its files into one folder",
            )
    try:
        meta, _, wkb, data = pyogrio.raw.read(path.resolve(), max_features=_MOST_ROWS + 1 if most is None else most)
    except Exception as error:  # pyogrio raises its own errors and GDAL's
        raise InputError("can't be read as a Shapefile", where=path.name, fix="Write it again") from error
    if wkb is None:
        raise InputError("the layer holds no features", where=path.name)
    if len(wkb) > _MOST_ROWS:
        raise InputError(f"the layer has more than {_MOST_ROWS:,} features", where=path.name)
    shapes = shapely.from_wkb(wkb, on_invalid="ignore")
    fields = {str(f): _plain(v) for f, v in zip(meta["fields"], data, strict=True)}
    return VectorLayer(np.asarray(shapes, dtype=object), fields, str(meta.get("crs") or ""))


def _plain(values: NDArray[Any]) -> NDArray[Any]:
    """Return whole numbers and truths as numbers, dates as texts."""
    if values.dtype.kind in "iub":
        return values.astype(float)
    return values.astype(str) if values.dtype.kind == "M" else values


def _prj(path: Path) -> str:
    beside = _beside(path, (".prj",))
    if beside is None or beside.stat().st_size > 100_000:
        return ""
    return beside.read_text(encoding="utf-8", errors="replace").strip()


def _beside(path: Path, endings: Iterable[str]) -> Path | None:
    """The file of the same name with another ending, upper or lower case."""
    for ending in endings:
        for each in (ending, ending.upper()):
            there = path.with_suffix(each)
            if there.is_file():
                return there
    return None
