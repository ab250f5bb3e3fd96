"""NetCDF grids: variables on even x and y (or longitude and latitude) coordinates, CF conventions 1.8."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...items.fields import Grid
from . import netcdf_doors
from .lattice import even_axis
from .layers import chosen_layer

_EAST = ("x", "lon", "long", "longitude", "easting", "east", "projection_x_coordinate")
_NORTH = ("y", "lat", "latitude", "northing", "north", "projection_y_coordinate")


def is_netcdf(path: Path) -> bool:
    """Whether a file is NetCDF, by its first bytes: the classic form, or HDF5 with its ending."""
    with path.open("rb") as handle:
        head = handle.read(8)
    return head[:3] == b"CDF" or (
        head == b"\x89HDF\r\n\x1a\n" and path.suffix.lower() in (".nc", ".nc4", ".grd", ".cdf")
    )


def read(
    path: Path, layer: str, slice_: str, most: int
) -> tuple[NDArray[np.float64], float, float, float, float, str, str, str]:
    """Return values (ny, nx; row 0 south), x0, y0, dx, dy of centres, CRS, unit and name of a variable.

    Packed values are unpacked by their scale and offset, fill values are blank.

    Raises
    ------
    InputError
        When the file can't be read, has no coordinates, or holds several variables or slices and none was named.
    """
    with netcdf_doors.opened(path) as data:
        found = {n: plane for n, v in data.variables.items() if (plane := _plane(data, v)) is not None}
        if not found:
            raise InputError(
                "no variable lies on even x and y coordinates",
                where=path.name,
                fix="Write the coordinates into the file",
            )
        name = list(found)[chosen_layer(list(found), layer, "variable", path.name)]
        variable, (east, north) = data.variables[name], found[name]
        if len(data.dimensions[east]) * len(data.dimensions[north]) > most:
            raise InputError("the grid has too many cells to hold", where=path.name)
        values = _values(data, variable, (north, east), slice_, path.name)
        x, y = (np.asarray(data.variables[n][:], dtype=float) for n in (east, north))
        x0, dx, nx, column = even_axis(x, path.name)
        y0, dy, ny, row = even_axis(y, path.name)
        out = np.full((ny, nx), np.nan)
        out[np.ix_(row, column)] = values
        unit = str(getattr(variable, "units", "")).strip()
        return out, x0, y0, dx, dy, _system(data, variable, east), "" if unit == "1" else unit, name


def system_and_bounds(path: Path) -> tuple[str, tuple[float, float, float, float]]:
    """Return the code of the coordinate system ('' where the file names none), and west, south, east and north.

    Raises
    ------
    InputError
        When the file can't be read or no variable lies on coordinates.
    """
    with netcdf_doors.opened(path) as data:
        for variable in data.variables.values():
            plane = _plane(data, variable)
            if plane is not None:
                ends = [np.asarray(data.variables[n][[0, -1]], dtype=float) for n in plane]
                west, south, east, north = (float(f(e)) for f in (np.min, np.max) for e in ends)
                return _system(data, variable, plane[0]), (west, south, east, north)
        raise InputError("no variable lies on even x and y coordinates", where=path.name)


def _plane(data: Any, variable: Any) -> tuple[str, str] | None:
    """Names of the dimensions to the east and to the north of a variable of numbers, None when it has not both."""
    if variable.dtype.kind not in "fiu" or variable.name in data.dimensions:
        return None
    east = next((d for d in variable.dimensions if _is_axis(data, d, _EAST, "X")), None)
    north = next((d for d in variable.dimensions if _is_axis(data, d, _NORTH, "Y")), None)
    return (east, north) if east and north else None


def _is_axis(data: Any, dimension: str, words: tuple[str, ...], axis: str) -> bool:
    coordinate = data.variables.get(dimension)
    if coordinate is None or coordinate.ndim != 1 or coordinate.dtype.kind not in "fiu":
        return False
    told = (dimension, getattr(coordinate, "standard_name", ""), getattr(coordinate, "long_name", ""))
    return getattr(coordinate, "axis", "") == axis or any(str(t).lower() in words for t in told)


def _values(data: Any, variable: Any, plane: tuple[str, str], slice_: str, file: str) -> NDArray[np.float64]:
    """Values (north, east) of a variable, of one slice where it has several."""
    others = [d for d in variable.dimensions if d not in plane]
    sizes = [len(data.dimensions[d]) for d in others]
    number = 0
    count = int(np.prod(sizes)) if sizes else 1
    if count > 1:
        if not slice_.strip().isdigit() or not 1 <= int(slice_) <= count:
            raise InputError(
                f"the variable has {count} slices along {' and '.join(others)}",
                where=file,
                fix=f"Name one by its number, 1 to {count}",
            )
        number = int(slice_) - 1
    at = dict(zip(others, np.unravel_index(number, sizes) if sizes else (), strict=True))
    index = tuple(at.get(d, slice(None)) for d in variable.dimensions)
    block = variable[index]
    values = np.where(np.ma.getmaskarray(block), np.nan, np.ma.getdata(block).astype(float))
    order = [d for d in variable.dimensions if d in plane]
    return values if order == list(plane) else values.T


def _system(data: Any, variable: Any, east: str) -> str:
    """Code of the coordinate system, '' where the file names none."""
    from rasterio.crs import CRS
    from rasterio.errors import CRSError

    mapping = data.variables.get(str(getattr(variable, "grid_mapping", "")))
    for name in ("crs_wkt", "spatial_ref", "epsg_code"):
        text = str(getattr(mapping, name, "")) if mapping is not None else ""
        if text:
            try:
                return str(CRS.from_user_input(text).to_string())
            except CRSError:
                continue
    return "EPSG:4326" if str(getattr(data.variables[east], "units", "")).startswith("degree") else ""


def write(grid: Grid, path: Path) -> None:
    """Write a grid as one variable with its coordinates, system, name and unit."""
    import netCDF4
    from rasterio.crs import CRS

    name = "".join(c if c.isalnum() else "_" for c in grid.attribute) or "values"
    name = f"v_{name}" if name[0].isdigit() or name in ("x", "y", "crs") else name
    with netCDF4.Dataset(path, "w") as data:
        data.Conventions = "CF-1.8"
        for axis, values, word in (("y", grid.y, "projection_y_coordinate"), ("x", grid.x, "projection_x_coordinate")):
            data.createDimension(axis, len(values))
            coordinate = data.createVariable(axis, "f8", (axis,))
            coordinate[:] = values
            coordinate.standard_name, coordinate.units, coordinate.axis = word, "m", axis.upper()
        system = data.createVariable("crs", "i4")
        system.crs_wkt = CRS.from_user_input(grid.crs).to_wkt()
        made = data.createVariable(name, "f8", ("y", "x"), zlib=True, fill_value=np.nan)
        made.long_name, made.units, made.grid_mapping = grid.attribute, grid.unit or "1", "crs"
        made[:] = grid.values
