"""Samples in files of map features: rows as those of a table, in the system that the file names."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pyogrio
import pytest
import shapely
from pyproj import Transformer

from innerlamp.api import Project
from innerlamp.core.errors import InputError
from innerlamp.core.importing import offers
from innerlamp.core.items.features import Features
from innerlamp.core.items.points import PointSet

ENDINGS = [".shp", ".gpkg", ".geojson"]
DRIVER = {".shp": "ESRI Shapefile", ".gpkg": "GPKG", ".geojson": "GeoJSON"}
EAST, NORTH = 402_000.0 + 50.0 * np.arange(6), 7_502_000.0 + 20.0 * np.arange(6) ** 2


def written(
    path: Path, geometry: np.ndarray, kind: str, fields: dict[str, list[object]], crs: str, **more: str
) -> Path:
    pyogrio.raw.write(
        path,
        shapely.to_wkb(geometry),
        [np.array(v, dtype=object if isinstance(v[0], str) else None) for v in fields.values()],
        list(fields),
        geometry_type=kind,
        crs=crs,
        driver=DRIVER[path.suffix],
        **more,
    )
    return path


def soils(path: Path, **more: str) -> Path:
    """Soils of the Andes, written in degrees, with what laboratories write for too little."""
    degrees = Transformer.from_crs("EPSG:32719", "EPSG:4326", always_xy=True).transform(EAST, NORTH)
    fields: dict[str, list[object]] = {
        "MUESTRA": [f"S{k}" for k in range(6)],
        "Au_ppb": ["<5", "12", "7", "1200", "", "8"],
        "Cu_ppm": [10.0, 20.0, 30.0, 40.0, 50.0, 60.0],
    }
    return written(path, shapely.points(*degrees), "Point", fields, "EPSG:4326", **more)


@pytest.mark.parametrize("ending", ENDINGS)
def test_samples_of_a_map_file_are_samples(tmp_path: Path, ending: str) -> None:
    path = soils(tmp_path / f"suelos{ending}")
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        (offer,) = project.looked_at([path])
        assert (offer.kind, offer.why) == ("samples", f"{ending[1:].upper()} layer of points with grades")
        assert "features" in offer.fits
        (made,) = project.bring([path])
        item = project[made]
    assert isinstance(item, PointSet)
    table = item.table
    np.testing.assert_allclose(table[["x", "y"]], np.column_stack([EAST, NORTH]), atol=0.02)  # 1e-7 degrees in a file
    assert table["Au_ppb"].tolist()[:4] == [2.5, 12.0, 7.0, 1200.0]  # below detection as in any table
    assert np.isnan(table["Au_ppb"][4])
    assert table["Cu_ppm"].tolist() == [10.0, 20.0, 30.0, 40.0, 50.0, 60.0]
    assert item.units["Au_ppb"] == "ppb"
    assert table["file_line"].tolist() == [1, 2, 3, 4, 5, 6]


def test_they_are_map_features_when_that_is_chosen(tmp_path: Path) -> None:
    path = soils(tmp_path / "suelos.gpkg")
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        chosen = offers.said_otherwise(project.looked_at([path]), [f"{path.name}=features"])
        (made,) = project.bring(chosen)
        assert isinstance(project[made], Features)


def test_layers_of_one_file_are_each_what_they_are(tmp_path: Path) -> None:
    path = soils(tmp_path / "todo.gpkg", layer="suelos")
    line = np.array([shapely.linestrings([[402000, 7502000], [402500, 7502500]])])
    written(path, line, "LineString", {"falla": ["F1"]}, "EPSG:32719", layer="fallas", append="YES")
    names = {o.label: o.kind for o in offers.offers_of(path)}
    assert names == {"todo.gpkg · suelos": "samples", "todo.gpkg · fallas": "features"}


def test_heights_and_several_points_of_one_feature_are_rows(tmp_path: Path) -> None:
    places = [[402000, 7502000, 4100.5], [402010, 7502000, 4101.0], [402020, 7502010, 4102.0]]
    shapes = np.array([shapely.multipoints(places[:2]), shapely.multipoints(places[2:])])
    path = written(tmp_path / "many.gpkg", shapes, "MultiPoint Z", {"Sn_ppm": [5.0, 9.0]}, "EPSG:32719")
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        item = project[project.run("import-points", file=str(path))["points"]]
    assert isinstance(item, PointSet)
    assert item.table["z"].tolist() == [4100.5, 4101.0, 4102.0]
    assert item.table["Sn_ppm"].tolist() == [5.0, 5.0, 9.0]


def test_lines_are_no_rows_and_the_sentence_says_what_to_do(tmp_path: Path) -> None:
    line = np.array([shapely.linestrings([[402000, 7502000], [402500, 7502500]])])
    path = written(tmp_path / "l.geojson", line, "LineString", {"Au_ppm": [1.0]}, "EPSG:32719")
    with (
        Project.create(tmp_path / "p.lamp", "EPSG:32719") as project,
        pytest.raises(InputError, match=r"lines or polygons.*Bring it in as map features"),
    ):
        project.run("import-points", file=str(path))


def test_a_field_of_another_system_does_not_win_over_the_place(tmp_path: Path) -> None:
    fields: dict[str, list[object]] = {"X": [1.0, 2.0], "Y": [3.0, 4.0], "Au_ppm": [0.1, 0.2]}
    path = written(tmp_path / "a.shp", shapely.points(EAST[:2], NORTH[:2]), "Point", fields, "EPSG:32719")
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        item = project[project.bring([path])[0]]
    assert isinstance(item, PointSet)
    pd.testing.assert_series_equal(item.table["x"], pd.Series(EAST[:2], name="x"))
