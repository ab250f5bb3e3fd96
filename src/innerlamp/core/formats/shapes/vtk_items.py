"""Surfaces and block models in VTK's XML files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError, refused
from ...geometry.mesh import Mesh, TensorMesh, edges_around
from ...items.fields import BlockModel, Surface
from . import vtkxml
from .cells import MOST_CELLS, bounds_to_mesh

IntArray = NDArray[np.int64]

# Corners of the cell kinds that can be cells of a block model, and of those that are pieces of a surface.
_BOXES = {11: 8, 12: 8}
_FLAT = {5, 7, 9}


def read_surface(path: Path) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Return vertices (n, 3) and triangles (m, 3) of a VTP file, or of the flat cells of a VTU file."""
    with refused("can't be read as a VTK file", path.name):
        return _surface(vtkxml.read(path), path)


def _surface(data: vtkxml.VtkData, path: Path) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    if data.kind not in ("PolyData", "UnstructuredGrid"):
        raise InputError("the file holds a volume, not a surface", where=path.name, fix="Import it as a block model")
    parts: list[NDArray[np.int64]] = []
    if data.kind == "UnstructuredGrid":
        kinds = data.arrays.get("Cells/types", np.empty(0))
        if len(kinds) != len(data.arrays.get("Cells/offsets", ())):
            raise InputError("the kinds of cells do not fit the cells", where=path.name)
        flat = np.isin(kinds, list(_FLAT))
        parts += _fans(data.arrays["Cells/connectivity"], data.arrays["Cells/offsets"], flat)
    elif "Polys/connectivity" in data.arrays:
        parts += _fans(data.arrays["Polys/connectivity"], data.arrays["Polys/offsets"], None)
    if "Strips/connectivity" in data.arrays:
        connectivity, start = data.arrays["Strips/connectivity"], 0
        for end in data.arrays["Strips/offsets"]:
            strip = connectivity[start:end]
            triangles = np.lib.stride_tricks.sliding_window_view(strip, 3).copy()
            triangles[1::2] = triangles[1::2, ::-1]
            parts.append(triangles)
            start = int(end)
    triangles = np.concatenate(parts) if parts else np.empty((0, 3), dtype=np.int64)
    return data.arrays["points"], triangles.astype(np.int32)


def _fans(
    connectivity: NDArray[np.int64], offsets: NDArray[np.int64], keep: NDArray[np.bool_] | None
) -> list[NDArray[np.int64]]:
    starts = np.concatenate([[0], offsets[:-1]]) if len(offsets) else np.empty(0, dtype=np.int64)
    count = offsets - starts
    out = []
    for corners in np.unique(count):
        rows = count == corners
        if keep is not None:
            rows &= keep
        if corners < 3 or not rows.any():
            continue
        at = starts[rows][:, None] + np.arange(corners)
        cells = connectivity[at]
        out += [cells[:, [0, k, k + 1]] for k in range(1, corners - 1)]
    return out


def read_blocks(path: Path) -> tuple[TensorMesh, dict[str, NDArray[np.float64]]]:
    """Return the mesh of a VTI, VTR or VTU file and its properties, each of shape (nx, ny, nz)."""
    with refused("can't be read as a VTK file", path.name):
        return _blocks(vtkxml.read(path), path)


