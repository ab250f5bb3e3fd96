"""Open Mining Format (version 1), read and written through the package ``omf``: points, lines, surfaces, grids, volumes."""

from __future__ import annotations

import warnings
import zlib
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ...errors import InputError, refused
from ...geometry.mesh import TensorMesh
from ...items.base import Item, class_columns, numeric_columns
from ...items.electrodes import ElectrodeSurvey
from ...items.features import HOLE, LINE, POINT, RING, Features, part_vertices
from ...items.fields import BlockModel, Grid, Surface
from ...items.holes import INTERVAL_ROLES, HoleSet
from ...items.points import POINT_ROLES, PointSet, SurveyLines, TargetSet

MAGIC = b"\x84\x83\x82\x81"
KINDS = ("points", "lines", "targets", "features", "surface", "grid", "blocks", "holes", "electrodes")
_LARGEST = 4_000_000_000


def _omf() -> Any:
    with warnings.catch_warnings(action="ignore"):
        import omf
    return omf


def is_omf(path: Path) -> bool:
    """Return whether a file is in this format, by its first bytes."""
    with path.open("rb") as handle:
        return handle.read(4) == MAGIC


def _project(path: Path, uids: list[str] | None = None, overview: bool = False) -> Any:
    omf = _omf()
    try:
        with warnings.catch_warnings(action="ignore"), path.open("rb") as handle:
            reader = omf.OMFReader(handle)
            if not overview:
                _refuse_bombs(reader._project_json, handle, path.name)
            found = reader.get_project_overview() if overview else reader.get_project(uids)
            if not isinstance(found, omf.Project):
                raise InputError("the file holds no project", where=path.name, fix="Version 1 is read")
            return found
    except InputError:
        raise
    except Exception as error:  # the package lets through whatever a broken file leads it to
        raise InputError(
            f"can't be read as Open Mining Format ({error})", where=path.name, fix="Version 1 is read"
        ) from error


def _refuse_bombs(content: Any, handle: Any, name: str) -> None:
    """Unpack all arrays once, a piece at a time, before anything is held: a small file may claim to be huge."""
    total = 0
    stack = [content]
    while stack:
        part = stack.pop()
        if isinstance(part, dict):
            if {"start", "length", "dtype"} <= set(part):
                handle.seek(int(part["start"]))
                unpack, left = zlib.decompressobj(), int(part["length"])
                while left > 0:
                    chunk = handle.read(min(left, 1 << 20))
                    if not chunk:
                        break
                    left -= len(chunk)
                    while chunk:
                        total += len(unpack.decompress(chunk, 1 << 22))
                        chunk = unpack.unconsumed_tail
                        if total > _LARGEST:
                            raise InputError("the arrays of the file are larger than 4 GB", where=name)
            stack += list(part.values())
        elif isinstance(part, list):
            stack += part


def elements(path: Path) -> tuple[str, ...]:
    """Return the names of the elements of a file; a name that stands twice gets a number."""
    return tuple(_named(_project(path, overview=True)))


def _named(project: Any) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for element in project.elements:
        base = str(element.name or "").strip() or type(element).__name__.replace("Element", "")
        name, number = base, 2
        while name in out:
            name, number = f"{base} {number}", number + 1
        out[name] = element
    return out


def read_element(path: Path, name: str, crs: str) -> Item:
    """Read one element as an item: points, line features, a surface, a grid or a block model.

    Raises
    ------
    InputError
        When there is no such element or it can't be held.
    """
    overview = _named(_project(path, overview=True))
    if name not in overview:
        raise InputError(f"there is no element '{name}'", where=path.name, fix="There are: " + ", ".join(overview))
    project = _project(path, [str(overview[name].uid)])
    if not project.elements:
        raise InputError(f"the element '{name}' can't be read", where=path.name)
    with refused(f"the element '{name}' can't be read", path.name):
        return _item_of(project, name, crs, path)


def _item_of(project: Any, name: str, crs: str, path: Path) -> Item:
    element = project.elements[0]
    origin = np.asarray(project.origin, dtype=float) + np.asarray(element.geometry.origin, dtype=float)
    kind = type(element).__name__
    if kind == "PointSetElement":
        xyz = np.asarray(element.geometry.vertices.array, dtype=float).reshape(-1, 3) + origin
        table = pd.DataFrame(xyz, columns=["x", "y", "z"])
        values = _values(element, "vertices", len(xyz))
        return PointSet(name=name, crs=crs, table=pd.concat([table, values], axis=1), units=_units(element))
    if kind == "LineSetElement":
        return _lines(element, name, crs, origin)
    if kind == "VolumeElement":
        return _volume(element, name, crs, origin, path.name)
    if type(element.geometry).__name__ == "SurfaceGridGeometry":
        return _grid(element, name, crs, origin, path.name)
    vertices = np.asarray(element.geometry.vertices.array, dtype=float).reshape(-1, 3) + origin
    triangles = np.asarray(element.geometry.triangles.array, dtype=np.int32).reshape(-1, 3)
    if triangles.size and (triangles.min() < 0 or triangles.max() >= len(vertices)):
        raise InputError("the triangles point to places that are not there", where=path.name)
    return Surface(name=name, crs=crs, vertices=vertices, triangles=triangles)


