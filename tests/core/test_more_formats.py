"""VTK files, Open Mining Format, pictures, workbooks, databases and logs: written here, read back by others, and the other way."""

from __future__ import annotations

import base64
import sqlite3
import warnings
import zlib
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.formats.grids import pictures
from innerlamp.core.formats.shapes import mining, vtk_items, vtkxml
from innerlamp.core.formats.table import export, export_together
from innerlamp.core.formats.tables import tables_in
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.base import Item
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.picture import Picture
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"


def run(operation: str, **params: object) -> Item:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs({}, CRS), op.check(params), SILENT).values()))


@pytest.fixture(scope="module")
def blocks() -> BlockModel:
    rng = np.random.default_rng(5)
    values = rng.normal(size=(4, 3, 5))
    values[0, 0, 4] = np.nan
    return BlockModel(
        name="Model",
        crs=CRS,
        mesh=TensorMesh.even((503000.25, 7_000_000.5, -12.5), (10.0, 20.0, 5.0), (4, 3, 5)),
        properties={"Cu_pct": values, "density": values + 3},
        units={"Cu_pct": "%", "density": ""},
    )


@pytest.fixture(scope="module")
def surface() -> Surface:
    corners = np.array([[0.0, 0, 0], [10, 0, 0], [0, 10, 0], [0, 0, 10]]) + np.array([503000.125, 7_000_000.25, 300.5])
    return Surface(
        name="Body",
        crs=CRS,
        vertices=corners,
        triangles=np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], dtype=np.int32),
        closed=True,
    )


@pytest.fixture(scope="module")
def holes() -> HoleSet:
    folder = FILES / "drilling"
    made = run(
        "import-holes",
        collar=str(folder / "collars.csv"),
        survey=str(folder / "downhole_surveys.csv"),
        assay=str(folder / "assays.csv"),
        lithology=str(folder / "geology_log.csv"),
    )
    assert isinstance(made, HoleSet)
    return made


def same_blocks(a: BlockModel, b: Item) -> None:
    assert isinstance(b, BlockModel)
    assert a.shape == b.shape
    assert isinstance(a.mesh, TensorMesh) and isinstance(b.mesh, TensorMesh)
    assert a.mesh.bounds == pytest.approx(b.mesh.bounds)
    assert a.mesh.step == pytest.approx(b.mesh.step)
    for name, values in a.properties.items():
        assert b.properties[name] == pytest.approx(values, nan_ok=True)


# ---- VTK, against VTK's own reader and writer


def vtk_arrays(path: Path) -> object:
    from vtkmodules import vtkIOXML

    reader = {
        ".vtp": vtkIOXML.vtkXMLPolyDataReader,
        ".vti": vtkIOXML.vtkXMLImageDataReader,
        ".vtr": vtkIOXML.vtkXMLRectilinearGridReader,
        ".vtu": vtkIOXML.vtkXMLUnstructuredGridReader,
    }[path.suffix]()
    reader.SetFileName(str(path))
    reader.Update()
    return reader.GetOutput()


