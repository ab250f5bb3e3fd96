"""Triangulated surfaces: OBJ, PLY and STL through meshio, DXF 3D faces through ezdxf, and triangles made from points."""

from __future__ import annotations

import contextlib
import io
import re
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...items.fields import Surface
from . import vtk_items

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int32]
_LARGEST = 2_000_000_000


def read_mesh(path: Path) -> tuple[FloatArray, IntArray]:
    """Return vertices (n, 3) and triangles (m, 3); corners at one place are joined.

    Raises
    ------
    InputError
        When the file can't be read or holds no triangles.
    """
    if path.stat().st_size > _LARGEST:
        raise InputError("the file is larger than 2 GB", where=path.name)
    vertices, triangles = READERS[path.suffix.lower()](path)
    if not len(triangles):
        raise InputError("the file holds no triangles", where=path.name)
    if not np.isfinite(vertices).all() or triangles.min() < 0 or triangles.max() >= len(vertices):
        raise InputError("the triangles point to places that are not there", where=path.name)
    return _joined(vertices, triangles)


def _meshio(path: Path) -> tuple[FloatArray, IntArray]:
    import meshio

    _begins_well(path)
    try:
        with (
            contextlib.redirect_stdout(io.StringIO()),
            contextlib.redirect_stderr(io.StringIO()),
            warnings.catch_warnings(action="ignore"),
        ):
            mesh = _with_usual_names(path, meshio.read)
    except (SystemExit, Exception) as error:  # meshio ends the program on what it does not know
        raise InputError(f"can't be read as a surface ({error})", where=path.name) from error
    parts = []
    for block in mesh.cells:
        if block.type == "triangle":
            parts.append(block.data)
        elif block.type in ("quad", "polygon"):
            data = np.asarray(block.data)
            parts += [data[:, [0, k, k + 1]] for k in range(1, data.shape[1] - 1)]
    if any(p.ndim != 2 or p.shape[1] != 3 for p in parts):
        raise InputError("a face has fewer than three corners", where=path.name)
    points = np.asarray(mesh.points, dtype=float)
    if points.ndim != 2 or points.shape[1] != 3:
        raise InputError("the surface has no elevations", where=path.name)
    return points, np.concatenate(parts).astype(np.int32) if parts else np.empty((0, 3), np.int32)


def _with_usual_names(path: Path, read: Callable[[Path], Any]) -> Any:
    """Read a file; a PLY that calls its faces' list ``vertex_index``, as the format's first description does, as well."""
    data = path.read_bytes() if path.suffix.lower() == ".ply" else b""
    head, sign, rest = data.partition(b"end_header")
    if not re.search(rb"\svertex_index\s", head):
        return read(path)
    with tempfile.TemporaryDirectory() as folder:
        there = Path(folder) / "surface.ply"
        there.write_bytes(re.sub(rb"(\s)vertex_index(\s)", rb"\1vertex_indices\2", head) + sign + rest)
        return read(there)


def _begins_well(path: Path) -> None:
    """Refuse what the library would read without an end: a PLY without its head's end, an STL of another length."""
    size, name = path.stat().st_size, path.name
    with path.open("rb") as handle:
        head = handle.read(65536)
    if path.suffix.lower() == ".ply":
        if not head.startswith(b"ply") or b"end_header" not in head:
            raise InputError("can't be read as PLY: its head is not whole", where=name)
        counts = [int(w) for w in re.findall(rb"element\s+\S+\s+(\d{1,18})", head.split(b"end_header")[0])]
        if sum(counts) > size:
            raise InputError("the PLY file is shorter than its head says", where=name)
    elif not head.lstrip().lower().startswith(b"solid") and (
        size < 84 or size != 84 + 50 * int.from_bytes(head[80:84], "little")
    ):
        raise InputError("can't be read as STL: it is shorter or longer than its head says", where=name)


def _obj(path: Path) -> tuple[FloatArray, IntArray]:
    vertices: list[list[float]] = []
    triangles: list[tuple[int, int, int]] = []
    try:
        with path.open(encoding="utf-8", errors="replace") as handle:
            for line in handle:
                if line.startswith("v "):
                    vertices.append([float(c) for c in line.split()[1:4]])
                elif line.startswith("f "):
                    corners = [int(c.split("/")[0]) for c in line.split()[1:]]
                    corners = [c - 1 if c > 0 else len(vertices) + c for c in corners]
                    triangles += [(corners[0], corners[k], corners[k + 1]) for k in range(1, len(corners) - 1)]
        corners_of = np.array(triangles, dtype=np.int32).reshape(-1, 3)
    except (ValueError, IndexError, OverflowError, OSError) as error:
        raise InputError(f"can't be read as OBJ ({error})", where=path.name) from error
    if any(len(v) != 3 for v in vertices):
        raise InputError("a vertex has not three coordinates", where=path.name)
    return np.array(vertices, dtype=float).reshape(-1, 3), corners_of


