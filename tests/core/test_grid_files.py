"""Grid files: values, places, sizes, units and blanks after a round trip, and as rasterio and netCDF4 read and write them."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import netCDF4
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.formats.grids.grid_files import read_grid
from innerlamp.core.items.fields import Grid
from innerlamp.core.progress import SILENT
from innerlamp.core.running.errands import export
from innerlamp.core.running.table import OPERATIONS

from ..scale import LONG

CRS = "EPSG:32719"
E, N = 412_345.678, 7_388_123.456


def grid(cell: float = 25.0, ny: int = 37, nx: int = 53) -> Grid:
    values = np.random.default_rng(0).normal(4000.0, 120.0, (ny, nx))
    values[3, 4] = values[0, 0] = np.nan
    return Grid(name="g", crs=CRS, values=values, x0=E, y0=N, dx=cell, dy=cell, attribute="Cu", unit="ppm")


def brought_in(path: Path, **params: object) -> Grid:
    op = OPERATIONS["import-grid"]
    made = op.run(Inputs({}, CRS), op.check({"file": str(path), **params}), SILENT)["grid"]
    assert isinstance(made, Grid)
    return made


@pytest.mark.parametrize("cell", [1 / 3, 12.3456789, 33.3333, 50.0])
@pytest.mark.parametrize("ending", [".nc", ".xyz", ".tif", ".asc"])
def test_grids_come_back_to_the_same_cells(tmp_path: Path, ending: str, cell: float) -> None:
    whole = grid(cell, *((300, 410) if LONG else (60, 82)))
    (path,) = export(whole, tmp_path / f"g{ending}")
    back = read_grid(path)
    assert back.values.shape == whole.values.shape
    assert (back.x0, back.y0) == pytest.approx((E, N), abs=2e-6 if ending == ".xyz" else 1e-8)
    assert (back.dx, back.dy) == pytest.approx((cell, cell), rel=1e-8 if LONG or ending != ".xyz" else 1e-7)
    assert np.array_equal(np.isnan(back.values), np.isnan(whole.values))
    assert back.values == pytest.approx(whole.values, rel=1e-11 if ending == ".xyz" else 1e-15, nan_ok=True)
    if ending in (".nc", ".tif"):
        assert back.unit == "ppm"
        assert back.crs == CRS


def test_oblong_cells_come_back_where_the_format_has_them(tmp_path: Path) -> None:
    oblong = dataclasses.replace(grid(), dy=40.0)
    for ending in (".nc", ".xyz", ".tif"):
        back = read_grid(export(oblong, tmp_path / f"o{ending}")[0])
        assert (back.dx, back.dy) == pytest.approx((25.0, 40.0))
        assert back.values == pytest.approx(oblong.values, nan_ok=True)


def test_netcdf_is_read_by_its_own_library(tmp_path: Path) -> None:
    (path,) = export(grid(), tmp_path / "g.nc")
    with netCDF4.Dataset(path) as data:
        assert data["Cu"].units == "ppm"
        assert data["x"][:2].tolist() == pytest.approx([E, E + 25.0])
        assert data["Cu"][1, 2] == grid().values[1, 2]


def geotiff(path: Path, values: np.ndarray, **more: object) -> Path:
    profile: dict[str, object] = {
        "driver": "GTiff",
        "height": values.shape[-2],
        "width": values.shape[-1],
        "count": 1,
        "dtype": values.dtype,
    }
    with rasterio.open(
        path, "w", **{**profile, "crs": CRS, "transform": from_origin(1000.0, 2000.0, 10.0, 10.0), **more}
    ) as out:
        out.write(values if values.ndim == 3 else values[None])
    return path


def test_scale_and_offset_of_a_band_are_applied(tmp_path: Path) -> None:
    path = geotiff(tmp_path / "s.tif", np.array([[1, 2], [3, -999]], dtype="int16"), nodata=-999)
    with rasterio.open(path, "r+") as band:
        band.scales, band.offsets, band.units = (0.5,), (100.0,), ("ft",)
    back = read_grid(path)
    assert back.values.tolist()[1] == [100.5, 101.0]  # the northern row of the file
    assert back.values[0, 0] == 101.5 and np.isnan(back.values[0, 1])
    made = brought_in(path, attribute="elevation")
    assert made.values[1] == pytest.approx([100.5 * 0.3048, 101.0 * 0.3048])  # feet of 1959
    assert (made.unit, made.is_ground) == ("m", True)
    assert brought_in(path, attribute="Cu", unit="ppm").values[1].tolist() == [100.5, 101.0]
    with pytest.raises(InputError, match="is no length"):
        brought_in(path, attribute="elevation", unit="ppm", quantity="elevation")


def test_pixel_is_point_and_pixel_is_area(tmp_path: Path) -> None:
    values = np.arange(6.0).reshape(2, 3)
    for kind in ("Area", "Point"):
        path = geotiff(tmp_path / f"{kind}.tif", values)
        with rasterio.open(path, "r+") as out:
            out.update_tags(AREA_OR_POINT=kind)
        with rasterio.open(path) as theirs:
            centre = theirs.xy(1, 0)
        back = read_grid(path)
        assert (back.x0, back.y0) == pytest.approx(centre)


def test_a_file_that_runs_from_the_south_is_not_upside_down(tmp_path: Path) -> None:
    values = np.arange(6.0).reshape(2, 3)
    path = geotiff(tmp_path / "u.tif", values, transform=rasterio.Affine(10.0, 0, 1000.0, 0, 10.0, 2000.0))
    back = read_grid(path)
    assert back.values.tolist() == values.tolist()
    assert (back.x0, back.y0) == (1005.0, 2005.0)


@pytest.mark.filterwarnings("ignore::rasterio.errors.NotGeoreferencedWarning")
def test_a_picture_without_a_place_is_refused_and_a_world_file_gives_one(tmp_path: Path) -> None:
    path = geotiff(tmp_path / "n.tif", np.zeros((3, 4)), crs=None, transform=None)
    with pytest.raises(InputError, match=r"does not say where it lies.*\.tfw"):
        read_grid(path)
    (tmp_path / "m.tif").write_bytes(path.read_bytes())
    (tmp_path / "m.tfw").write_text("10\n0\n0\n-10\n1005\n1995\n")
    assert read_grid(tmp_path / "m.tif")[1:3] == (1005.0, 1975.0)


def test_several_bands_are_asked_about(tmp_path: Path) -> None:
    path = geotiff(tmp_path / "b.tif", np.stack([np.zeros((3, 4)), np.ones((3, 4))]), count=2)
    with pytest.raises(InputError, match="2 bands"):
        read_grid(path)
    assert (read_grid(path, "2").values == 1.0).all()
    with pytest.raises(InputError, match="no band 'x'"):
        read_grid(path, "x")


def netcdf(path: Path, flip: bool = False, kind: str = "f8", **more: np.ndarray) -> Path:
    """A file with bare coordinates, as many programs write it."""
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("x", 5)
        data.createDimension("y", 4)
        x, y = data.createVariable("x", "f8", ("x",)), data.createVariable("y", "f8", ("y",))
        x[:] = 412_000.0 + 20.0 * np.arange(5)
        north = 7_388_000.0 + 30.0 * np.arange(4)
        y[:] = north[::-1] if flip else north
        for name, values in more.items():
            if values.ndim == 3 and "time" not in data.dimensions:
                data.createDimension("time", len(values))
            variable = data.createVariable(name, kind, ("time", "y", "x")[-values.ndim :], fill_value=-999)
            if kind == "i2":
                variable.scale_factor, variable.add_offset, variable.units = 0.5, 100.0, "ft"
            variable[:] = values
    return path


def test_netcdf_with_bare_coordinates_lies_where_they_say(tmp_path: Path) -> None:
    values = np.arange(20.0).reshape(4, 5)
    for flip in (False, True):
        back = read_grid(netcdf(tmp_path / f"{flip}.nc", flip, Cu=values[::-1] if flip else values))
        assert (back.x0, back.y0, back.dx, back.dy) == (412_000.0, 7_388_000.0, 20.0, 30.0)
        assert back.values.tolist() == values.tolist()


def test_packed_netcdf_is_unpacked(tmp_path: Path) -> None:
    values = 100.0 + 0.5 * np.arange(20.0).reshape(4, 5)
    back = read_grid(netcdf(tmp_path / "p.nc", kind="i2", dem=values))
    assert back.values.tolist() == values.tolist()
    assert back.unit == "ft"
    assert brought_in(tmp_path / "p.nc", attribute="elevation").values == pytest.approx(values * 0.3048)


def test_several_variables_and_slices_are_asked_about(tmp_path: Path) -> None:
    path = netcdf(tmp_path / "v.nc", a=np.zeros((4, 5)), b=np.ones((4, 5)))
    with pytest.raises(InputError, match=r"2 variables.*Name one: a, b"):
        read_grid(path)
    assert (brought_in(path, attribute="b", layer="b").values == 1.0).all()
    path = netcdf(tmp_path / "t.nc", c=np.stack([np.full((4, 5), k) for k in range(3)]).astype(float))
    with pytest.raises(InputError, match=r"3 slices along time.*1 to 3"):
        read_grid(path)
    assert (read_grid(path, "", "3").values == 2.0).all()


def test_a_heading_tells_the_unit_of_an_xyz(tmp_path: Path) -> None:
    lines = ["x y z_ft"] + [f"{412000 + 10 * i} {7388000 + 10 * j} {1000 + i}" for i in range(4) for j in range(3)]
    (tmp_path / "f.xyz").write_text("\n".join(lines))
    made = brought_in(tmp_path / "f.xyz", attribute="elevation")
    assert made.values[0] == pytest.approx(0.3048 * np.arange(1000, 1004))


def test_damaged_files_are_refused_in_words(tmp_path: Path) -> None:
    good = netcdf(tmp_path / "g.nc", Cu=np.zeros((4, 5))).read_bytes()
    for cut in (9, 200, len(good) // 2):
        (tmp_path / "c.nc").write_bytes(good[:cut])
        with pytest.raises(InputError):
            read_grid(tmp_path / "c.nc")
    with netCDF4.Dataset(tmp_path / "e.nc", "w") as data:
        data.createDimension("k", 3)
        data.createVariable("v", "f8", ("k",))[:] = 0
    with pytest.raises(InputError, match="no variable lies on"):
        read_grid(tmp_path / "e.nc")