@pytest.mark.parametrize("ending", [".vti", ".vtr", ".vtu"])
def test_block_models_are_read_by_vtk_and_come_back(blocks: BlockModel, tmp_path: Path, ending: str) -> None:
    from vtkmodules.util.numpy_support import vtk_to_numpy

    export(blocks, tmp_path / f"model{ending}")
    theirs = vtk_arrays(tmp_path / f"model{ending}")
    wanted = blocks.properties["Cu_pct"]
    values = vtk_to_numpy(theirs.GetCellData().GetArray("Cu_pct"))  # type: ignore[attr-defined]
    inside = np.isfinite(wanted) if ending == ".vtu" else np.ones(wanted.shape, dtype=bool)
    assert theirs.GetNumberOfCells() == inside.sum()  # type: ignore[attr-defined]
    for cell in (0, len(values) // 2, len(values) - 1):
        low, high = np.reshape(theirs.GetCell(cell).GetBounds(), (3, 2)).T  # type: ignore[attr-defined]
        at = np.round((0.5 * (low + high) - [503000.25, 7_000_000.5, -12.5]) / [10, 20, 5] - 0.5).astype(int)
        assert values[cell] == pytest.approx(wanted[tuple(at)], nan_ok=True)
        assert high - low == pytest.approx([10, 20, 5])
    same_blocks(blocks, run("import-blocks", file=str(tmp_path / f"model{ending}")))


@pytest.mark.parametrize("how", ["ascii", "binary", "appended", "raw"])
@pytest.mark.parametrize("packed", [False, True])
def test_every_way_in_which_vtk_packs_arrays_is_read(tmp_path: Path, how: str, packed: bool) -> None:
    from vtkmodules import vtkIOXML
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonDataModel import vtkImageData

    image = vtkImageData()
    image.SetDimensions(31, 21, 11)
    image.SetOrigin(100.0, 200.0, 300.0)
    image.SetSpacing(2.0, 3.0, 4.0)
    values = np.random.default_rng(2).normal(size=30 * 20 * 10)
    array = numpy_to_vtk(values, deep=True)
    array.SetName("v")
    image.GetCellData().AddArray(array)
    writer = vtkIOXML.vtkXMLImageDataWriter()
    writer.SetFileName(str(tmp_path / "w.vti"))
    writer.SetInputData(image)
    if how == "ascii":
        writer.SetDataModeToAscii()
    elif how == "binary":
        writer.SetDataModeToBinary()
    else:
        writer.SetDataModeToAppended()
        writer.SetEncodeAppendedData(how == "appended")
    if packed:
        writer.SetCompressorTypeToZLib()
        writer.SetBlockSize(4096)
    else:
        writer.SetCompressorTypeToNone()
    assert writer.Write() == 1
    mesh, found = vtk_items.read_blocks(tmp_path / "w.vti")
    assert (mesh.x0, mesh.y0, mesh.z0, mesh.step, mesh.shape) == (100, 200, 300, (2, 3, 4), (30, 20, 10))
    assert found["v"].ravel(order="F") == pytest.approx(values, rel=1e-6)


def test_surfaces_are_read_by_vtk_and_come_back(surface: Surface, tmp_path: Path) -> None:
    export(surface, tmp_path / "s.vtp")
    theirs = vtk_arrays(tmp_path / "s.vtp")
    assert theirs.GetNumberOfPolys() == 4  # type: ignore[attr-defined]
    assert theirs.GetPoint(2) == pytest.approx(tuple(surface.vertices[2]), abs=1e-9)  # type: ignore[attr-defined]
    made = run("import-surface", file=str(tmp_path / "s.vtp"))
    assert isinstance(made, Surface)
    assert made.closed
    assert made.volume_m3 == pytest.approx(1000 / 6)
    assert sorted(map(tuple, made.vertices)) == sorted(map(tuple, surface.vertices))


def test_strips_quads_and_flat_cells_become_triangles(tmp_path: Path) -> None:
    text = """<VTKFile type="PolyData"><PolyData><Piece NumberOfPoints="5"><Points><DataArray type="Float64" NumberOfComponents="3" format="ascii">
    0 0 0  1 0 0  0 1 0  1 1 0  2 0 1</DataArray></Points>
    <Strips><DataArray type="Int64" Name="connectivity" format="ascii">0 1 2 3</DataArray><DataArray type="Int64" Name="offsets" format="ascii">4</DataArray></Strips>
    <Polys><DataArray type="Int64" Name="connectivity" format="ascii">0 1 3 2 1 4 3</DataArray><DataArray type="Int64" Name="offsets" format="ascii">4 7</DataArray></Polys></Piece></PolyData></VTKFile>"""
    (tmp_path / "s.vtp").write_text(text)
    vertices, triangles = vtk_items.read_surface(tmp_path / "s.vtp")
    assert (len(vertices), len(triangles)) == (5, 5)
    up = np.cross(
        vertices[triangles[:, 1]] - vertices[triangles[:, 0]], vertices[triangles[:, 2]] - vertices[triangles[:, 0]]
    )[:, 2]
    assert (up > 0).all()


def test_cells_of_different_size_stay_as_they_are(tmp_path: Path) -> None:
    out = vtkxml.Writer("RectilinearGrid")
    out.open("RectilinearGrid", WholeExtent="0 2 0 1 0 1")
    out.open("Piece", Extent="0 2 0 1 0 1")
    out.open("Coordinates")
    for axis, edges in (("x", [0.0, 10, 30]), ("y", [0.0, 5]), ("z", [0.0, 5])):
        out.array(axis, np.array(edges))
    out.close("Coordinates")
    out.open("CellData")
    out.array("v", np.array([1.0, 2.0]))
    out.close("CellData", "Piece", "RectilinearGrid")
    out.save(tmp_path / "r.vtr")
    mesh, found = vtk_items.read_blocks(tmp_path / "r.vtr")
    assert mesh.shape == (2, 1, 1)
    assert mesh.u.tolist() == [10.0, 20.0]
    assert found["v"].ravel().tolist() == [1, 2]


BOMB = base64.b64encode(np.array([1, 2**31, 0, 40], dtype="<u4").tobytes()) + base64.b64encode(
    zlib.compress(bytes(1 << 20))
)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (b"<VTKFile type='ImageData'", "can't be read as a VTK file"),
        (b"<a/>", "not a VTK file"),
        (b"<VTKFile type='Table'><Table/></VTKFile>", "kind 'Table' are not read"),
        (b"<!DOCTYPE a [<!ENTITY b 'c'>]><VTKFile type='PolyData'/>", "defines entities"),
        (
            b"<VTKFile type='PolyData' compressor='vtkLZ4DataCompressor'><PolyData><Piece/></PolyData></VTKFile>",
            "compressed by vtkLZ4",
        ),
        (b"<VTKFile type='PolyData'><PolyData><Piece/></PolyData></VTKFile>", "surface, not a volume"),
        (
            b"<VTKFile type='ImageData' compressor='vtkZLibDataCompressor'><ImageData WholeExtent='0 1 0 1 0 1'><Piece Extent='0 1 0 1 0 1'><CellData><DataArray type='Float64' Name='v' format='binary'>"
            + BOMB
            + b"</DataArray></CellData></Piece></ImageData></VTKFile>",
            "cut short",
        ),
        (
            b"<VTKFile type='ImageData'><ImageData WholeExtent='0 1 0 1 0 1' Direction='0 1 0 1 0 0 0 0 1'><Piece/></ImageData></VTKFile>",
            "turned",
        ),
    ],
)
def test_what_is_no_volume_is_refused_in_words(tmp_path: Path, text: bytes, words: str) -> None:
    (tmp_path / "x.vti").write_bytes(text)
    with pytest.raises(InputError, match=words):
        vtk_items.read_blocks(tmp_path / "x.vti")