def _values(element: Any, location: str, count: int) -> pd.DataFrame:
    out: dict[str, Any] = {}
    for data in element.data:
        name = str(data.name or f"value {len(out) + 1}")
        while name in out or name in ("x", "y", "z"):
            name += "_"
        if str(data.location) != location:
            continue
        if type(data).__name__ == "ScalarData":
            values: Any = np.asarray(data.array.array, dtype=float)
        elif type(data).__name__ in ("StringData", "DateTimeData"):
            values = np.array([str(v) for v in data.array.array], dtype=object)
        elif type(data).__name__ == "MappedData":
            index = np.asarray(data.array.array, dtype=np.int64)
            words = [str(v) for v in data.legends[0].values.array] if data.legends else []
            values = np.array([words[k] if 0 <= k < len(words) else None for k in index], dtype=object)
        else:
            continue
        if len(values) == count:
            out[name] = values
    return pd.DataFrame(out, index=range(count))


def _units(element: Any) -> dict[str, str]:
    # The format has no unit of its own; this program writes it as the description.
    return {str(d.name): str(d.description) for d in element.data if d.description and len(str(d.description)) < 12}


def _lines(element: Any, name: str, crs: str, origin: np.ndarray) -> Features:
    xyz = np.asarray(element.geometry.vertices.array, dtype=float).reshape(-1, 3) + origin
    segments = np.asarray(element.geometry.segments.array, dtype=np.int64).reshape(-1, 2)
    # Segments that go on where the one before ended are one line.
    breaks = np.flatnonzero(segments[1:, 0] != segments[:-1, 1]) + 1 if len(segments) else np.empty(0, dtype=int)
    runs = np.split(segments, breaks) if len(segments) else []
    parts = [np.concatenate([run[:1, 0], run[:, 1]]) for run in runs]
    starts = np.concatenate([[0], np.cumsum([len(p) for p in parts])]).astype(np.int64)
    vertices = xyz[np.concatenate(parts)] if parts else np.empty((0, 3))
    values = _values(element, "segments", len(segments))
    first = np.concatenate([[0], breaks]).astype(int) if parts else np.empty(0, dtype=int)
    return Features(
        name=name,
        crs=crs,
        table=values.iloc[first].reset_index(drop=True)
        if len(values.columns)
        else pd.DataFrame({"part": np.arange(1.0, len(parts) + 1)}),
        vertices=vertices,
        starts=starts,
        owner=np.arange(len(parts), dtype=np.int64),
        part_types=np.full(len(parts), LINE, dtype=np.int8),
        units=_units(element),
    )


def _even(widths: Any, name: str) -> float:
    widths = np.asarray(widths, dtype=float)
    if not len(widths) or np.ptp(widths) > 1e-3 * widths.min():
        raise InputError("the cells are not all of one size", where=name, fix="Regularise the model first")
    return float(widths.mean())


def _along_axes(geometry: Any, axes: Sequence[str], name: str) -> None:
    for axis, wanted in zip(axes, np.eye(3), strict=False):
        if not np.allclose(np.asarray(getattr(geometry, axis), dtype=float), wanted, atol=1e-6):
            raise InputError("the grid is turned", where=name, fix="Only grids along east, north and up are read")


def _azimuth(geometry: Any, file: str) -> float:
    """Direction of the second axis in degrees clockwise from north, of cells that stand upright."""
    first, second, up = (np.asarray(getattr(geometry, f"axis_{k}"), dtype=float) for k in "uvw")
    azimuth = float(np.degrees(np.arctan2(second[0], second[1])))
    a = np.radians(azimuth)
    wanted = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    if not np.allclose(np.stack([first, second, up]), wanted, atol=1e-6):
        raise InputError("the cells lean or are mirrored", where=file, fix="Only cells that stand upright are read")
    return round(azimuth, 9) if abs(azimuth) > 1e-6 else 0.0


