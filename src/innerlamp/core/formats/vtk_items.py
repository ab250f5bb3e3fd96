"""Surfaces and block models in VTK's XML files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError, refused
from ..items.fields import BlockModel, Surface
from . import vtkxml
from .lattice import Lattice, lattice_of

_MOST_CELLS = 50_000_000
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


def read_blocks(path: Path) -> tuple[Lattice, dict[str, NDArray[np.float64]]]:
    """Return the lattice of a VTI, VTR or VTU file and its properties, each of shape (nx, ny, nz).

    Cells of different sizes along an axis (VTR) are split into equal ones of the smallest size.
    """
    with refused("can't be read as a VTK file", path.name):
        return _blocks(vtkxml.read(path), path)


def _blocks(data: vtkxml.VtkData, path: Path) -> tuple[Lattice, dict[str, NDArray[np.float64]]]:
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
            edges = [_around(e) for e in edges]
            cells = nodes
    named = data.points if on_points else data.cells
    if any(len(e) - 1 != n for e, n in zip(edges, cells, strict=True)):
        raise InputError("the edges of the cells do not fit their number", where=path.name)
    if np.prod([len(e) - 1 for e in edges]) > _MOST_CELLS:
        raise InputError("the model has more than 50 million cells", where=path.name)
    lattice, at = _regular(edges, path.name)
    properties = {}
    for name, values in named.items():
        if values.ndim == 1 and len(values) == int(np.prod(cells)):
            block = values.astype(float).reshape(tuple(cells), order="F")
            properties[name] = np.ascontiguousarray(block[np.ix_(*at)])
    if not properties:
        raise InputError("the file has no values on its cells", where=path.name)
    return lattice, properties


def _around(points: NDArray[np.float64]) -> NDArray[np.float64]:
    middle = 0.5 * (points[1:] + points[:-1])
    return np.concatenate([[2 * points[0] - middle[0]], middle, [2 * points[-1] - middle[-1]]])


def _regular(edges: list[NDArray[np.float64]], name: str) -> tuple[Lattice, list[NDArray[np.int64]]]:
    low, step, count, at = [], [], [], []
    for edge in edges:
        widths = np.diff(edge)
        if not len(widths) or (widths <= 0).any():
            raise InputError("the edges of the cells do not rise", where=name)
        least = float(widths.min())
        n = max(1, round(float(edge[-1] - edge[0]) / least))
        if n > 20 * len(widths):
            raise InputError("the cells differ too much in size to be made equal", where=name)
        centres = edge[0] + (np.arange(n) + 0.5) * (edge[-1] - edge[0]) / n
        at.append(np.clip(np.searchsorted(edge, centres) - 1, 0, len(widths) - 1))
        low.append(float(edge[0]))
        step.append(float(edge[-1] - edge[0]) / n)
        count.append(n)
    if np.prod(count) > _MOST_CELLS:
        raise InputError("the model would have more than 50 million equal cells", where=name)
    return Lattice(tuple(low), tuple(step), tuple(count)), at  # type: ignore[arg-type]


def _unstructured(data: vtkxml.VtkData, name: str) -> tuple[Lattice, dict[str, NDArray[np.float64]]]:
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
    low, high = corners.min(axis=1), corners.max(axis=1)
    size = np.median(high - low, axis=0)
    if (np.abs((high - low) - size) > 0.01 * size).any():
        raise InputError("the cells are not all of one size", where=name, fix="Regularise the model first")
    lattice, at = lattice_of(0.5 * (low + high), name)
    properties = {}
    for each, values in data.cells.items():
        if values.ndim == 1 and len(values) == len(kinds):
            block = np.full(lattice.shape, np.nan)
            block[at] = values[boxes].astype(float)
            properties[each] = block
    if not properties:
        raise InputError("the file has no values on its cells", where=name)
    return lattice, properties


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
    """Write a block model as VTI, VTR or VTU, by the file's ending; VTU holds only the cells that are there."""
    path = Path(path)
    ending = path.suffix.lower()
    kind = {".vti": "ImageData", ".vtr": "RectilinearGrid", ".vtu": "UnstructuredGrid"}[ending]
    out = vtkxml.Writer(kind)
    if ending == ".vtu":
        _write_cells(blocks, out)
    else:
        extent = " ".join(f"0 {n}" for n in blocks.shape)
        if ending == ".vti":
            out.open(
                kind,
                WholeExtent=extent,
                Origin=f"{blocks.x0!r} {blocks.y0!r} {blocks.z0!r}",
                Spacing=f"{blocks.dx!r} {blocks.dy!r} {blocks.dz!r}",
            )
        else:
            out.open(kind, WholeExtent=extent)
        out.open("Piece", Extent=extent)
        if ending == ".vtr":
            out.open("Coordinates")
            for axis, low, step, n in zip(
                "xyz", (blocks.x0, blocks.y0, blocks.z0), (blocks.dx, blocks.dy, blocks.dz), blocks.shape, strict=True
            ):
                out.array(axis, low + step * np.arange(n + 1, dtype=float))
            out.close("Coordinates")
        out.open("CellData")
        for name, values in blocks.properties.items():
            out.array(name, np.asarray(values, dtype=float).ravel(order="F"))
        out.close("CellData", "Piece", kind)
    out.save(path)


def _write_cells(blocks: BlockModel, out: vtkxml.Writer) -> None:
    present = np.zeros(blocks.shape, dtype=bool)
    for values in blocks.properties.values():
        present |= np.isfinite(values)
    cells = np.argwhere(present)
    # The order of a hexahedron's corners: around the bottom, then around the top.
    steps = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1]])
    corners = (cells[:, None, :] + steps).reshape(-1, 3)
    keys, place = np.unique(corners, axis=0, return_inverse=True)
    low, size = np.array([blocks.x0, blocks.y0, blocks.z0]), np.array([blocks.dx, blocks.dy, blocks.dz])
    out.open("UnstructuredGrid")
    out.open("Piece", NumberOfPoints=len(keys), NumberOfCells=len(cells))
    out.open("Points")
    out.array("Points", low + keys * size)
    out.close("Points")
    out.open("Cells")
    out.array("connectivity", place.ravel().astype(np.int64))
    out.array("offsets", 8 * np.arange(1, len(cells) + 1, dtype=np.int64))
    out.array("types", np.full(len(cells), 12, dtype=np.uint8))
    out.close("Cells")
    out.open("CellData")
    for name, values in blocks.properties.items():
        out.array(name, np.asarray(values, dtype=float)[tuple(cells.T)])
    out.close("CellData", "Piece", "UnstructuredGrid")
