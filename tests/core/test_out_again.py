"""What goes out again: places as features, drawings and VTK files, read by other libraries; logs; drawings with both."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.findings import Findings
from innerlamp.core.formats.shapes.features import read_features
from innerlamp.core.formats.shapes.places_out import place_layers
from innerlamp.core.formats.table import export
from innerlamp.core.items.base import Item
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"


def _two_holes(folder: Path) -> Item:
    """Two holes with assays and readings, made here."""
    (folder / "c.csv").write_text(
        "hole,east,north,rl,depth,azimuth,dip\nA,500000,5600000,4100,50,90,-60\nB,500100,5600000,4105,40,0,-90\n"
    )
    (folder / "a.csv").write_text("hole,from,to,Au_ppb,rock\nA,0,5,1.5,gr\nA,5,20,2,sl\nB,0,10,,gr\n")
    (folder / "r.csv").write_text("hole,depth,susc\nA,1,0.5\nA,2,0.7\nB,3,0.1\n")
    op = OPERATIONS["import-holes"]
    params = op.check(
        {"collar": str(folder / "c.csv"), "assay": str(folder / "a.csv"), "more": [str(folder / "r.csv")]}
    )
    return op.run(Inputs({}, CRS), params, SILENT)["holes"]


@pytest.fixture
def places(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Item]:
    """An item of every kind that has places: invented samples, lines and targets, two holes of the demo."""
    table = pd.DataFrame({"x": [500_000.0, 500_100.0], "y": [5_600_000.0, 5_600_050.0], "z": [4100.5, 4102.0]})
    lines = pd.concat([table.assign(line=n, y=table["y"] + 100 * k) for k, n in enumerate("AB")], ignore_index=True)
    return {
        "holes": _two_holes(tmp_path_factory.mktemp("holes")),
        "points": PointSet(name="Rock chips", crs=CRS, table=table.assign(Au_ppb=[1.0, np.nan], rock=["gr", None])),
        "lines": SurveyLines(name="Mag", crs=CRS, table=lines.assign(TMI=[1.0, 2.0, 3.0, 4.0])),
    }


@pytest.mark.parametrize("ending", ["gpkg", "geojson", "shp"])
@pytest.mark.parametrize("kind", ["holes", "points", "lines"])
def test_places_are_written_as_features_with_heights_and_read_by_gdal(
    places: dict[str, Item], kind: str, ending: str, tmp_path: Path
) -> None:
    # Judge: GDAL, the general-purpose library of geodata, through pyogrio.
    import pyogrio
    import pyproj
    import shapely

    item = places[kind]
    files = export(item, tmp_path / f"out.{ending}")
    wanted = place_layers(item)
    for name, layer in wanted.items():
        file = tmp_path / f"out.{ending}"
        if ending != "gpkg" and len(wanted) > 1:
            file = tmp_path / f"out_{name}.{ending}"
        assert file in files
        meta, _, wkb, data = pyogrio.raw.read(file, layer=name if ending == "gpkg" else None)
        shapes = shapely.from_wkb(wkb)
        assert len(shapes) == len(layer.table)
        assert shapely.has_z(shapes).all()
        xyz = shapely.get_coordinates(shapes, include_z=True)
        if ending == "geojson":
            turn = pyproj.Transformer.from_crs("EPSG:4326", CRS, always_xy=True)
            xyz = np.column_stack([*turn.transform(xyz[:, 0], xyz[:, 1]), xyz[:, 2]])
        assert np.abs(xyz - layer.vertices).max() < 0.01
        fields = dict(zip(meta["fields"], data, strict=True))
        for column in [c for c in layer.table if layer.table[c].dtype.kind == "f" and len(str(c)) <= 10]:
            assert fields[str(column)].astype(float) == pytest.approx(layer.table[column].to_numpy(), nan_ok=True)


@pytest.mark.parametrize("kind", ["holes", "points", "lines"])
def test_places_are_written_as_dxf_and_vtp_and_read_by_others(
    places: dict[str, Item], kind: str, tmp_path: Path
) -> None:
    # Judges: ezdxf for drawings, meshio and VTK's own reader for VTP.
    import ezdxf
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkIOXML import vtkXMLPolyDataReader

    item, wanted = places[kind], place_layers(places[kind])
    export(item, tmp_path / "out.dxf")
    drawing = ezdxf.readfile(tmp_path / "out.dxf").modelspace()
    for name, layer in wanted.items():
        mine = [e for e in drawing if e.dxf.layer == name]
        assert len(mine) == len(layer.table)
    files = export(item, tmp_path / "out.vtp")
    for file, layer in zip(files, wanted.values(), strict=True):
        reader = vtkXMLPolyDataReader()
        reader.SetFileName(str(file))
        reader.Update()
        data = reader.GetOutput()
        assert data.GetNumberOfCells() == len(layer.table)
        assert np.abs(vtk_to_numpy(data.GetPoints().GetData()) - np.nan_to_num(layer.vertices)).max() < 1e-6
    back = read_features(tmp_path / "out.dxf", "", "back", CRS, Findings(), CRS)
    assert set(back.table["layer"]) == set(wanted)
    export(back, tmp_path / "again.dxf")
    assert {e.dxf.layer for e in ezdxf.readfile(tmp_path / "again.dxf").modelspace()} == set(wanted)


def test_a_drawing_with_lines_and_faces_gives_both(tmp_path: Path) -> None:
    import ezdxf

    doc = ezdxf.new("R2010")
    doc.modelspace().add_3dface([(0, 0, 1), (10, 0, 1), (0, 10, 2), (0, 10, 2)], dxfattribs={"layer": "FAULT"})
    doc.modelspace().add_line((0, 0, 5), (9, 9, 5), dxfattribs={"layer": "ROAD"})
    doc.saveas(tmp_path / "both.dxf")
    with Project.create(tmp_path / "p.lamp", CRS) as project:
        made = [project.store.entry(i) for i in project.bring([tmp_path / "both.dxf"])]
        assert not project.problems
        assert {e.kind for e in made} == {"surface", "features"}
        lines = project.store.load(next(e.id for e in made if e.kind == "features"))
        assert lines.table["layer"].tolist() == ["ROAD"]  # type: ignore[attr-defined]
        assert "import it as a surface as well" in lines.findings["done"].str.cat()  # type: ignore[attr-defined]
