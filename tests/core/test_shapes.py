"""Map features, surfaces, grids and block models: written by us, read by others, read back by us, and the other way round."""

from __future__ import annotations

import json
import warnings
from pathlib import Path
from typing import Any

import ezdxf
import meshio
import netCDF4
import numpy as np
import pandas as pd
import pyogrio
import pyproj
import pytest
import rasterio
import rasterio.transform
import shapely
from pytest import approx

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.formats.grids.grid_files import read_grid
from innerlamp.core.formats.shapes.features import shapes_of
from innerlamp.core.formats.table import export
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.base import Item
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"
E, N = 502_000.0, 5_601_000.0
SQUARE = shapely.Polygon(
    [(E, N), (E + 100, N), (E + 100, N + 100), (E, N + 100)], [[(E + 40, N + 40), (E + 60, N + 40), (E + 60, N + 60)]]
)
SHAPES = [
    SQUARE,
    shapely.LineString([(E - 50, N, 10.0), (E + 300, N + 20, 20.0)]),
    shapely.Point(E + 5, N + 6),
    shapely.MultiPolygon([shapely.box(E + 200, N, E + 220, N + 20), shapely.box(E + 230, N, E + 250, N + 20)]),
]


def run(operation: str, **params: object) -> Item:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs({}, CRS), op.check(params), SILENT).values()))


def geojson(path: Path, shapes: list[Any], crs: str | None = "urn:ogc:def:crs:EPSG::32629") -> Path:
    features = [
        {
            "type": "Feature",
            "properties": {"unit": f"u{k % 2}", "age": k},
            "geometry": json.loads(shapely.to_geojson(s)),
        }
        for k, s in enumerate(shapes)
    ]
    data: dict[str, Any] = {"type": "FeatureCollection", "features": features}
    if crs:
        data["crs"] = {"type": "name", "properties": {"name": crs}}
    path.write_text(json.dumps(data))
    return path


@pytest.fixture
def mixed(tmp_path: Path) -> Features:
    made = run("import-features", file=str(geojson(tmp_path / "mixed.geojson", SHAPES)))
    assert isinstance(made, Features)
    return made


# ---- features


def test_features_come_in_with_holes_parts_and_attributes(mixed: Features) -> None:
    assert mixed.facts == {"Features": "4", "Points": "1", "Lines": "1", "Polygons": "3"}
    assert mixed.table["age"].tolist() == [0.0, 1.0, 2.0, 3.0]
    back = shapes_of(mixed)
    assert all(a.equals(b) for a, b in zip(SHAPES, back, strict=True))
    assert back[0].area == approx(10_000 - 200)  # the hole is cut out
    assert shapely.get_coordinates(back[1], include_z=True)[1, 2] == 20.0


@pytest.mark.parametrize("ending", [".gpkg", ".geojson", ".shp"])
def test_features_are_read_by_another_reader_and_by_us(mixed: Features, tmp_path: Path, ending: str) -> None:
    files = [f for f in export(mixed, tmp_path / f"out{ending}") if f.suffix == ending]
    total = 0
    for file in files:
        meta, _, wkb, _data = pyogrio.raw.read(file)
        total += len(wkb)
        assert list(meta["fields"]) == ["unit", "age"]
        if ending == ".geojson":
            assert shapely.from_wkb(wkb)[2].x == approx(-9 + 0.0281, abs=0.01)  # RFC 7946: degrees
        else:
            assert pyproj.CRS(meta["crs"]).to_epsg() == 32629
        again = run("import-features", file=str(file))
        assert isinstance(again, Features)
        for row, shape in enumerate(shapes_of(again)):
            match = SHAPES[int(again.table["age"].iloc[row])]
            assert shape.hausdorff_distance(match) < 1e-3
    assert total == 4
    assert len(files) == (3 if ending == ".shp" else 1)  # a Shapefile holds one kind of geometry


def test_degrees_are_turned_into_the_projects_metres_like_pyproj_does(tmp_path: Path) -> None:
    degrees = shapely.transform(
        np.array(SHAPES[:1]),
        lambda xy: np.column_stack(pyproj.Transformer.from_crs(CRS, "EPSG:4326", always_xy=True).transform(*xy.T)),
    )
    made = run("import-features", file=str(geojson(tmp_path / "deg.geojson", list(degrees), None)))
    assert isinstance(made, Features)
    assert shapes_of(made)[0].hausdorff_distance(SQUARE) < 1e-3
    assert made.findings["done"].str.contains("turned into").any()


def test_the_geological_map_of_the_demo_covers_its_ground() -> None:
    made = run("import-features", file=str(FILES / "geology" / "geological_map.geojson"))
    assert isinstance(made, Features)
    theirs = shapely.from_wkb(pyogrio.raw.read(FILES / "geology" / "geological_map.geojson")[2])
    assert sum(s.area for s in shapes_of(made)) == approx(shapely.area(theirs).sum())
    assert {"Slate", "fault"} <= set(made.table["unit"])


