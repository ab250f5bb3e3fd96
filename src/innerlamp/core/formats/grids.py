"""Grid files: ESRI ASCII and GeoTIFF, through rasterio (loaded when a file is read or written)."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError
from ..items.fields import Grid

MOST_CELLS = 200_000_000


def read_grid(path: Path | str) -> tuple[NDArray[np.float64], float, float, float, float, str]:
    """Return values (ny, nx; row 0 south, NaN blank), x0, y0, dx, dy of cell centres, and CRS ('' if none).

    Raises
    ------
    InputError
        When the file can't be read, is rotated or too large.
    """
    import rasterio
    from rasterio.errors import NotGeoreferencedWarning, RasterioError

    path = Path(path)
    if not path.is_file():
        raise InputError("there is no such file", where=str(path), fix="Check the path")
    if path.suffix.lower() in (".xyz", ".txt", ".csv", ".dat"):
        return _read_xyz(path)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", NotGeoreferencedWarning)
            with rasterio.open(path) as source:
                if source.width * source.height > MOST_CELLS:
                    raise InputError(
                        f"the grid has {source.width:,} × {source.height:,} cells, too many to hold", where=path.name
                    )
                t = source.transform
                if abs(t.b) > 1e-9 or abs(t.d) > 1e-9 or t.a <= 0:
                    raise InputError("the grid is rotated", where=path.name, fix="Resample it north up first")
                band = source.read(1, masked=True)
                values = np.where(np.ma.getmaskarray(band), np.nan, np.asarray(band, dtype=float))
                crs = source.crs.to_string() if source.crs else ""
    except (RasterioError, OSError, ValueError) as error:
        raise InputError(
            f"can't be read as a grid ({error})", where=path.name, fix="Expected GeoTIFF, ESRI ASCII, NetCDF or XYZ"
        ) from error
    dy = abs(t.e)
    north_up = t.e < 0
    if north_up:
        values = values[::-1]
    top = t.f
    y_first = top - dy * (values.shape[0] - 0.5) if north_up else top + dy / 2
    return np.ascontiguousarray(values), t.c + t.a / 2, y_first, t.a, dy, crs


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


def write_netcdf(grid: Grid, path: Path | str) -> None:
    """Write a grid as NetCDF with CF conventions, through GDAL."""
    import rasterio.shutil
    from rasterio.io import MemoryFile

    with MemoryFile(ext=".tif") as memory:
        write_geotiff(grid, memory.name)
        rasterio.shutil.copy(memory.name, str(path), driver="netCDF", strict=False)


def write_xyz(grid: Grid, path: Path | str) -> None:
    """Write the cells that have a value as lines of easting, northing and value."""
    gx, gy = grid.places
    good = np.isfinite(grid.values)
    with Path(path).open("w", encoding="ascii") as handle:
        handle.write("x y z\n")
        np.savetxt(handle, np.column_stack([gx[good], gy[good], grid.values[good]]), fmt="%.3f %.3f %.9g")


def _read_xyz(path: Path) -> tuple[NDArray[np.float64], float, float, float, float, str]:
    """Return a grid from lines of easting, northing and value; cells without a line are blank."""
    from ..findings import Findings
    from . import rawtable, tables_in

    raw = tables_in.read(path, Findings())
    if len(raw.layout.columns) < 3:
        raise InputError("an XYZ grid needs three columns", where=path.name)
    x, y, v = (rawtable.numbers(raw.cells.column(c), raw.layout.decimal_comma)[0] for c in raw.layout.columns[:3])
    good = np.isfinite(x) & np.isfinite(y)
    axes = []
    for values in (x[good], y[good]):
        places = np.unique(np.round(values, 4))
        step = float(np.min(np.diff(places))) if len(places) > 1 else 0.0
        if step <= 0 or np.abs((places - places[0]) / step - np.round((places - places[0]) / step)).max() > 0.01:
            raise InputError(
                "the places are not on a regular lattice", where=path.name, fix="Import it as samples and grid it"
            )
        axes.append((float(places[0]), step, round((places[-1] - places[0]) / step) + 1))
    (x0, dx, nx), (y0, dy, ny) = axes
    if nx * ny > MOST_CELLS:
        raise InputError(f"the grid has {nx:,} × {ny:,} cells, too many to hold", where=path.name)
    out = np.full((ny, nx), np.nan)
    out[np.round((y[good] - y0) / dy).astype(int), np.round((x[good] - x0) / dx).astype(int)] = v[good]
    return out, x0, y0, dx, dy, ""


def write_ascii(grid: Grid, path: Path | str) -> None:
    """Write a grid with square cells as ESRI ASCII."""
    if abs(grid.dx - grid.dy) > 1e-9:
        raise InputError("ESRI ASCII needs square cells", where=grid.name, fix="Write a GeoTIFF instead")
    ny, nx = grid.values.shape
    header = f"ncols {nx}\nnrows {ny}\nxllcorner {grid.x0 - grid.dx / 2:.3f}\nyllcorner {grid.y0 - grid.dy / 2:.3f}\ncellsize {grid.dx:g}\nNODATA_value -99999\n"
    values = np.where(np.isfinite(grid.values), grid.values, -99999)[::-1]
    with Path(path).open("w", encoding="ascii") as handle:
        handle.write(header)
        np.savetxt(handle, values, fmt="%.9g")
