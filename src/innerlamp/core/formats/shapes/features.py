"""Map features: read by `vectors` and, DXF, through ezdxf; written through pyogrio; geometry through shapely."""

from __future__ import annotations

import re
import warnings
from glob import escape
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ...crs import parse_crs, same_system, transformer
from ...errors import InputError
from ...findings import Findings
from ...items.base import Item
from ...items.features import HOLE, LINE, POINT, RING, Features, part_vertices, starts_of
from ...local_grid import is_local, local_grid
from ..tables import vectors
from . import places_out

_MOST = 20_000_000


def layers(path: Path) -> tuple[str, ...]:
    """Return the layers of a file; a DXF file is read as one."""
    if path.suffix.lower() == ".dxf":
        return ()
    return vectors.layers(path)


def read_features(path: Path, layer: str, name: str, crs: str, found: Findings, given: str = "") -> Features:
    """Read features, turned into the coordinate system of the project where the file has another.

    `given` is the system of a file that names none; without it such a file is taken as the project's.

    Raises
    ------
    InputError
        When the file can't be read, holds nothing, or is too large.
    """
    if path.suffix.lower() == ".dxf":
        return _read_dxf(path, layer, name, crs, found, given)
    import shapely

    read = vectors.read(path, layer)
    shapes = read.shapes
    if not len(shapes):
        raise InputError("the layer holds no features", where=path.name)
    table = pd.DataFrame(read.fields, index=range(len(shapes)))
    source = read.system or given
    empty = shapely.is_missing(shapes) | shapely.is_empty(shapes)
    if empty.any():
        found.add(
            "left out",
            "feature has no geometry",
            "left out",
            file=path.name,
            table="features",
            line=np.flatnonzero(empty) + 1,
        )
    invalid = ~empty & ~shapely.is_valid(shapes)
    if invalid.any():
        found.add(
            "look",
            "polygon crosses itself",
            "kept as it is",
            file=path.name,
            table="features",
            line=np.flatnonzero(invalid) + 1,
        )
    vertices, starts, owner, role = flatten(shapes[~empty])
    table = table[~empty].reset_index(drop=True)
    if len(vertices) > _MOST:
        raise InputError(f"the layer has {len(vertices):,} vertices, too many to hold", where=path.name)
    vertices = to_project(vertices, source, crs, path.name, found)
    return Features(
        name=name,
        crs=crs,
        table=table,
        vertices=vertices,
        starts=starts,
        owner=owner,
        part_types=role,
        findings=found.frame(),
    )


def to_project(vertices: np.ndarray, source: str, crs: str, file: str, found: Findings) -> np.ndarray:
    """Return vertices in the project's system; what was assumed or done is reported."""
    import pyproj

    if not source:
        found.add("look", "the file names no coordinate system", f"taken as {crs}", file=file, table="features")
        return vertices
    if is_local(source):
        grid = local_grid(source)
        x, y = grid.to_project(vertices[:, 0], vertices[:, 1])
        flat = not np.any(vertices[:, 2])  # shapes without heights get none
        found.add(
            "look" if grid.doubtful else "note",
            "coordinates are in a local grid",
            f"turned into {crs}: {grid.words}",
            file=file,
            table="features",
        )
        return np.column_stack([x, y, vertices[:, 2] + (0.0 if flat else grid.up)])
    if same_system(source, crs):
        return vertices
    try:
        here, there = parse_crs(crs), pyproj.CRS.from_user_input(source)
    except (pyproj.exceptions.CRSError, ValueError) as error:
        raise InputError(f"'{source}' is not a known coordinate system", where=file) from error
    turn = transformer(there, here)
    x, y = turn.transform(vertices[:, 0], vertices[:, 1])
    if not np.isfinite(x).all():
        raise InputError(f"its coordinates don't fit the system that it names ({there.name})", where=file)
    found.add("note", f"coordinates are in {there.name}", f"turned into {here.name}", file=file, table="features")
    return np.column_stack([x, y, vertices[:, 2]])