def _volume(element: Any, name: str, crs: str, origin: np.ndarray, file: str) -> BlockModel:
    geometry = element.geometry
    azimuth = _azimuth(geometry, file)
    shape = (len(geometry.tensor_u), len(geometry.tensor_v), len(geometry.tensor_w))
    table = _values(element, "cells", int(np.prod(shape)))
    numbers = numeric_columns(table)
    if not numbers:
        raise InputError(f"the volume '{name}' has no numbers on its cells", where=file)
    u, v, w = (np.asarray(getattr(geometry, f"tensor_{k}"), dtype=float) for k in "uvw")
    return BlockModel(
        name=name,
        crs=crs,
        mesh=TensorMesh(float(origin[0]), float(origin[1]), u, v, azimuth, float(origin[2]), w),
        units=_units(element),
        properties={c: table[c].to_numpy(float).reshape(shape) for c in numbers},
    )


def _grid(element: Any, name: str, crs: str, origin: np.ndarray, file: str) -> Grid:
    geometry = element.geometry
    _along_axes(geometry, ("axis_u", "axis_v"), file)
    dx, dy = (_even(getattr(geometry, f"tensor_{k}"), file) for k in "uv")
    nodes = (len(geometry.tensor_u) + 1, len(geometry.tensor_v) + 1)
    on_nodes, on_faces = (
        _values(element, "vertices", nodes[0] * nodes[1]),
        _values(element, "faces", (nodes[0] - 1) * (nodes[1] - 1)),
    )
    if numeric_columns(on_nodes):
        attribute = numeric_columns(on_nodes)[0]
        values, shift = on_nodes[attribute].to_numpy(float).reshape(nodes), 0.0
    elif numeric_columns(on_faces):
        attribute = numeric_columns(on_faces)[0]
        values, shift = on_faces[attribute].to_numpy(float).reshape(nodes[0] - 1, nodes[1] - 1), 0.5
    elif geometry.offset_w is not None:
        attribute = "elevation"
        values, shift = np.asarray(geometry.offset_w.array, dtype=float).reshape(nodes) + origin[2], 0.0
    else:
        raise InputError(f"the grid '{name}' has no values", where=file)
    heights = {"elevation": "elevation"} if attribute == "elevation" else {}
    return Grid(
        name=name,
        crs=crs,
        values=np.ascontiguousarray(values.T),
        x0=float(origin[0]) + shift * dx,
        y0=float(origin[1]) + shift * dy,
        dx=dx,
        dy=dy,
        attribute=attribute,
        unit="m" if heights else _units(element).get(attribute, ""),
        quantities=heights,
    )


# ---- writing


def write_items(items: Iterable[Item], path: Path | str) -> None:
    """Write items as the elements of one file, whose origin keeps large coordinates exact.

    Cells and nodes are written with the last axis (up, or north) changing fastest, as readers of
    version 1 expect (from memory of its documentation; the package itself does not say). Pictures
    have no element of their own and are left out.

    Raises
    ------
    InputError
        When nothing among the items can be written.
    """
    omf = _omf()
    with warnings.catch_warnings(action="ignore"):
        made = [
            element for item in items if item.kind in KINDS and not _empty(item) for element in _elements(omf, item)
        ]
        if not made:
            raise InputError("none of the items can be written as Open Mining Format", where=Path(path).name)
        project = omf.Project(name="Inner Lamp", description="")
        project.elements = made
        omf.OMFWriter(project, str(path))


def _empty(item: Item) -> bool:
    """Whether an item has no place at all, which the format can't hold."""
    return isinstance(item, PointSet | SurveyLines | TargetSet) and not len(item.table)


def _elements(omf: Any, item: Item) -> list[Any]:
    if isinstance(item, PointSet | SurveyLines | TargetSet):
        return [_points(omf, item.name, item.table, _units_of(item))]
    if isinstance(item, ElectrodeSurvey):
        return [
            _points(omf, item.name, item.table, item.units),
            _points(omf, f"{item.name} electrodes", item.electrodes, {}),
        ]
    if isinstance(item, HoleSet):
        return _holes(omf, item)
    if isinstance(item, Features):
        return _features(omf, item)
    if isinstance(item, Surface):
        geometry = omf.SurfaceGeometry(
            vertices=np.asarray(item.vertices), triangles=np.asarray(item.triangles, dtype=np.int64)
        )
        return [omf.SurfaceElement(name=item.name, geometry=geometry)]
    if isinstance(item, Grid):
        values = np.asarray(item.values).T.ravel()
        geometry = omf.SurfaceGridGeometry(
            tensor_u=np.full(item.values.shape[1] - 1, item.dx),
            tensor_v=np.full(item.values.shape[0] - 1, item.dy),
            origin=[item.x0, item.y0, 0.0],
            offset_w=np.nan_to_num(values) if item.is_ground else np.zeros(len(values)),
        )
        data = omf.ScalarData(name=item.attribute, description=item.unit, array=values, location="vertices")
        return [omf.SurfaceElement(name=item.name, geometry=geometry, data=[data])]
    if isinstance(item, BlockModel):
        item = item.levelled()
        mesh = item.mesh
        assert isinstance(mesh, TensorMesh)
        first, second = mesh.axes
        geometry = omf.VolumeGridGeometry(
            tensor_u=np.asarray(mesh.u),
            tensor_v=np.asarray(mesh.v),
            tensor_w=np.asarray(mesh.w),
            axis_u=[*first, 0.0],
            axis_v=[*second, 0.0],
            origin=[mesh.x0, mesh.y0, mesh.z0],
        )
        data = [
            omf.ScalarData(
                name=n, description=item.units.get(n, ""), array=np.asarray(v, dtype=float).ravel(), location="cells"
            )
            for n, v in item.properties.items()
        ]
        return [omf.VolumeElement(name=item.name, geometry=geometry, data=data)]
    return []


