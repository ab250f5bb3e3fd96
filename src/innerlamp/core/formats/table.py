"""The table of formats in which items can be written. A new one is one module and one line here."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..errors import InputError
from ..given_paths import outside_projects
from ..items.base import Item
from .grids import grid_files as grids
from .grids import photographs, pictures
from .out import page_templates, tables_out, walks, workbooks
from .shapes import features, meshes, mining, places_out, vtk_items


@dataclass(frozen=True)
class Format:
    """A way to write items of some kinds to a file."""

    name: str
    extensions: tuple[str, ...]
    kinds: tuple[str, ...]
    write: Callable[[Any, Path], Any]


TABLED = ("holes", "points", "lines", "targets", "electrodes")
FORMATS: tuple[Format, ...] = (
    Format(
        "CSV",
        (".csv",),
        ("points", "lines", "targets", "electrodes"),
        lambda item, path: tables_out.write_csv(item.table, path),
    ),
    Format("CSV, one file a table", (".csv",), ("holes",), tables_out.write_holes),
    Format(
        "CSV of cells",
        (".csv",),
        ("blocks",),
        lambda item, path: tables_out.write_csv(tables_out.blocks_table(item), path),
    ),
    Format("GeoTIFF", (".tif", ".tiff"), ("grid",), grids.write_geotiff),
    Format("ESRI ASCII grid", (".asc",), ("grid",), grids.write_ascii),
    Format("NetCDF", (".nc",), ("grid",), grids.write_netcdf),
    Format("XYZ", (".xyz",), ("grid",), grids.write_xyz),
    Format("GeoPackage, GeoJSON or Shapefile", (".gpkg", ".geojson", ".shp"), ("features",), features.write_features),
    Format("GeoPackage, GeoJSON or Shapefile", (".gpkg", ".geojson", ".shp"), places_out.KINDS, features.write_places),
    Format("DXF", (".dxf",), ("features",), features.write_dxf),
    Format("DXF points and lines", (".dxf",), places_out.KINDS, places_out.write_dxf),
    Format("VTK points and lines", (".vtp",), places_out.KINDS, places_out.write_vtp),
    Format("DXF 3D faces", (".dxf",), ("surface",), meshes.write_dxf_faces),
    Format("PLY or STL", (".ply", ".stl"), ("surface",), meshes.write_mesh),
    Format("Wavefront OBJ", (".obj",), ("surface",), tables_out.write_obj),
    Format("VTK surface", (".vtp",), ("surface",), vtk_items.write_surface),
    Format("VTK volume", (".vti", ".vtr", ".vtu"), ("blocks",), vtk_items.write_blocks),
    Format("Workbook, one sheet a table", (".xlsx", ".ods"), TABLED, workbooks.write_workbook),
    Format("SQLite database", (".sqlite", ".db"), TABLED, workbooks.write_database),
    Format("LAS log; one a hole with {hole} in the name", (".las",), ("holes",), workbooks.write_logs),
    Format("Picture with its place", (".tif", ".tiff", ".png", ".jpg"), ("picture",), pictures.write),
    Format("Core pictures with their table", (".zip",), ("core",), photographs.write_all),
    Format("Page template", (".json",), ("page",), page_templates.write_template),
    Format("Views of a walk-through", (".json",), ("walk",), walks.write_views),
    Format("Open Mining Format", (".omf",), mining.KINDS, lambda item, path: mining.write_items([item], path)),
)


def formats_for(kind: str) -> list[Format]:
    """All formats for a kind of item."""
    return [f for f in FORMATS if kind in f.kinds]


def export(item: Item, path: Path | str, guard: bool = False) -> list[Path]:
    """Write an item in the format its file name asks for; its files appear whole or not at all.

    With `guard` texts of a CSV that a spreadsheet would take for formulas are guarded by an apostrophe.

    Raises
    ------
    InputError
        When no format of that extension can hold the item, the place can't be written, or a further file of the export
        is there already: only the one that is named is written over, with those that belong to it by their name.
    """
    path = outside_projects(path)
    choices = formats_for(item.kind)
    chosen = next((f for f in choices if path.suffix.lower() in f.extensions), None)
    if chosen is None:
        known = ", ".join(e for f in choices for e in f.extensions)
        raise InputError(
            f"{item.title.lower()} can't be written as '{path.suffix or path.name}'",
            where=item.name,
            fix=f"Use one of: {known}",
        )
    if not path.parent.is_dir():
        raise InputError("there is no such folder", where=str(path.parent))
    temporary = path.with_name(f".{path.stem}.{os.getpid()}.part{path.suffix}")
    token = tables_out.GUARDED.set(guard)
    done: list[Path] = []
    try:
        written = chosen.write(item, temporary)
        files = written if isinstance(written, list) else [temporary]
        targets = [path.with_name(f.name[1:].replace(f".{os.getpid()}.part", "", 1)) for f in files]
        there = [t.name for t in targets if t.exists() and t != path and not (t.stem == path.stem and path.exists())]
        if there:
            raise InputError(
                f"the export would write over {', '.join(there[:4])}",
                where=path.name,
                fix="Choose another name or folder",
            )
        for file, target in zip(files, targets, strict=True):
            file.replace(target)
            done.append(target)
        return done
    except OSError as error:
        for target in done:
            target.unlink(missing_ok=True)
        raise InputError(f"can't write the file ({error.strerror or error})", where=str(path)) from error
    finally:
        tables_out.GUARDED.reset(token)
        for rest in path.parent.glob(f".*.{os.getpid()}.part*"):
            rest.unlink(missing_ok=True)


def export_together(items: Sequence[Item], path: Path | str) -> list[Path]:
    """Write several items into one file (Open Mining Format); it appears whole or not at all.

    Raises
    ------
    InputError
        When the file's ending is another one, or none of the items can be written so.
    """
    path = outside_projects(path)
    if path.suffix.lower() != ".omf":
        raise InputError(
            f"several items can't be written as '{path.suffix or path.name}'", fix="Use one file ending in .omf"
        )
    if not path.parent.is_dir():
        raise InputError("there is no such folder", where=str(path.parent))
    temporary = path.with_name(f".{path.stem}.{os.getpid()}.part.omf")
    try:
        mining.write_items(items, temporary)
        temporary.replace(path)
        return [path]
    except OSError as error:
        raise InputError(f"can't write the file ({error.strerror})", where=str(path)) from error
    finally:
        temporary.unlink(missing_ok=True)