@settings(max_examples=50, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(place=st.integers(0, 5000), value=st.integers(0, 255), cut=st.integers(0, 5000))
def test_damaged_files_end_in_a_sentence(
    blocks: BlockModel, surface: Surface, tmp_path: Path, place: int, value: int, cut: int
) -> None:
    for item, name in ((blocks, "m.vti"), (blocks, "m.vtu"), (surface, "s.vtp"), (blocks, "m.omf")):
        file = tmp_path / f"whole-{name}"
        if not file.exists():
            export(item, file)
        data = bytearray(file.read_bytes())
        data[place % len(data)] = value
        broken = tmp_path / name
        broken.write_bytes(bytes(data[: len(data) - cut % len(data)]) if cut % 2 else bytes(data))
        try:
            if name == "m.omf":
                mining.read_element(broken, "Model", CRS)
            elif name == "s.vtp":
                vtk_items.read_surface(broken)
            else:
                vtk_items.read_blocks(broken)
        except LampError as error:
            assert str(error)


# ---- Open Mining Format, against its own package


def test_everything_goes_into_one_file_and_comes_back(
    blocks: BlockModel, surface: Surface, holes: HoleSet, tmp_path: Path
) -> None:
    values = np.arange(12.0).reshape(3, 4)
    values[1, 1] = np.nan
    grid = Grid(
        name="Gravity", crs=CRS, values=values, x0=500.0, y0=900.0, dx=10.0, dy=20.0, attribute="g", unit="mGal"
    )
    ground = Grid(
        name="DEM",
        crs=CRS,
        values=np.arange(12.0).reshape(3, 4) + 300,
        x0=500.0,
        y0=900.0,
        dx=10.0,
        dy=20.0,
        attribute="elevation",
        unit="m",
        quantities={"elevation": "elevation"},
    )
    points = PointSet(
        name="Soils",
        crs=CRS,
        table=pd.DataFrame({"x": [1.0, 2], "y": [3.0, 4], "z": [5.0, 6], "Sn": [7.0, np.nan], "kind": ["a", "b"]}),
        units={"Sn": "ppm"},
    )
    geology = run("import-features", file=str(FILES / "geology" / "geological_map.geojson"), name="Map")
    path = tmp_path / "all.omf"
    items: list[Item] = [blocks, surface, holes, grid, ground, points, geology]
    assert export_together(items, path) == [path]
    with warnings.catch_warnings(action="ignore"):
        import omf

        with path.open("rb") as handle:
            theirs = omf.OMFReader(handle).get_project()
        assert theirs.validate()
    kinds = {e.name: type(e).__name__ for e in theirs.elements}
    assert kinds["Model"] == "VolumeElement"
    assert kinds["Drillholes assay"] == "LineSetElement"
    assay = next(e for e in theirs.elements if e.name == "Drillholes assay")
    assert len(assay.geometry.segments.array) == len(holes.tables["assay"])
    names = mining.elements(path)
    assert set(names) == set(kinds)
    back = {name: run("import-element", file=str(path), element=name) for name in names}
    same_blocks(blocks, back["Model"])
    assert back["Model"].units["Cu_pct"] == "%"  # type: ignore[attr-defined]
    body = back["Body"]
    assert isinstance(body, Surface)
    assert body.closed
    assert body.vertices == pytest.approx(surface.vertices, abs=1e-9)
    for name, item in (("Gravity", grid), ("DEM", ground)):
        other = back[name]
        assert isinstance(other, Grid)
        assert other.values == pytest.approx(item.values, nan_ok=True)
        assert (other.x0, other.y0, other.dx, other.dy, other.attribute, other.unit) == (
            500,
            900,
            10,
            20,
            item.attribute,
            item.unit,
        )
    soils = back["Soils"]
    assert isinstance(soils, PointSet)
    assert soils.table["kind"].tolist() == ["a", "b"]
    assert soils.table["Sn"].tolist()[0] == 7.0
    intervals = back["Drillholes assay"]
    assert isinstance(intervals, Features)
    assert len(intervals.table) == len(holes.tables["assay"])
    assert intervals.vertices[0] == pytest.approx(holes.tables["assay"][["x0", "y0", "z0"]].iloc[0].to_numpy(float))


def test_a_file_of_another_kind_is_told(tmp_path: Path) -> None:
    (tmp_path / "x.omf").write_bytes(mining.MAGIC + b"OMF-v9.9" + bytes(60))
    with pytest.raises(InputError, match="Version 1 is read"):
        mining.elements(tmp_path / "x.omf")
    with pytest.raises(InputError, match="several items can't be written"):
        export_together([], tmp_path / "x.csv")


# ---- pictures, against rasterio


@pytest.mark.parametrize("ending", [".tif", ".png", ".jpg"])
def test_pictures_keep_their_place(tmp_path: Path, ending: str) -> None:
    import rasterio

    rng = np.random.default_rng(1)
    pixels = np.full((40, 60, 4), 255, dtype=np.uint8)
    pixels[..., :3] = rng.integers(0, 255, (4, 6, 3), dtype=np.uint8).repeat(10, 0).repeat(10, 1)
    item = Picture(name="Map", crs=CRS, pixels=pixels, affine=(2.0, 0.3, 503000.0, 0.3, -2.0, 5602000.0))
    export(item, tmp_path / f"map{ending}")
    with warnings.catch_warnings(action="ignore"), rasterio.open(tmp_path / f"map{ending}") as theirs:
        assert (theirs.width, theirs.height) == (60, 40)
        t = theirs.transform
        assert (t.a, t.b, t.c, t.d, t.e, t.f) == pytest.approx(item.affine)
        apart = np.abs(theirs.read(1).astype(float) - pixels[..., 0])
        assert apart.mean() < 12 if ending == ".jpg" else apart.max() == 0
    made = run("import-picture", file=str(tmp_path / f"map{ending}"))
    assert isinstance(made, Picture)
    assert made.affine == pytest.approx(item.affine)
    assert ("names no coordinate system" in " ".join(made.findings["what"])) == (ending != ".tif")
    assert made.bounds[:4] == pytest.approx((503000.0, 503132.0, 5601920.0, 5602018.0))


def test_a_scanned_map_is_placed_by_picked_points_and_says_how_well() -> None:
    from innerlamp.demo import papers, truth

    points = papers.picked_points()
    made = run("import-picture", file=str(FILES / "geology" / "scanned_map.png"), points=points)
    assert isinstance(made, Picture)
    rms = float(np.sqrt(np.mean(made.points["residual_m"] ** 2)))
    assert 0.1 < rms < 3.0
    assert made.findings["done"].str.contains("residual").any()
    # A place of the truth lands where the truth has it.
    col, row = papers.to_pixels(np.array(1800.0), np.array(900.0))
    a, b, c, d, e, f = made.affine
    assert a * col + b * row + c == pytest.approx(truth.ORIGIN[0] + 1800, abs=4)
    assert d * col + e * row + f == pytest.approx(truth.ORIGIN[1] + 900, abs=4)
    three = run("import-picture", file=str(FILES / "geology" / "scanned_map.png"), points=points[:3])
    assert three.findings["done"].str.contains("a fourth would show the error").any()  # type: ignore[attr-defined]
    with pytest.raises(InputError, match="names no place"):
        run("import-picture", file=str(FILES / "geology" / "scanned_map.png"))


def test_a_picture_in_another_system_is_turned_into_the_projects(tmp_path: Path) -> None:
    import pyproj

    lon, lat = pyproj.Transformer.from_crs(CRS, 4326, always_xy=True).transform(503000.0, 5602000.0)
    pixels = np.full((80, 80, 4), 255, dtype=np.uint8)
    pixels[40:, :, 0] = 0
    export(Picture(name="p", crs="EPSG:4326", pixels=pixels, affine=(1e-4, 0, lon, 0, -1e-4, lat)), tmp_path / "p.tif")
    made = run("import-picture", file=str(tmp_path / "p.tif"))
    assert isinstance(made, Picture)
    assert made.bounds[0] == pytest.approx(503000, abs=20)
    assert made.bounds[3] == pytest.approx(5602000, abs=20)
    assert made.findings["what"].str.contains("picture is in EPSG:4326").any()
    with pytest.raises(InputError, match="can't be read as a picture"):
        pictures.read(FILES / "drilling" / "assays.csv")


# ---- workbooks, databases, logs


@pytest.mark.parametrize("ending", [".xlsx", ".ods", ".sqlite"])
def test_all_tables_of_holes_are_written_and_read_back(holes: HoleSet, tmp_path: Path, ending: str) -> None:
    small = _few(holes)
    path = tmp_path / f"holes{ending}"
    export(small, path)
    if ending == ".sqlite":
        with sqlite3.connect(path) as base:
            theirs = pd.read_sql_query("select * from assay", base)
    else:
        theirs = pd.read_excel(path, sheet_name="assay", engine="calamine")
    assert theirs["Sn_ppm"].to_numpy() == pytest.approx(small.tables["assay"]["Sn_ppm"].to_numpy(), nan_ok=True)
    assert theirs["hole"].tolist() == small.tables["assay"]["hole"].astype(str).tolist()
    assert {"collar", "survey", "assay", "lithology", "by hole", "findings"} <= set(tables_in.parts(path))
    back = run(
        "import-holes",
        collar=f"{path}#collar",
        survey=f"{path}#survey",
        assay=f"{path}#assay",
        lithology=f"{path}#lithology",
    )
    assert isinstance(back, HoleSet)
    assert back.tables["assay"]["x"].to_numpy() == pytest.approx(small.tables["assay"]["x"].to_numpy(), abs=1e-6)
    assert back.tables["lithology"]["Rock"].tolist() == small.tables["lithology"]["Rock"].tolist()


def _few(holes: HoleSet) -> HoleSet:
    import dataclasses

    keep = list(holes.collars["hole"][:4])
    cut = {n: t[t["hole"].isin(keep)].reset_index(drop=True) for n, t in holes.tables.items()}
    rest = {
        n: getattr(holes, n)[getattr(holes, n)["hole"].isin(keep)].reset_index(drop=True)
        for n in ("collars", "surveys", "stations", "findings")
    }
    return dataclasses.replace(holes, tables=cut, **rest)


def test_logs_are_written_one_a_hole_and_read_by_lasio(holes: HoleSet, tmp_path: Path) -> None:
    import lasio

    small = _few(holes)
    with pytest.raises(InputError, match="LAS log holds one"):
        export(small, tmp_path / "logs.las")
    assert not list(tmp_path.iterdir())
    files = export(small, tmp_path / "logs_{hole}.las")
    assert len(files) == len(set(small.tables["assay"]["hole"]))
    theirs = lasio.read(str(tmp_path / "logs_EMB002.las"), mnemonic_case="preserve")
    mine = small.tables["assay"].query("hole == 'EMB002'")
    assert theirs.well["WELL"].value == "EMB002"
    assert theirs["Sn_ppm"] == pytest.approx(mine["Sn_ppm"].to_numpy(), nan_ok=True)
    assert theirs["FROM"] == pytest.approx(mine["from_m"].to_numpy())
    assert theirs.curves["Sn_ppm"].unit == "ppm"


def test_a_sheet_that_is_too_long_is_refused_before_anything_is_written(tmp_path: Path) -> None:
    table = pd.DataFrame({"x": np.zeros(50_001), "y": 0.0, "z": 0.0})
    with pytest.raises(InputError, match="50,001 rows"):
        export(PointSet(name="p", crs=CRS, table=table), tmp_path / "p.ods")
    assert not list(tmp_path.iterdir())
