"""Coordinate systems that files speak for: codes and zones of the EPSG register as pyproj ships it."""

from __future__ import annotations

from pathlib import Path

import netCDF4
import numpy as np
import pyogrio
import pyproj
import pytest
import rasterio
import shapely
from pyproj.aoi import AreaOfInterest
from pyproj.database import query_utm_crs_info
from rasterio.transform import from_origin

from innerlamp.cli import main
from innerlamp.core.errors import InputError
from innerlamp.core.importing.systems_proposed import proposed_systems


def _raster(path: Path, crs: str | None, west: float, north: float, step: float) -> Path:
    place = from_origin(west, north, step, step)
    shape = {"width": 4, "height": 3, "count": 1, "dtype": "float32"}
    with rasterio.open(path, "w", driver="GTiff", transform=place, crs=crs, **shape) as out:
        out.write(np.ones((1, 3, 4), dtype="float32"))
    return path


def _utm_of(lon: float, lat: float) -> str:
    area = AreaOfInterest(lon, lat, lon, lat)
    return f"EPSG:{query_utm_crs_info(datum_name='WGS 84', area_of_interest=area)[0].code}"


def test_files_name_their_system_and_the_most_named_stands_first(tmp_path: Path) -> None:
    _raster(tmp_path / "a.tif", "EPSG:3006", 600_000, 7_200_000, 50.0)
    _raster(tmp_path / "b.tif", "EPSG:32719", 402_000, 7_502_000, 50.0)
    pyogrio.raw.write(
        tmp_path / "c.gpkg",
        shapely.to_wkb(np.array([shapely.Point(600_100, 7_200_100)], dtype=object)),
        [np.array(["a"], dtype=object)],
        ["name"],
        geometry_type="Point",
        crs="EPSG:3006",
    )
    (tmp_path / "d.csv").write_text("x,y,Cu\n1,2,3\n")
    found = proposed_systems([tmp_path])
    assert [p.code for p in found] == ["EPSG:3006", "EPSG:32719"]
    assert found[0].words == "EPSG:3006 · SWEREF99 TM · named by a.tif and 1 more file"


@pytest.mark.parametrize(("lon", "lat"), [(-70.3, -22.4), (25.1, 67.9), (179.5, -41.0), (-179.5, 12.0), (3.2, 0.4)])
def test_degrees_speak_for_the_zone_of_their_place(tmp_path: Path, lon: float, lat: float) -> None:
    expected = _utm_of(lon, lat)  # by the register's areas of use
    (tmp_path / "english.csv").write_text(f"Sample,Longitude,Latitude,Cu\na,{lon},{lat},3\nb,{lon},{lat},\n")
    comma = f"{lon};{lat}".replace(".", ",")
    (tmp_path / "spanish.csv").write_text(f"Muestra;Longitud;Latitud;Cu\na;{comma};3,5\nb;{comma};4,5\n")
    (tmp_path / "german.csv").write_text(f"Probe;Länge;Breite;Cu\na;{comma};3,5\nb;{comma};4,5\n", "utf-8")
    _raster(tmp_path / "dem.tif", "EPSG:4326", lon - 0.002, lat + 0.0015, 0.001)
    (tmp_path / "p.geojson").write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{},'
        f'"geometry":{{"type":"Point","coordinates":[{lon},{lat}]}}}}]}}'
    )
    with netCDF4.Dataset(tmp_path / "g.nc", "w") as data:
        for name, middle in (("lon", lon), ("lat", lat)):
            data.createDimension(name, 3)
            axis = data.createVariable(name, "f8", (name,))
            axis.units = "degrees_east" if name == "lon" else "degrees_north"
            axis[:] = middle + np.array([-0.001, 0.0, 0.001])
        data.createVariable("mag", "f4", ("lat", "lon"))[:] = 1.0
    found = proposed_systems([tmp_path])
    assert [p.code for p in found] == [expected]
    assert found[0].why == "zone of the place in dem.tif and 5 more files"
    assert pyproj.CRS(found[0].code).is_projected


def test_codes_and_zones_written_in_text_and_systems_in_feet(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("# EPSG:32719\nx,y,Cu\n402000,7502000,1\n")
    (tmp_path / "b.csv").write_text("Hole,Este UTM 19S,Norte UTM 19S\nA1,402000,7502000\n")
    assert [(p.code, p.why) for p in proposed_systems([tmp_path])] == [("EPSG:32719", "named by a.csv and 1 more file")]
    # Texas Central in US feet (EPSG:2277): projects are kept in metres, so its place's zone is proposed.
    feet = _raster(tmp_path / "c.tif", "EPSG:2277", 3_100_000, 10_070_000, 100.0)
    assert [p.code for p in proposed_systems([feet])] == [_utm_of(-97.75, 30.27)]


def test_what_speaks_for_none_and_what_is_not_there(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng = np.random.default_rng(5)
    for name in ("a.tif", "b.nc", "c.gpkg", "d.shp", "e.xlsx", "f.csv", "g.geojson", "h.asc"):
        (tmp_path / name).write_bytes(rng.bytes(900))
    (tmp_path / "metres.geojson").write_text('{"type":"Point","coordinates":[502000,5600000]}')
    (tmp_path / "empty.csv").write_text("")
    (tmp_path / "code.csv").write_text("EPSG:99999\nx,y\n1,2\n")
    assert proposed_systems([tmp_path]) == []
    with pytest.raises(InputError, match="no such file"):
        proposed_systems([tmp_path / "nothing"])
    assert main(["systems", str(tmp_path)]) == 1
    assert "name no place" in capsys.readouterr().out
    assert main(["systems", "UTM", "19S"]) == 0
    assert capsys.readouterr().out.startswith("EPSG:32719 · WGS 84 / UTM zone 19S")
