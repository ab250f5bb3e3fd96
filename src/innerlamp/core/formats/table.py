"""The table of formats in which items can be written. A new one is one module and one line here."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..errors import InputError
from ..items.base import Item
from . import features, grids, meshes, tables_out


@dataclass(frozen=True)
class Format:
    """A way to write items of some kinds to a file."""

    name: str
    extensions: tuple[str, ...]
    kinds: tuple[str, ...]
    write: Callable[[Any, Path], Any]


FORMATS: tuple[Format, ...] = (
    Format("CSV", (".csv",), ("points", "lines", "targets"), lambda item, path: tables_out.write_csv(item.table, path)),
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
    Format("DXF", (".dxf",), ("features",), features.write_dxf),
    Format("DXF 3D faces", (".dxf",), ("surface",), meshes.write_dxf_faces),
    Format("PLY or STL", (".ply", ".stl"), ("surface",), meshes.write_mesh),
    Format("Wavefront OBJ", (".obj",), ("surface",), tables_out.write_obj),
)


def formats_for(kind: str) -> list[Format]:
    """All formats for a kind of item."""
    return [f for f in FORMATS if kind in f.kinds]


def export(item: Item, path: Path | str) -> list[Path]:
    """Write an item in the format its file name asks for; the file appears whole or not at all.

    Raises
    ------
    InputError
        When no format of that extension can hold the item, or the place can't be written.
    """
    path = Path(path)
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
    try:
        written = chosen.write(item, temporary)
        files = written if isinstance(written, list) else [temporary]
        done = []
        for file in files:
            target = path.with_name(file.name.replace(temporary.stem, path.stem, 1))
            file.replace(target)
            done.append(target)
        return done
    except OSError as error:
        raise InputError(f"can't write the file ({error.strerror})", where=str(path)) from error
    finally:
        for rest in path.parent.glob(f"{temporary.stem}*"):
            rest.unlink(missing_ok=True)
