"""Importing map features, surfaces and block models."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ...compute.geometry.triangles import is_closed, volume
from ...declaring.operation import Example, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats.shapes import features, meshes, sub_blocks, vtk_items
from ...formats.shapes.cells import mesh_of_cells
from ...formats.tables import columns, tables_in
from ...geometry.mesh import TensorMesh
from ...importing.reading import lifted, mapped, number_column, system_of, title, to_project
from ...items.base import Item
from ...items.fields import BlockModel, Surface
from ...progress import Progress
from ...units import unit_in_heading
from .systems import system_of_file

_MOST_NAMES = 200  # different texts in a column of codes


class ImportFeatures(Params):
    file: str = param(
        ..., "Map file", editor="file", help="GeoPackage, Shapefile, GeoJSON or DXF; a layer is named file#layer"
    )
    name: str = param("", "Name", help="The file's name when empty")
    coordinates: str = system_of_file()


class ImportSurface(Params):
    file: str = param(
        ...,
        "Surface file",
        editor="file",
        help="OBJ, PLY, STL, VTP, DXF with 3D faces, or a table of points that is made into triangles",
    )
    name: str = param("", "Name", help="The file's name when empty")
    coordinates: str = system_of_file()
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
        "Block model file",
        editor="file",
        help="A table with one row a cell (centre x, y, z, sizes and values), or VTI, VTR, VTU",
    )
    sub_blocks: Literal["averaged in the largest", "kept in the smallest"] = param(
        "averaged in the largest",
        "Cells of several sizes are",
        help="Averaged by volume, codes by what fills most; or each as it is, on a lattice of the smallest size",
    )
    name: str = param("", "Name", help="The file's name when empty")
    columns: dict[str, str] = param(
        {}, "Columns", editor="mapping", help="Role to column; what is not given is guessed from the headings"
    )


def _run_features(inputs: Inputs, p: ImportFeatures, progress: Progress) -> dict[str, Item]:
    progress(0.1, "Reading")
    path, layer = tables_in.split(p.file)
    names = features.layers(path)
    if path.suffix.lower() == ".dxf":
        layer = (
            "" if layer in ("lines", "faces") else layer
        )  # parts of a drawing that holds both, else one of its layers
    elif layer and layer not in names:
        raise InputError(f"there is no layer '{layer}'", where=path.name, fix="There are: " + ", ".join(names))
    if len(names) > 1 and not layer:
        raise InputError(
            f"the file has {len(names)} layers",
            where=path.name,
            fix=f"Name one: {path.name}#{names[0]} (there are: {', '.join(names)})",
        )
    return {
        "features": features.read_features(
            path, layer, p.name or title(path), inputs.crs, Findings(), p.coordinates.strip()
        ).told_by_headings()
    }


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
        xyz[:, 0], xyz[:, 1] = to_project(
            xyz[:, 0],
            xyz[:, 1],
            system_of("", (role["x"], role["y"]), raw.layout.system),
            inputs.crs,
            found,
            raw.file,
            "points",
        )
        vertices, triangles = meshes.triangulate(xyz[np.isfinite(xyz).all(axis=1)], p.longest, raw.file)
    if p.coordinates.strip():
        x, y = to_project(
            vertices[:, 0], vertices[:, 1], p.coordinates.strip(), inputs.crs, Findings(), path.name, "surface"
        )
        vertices = np.column_stack([x, y, lifted(vertices[:, 2], p.coordinates.strip())])
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
    path, _ = tables_in.split(p.file)
    units: dict[str, str] = {}
    names: dict[str, tuple[str, ...]] = {}
    words = ""
    if path.suffix.lower() in (".vti", ".vtr", ".vtu"):
        mesh, properties = vtk_items.read_blocks(path)
        units = {name: unit_in_heading(name) for name in properties}
    else:
        mesh, properties, words = _cells_of_table(p, units, names)
    progress(1.0, words)
    model = BlockModel(
        name=p.name or title(path),
        crs=inputs.crs,
        mesh=mesh,
        properties=properties,
        units=units,
        names=names,
    )
    return {"blocks": model.told_by_headings()}


def _cells_of_table(
    p: ImportBlocks, units: dict[str, str], names: dict[str, tuple[str, ...]]
) -> tuple[TensorMesh, dict[str, np.ndarray], str]:
    """Mesh and properties of a table, and in words what was done; units and names of codes are filled in."""
    raw = tables_in.read(p.file, Findings(), "cells")
    role = mapped(raw, "points", p.columns)
    if "z" not in role:
        raise InputError(
            "no column for Elevation", where=raw.file, fix="A block model needs the centre of each cell in x, y and z"
        )
    xyz = np.column_stack([number_column(raw, role[c]) for c in "xyz"])
    good = np.isfinite(xyz).all(axis=1)
    have = {c.lower(): c for c in raw.layout.columns}
    sizes = None
    named = columns.cell_sizes(raw.layout.columns)
    if len(named) == 3:
        sizes = np.column_stack([number_column(raw, named[c]) for c in ("dx", "dy", "dz")])[good]
        sizes = sizes if np.isfinite(sizes).all() else None
    turn = number_column(raw, have["azimuth"])[good] if "azimuth" in have and sizes is not None else np.zeros(1)
    if not np.isfinite(turn).all() or np.ptp(turn) > 1e-6:
        raise InputError("the cells are not all turned alike", where=raw.file)
    values, left = {}, []
    for column in raw.layout.columns:
        if column in role.values() or column in named.values() or column.lower() == "azimuth":
            continue
        numbers = number_column(raw, column)[good]
        if np.isfinite(numbers).any():
            values[column] = numbers
            units[column] = unit_in_heading(column)
            continue
        texts = pd.Series(np.asarray(raw.cells.column(column), dtype=object)[good]).astype(str).str.strip()
        codes, found = pd.factorize(texts.where(texts != ""), sort=True)
        if 0 < len(found) <= _MOST_NAMES:
            values[column], names[column] = np.where(codes >= 0, codes, np.nan), tuple(str(name) for name in found)
            units[column] = ""
        elif len(found):
            left.append(column)
    words = f"left out, since they hold too many different texts: {', '.join(left)}" if left else ""
    if not values:
        raise InputError("no column of numbers or codes besides the places", where=raw.file)
    try:
        mesh, at = mesh_of_cells(xyz[good], raw.file, sizes, float(turn[0]))
    except InputError:
        if sizes is None or not (np.ptp(sizes, axis=0) > 1e-3 * sizes.max(axis=0)).any():
            raise
        cut, properties, told = _cut_cells(xyz[good], sizes, float(turn[0]), values, units, names, p, raw.file)
        return cut, properties, "; ".join(part for part in (told, words) if part)
    properties = {}
    for column, numbers in values.items():
        properties[column] = np.full(mesh.shape, np.nan)
        properties[column][at] = numbers
    return mesh, properties, words


def _cut_cells(
    xyz: np.ndarray,
    sizes: np.ndarray,
    azimuth: float,
    values: dict[str, np.ndarray],
    units: dict[str, str],
    names: dict[str, tuple[str, ...]],
    p: ImportBlocks,
    file: str,
) -> tuple[TensorMesh, dict[str, np.ndarray], str]:
    """Cells of several sizes on one lattice, and in words what was done with them."""
    fine = p.sub_blocks == "kept in the smallest"
    on = sub_blocks.lattice_of(xyz, sizes, file, azimuth, fine)
    codes = [c for c, numbers in values.items() if c in names or sub_blocks.are_codes(numbers, units[c])]
    properties = {c: on.most(v) if c in codes else on.mean(v) for c, v in values.items()}
    share = on.share()
    if not fine and ((share > 0) & (share < 0.999)).any():
        properties["filled share"], units["filled share"] = np.where(share > 0, np.minimum(share, 1.0), np.nan), ""
    largest, smallest = ("x".join(f"{n:g}" for n in pick(sizes, axis=0)) for pick in (np.max, np.min))
    words = f"{len(xyz):,} cells of {smallest} to {largest} m"
    if fine:
        return on.mesh, properties, f"{words}, each kept on a lattice of the smallest"
    told = f"; codes by what fills most: {', '.join(codes)}" if codes else ""
    return on.mesh, properties, f"{words}, averaged by volume in {int((share > 0).sum()):,} of the largest{told}"


FEATURES = Operation(
    name="import-features",
    example=Example({}, {"file": "geology/geological_map.geojson"}),
    title="Import map features",
    area="Data",
    help="Reads points, lines and polygons with their attributes, turned into the project's coordinate system.",
    params=ImportFeatures,
    run=_run_features,
    outputs=(Output("features", "features", "Map features"),),
)
SURFACE = Operation(
    name="import-surface",
    example=Example({}, {"file": "@Sn shell 800 ppm.obj"}),
    title="Import a surface",
    area="Data",
    help="Reads a triangulated surface, or makes one from points (Delaunay triangles in plan).",
    params=ImportSurface,
    run=_run_surface,
    outputs=(Output("surface", "surface", "Surface"),),
)
BLOCKS = Operation(
    name="import-blocks",
    example=Example({}, {"file": "@Susceptibility of Airborne magnetics.vti"}),
    title="Import a block model",
    area="Data",
    help="Reads a block model from a table of cell centres with their values, or from VTI, VTR and VTU files. Cells of several sizes (sub-blocks) come onto one lattice.",
    params=ImportBlocks,
    run=_run_blocks,
    outputs=(Output("blocks", "blocks", "Block model"),),
)
