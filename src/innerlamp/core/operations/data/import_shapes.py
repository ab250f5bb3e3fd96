"""Importing map features and surfaces."""

from __future__ import annotations

import numpy as np

from ...compute.geometry.triangles import is_closed, volume
from ...declaring.operation import Example, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...findings import Findings
from ...formats.shapes import features, meshes
from ...formats.tables import tables_in
from ...importing.reading import lifted, mapped, number_column, system_of, title, to_project
from ...items.base import Item
from ...items.fields import Surface
from ...progress import Progress
from .systems import system_of_file


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