def _blocks(data: vtkxml.VtkData, path: Path) -> tuple[TensorMesh, dict[str, NDArray[np.float64]]]:
    if data.kind == "UnstructuredGrid":
        return _unstructured(data, path.name)
    if data.kind == "PolyData":
        raise InputError("the file holds a surface, not a volume", where=path.name, fix="Import it as a surface")
    extent = np.array(data.extent).reshape(3, 2)
    nodes = extent[:, 1] - extent[:, 0] + 1
    cells = np.maximum(nodes - 1, 1)
    on_points = not data.cells and bool(data.points)
    if data.kind == "ImageData":
        step = np.array(data.spacing)
        low = np.array(data.origin) + extent[:, 0] * step
        if on_points:
            cells, low = nodes, low - step / 2
        edges = [low[k] + step[k] * np.arange(cells[k] + 1) for k in range(3)]
    else:
        edges = [data.arrays[axis] for axis in "xyz"]
        if on_points:
            edges = [edges_around(e) for e in edges]
            cells = nodes
    named = data.points if on_points else data.cells
    if any(len(e) - 1 != n for e, n in zip(edges, cells, strict=True)):
        raise InputError("the edges of the cells do not fit their number", where=path.name)
    if np.prod([len(e) - 1 for e in edges]) > MOST_CELLS:
        raise InputError("the model has more than 50 million cells", where=path.name)
    if any((np.diff(e) <= 0).any() for e in edges):
        raise InputError("the edges of the cells do not rise", where=path.name)
    u, v, w = (np.diff(e) for e in edges)
    mesh = TensorMesh(float(edges[0][0]), float(edges[1][0]), u, v, 0.0, float(edges[2][0]), w)
    properties = {}
    for name, values in named.items():
        if values.ndim == 1 and len(values) == int(np.prod(cells)):
            properties[name] = np.ascontiguousarray(values.astype(float).reshape(tuple(cells), order="F"))
    if not properties:
        raise InputError("the file has no values on its cells", where=path.name)
    return mesh, properties


def _unstructured(data: vtkxml.VtkData, name: str) -> tuple[TensorMesh, dict[str, NDArray[np.float64]]]:
    kinds = data.arrays.get("Cells/types", np.empty(0, dtype=np.int64))
    if len(kinds) != len(data.arrays.get("Cells/offsets", ())):
        raise InputError("the kinds of cells do not fit the cells", where=name)
    boxes = np.isin(kinds, list(_BOXES))
    if not boxes.any():
        raise InputError(
            "the file has no cells with eight corners",
            where=name,
            fix="Tetrahedra can't become a block model: sample them on a regular mesh first",
        )
    ends = data.arrays["Cells/offsets"][boxes]
    if (ends < 8).any():
        raise InputError("the cells do not fit their corners", where=name)
    corners = data.arrays["points"][data.arrays["Cells/connectivity"][(ends - 8)[:, None] + np.arange(8)]]
    azimuth = _azimuth(corners)
    if azimuth:
        frame = TensorMesh.even((0.0, 0.0, 0.0), (1.0, 1.0, 1.0), (1, 1, 1), azimuth)
        start = corners[0, 0].copy()
        p, q = frame.from_map(corners[..., 0] - start[0], corners[..., 1] - start[1])
        corners = np.stack([p, q, corners[..., 2]], axis=-1)
    mesh, at = bounds_to_mesh(corners.min(axis=1), corners.max(axis=1), name)
    if azimuth:
        x, y = frame.to_map(np.array(mesh.x0), np.array(mesh.y0))
        mesh = TensorMesh(float(x + start[0]), float(y + start[1]), mesh.u, mesh.v, azimuth, mesh.z0, mesh.w)
    properties = {}
    for each, values in data.cells.items():
        if values.ndim == 1 and len(values) == len(kinds):
            block = np.full(mesh.shape, np.nan)
            block[at] = values[boxes].astype(float)
            properties[each] = block
    if not properties:
        raise InputError("the file has no values on its cells", where=name)
    return mesh, properties


def _azimuth(corners: NDArray[np.float64]) -> float:
    """Direction of the second axis of cells (n, 8, 3) from the edges at their first corner; 0 when they are not turned."""
    side = corners[:, 1, :2] - corners[:, 0, :2]
    flat = np.hypot(side[:, 0], side[:, 1]) > 0
    if not flat.any():
        return 0.0
    angle = np.degrees(np.arctan2(-side[flat, 1], side[flat, 0]))
    turn = float(np.median(angle))
    return round(turn, 9) if abs(turn) > 1e-6 else 0.0