def _dxf(path: Path) -> tuple[FloatArray, IntArray]:
    import ezdxf

    try:
        doc = ezdxf.readfile(path)
        corners: list[list[tuple[float, float, float]]] = []
        for face in doc.modelspace().query("3DFACE"):
            points = [tuple(face.dxf.get(f"vtx{k}")) for k in range(4)]
            corners.append([points[0], points[1], points[2]])
            if points[3] != points[2]:
                corners.append([points[0], points[2], points[3]])
        for mesh in doc.modelspace().query("MESH"):
            v = [tuple(p) for p in mesh.vertices]
            corners += [[v[f[0]], v[f[k]], v[f[k + 1]]] for f in mesh.faces for k in range(1, len(f) - 1)]
        for poly in doc.modelspace().query("POLYLINE"):
            if poly.is_poly_face_mesh:
                for face in poly.faces():
                    p = [tuple(c.dxf.location) for c in face[:-1]]
                    corners += [[p[0], p[k], p[k + 1]] for k in range(1, len(p) - 1)]
    except Exception as error:  # ezdxf lets through whatever a broken file leads it to
        raise InputError(f"can't be read as DXF ({error})", where=path.name) from error
    xyz = np.array(corners, dtype=float).reshape(-1, 3)
    return xyz, np.arange(len(xyz), dtype=np.int32).reshape(-1, 3)


READERS: dict[str, Callable[[Path], tuple[FloatArray, IntArray]]] = {
    ".obj": _obj,
    ".ply": _meshio,
    ".stl": _meshio,
    ".dxf": _dxf,
    ".vtp": vtk_items.read_surface,
    ".vtu": vtk_items.read_surface,
}


def _joined(vertices: FloatArray, triangles: IntArray) -> tuple[FloatArray, IntArray]:
    # Formats that repeat corners for each triangle would seem open otherwise; a millimetre is the same place.
    _, first, inverse = np.unique(np.round(vertices, 3), axis=0, return_index=True, return_inverse=True)
    out = inverse.ravel()[triangles].astype(np.int32)
    flat = (out[:, 0] == out[:, 1]) | (out[:, 1] == out[:, 2]) | (out[:, 0] == out[:, 2])
    return np.ascontiguousarray(vertices[first]), np.ascontiguousarray(out[~flat])


def triangulate(points: FloatArray, longest: float, file: str) -> tuple[FloatArray, IntArray]:
    """Return triangles over points (n, 3), Delaunay in plan; sides above `longest` metres are left out (0 keeps all)."""
    from scipy.spatial import Delaunay, QhullError

    unique = points[np.unique(np.round(points[:, :2], 3), axis=0, return_index=True)[1]]
    if len(unique) < 3:
        raise InputError("a surface needs three points", where=file)
    origin = unique[:, :2].mean(axis=0)
    try:
        triangles = Delaunay(unique[:, :2] - origin).simplices
    except QhullError as error:
        raise InputError("the points lie on one line", where=file) from error
    if longest > 0:
        corners = unique[triangles]
        sides = np.stack(
            [np.linalg.norm(corners[:, a, :2] - corners[:, b, :2], axis=1) for a, b in ((0, 1), (1, 2), (2, 0))]
        )
        triangles = triangles[sides.max(axis=0) <= longest]
        if not len(triangles):
            raise InputError(f"no triangle has sides below {longest:g} m", where=file, fix="Allow longer sides")
    corners = unique[triangles]
    up = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2]
    triangles[up < 0] = triangles[up < 0][:, ::-1]
    return unique, np.ascontiguousarray(triangles, dtype=np.int32)


def write_mesh(surface: Surface, path: Path | str) -> None:
    """Write a surface as PLY or STL, by the file's ending; PLY keeps float64."""
    import meshio

    path = Path(path)
    mesh = meshio.Mesh(np.asarray(surface.vertices), [("triangle", np.asarray(surface.triangles))])
    with contextlib.redirect_stdout(io.StringIO()):
        meshio.write(path, mesh, binary=path.suffix.lower() != ".stl")  # a binary STL has float32, 0.5 m at 7 000 km


def write_dxf_faces(surface: Surface, path: Path | str) -> None:
    """Write a surface as DXF 3D faces."""
    import ezdxf

    doc = ezdxf.new("R2010")
    space = doc.modelspace()
    for triangle in np.asarray(surface.triangles):
        a, b, c = (tuple(float(v) for v in surface.vertices[k]) for k in triangle)
        space.add_3dface([a, b, c, c])
    doc.saveas(path)
