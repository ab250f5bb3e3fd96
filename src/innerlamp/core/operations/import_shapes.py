"""Importing map features, surfaces and block models."""

from __future__ import annotations

import numpy as np

from ..compute.geometry.triangles import is_closed, volume
from ..errors import InputError
from ..findings import Findings
from ..formats import features, meshes, tables_in
from ..items.base import Item
from ..items.fields import BlockModel, Surface
from ..progress import Progress
from ..units import unit_in_heading
from .declare import Inputs, Operation, Output, Params, param
from .reading import mapped, number_column, title


class ImportFeatures(Params):
    file: str = param(
        ..., "Map file", role="file", help="GeoPackage, Shapefile, GeoJSON or DXF; a layer is named file#layer"
    )
    name: str = param("", "Name", help="The file's name when empty")


class ImportSurface(Params):
    file: str = param(
        ...,
        "Surface file",
        role="file",
        help="OBJ, PLY, STL, DXF with 3D faces, or a table of points that is made into triangles",
    )
    name: str = param("", "Name", help="The file's name when empty")
    longest: float = param(
        0.0,
        "Longest side",
        unit="m",
        low=0.0,
        help="For tables of points: triangles with longer sides are left out; 0 keeps all",
    )


class ImportBlocks(Params):
    file: str = param(
        ...,
        "Block model table",
        role="file",
        help="One row a cell: centre x, y, z and values; cells must lie on a regular lattice",
    )
    name: str = param("", "Name", help="The file's name when empty")
    columns: dict[str, str] = param(
        {}, "Columns", role="mapping", help="Role to column; what is not given is guessed from the headings"
    )


def _run_features(inputs: Inputs, p: ImportFeatures, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, layer = tables_in.split(p.file)
    names = features.layers(path)
    if layer and layer not in names:
        raise InputError(f"there is no layer '{layer}'", where=path.name, fix="There are: " + ", ".join(names))
    if len(names) > 1 and not layer:
        raise InputError(
            f"the file has {len(names)} layers",
            where=path.name,
            fix=f"Name one: {path.name}#{names[0]} (there are: {', '.join(names)})",
        )
    return {"features": features.read_features(path, layer, p.name or title(path), inputs.crs, Findings())}


def _run_surface(inputs: Inputs, p: ImportSurface, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, _ = tables_in.split(p.file)
    if path.suffix.lower() in meshes.READERS:
        vertices, triangles = meshes.read_mesh(path)
    else:
        found = Findings()
        raw = tables_in.read(p.file, found, "points")
        role = mapped(raw, "points", {})
        if "z" not in role:
            raise InputError("no column for Elevation", where=raw.file)
        xyz = np.column_stack([number_column(raw, role[c]) for c in "xyz"])
        vertices, triangles = meshes.triangulate(xyz[np.isfinite(xyz).all(axis=1)], p.longest, raw.file)
    closed = is_closed(triangles)
    held = abs(volume(vertices, triangles)) if closed else 0.0
    if closed and volume(vertices, triangles) < 0:
        triangles = np.ascontiguousarray(triangles[:, ::-1])
    return {
        "surface": Surface(
            name=p.name or title(path),
            crs=inputs.crs,
            vertices=vertices,
            triangles=triangles,
            closed=closed,
            volume_m3=held,
        )
    }


def _run_blocks(inputs: Inputs, p: ImportBlocks, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    found = Findings()
    raw = tables_in.read(p.file, found, "cells")
    role = mapped(raw, "points", p.columns)
    if "z" not in role:
        raise InputError(
            "no column for Elevation", where=raw.file, fix="A block model needs the centre of each cell in x, y and z"
        )
    xyz = np.column_stack([number_column(raw, role[c]) for c in "xyz"])
    good = np.isfinite(xyz).all(axis=1)
    axes = [_axis(xyz[good, k], "xyz"[k], raw.file) for k in range(3)]
    shape = (axes[0][2], axes[1][2], axes[2][2])
    if np.prod(shape) > 200_000_000:
        raise InputError(f"the model would have {np.prod(shape):,} cells", where=raw.file)
    at = tuple(np.round((xyz[good, k] - axes[k][0]) / axes[k][1]).astype(np.int64) for k in range(3))
    properties, units = {}, {}
    for column in raw.layout.columns:
        if column in role.values() or column in ("dx", "dy", "dz"):
            continue
        numbers = number_column(raw, column)[good]
        if np.isfinite(numbers).any():
            properties[column] = np.full(shape, np.nan)
            properties[column][at] = numbers
            units[column] = unit_in_heading(column)
    if not properties:
        raise InputError("no column of numbers besides the places", where=raw.file)
    (x, dx, _), (y, dy, _), (z, dz, _) = axes
    name = p.name or title(raw.path)
    return {
        "blocks": BlockModel(
            name=name,
            crs=inputs.crs,
            x0=x - dx / 2,
            y0=y - dy / 2,
            z0=z - dz / 2,
            dx=dx,
            dy=dy,
            dz=dz,
            shape=shape,
            properties=properties,
            units=units,
        )
    }


def _axis(values: np.ndarray, name: str, file: str) -> tuple[float, float, int]:
    """Return first centre, spacing and number of cells along an axis."""
    places = np.unique(np.round(values, 4))
    if len(places) < 2:
        raise InputError(f"all cells have the same {name}", where=file)
    step = float(np.min(np.diff(places)))
    count = round((places[-1] - places[0]) / step) + 1
    off = np.abs((places - places[0]) / step - np.round((places - places[0]) / step))
    if off.max() > 0.01:
        raise InputError(
            f"cells are not on a regular lattice along {name}", where=file, fix="Regularise the model first"
        )
    return float(places[0]), step, count


FEATURES = Operation(
    name="import-features", title="Import map features", area="Data",
    help="Reads points, lines and polygons with their attributes, turned into the project's coordinate system.",
    params=ImportFeatures, run=_run_features, outputs=(Output("features", "features", "Map features"),),
)  # fmt: skip
SURFACE = Operation(
    name="import-surface", title="Import a surface", area="Data",
    help="Reads a triangulated surface, or makes one from points (Delaunay triangles in plan).",
    params=ImportSurface, run=_run_surface, outputs=(Output("surface", "surface", "Surface"),),
)  # fmt: skip
BLOCKS = Operation(
    name="import-blocks", title="Import a block model", area="Data",
    help="Reads a regular block model from a table of cell centres with their values.",
    params=ImportBlocks, run=_run_blocks, outputs=(Output("blocks", "blocks", "Block model"),),
)  # fmt: skip