def flatten(shapes: Any) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Return vertices, part starts, owners and roles of shapely geometries."""
    parts: list[np.ndarray] = []
    owner: list[int] = []
    role: list[int] = []

    def take(geometry: Any, row: int) -> None:
        kind = geometry.geom_type
        if kind.startswith("Multi") or kind == "GeometryCollection":
            for part in geometry.geoms:
                take(part, row)
            return
        rings = (
            [(geometry.exterior, RING), *((r, HOLE) for r in geometry.interiors)]
            if kind == "Polygon"
            else [(geometry, POINT if kind == "Point" else LINE)]
        )
        for ring, what in rings:
            xyz = np.full((len(ring.coords), 3), np.nan)
            coords = np.array(ring.coords, dtype=float)
            xyz[:, : coords.shape[1]] = coords[:, :3]
            parts.append(xyz)
            owner.append(row)
            role.append(what)

    for row, geometry in enumerate(shapes):
        take(geometry, row)
    starts = starts_of(parts)
    vertices = np.concatenate(parts) if parts else np.empty((0, 3))
    return vertices, starts, np.array(owner, dtype=np.int64), np.array(role, dtype=np.int8)


def shapes_of(item: Features) -> list[Any]:
    """Return a shapely geometry for each feature."""
    import shapely

    groups: list[list[Any]] = [[] for _ in range(len(item.table))]
    for part in range(len(item.part_types)):
        xyz = part_vertices(item, part)
        xyz = xyz if np.isfinite(xyz[:, 2]).all() else xyz[:, :2]
        what, row = int(item.part_types[part]), int(item.owner[part])
        if what == POINT:
            groups[row].append(shapely.Point(xyz[0]))
        elif what == LINE:
            groups[row].append(shapely.LineString(xyz))
        elif what == RING:
            groups[row].append(shapely.Polygon(xyz))
        else:
            last = groups[row][-1]
            groups[row][-1] = shapely.Polygon(last.exterior, [*last.interiors, xyz])
    joined = {"Point": shapely.MultiPoint, "LineString": shapely.MultiLineString, "Polygon": shapely.MultiPolygon}
    out = []
    for members in groups:
        kinds = {m.geom_type for m in members}
        out.append(
            members[0]
            if len(members) == 1
            else joined[kinds.pop()](members)
            if len(kinds) == 1
            else shapely.GeometryCollection(members)
        )
    return out


def polygons_of(item: Features, among: np.ndarray | None = None) -> list[tuple[int, Any]]:
    """Return all polygons in plan, or those of the parts `among`, each with the row of its feature.

    Raises
    ------
    InputError
        When there is none, or one crosses itself (it says which and where).
    """
    import shapely

    rings: list[tuple[int, list[Any]]] = []
    for part in range(len(item.part_types)) if among is None else among.tolist():
        xy = part_vertices(item, part)[:, :2]
        if item.part_types[part] == RING:
            rings.append((int(item.owner[part]), [xy]))
        elif item.part_types[part] == HOLE and rings:
            rings[-1][1].append(xy)
    if not rings:
        raise InputError("there is no polygon", where=item.name, fix="Choose features that hold one")
    out = []
    for row, parts in rings:
        shape = shapely.Polygon(parts[0], parts[1:])
        if not shape.is_valid:
            raise InputError(
                f"the polygon of row {row + 1} crosses itself ({shapely.is_valid_reason(shape)})",
                where=item.name,
                fix="Mend it on the map, or take other features",
            )
        out.append((row, shape))
    return out


def write_features(item: Features, path: Path | str) -> list[Path]:
    """Write features; a Shapefile holds one kind of geometry, so there is one file for each kind. Heights are kept."""
    layer = re.sub(r"[^A-Za-z0-9_ ]", "_", item.name).strip() or "features"
    return _write_shapes(Path(path), layer, item.crs, np.array(shapes_of(item), dtype=object), item.table)


def write_places(item: Item, path: Path | str) -> list[Path]:
    """Write samples, lines, targets, electrodes or holes as features: layers of a GeoPackage, else one file a layer."""
    path = Path(path)
    layers = places_out.place_layers(item)
    one_file = path.suffix.lower() == ".gpkg"
    written: list[Path] = []
    for name, layer in layers.items():
        target = path if one_file else places_out.file_of(path, name, len(layers))
        written += _write_shapes(target, re.sub(r"[^A-Za-z0-9_ ]", "_", name), item.crs, layer.shapes, layer.table)
    return list(dict.fromkeys(written))


def _write_shapes(path: Path, layer: str, crs: str, shapes: np.ndarray, table: pd.DataFrame) -> list[Path]:
    import pyogrio
    import shapely

    driver = vectors.DRIVERS[path.suffix.lower()]
    fields = [str(c) for c in table.columns]
    data = [
        table[c].to_numpy(float) if table[c].dtype.kind in "fiu" else table[c].to_numpy(dtype=object)
        for c in table.columns
    ]
    types = np.array(["Point", "LineString", "LineString", "Polygon", *["Point", "LineString", "Polygon", "Geometry"]])
    numbers = shapely.get_type_id(shapes)
    kinds, several = types[numbers], numbers >= 4
    groups: dict[str, np.ndarray] = {"": np.ones(len(shapes), dtype=bool)}
    if driver == "ESRI Shapefile" and len(set(kinds)) > 1:
        groups = {f"_{k.lower()}": kinds == k for k in dict.fromkeys(kinds.tolist())}
    written = []
    for suffix, rows in groups.items():
        target = path.with_name(f"{path.stem}{suffix}{path.suffix}")
        one = set(kinds[rows].tolist())
        geometry_type = one.pop() if len(one) == 1 and not several[rows].any() else "Unknown"
        if geometry_type == "Unknown" and driver == "ESRI Shapefile":
            geometry_type = "Multi" + str(kinds[rows][0])
        if geometry_type != "Unknown" and shapely.has_z(shapes[rows]).any():
            geometry_type += " Z"  # a file of flat shapes would drop the heights
        geometry = shapely.to_wkb(_to_degrees(shapes[rows], crs) if driver == "GeoJSON" else shapes[rows])
        options = {"encoding": "UTF-8"} if driver == "ESRI Shapefile" else {"layer": layer}
        with warnings.catch_warnings(action="ignore"):  # Shapefile cuts names of fields; the order tells them
            pyogrio.raw.write(
                target,
                geometry,
                [d[rows] for d in data],
                fields,
                crs="EPSG:4326" if driver == "GeoJSON" else crs,
                geometry_type=geometry_type,
                driver=driver,
                **options,
            )
        written += sorted(target.parent.glob(f"{escape(target.stem)}.*")) if driver == "ESRI Shapefile" else [target]
    return written


def _to_degrees(shapes: np.ndarray, crs: str) -> np.ndarray:
    # RFC 7946: GeoJSON is in degrees of WGS 84.
    import shapely

    turn = transformer(parse_crs(crs), "EPSG:4326")

    def turned(xyz: np.ndarray) -> np.ndarray:
        return np.column_stack([*turn.transform(xyz[:, 0], xyz[:, 1]), *xyz.T[2:]])

    deep = shapely.has_z(shapes)
    out = np.array(shapes, dtype=object)
    for rows, z in ((deep, True), (~deep, False)):
        if rows.any():
            out[rows] = shapely.transform(out[rows], turned, include_z=z)
    return out


def _read_dxf(path: Path, layer: str, name: str, crs: str, found: Findings, given: str) -> Features:
    import ezdxf

    try:
        doc = ezdxf.readfile(path)
        space = doc.modelspace()
    except Exception as error:  # ezdxf lets through whatever a broken file leads it to
        raise InputError(f"can't be read as DXF ({error})", where=path.name) from error
    shapes: list[Any] = []
    rows: list[dict[str, str]] = []
    left: dict[str, int] = {}
    for entity in space:
        if layer and str(entity.dxf.layer) != layer:
            continue
        kind = entity.dxftype()
        try:
            shape = _from_dxf(entity, kind)
        except (ValueError, ezdxf.DXFError, AttributeError, IndexError):
            shape = None
        if shape is None:
            left[kind] = left.get(kind, 0) + 1
            continue
        shapes.append(shape)
        rows.append({"layer": str(entity.dxf.layer), "entity": kind})
    for kind, count in left.items():
        faces = kind in ("3DFACE", "POLYLINE", "MESH")
        done = "not map features; import it as a surface as well" if faces else "not map features"
        found.add("left out", f"{count} entities of kind {kind}", done, file=path.name, table="features")
    if not shapes:
        raise InputError("the drawing holds no points, lines or polygons", where=path.name)
    vertices, starts, owner, role = flatten(np.array(shapes, dtype=object))
    vertices = to_project(vertices, given, crs, path.name, found)
    return Features(
        name=name,
        crs=crs,
        table=pd.DataFrame(rows),
        vertices=vertices,
        starts=starts,
        owner=owner,
        part_types=role,
        findings=found.frame(),
    )


def _from_dxf(entity: Any, kind: str) -> Any:
    import shapely

    if kind == "POINT":
        return shapely.Point(tuple(entity.dxf.location))
    if kind == "LINE":
        return shapely.LineString([tuple(entity.dxf.start), tuple(entity.dxf.end)])
    if kind == "LWPOLYLINE":
        z = float(entity.dxf.elevation)
        xyz, closed = [(x, y, z) for x, y in entity.get_points("xy")], bool(entity.closed)
    elif kind == "POLYLINE" and not entity.is_poly_face_mesh and not entity.is_polygon_mesh:
        xyz, closed = [tuple(v.dxf.location) for v in entity.vertices], bool(entity.is_closed)
    elif kind in ("SPLINE", "ARC", "CIRCLE", "ELLIPSE"):
        size = _size_of(entity, kind)
        if not np.isfinite(size):
            return None
        # To a decimetre, of very large ones to a hundred-thousandth: some 700 corners a turn at the most.
        xyz, closed = [tuple(p) for p in entity.flattening(max(0.1, 1e-5 * size))], kind == "CIRCLE"
    else:
        return None
    if closed and len(xyz) >= 3:
        return shapely.Polygon(xyz)
    return shapely.LineString(xyz) if len(xyz) >= 2 else None


def _size_of(entity: Any, kind: str) -> float:
    """How large a curve is, metres."""
    if kind in ("ARC", "CIRCLE"):
        return abs(float(entity.dxf.radius))
    if kind == "ELLIPSE":
        return float(np.linalg.norm(np.array(tuple(entity.dxf.major_axis), dtype=float)))
    points = np.array([tuple(p) for p in (*entity.control_points, *entity.fit_points)], dtype=float).reshape(-1, 3)
    if not len(points) or len(points) > 100_000:
        return float("nan")
    return float(np.ptp(points, axis=0).max())


def write_dxf(item: Features, path: Path | str) -> None:
    """Write features as DXF R2010: points, 3-D polylines, closed for rings; the first class attribute is the layer."""
    import ezdxf

    doc = ezdxf.new("R2010")
    space = doc.modelspace()
    names = [c for c in item.table.columns if item.table[c].dtype.kind not in "fiu"]
    names.sort(key=lambda c: str(c).lower() != "layer")  # what a drawing had as its layers it has again
    for part in range(len(item.part_types)):
        xyz = np.nan_to_num(part_vertices(item, part))
        layer = str(item.table[names[0]].iloc[int(item.owner[part])])[:200] if names else "0"
        layer = "".join(ch for ch in layer if ch not in '<>/\\":;?*|=`') or "0"
        if layer not in doc.layers:
            doc.layers.add(layer)
        if item.part_types[part] == POINT:
            space.add_point(xyz[0], dxfattribs={"layer": layer})
        else:
            closed = item.part_types[part] in (RING, HOLE)
            points = xyz[:-1] if closed and len(xyz) > 1 and np.allclose(xyz[0], xyz[-1]) else xyz
            space.add_polyline3d(points, close=bool(closed), dxfattribs={"layer": layer})
    doc.saveas(path)