def test_drawings_go_out_and_come_in_through_ezdxf(mixed: Features, tmp_path: Path) -> None:
    (path,) = export(mixed, tmp_path / "out.dxf")
    doc = ezdxf.readfile(path)  # type: ignore[attr-defined]
    assert doc.audit().errors == []
    assert {e.dxf.layer for e in doc.modelspace()} == {"u0", "u1"}
    made = run("import-features", file=str(path))
    assert isinstance(made, Features)
    assert shapely.union_all(shapes_of(made)).area == approx(
        SQUARE.exterior.envelope.area + 800
    )  # rings, each a polygon
    text = ezdxf.new()  # type: ignore[attr-defined]
    text.modelspace().add_text("words")
    text.saveas(tmp_path / "words.dxf")
    with pytest.raises(InputError, match="no points, lines or polygons"):
        run("import-features", file=str(tmp_path / "words.dxf"))


def test_layers_want_a_name_and_broken_files_are_refused(mixed: Features, tmp_path: Path) -> None:
    path = tmp_path / "two.gpkg"
    for layer in ("north", "south"):
        pyogrio.raw.write(
            path,
            shapely.to_wkb(np.array([SQUARE])),
            [np.array(["a"], dtype=object)],
            ["unit"],
            layer=layer,
            crs=CRS,
            geometry_type="Polygon",
            append=path.exists(),
        )
    with pytest.raises(InputError, match=r"2 layers\. Name one: two.gpkg#north"):
        run("import-features", file=str(path))
    assert isinstance(run("import-features", file=f"{path}#south"), Features)
    for name, data in (("a.gpkg", b"SQLite format 3\0junk"), ("b.geojson", b"{"), ("c.dxf", b"0\nSECTION\n")):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(LampError):
            run("import-features", file=str(tmp_path / name))


# ---- surfaces


def tetrahedron() -> Surface:
    far = np.array([E, N, 100.0])
    corners = np.array([[0.0, 0, 0], [6, 0, 0], [0, 6, 0], [0, 0, 6]]) + far
    triangles = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    return Surface(name="s", crs=CRS, vertices=corners, triangles=triangles, closed=True, volume_m3=36.0)


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl", ".dxf"])
def test_surfaces_stay_closed_and_keep_their_volume(tmp_path: Path, ending: str) -> None:
    (path,) = export(tetrahedron(), tmp_path / f"s{ending}")
    made = run("import-surface", file=str(path))
    assert isinstance(made, Surface)
    assert made.closed
    assert made.volume_m3 == approx(36.0, rel=1e-6)
    if ending in (".ply", ".stl", ".obj"):
        with warnings.catch_warnings(action="ignore"):  # meshio counts in uint32 to tell text from binary
            theirs = meshio.read(path)
        assert sum(len(b.data) for b in theirs.cells) == 4
        assert np.asarray(theirs.points).min(axis=0) == approx([E, N, 100.0])
    else:
        assert len(ezdxf.readfile(path).modelspace().query("3DFACE")) == 4  # type: ignore[attr-defined]