def write_surface(surface: Surface, path: Path | str) -> None:
    """Write a surface as VTP."""
    out = vtkxml.Writer("PolyData")
    triangles = np.asarray(surface.triangles, dtype=np.int64)
    out.open("PolyData")
    out.open(
        "Piece",
        NumberOfPoints=len(surface.vertices),
        NumberOfVerts=0,
        NumberOfLines=0,
        NumberOfStrips=0,
        NumberOfPolys=len(triangles),
    )
    out.open("Points")
    out.array("Points", surface.vertices)
    out.close("Points")
    out.open("Polys")
    out.array("connectivity", triangles.ravel())
    out.array("offsets", 3 * np.arange(1, len(triangles) + 1, dtype=np.int64))
    out.close("Polys", "Piece", "PolyData")
    out.save(Path(path))


def write_blocks(blocks: BlockModel, path: Path | str) -> None:
    """Write a block model as VTI, VTR or VTU, by the file's ending; VTU holds only the cells that are there.

    Raises
    ------
    InputError
        When the ending's kind of mesh can't hold the cells: VTI holds equal ones, VTR those of a tensor mesh, neither is turned.
    """
    path, mesh = Path(path), blocks.mesh
    ending = path.suffix.lower()
    kind = {".vti": "ImageData", ".vtr": "RectilinearGrid", ".vtu": "UnstructuredGrid"}[ending]
    out = vtkxml.Writer(kind)
    if ending == ".vtu":
        _write_cells(blocks, out)
        out.save(path)
        return
    blocks = blocks.levelled()
    mesh = blocks.mesh
    step = mesh.step if isinstance(mesh, TensorMesh) else None
    if not isinstance(mesh, TensorMesh) or mesh.is_turned or (ending == ".vti" and step is None):
        wanted = ".vtr or .vtu" if isinstance(mesh, TensorMesh) and not mesh.is_turned else ".vtu"
        raise InputError(f"{ending} can't hold these cells", where=blocks.name, fix=f"Write it as {wanted}")
    extent = " ".join(f"0 {n}" for n in mesh.shape)
    if step is not None and ending == ".vti":
        out.open(
            kind,
            WholeExtent=extent,
            Origin=f"{mesh.x0!r} {mesh.y0!r} {mesh.z0!r}",
            Spacing=" ".join(repr(d) for d in step),
        )
    else:
        out.open(kind, WholeExtent=extent)
    out.open("Piece", Extent=extent)
    if ending == ".vtr":
        out.open("Coordinates")
        p, q = mesh.plan_edges
        for axis, edges in zip("xyz", (mesh.x0 + p, mesh.y0 + q, mesh.z_edges), strict=True):
            out.array(axis, edges)
        out.close("Coordinates")
    out.open("CellData")
    for name, values in blocks.properties.items():
        out.array(name, np.asarray(values, dtype=float).ravel(order="F"))
    out.close("CellData", "Piece", kind)
    out.save(path)


def hexahedra(mesh: Mesh, cells: IntArray) -> tuple[NDArray[np.float64], IntArray]:
    """Return the points (p, 3) that cells given as rows (i, j, k) share, and the eight of each cell (n, 8) in VTK's order."""
    corners = mesh.corners(cells).reshape(-1, 3)
    _, first, place = np.unique(np.round(corners, 6), axis=0, return_index=True, return_inverse=True)
    return corners[first], place.reshape(-1, 8).astype(np.int64)


def _write_cells(blocks: BlockModel, out: vtkxml.Writer) -> None:
    cells = np.argwhere(blocks.present)
    points, connected = hexahedra(blocks.mesh, cells)
    out.open("UnstructuredGrid")
    out.open("Piece", NumberOfPoints=len(points), NumberOfCells=len(cells))
    out.open("Points")
    out.array("Points", points)
    out.close("Points")
    out.open("Cells")
    out.array("connectivity", connected.ravel())
    out.array("offsets", 8 * np.arange(1, len(cells) + 1, dtype=np.int64))
    out.array("types", np.full(len(cells), 12, dtype=np.uint8))
    out.close("Cells")
    out.open("CellData")
    for name, values in blocks.properties.items():
        out.array(name, np.asarray(values, dtype=float)[tuple(cells.T)])
    out.close("CellData", "Piece", "UnstructuredGrid")