def _units_of(item: Item) -> dict[str, str]:
    return dict(getattr(item, "units", {}))


def _data(omf: Any, table: pd.DataFrame, units: dict[str, str], leave: tuple[str, ...], location: str) -> list[Any]:
    numbers = [
        omf.ScalarData(name=str(c), description=units.get(c, ""), array=table[c].to_numpy(float), location=location)
        for c in numeric_columns(table, leave)
    ]
    words = [
        omf.StringData(name=str(c), array=["" if v is None or v != v else str(v) for v in table[c]], location=location)  # noqa: PLR0124
        for c in class_columns(table, leave, most=max(len(table), 1))
    ]
    return numbers + words


def _points(omf: Any, name: str, table: pd.DataFrame, units: dict[str, str]) -> Any:
    xyz = np.nan_to_num(table[["x", "y", "z"]].to_numpy(float))
    return omf.PointSetElement(
        name=name, geometry=omf.PointSetGeometry(vertices=xyz), data=_data(omf, table, units, POINT_ROLES, "vertices")
    )


def _holes(omf: Any, item: HoleSet) -> list[Any]:
    out = []
    s = item.stations
    same = np.flatnonzero(s["hole"].to_numpy()[1:] == s["hole"].to_numpy()[:-1])
    if len(same):
        geometry = omf.LineSetGeometry(
            vertices=s[["x", "y", "z"]].to_numpy(float), segments=np.column_stack([same, same + 1])
        )
        names = omf.StringData(name="hole", array=[str(h) for h in s["hole"].to_numpy()[same]], location="segments")
        out.append(omf.LineSetElement(name=f"{item.name} paths", geometry=geometry, data=[names], subtype="borehole"))
    for name, table in item.tables.items():
        if not len(table):
            continue
        ends = np.stack([table[["x0", "y0", "z0"]].to_numpy(float), table[["x1", "y1", "z1"]].to_numpy(float)], axis=1)
        count = len(table)
        geometry = omf.LineSetGeometry(vertices=ends.reshape(-1, 3), segments=np.arange(2 * count).reshape(-1, 2))
        rows = table.assign(hole=table["hole"].astype(str))
        leave = tuple(c for c in INTERVAL_ROLES if c not in ("hole", "from_m", "to_m"))
        out.append(
            omf.LineSetElement(
                name=f"{item.name} {name}",
                geometry=geometry,
                data=_data(omf, rows, item.units, leave, "segments"),
                subtype="borehole",
            )
        )
    for name, table in item.readings.items():
        if len(table):
            out.append(_points(omf, f"{item.name} {name}", table.assign(hole=table["hole"].astype(str)), item.units))
    return out


def _features(omf: Any, item: Features) -> list[Any]:
    out = []
    spots = np.flatnonzero(item.part_types == POINT)
    if len(spots):
        xyz = np.nan_to_num(item.vertices[item.starts[spots]])
        rows = item.table.iloc[item.owner[spots]].reset_index(drop=True)
        data = _data(omf, rows, item.units, (), "vertices")
        out.append(
            omf.PointSetElement(name=f"{item.name} points", geometry=omf.PointSetGeometry(vertices=xyz), data=data)
        )
    segments, owners, vertices, at = [], [], [], 0
    for part in range(len(item.part_types)):
        if item.part_types[part] not in (LINE, RING, HOLE):
            continue
        xyz = np.nan_to_num(part_vertices(item, part))
        vertices.append(xyz)
        segments.append(np.column_stack([np.arange(len(xyz) - 1), np.arange(1, len(xyz))]) + at)
        owners += [int(item.owner[part])] * (len(xyz) - 1)
        at += len(xyz)
    if segments:
        rows = item.table.iloc[owners].reset_index(drop=True)
        geometry = omf.LineSetGeometry(vertices=np.concatenate(vertices), segments=np.concatenate(segments))
        out.append(
            omf.LineSetElement(
                name=item.name, geometry=geometry, data=_data(omf, rows, item.units, (), "segments"), subtype="line"
            )
        )
    return out
