"""Items as pyvista meshes, and back: points, lines, surfaces and cells."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ..core.errors import InputError
from ..core.formats.shapes import places_out
from ..core.formats.shapes.vtk_items import hexahedra
from ..core.geometry.mesh import DrapedMesh, TensorMesh
from ..core.items.base import Item
from ..core.items.features import POINT, Features
from ..core.items.fields import BlockModel, Grid, Surface
from ..core.items.points import PointSet
from . import carried

if TYPE_CHECKING:
    import pyvista


def to_pyvista(item: Item, layer: str = "") -> pyvista.DataSet:
    """Return an item as a pyvista mesh in metres, east, north, up.

    Points and lines become ``PolyData`` with their columns as cell data (numbers, and codes as texts in ASCII),
    surfaces and map features ``PolyData``, a grid a ``StructuredGrid`` (at height 0 unless it holds
    elevations), a block model a ``RectilinearGrid`` where its cells stand in rows, else an
    ``UnstructuredGrid``. `layer` chooses among what holes and lines give, as in `to_geopandas`.
    What is absent (NaN) in a model is left out of an ``UnstructuredGrid`` and kept as NaN otherwise.

    Raises
    ------
    InputError
        When there is no such layer, or the item has no mesh.
    """
    pv = carried.library("pyvista")
    if isinstance(item, Surface):
        faces = np.column_stack([np.full(len(item.triangles), 3), item.triangles]).ravel()
        mesh = pv.PolyData(np.array(item.vertices), faces)
    elif isinstance(item, Grid):
        x, y = item.places
        z = np.nan_to_num(item.values) if item.is_ground else np.zeros(x.shape)
        mesh = pv.StructuredGrid(x, y, z)
        mesh.point_data[item.attribute] = np.array(item.values).ravel(order="F")
    elif isinstance(item, BlockModel):
        mesh = _cells(pv, item)
    elif isinstance(item, Features):
        mesh = _features(pv, item)
    elif item.kind in places_out.KINDS:
        mesh = _places(pv, item, layer)
    else:
        raise InputError(f"{item.title.lower()} have no mesh", where=item.name)
    mesh.add_field_data([carried.as_text(carried.of(item, content=getattr(item, "content", "")))], carried.KEY)
    return mesh


def _places(pv: Any, item: Item, layer: str) -> Any:
    layers = places_out.place_layers(item)
    chosen = layer or next(iter(layers))
    if chosen not in layers:
        raise InputError(f"there is no layer '{chosen}'", where=item.name, fix="There are: " + ", ".join(layers))
    found = layers[chosen]
    cells = _chains(found.starts)
    points = np.nan_to_num(found.vertices)
    mesh = pv.PolyData(points, verts=cells) if found.is_points else pv.PolyData(points, lines=cells)
    for column in found.table.columns:
        values = found.table[column]
        mesh.cell_data[str(column)] = _held(values)
    return mesh


def _held(values: pd.Series) -> np.ndarray:
    """A column as VTK holds it: numbers, or texts in ASCII (other letters as their code points)."""
    if values.dtype.kind in "fiu":
        return values.to_numpy(float)
    texts = values.astype(object).where(values.notna(), "").astype(str)
    return np.array([v.encode("ascii", "backslashreplace").decode() for v in texts], dtype=str)


def _chains(starts: np.ndarray) -> np.ndarray:
    counts = np.diff(starts)
    out = np.arange(int(starts[-1]) + len(counts))
    heads = starts[:-1] + np.arange(len(counts))
    inside = np.ones(len(out), dtype=bool)
    inside[heads] = False
    out[inside], out[heads] = np.arange(int(starts[-1])), counts
    return out


def _features(pv: Any, item: Features) -> Any:
    points = np.nan_to_num(item.vertices)
    single = item.part_types == POINT
    rows = np.concatenate([item.owner[single], item.owner[~single]])
    chains = [np.arange(a, b) for a, b in zip(item.starts[:-1], item.starts[1:], strict=True)]

    def cells(chosen: np.ndarray) -> np.ndarray | None:
        parts = [np.concatenate([[len(chains[k])], chains[k]]) for k in np.flatnonzero(chosen)]
        return np.concatenate(parts) if parts else None

    mesh = pv.PolyData(points, verts=cells(single), lines=cells(~single))
    for column in item.table.columns:
        values = item.table[column].iloc[rows]
        mesh.cell_data[str(column)] = _held(values)
    return mesh


def _cells(pv: Any, item: BlockModel) -> Any:
    mesh = item.mesh
    if isinstance(mesh, TensorMesh) and not mesh.is_turned:
        x, y = mesh.plan_edges
        out = pv.RectilinearGrid(mesh.x0 + x, mesh.y0 + y, mesh.z_edges)
        for name, values in item.properties.items():
            out.cell_data[name] = np.array(values).ravel(order="F")
        return out
    there = item.present & (mesh.thickness > 0 if isinstance(mesh, DrapedMesh) else True)
    cells = np.argwhere(there)
    points, index = hexahedra(mesh, cells)
    connected = np.column_stack([np.full(len(cells), 8), index]).ravel()
    out = pv.UnstructuredGrid(connected, np.full(len(cells), 12, dtype=np.uint8), points)
    for name, values in item.properties.items():
        out.cell_data[name] = np.array(values)[tuple(cells.T)]
    return out


def from_pyvista(mesh: pyvista.DataSet, name: str = "", crs: str = "") -> Surface | PointSet | BlockModel:
    """Return a surface of triangles, points of a mesh without lines or faces, or a block model of a grid along the axes.

    Raises
    ------
    InputError
        When the mesh is of another sort, or the coordinate system is not known.
    """
    pv = carried.library("pyvista")
    told = carried.read(str(mesh.field_data[carried.KEY][0]) if carried.KEY in mesh.field_data else None)
    code = carried.system(told, crs)
    called = name or str(told.get("name", "")) or "Mesh"
    if isinstance(mesh, pv.PolyData):
        if mesh.GetNumberOfPolys() + mesh.GetNumberOfStrips():
            flat = mesh.triangulate()
            vertices, triangles = np.asarray(flat.points, dtype=np.float64), flat.regular_faces.astype(np.int64)
            closed = flat.n_open_edges == 0
            volume = float(flat.volume) if closed else 0.0
            return Surface(
                name=called, crs=code, vertices=vertices, triangles=triangles, closed=closed, volume_m3=volume
            )
        if not mesh.n_lines:
            table = pd.DataFrame(np.asarray(mesh.points, dtype=np.float64), columns=["x", "y", "z"])
            data = {
                **{k: mesh.point_data[k] for k in mesh.point_data},
                **{k: mesh.cell_data[k] for k in mesh.cell_data},
            }
            for column, values in data.items():
                if np.ndim(values) == 1 and len(values) == len(table):
                    table[str(column)] = np.asarray(values)
            content = str(told.get("content", "")) or "samples"
            described: dict[str, Any] = carried.described(told, list(table.columns))
            return PointSet(name=called, crs=code, table=table, content=content, **described)
    if isinstance(mesh, pv.ImageData | pv.RectilinearGrid):
        flat = mesh if isinstance(mesh, pv.RectilinearGrid) else mesh.cast_to_rectilinear_grid()
        x, y, z = (np.asarray(a, dtype=np.float64) for a in (flat.x, flat.y, flat.z))
        cells = TensorMesh(float(x[0]), float(y[0]), np.diff(x), np.diff(y), 0.0, float(z[0]), np.diff(z))
        values = {
            str(k): np.asarray(flat.cell_data[k], dtype=np.float64).reshape(cells.shape, order="F")
            for k in flat.cell_data
            if np.ndim(flat.cell_data[k]) == 1 and np.asarray(flat.cell_data[k]).dtype.kind in "fiub"
        }
        return BlockModel(name=called, crs=code, mesh=cells, properties=values, **carried.described(told, list(values)))  # type: ignore[arg-type]
    raise InputError(
        f"a mesh of the sort {type(mesh).__name__} has no kind here",
        fix="Surfaces of triangles, points, and grids along the axes can be taken",
    )