def test_points_become_triangles_over_their_plan(tmp_path: Path) -> None:
    rng = np.random.default_rng(0)
    xy = rng.uniform(0, 1000, (400, 2))
    table = pd.DataFrame({"East": E + xy[:, 0], "North": N + xy[:, 1], "RL": 0.1 * xy[:, 0] - 0.05 * xy[:, 1]})
    table.to_csv(tmp_path / "p.csv", index=False)
    made = run("import-surface", file=str(tmp_path / "p.csv"))
    assert isinstance(made, Surface)
    a, b, c = (made.vertices[made.triangles[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    assert normals[:, 2].sum() / 2 == approx(shapely.MultiPoint(xy).convex_hull.area, rel=1e-3)
    assert (normals / normals[:, 2:])[:, :2] == approx(
        np.tile([-0.1, 0.05], (len(normals), 1)), abs=1e-6
    )  # a plane stays one
    fewer = run("import-surface", file=str(tmp_path / "p.csv"), longest=120.0)
    assert isinstance(fewer, Surface)
    assert 0 < len(fewer.triangles) < len(made.triangles)
    table.assign(North=N).to_csv(tmp_path / "line.csv", index=False)
    with pytest.raises(InputError, match="one line"):
        run("import-surface", file=str(tmp_path / "line.csv"))


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("a.obj", "v 1 2\nf 1 1 1\n"),
        ("b.obj", "v 0 0 0\nf 1 2 9\n"),
        ("c.ply", "ply\nnonsense\n"),
        ("d.stl", "solid\n"),
        ("e.dxf", "0\nEOF\n"),
    ],
)
def test_broken_surfaces_are_refused_in_words(tmp_path: Path, name: str, data: str) -> None:
    (tmp_path / name).write_text(data)
    with pytest.raises(LampError):
        run("import-surface", file=str(tmp_path / name))


# ---- grids and block models


def grid() -> Grid:
    values = np.arange(12.0).reshape(3, 4) + 0.25
    values[1, 2] = np.nan
    return Grid(name="g", crs=CRS, values=values, x0=E, y0=N, dx=50.0, dy=50.0, attribute="Sn", unit="ppm")


@pytest.mark.parametrize("ending", [".nc", ".xyz", ".tif", ".asc"])
def test_grids_come_back_as_they_went(tmp_path: Path, ending: str) -> None:
    (path,) = export(grid(), tmp_path / f"g{ending}")
    values, x0, y0, dx, dy, crs = read_grid(path)[:6]
    assert (x0, y0, dx, dy) == approx((E, N, 50.0, 50.0))
    assert np.array_equal(values, grid().values, equal_nan=True)
    if ending in (".nc", ".tif"):
        assert pyproj.CRS(crs).to_epsg() == 32629
    if ending == ".nc":
        with netCDF4.Dataset(path) as data:
            assert data.Conventions.startswith("CF")
            assert np.asarray(data["x"][:]) == approx(E + 50.0 * np.arange(4))
            band = next(v for v in data.variables.values() if v.ndim == 2)
            found = np.ma.filled(band[:].astype(float), np.nan)
            assert np.nansum(found) == approx(np.nansum(grid().values))
    if ending == ".xyz":
        rows = pd.read_csv(path, sep=" ")
        assert len(rows) == 11
        with rasterio.open(tmp_path / "g.xyz") as source:
            assert source.width == 4


@pytest.mark.parametrize("source", ["EPSG:32630", "EPSG:4326"])
def test_grids_in_another_system_are_turned_like_pyproj_turns_places(tmp_path: Path, source: str) -> None:
    # Values are a plane in the source's own coordinates, so every cell tells where it came from.
    turn = pyproj.Transformer.from_crs(CRS, source, always_xy=True)
    west, south = turn.transform(E, N)
    step = 50.0 if source == "EPSG:32630" else 0.0005
    gx, gy = np.meshgrid(west + step * np.arange(60), south + step * np.arange(50))
    path = tmp_path / "other.tif"
    transform = rasterio.transform.from_origin(west - step / 2, south + step * 49.5, step, step)
    with rasterio.open(
        path, "w", driver="GTiff", width=60, height=50, count=1, dtype="float64", crs=source, transform=transform
    ) as out:
        out.write((gx - west + 2 * (gy - south))[::-1], 1)
    made = run("import-grid", file=str(path))
    assert isinstance(made, Grid)
    cx, cy = np.meshgrid(made.x, made.y)
    sx, sy = turn.transform(cx, cy)
    known = np.isfinite(made.values)
    assert known.sum() > 1500
    inner = (
        known & (sx > west + 2 * step) & (sx < west + 57 * step) & (sy > south + 2 * step) & (sy < south + 47 * step)
    )
    assert made.values[inner] == approx((sx - west + 2 * (sy - south))[inner], abs=0.02 * step)


def test_scattered_xyz_is_no_grid(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    np.savetxt(tmp_path / "s.xyz", rng.uniform(0, 100, (30, 3)), header="x y z", comments="")
    with pytest.raises(InputError, match=r"not on a regular lattice\. Import it as samples"):
        read_grid(tmp_path / "s.xyz")


def test_block_models_come_back_cell_by_cell(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    box = rng.uniform(0, 1, (4, 3, 5))
    box[0, 0] = np.nan
    model = BlockModel(
        name="m",
        crs=CRS,
        mesh=TensorMesh.even((E, N, -50.0), (20.0, 10.0, 5.0), (4, 3, 5)),
        properties={"k": box},
        units={"k": "SI"},
    )
    (path,) = export(model, tmp_path / "m.csv")
    made = run("import-blocks", file=str(path))
    assert isinstance(made, BlockModel)
    assert isinstance(made.mesh, TensorMesh)
    assert (made.mesh.x0, made.mesh.y0, made.mesh.z0, *made.mesh.step) == approx((E, N, -50.0, 20.0, 10.0, 5.0))
    assert made.shape == (4, 3, 5)
    assert np.allclose(made.properties["k"], box, equal_nan=True)
    table = pd.read_csv(path)
    table.loc[3, "x"] += 3.0
    table.to_csv(tmp_path / "off.csv", index=False)
    with pytest.raises(InputError, match="regular lattice"):
        run("import-blocks", file=str(tmp_path / "off.csv"))
