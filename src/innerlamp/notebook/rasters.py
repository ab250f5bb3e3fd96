"""Grids and block models as xarray, with coordinates, units and the system as the CF conventions write it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.errors import InputError
from ..core.geometry.mesh import DrapedMesh, Mesh, TensorMesh, edges_around
from ..core.items.base import Item
from ..core.items.fields import BlockModel, Grid
from . import carried

if TYPE_CHECKING:
    import xarray

_EVEN = 1e-6  # share of a step by which steps may differ


def to_xarray(item: Item) -> xarray.DataArray | xarray.Dataset:
    """Return a grid as an array over (y, x), a block model as a data set over (z, y, x), places in metres.

    The cells of a turned model lie over (w, v, u) in its own frame, with x and y of each column as
    coordinates; a draped one has the elevation of each cell as coordinate z. The system stands in the
    coordinate ``spatial_ref`` as WKT (CF conventions 1.11, appendix F), units in ``units``.

    Raises
    ------
    InputError
        For items of other kinds.
    """
    xr = carried.library("xarray")
    if isinstance(item, Grid):
        array = xr.DataArray(
            np.array(item.values),
            dims=("y", "x"),
            coords={"y": ("y", item.y, _metres("northing")), "x": ("x", item.x, _metres("easting"))},
            name=item.attribute,
            attrs={**_told(item, item.attribute), carried.KEY: carried.as_text(carried.of(item))},
        )
        return _with_system(array, item)
    if isinstance(item, BlockModel):
        return _with_system(_model(xr, item), item)
    raise InputError(f"{item.title.lower()} lie on no grid", where=item.name, fix="Use to_pandas or to_geopandas")


def _model(xr: Any, item: BlockModel) -> Any:
    mesh = item.mesh
    gx, gy = mesh.plan_centres
    own = mesh.is_turned
    dims = ("w", "v", "u") if own else ("z", "y", "x")
    coords: dict[str, Any] = {}
    if own:
        coords |= {"x": (("v", "u"), gx.T, _metres("easting")), "y": (("v", "u"), gy.T, _metres("northing"))}
    else:
        coords |= {"x": ("x", gx[:, 0], _metres("easting")), "y": ("y", gy[0], _metres("northing"))}
    if isinstance(mesh, DrapedMesh):
        dims = ("layer", *dims[1:])
        z = mesh.centres()[:, 2].reshape(mesh.shape)
        coords["z"] = (dims, z.transpose(2, 1, 0), _metres("elevation"))
    elif isinstance(mesh, TensorMesh):
        coords["z"] = (dims[0], mesh.z_centres, _metres("elevation"))
    values = {name: (dims, np.array(v).transpose(2, 1, 0), _told(item, name)) for name, v in item.properties.items()}
    plain, arrays = mesh.taken_apart()
    mesh_told = {"mesh": plain, "arrays": {k: np.asarray(v).tolist() for k, v in arrays.items() if v.ndim == 1}}
    out = xr.Dataset(values, coords=coords)
    out.attrs[carried.KEY] = carried.as_text(carried.of(item, **mesh_told))
    return out


def _metres(name: str) -> dict[str, str]:
    return {"units": "m", "long_name": name}


def _told(item: Item, name: str) -> dict[str, str]:
    attribute = item.attributes[name]
    return {"long_name": name, "units": attribute.unit, "quantity": attribute.quantity, "grid_mapping": "spatial_ref"}


def _with_system(data: Any, item: Item) -> Any:
    from pyproj import CRS

    crs = CRS.from_user_input(item.crs)
    return data.assign_coords(spatial_ref=0).assign_coords(
        spatial_ref=((), 0, {"crs_wkt": crs.to_wkt(), "epsg_code": item.crs})
    )


def from_xarray(data: xarray.DataArray | xarray.Dataset, name: str = "", crs: str = "") -> Grid | BlockModel:
    """Return a grid of an array over even y and x, or a block model of a data set over z, y and x, in metres.

    Northings and elevations may run either way. Cells of a model meet half way between their middles, and the
    outer ones are as wide as their neighbours.

    Raises
    ------
    InputError
        When dimensions are others, a grid's steps differ, or the coordinate system is not known.
    """
    xr = carried.library("xarray")
    told = carried.read(data.attrs.get(carried.KEY))
    code = crs or _system_of(data) or str(told.get("crs", ""))
    code = carried.system(told, code)
    if isinstance(data, xr.Dataset):
        return _blocks(data, told, name, code)
    if set(data.dims) != {"x", "y"}:
        raise InputError(
            f"the array lies over {', '.join(map(str, data.dims))}", fix="A grid lies over y and x; select one layer"
        )
    data = data.transpose("y", "x").sortby("y").sortby("x")
    attribute = str(data.name or "value")
    dx, dy = (_step(data[d].values, d) for d in ("x", "y"))
    unit = str(data.attrs.get("units", ""))
    described = carried.described(told, [attribute])
    quantity = str(data.attrs.get("quantity", described["quantities"].get(attribute, "")))
    return Grid(
        name=name or str(told.get("name", "")) or attribute,
        crs=code,
        values=np.asarray(data.values, dtype=np.float64),
        x0=float(data["x"].values[0]),
        y0=float(data["y"].values[0]),
        dx=dx,
        dy=dy,
        attribute=attribute,
        unit=unit or described["units"].get(attribute, ""),
        quantities={attribute: quantity} if quantity else {},
        roles=described["roles"],
    )


def _blocks(data: Any, told: dict[str, Any], name: str, code: str) -> BlockModel:
    plain, arrays = told.get("mesh"), told.get("arrays", {})
    dims = set(next(iter(data.data_vars.values())).dims) if len(data.data_vars) else set(data.dims)
    if dims == {"w", "v", "u"} and isinstance(plain, dict) and plain.get("mesh") == "TensorMesh":
        mesh = Mesh.put_together(plain, {k: np.asarray(v, dtype=np.float64) for k, v in arrays.items()})
        order: tuple[str, str, str] = ("u", "v", "w")
    elif dims == {"x", "y", "z"}:
        data = data.sortby("x").sortby("y").sortby("z")
        (x0, u), (y0, v), (z0, w) = (_widths(data[d].values, d) for d in ("x", "y", "z"))
        mesh, order = TensorMesh(x0, y0, u, v, 0.0, z0, w), ("x", "y", "z")
    else:
        raise InputError(
            f"the data set lies over {', '.join(sorted(map(str, dims)))}", fix="A block model lies over z, y and x"
        )
    names = [str(n) for n in data.data_vars]
    described = carried.described(told, names)
    units = {n: str(data[n].attrs.get("units", "")) for n in names}
    return BlockModel(
        name=name or str(told.get("name", "")) or "Block model",
        crs=code,
        mesh=mesh,
        properties={n: np.asarray(data[n].transpose(*order).values, dtype=np.float64) for n in names},
        units={n: u for n, u in units.items() if u} or described["units"],
        quantities=described["quantities"],
        roles=described["roles"],
    )


def _system_of(data: Any) -> str:
    if "spatial_ref" not in data.coords:
        return ""
    attrs = data.coords["spatial_ref"].attrs
    return str(attrs.get("epsg_code", "") or attrs.get("crs_wkt", ""))


def _step(values: np.ndarray, name: str) -> float:
    steps = np.diff(np.asarray(values, dtype=np.float64))
    if not len(steps) or steps[0] <= 0 or np.abs(steps - steps.mean()).max() > _EVEN * abs(steps.mean()) + 1e-9:
        raise InputError(f"the steps along {name} are not even", fix="Bring the array to an even grid first: interp")
    return float(steps.mean())


def _widths(middle: np.ndarray, name: str) -> tuple[float, np.ndarray]:
    middle = np.asarray(middle, dtype=np.float64)
    if len(middle) < 2 or (np.diff(middle) <= 0).any():
        raise InputError(f"places along {name} must be two or more and differ")
    edges = edges_around(middle)
    return float(edges[0]), np.diff(edges)
