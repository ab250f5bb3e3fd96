"""Grid files: GeoTIFF through rasterio, ESRI ASCII by our own hand, NetCDF through its own library, XYZ as a table."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...items.fields import Grid
from ...units import unit_in_heading
from . import ascii_grids, netcdf, rasters
from .lattice import even_axis
from .layers import chosen_layer

MOST_CELLS = 200_000_000


class GridFile(NamedTuple):
    """What a grid file holds.

    Values have shape (ny, nx), row 0 the southernmost, NaN where blank; places are those of cell centres in the
    file's own system, whose code is '' where the file names none. Unit and name are '' where it tells none.
    """

    values: NDArray[np.float64]
    x0: float
    y0: float
    dx: float
    dy: float
    crs: str
    unit: str = ""
    name: str = ""


def read_grid(path: Path | str, layer: str = "", slice_: str = "") -> GridFile:
    """Return the grid of a file.

    Parameters
    ----------
    layer
        Name or number (from 1) of the band or variable, where the file has several.
    slice_
        Number (from 1) of the time or level, where a variable has several.

    Raises
    ------
    InputError
        When the file can't be read, has no place, is rotated or too large, or holds several and none was named.
    """
    path = Path(path)
    if not path.is_file():
        raise InputError("there is no such file", where=str(path), fix="Check the path")
    if path.suffix.lower() in (".xyz", ".txt", ".csv", ".dat"):
        return _read_xyz(path)
    if netcdf.is_netcdf(path):
        return GridFile(*netcdf.read(path, layer, slice_, MOST_CELLS))
    if ascii_grids.is_ascii_grid(path):
        return GridFile(*ascii_grids.read(path, MOST_CELLS))
    return _read_raster(path, layer)


def _read_raster(path: Path, layer: str) -> GridFile:
    from rasterio.errors import RasterioError

    try:
        with rasters.opened(path) as source:
            if source.width * source.height > MOST_CELLS:
                raise InputError(
                    f"the grid has {source.width:,} × {source.height:,} cells, too many to hold", where=path.name
                )
            names = [source.descriptions[k] or str(k + 1) for k in range(source.count)]
            number = 1 + chosen_layer(names, layer, "band", path.name)
            place = rasters.affine_of(path, source)
            if place is None:
                raise InputError(
                    "the file does not say where it lies",
                    where=path.name,
                    fix="Put its world file (.tfw) beside it",
                )
            a, b, c, d, e, f = place
            if abs(b) > 1e-9 or abs(d) > 1e-9 or a <= 0 or e == 0 or not np.isfinite(place).all():
                raise InputError("the grid is rotated", where=path.name, fix="Resample it north up first")
            band = source.read(number, masked=True)
            values = np.where(np.ma.getmaskarray(band), np.nan, np.asarray(band, dtype=float))
            values = values * source.scales[number - 1] + source.offsets[number - 1]
            crs = source.crs.to_string() if source.crs else ""
            unit, name = source.units[number - 1] or "", source.descriptions[number - 1] or ""
    except (RasterioError, OSError, ValueError) as error:
        raise InputError(
            "can't be read as a grid", where=path.name, fix="Expected GeoTIFF, ESRI ASCII, NetCDF or XYZ"
        ) from error
    dy = abs(e)
    north_up = e < 0
    if north_up:
        values = values[::-1]
    y_first = f - dy * (values.shape[0] - 0.5) if north_up else f + dy / 2
    return GridFile(np.ascontiguousarray(values), c + a / 2, y_first, a, dy, crs, unit, name)


def write_geotiff(grid: Grid, path: Path | str) -> None:
    """Write a grid as GeoTIFF (float64, deflate, blank as NaN)."""
    import rasterio
    from rasterio.crs import CRS
    from rasterio.transform import from_origin

    ny, nx = grid.values.shape
    transform = from_origin(grid.x0 - grid.dx / 2, grid.y0 + grid.dy * (ny - 0.5), grid.dx, grid.dy)
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=nx,
        height=ny,
        count=1,
        dtype="float64",
        crs=CRS.from_user_input(grid.crs),
        transform=transform,
        nodata=float("nan"),
        compress="deflate",
    ) as target:
        target.write(grid.values[::-1], 1)
        target.set_band_description(1, f"{grid.attribute} {grid.unit}".strip())
        target.units = (grid.unit,)


def write_netcdf(grid: Grid, path: Path | str) -> None:
    """Write a grid as NetCDF with CF conventions: coordinates, coordinate system, name and unit."""
    netcdf.write(grid, Path(path))


def write_xyz(grid: Grid, path: Path | str) -> None:
    """Write the cells that have a value as lines of easting, northing and value."""
    gx, gy = grid.places
    good = np.isfinite(grid.values)
    with Path(path).open("w", encoding="ascii") as handle:
        handle.write("x y z\n")
        np.savetxt(handle, np.column_stack([gx[good], gy[good], grid.values[good]]), fmt="%.6f %.6f %.12g")


def _read_xyz(path: Path) -> GridFile:
    """Return a grid from lines of easting, northing and value; cells without a line are blank."""
    from ...findings import Findings
    from ..tables import rawtable, tables_in

    raw = tables_in.read(path, Findings())
    if len(raw.layout.columns) < 3:
        raise InputError("an XYZ grid needs three columns", where=path.name)
    x, y, v = (rawtable.numbers(raw.cells.column(c), raw.layout.decimal_comma)[0] for c in raw.layout.columns[:3])
    good = np.isfinite(x) & np.isfinite(y)
    x0, dx, nx, column = even_axis(x[good], path.name)
    y0, dy, ny, row = even_axis(y[good], path.name)
    if nx * ny > MOST_CELLS:
        raise InputError(f"the grid has {nx:,} × {ny:,} cells, too many to hold", where=path.name)
    out = np.full((ny, nx), np.nan)
    out[row, column] = v[good]
    heading = raw.layout.columns[2]
    return GridFile(out, x0, y0, dx, dy, "", unit_in_heading(heading), "" if heading.lower() == "z" else heading)


def write_ascii(grid: Grid, path: Path | str) -> None:
    """Write a grid with square cells as ESRI ASCII."""
    if abs(grid.dx - grid.dy) > 1e-9:
        raise InputError("ESRI ASCII needs square cells", where=grid.name, fix="Write a GeoTIFF instead")
    ny, nx = grid.values.shape
    corner = f"xllcorner {grid.x0 - grid.dx / 2!r}\nyllcorner {grid.y0 - grid.dy / 2!r}\ncellsize {grid.dx!r}"
    with Path(path).open("w", encoding="ascii") as handle:
        handle.write(f"ncols {nx}\nnrows {ny}\n{corner}\nNODATA_value -99999\n")
        for row in np.where(np.isfinite(grid.values), grid.values, -99999)[::-1].tolist():
            handle.write(" ".join(map(repr, row)) + "\n")  # the shortest digits that come back the same
