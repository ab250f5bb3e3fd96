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
            f"can't be read as a grid ({error})", where=path.name, fix="Expected ESRI ASCII or GeoTIFF"
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
