"""Items in notebooks: to pandas, geopandas, xarray, pyvista and back, with system, units and quantity; judged by those libraries."""

from __future__ import annotations

import json
import pydoc
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from pyproj import CRS

from innerlamp import ops
from innerlamp.api import Project
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import DrapedMesh, TensorMesh
from innerlamp.core.items.base import Item
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.running.table import OPERATIONS
from innerlamp.notebook import (
    from_geopandas,
    from_pandas,
    from_pyvista,
    from_xarray,
    tables_of,
    to_geopandas,
    to_pandas,
    to_pyvista,
    to_xarray,
)

EPSG = "EPSG:32629"


@pytest.fixture(scope="module")
def project(demo_path: Path):  # type: ignore[no-untyped-def]
    with Project.open(demo_path, write=False) as opened:
        yield opened


def same_attributes(a: Item, b: Item) -> bool:
    return dict(a.attributes) == dict(b.attributes)


def test_soils_go_to_pandas_and_back_with_units_and_quantities(project: Project) -> None:
    soils = project["Soils"]
    table = to_pandas(soils)
    assert len(table) == 3200
    assert table.attrs["inner_lamp"]["attributes"]["Sn ppm"][:2] == ["ppm", "grade"]
    table["ratio"] = table["Sn ppm"] / table["W ppm"]
    back = from_pandas(table, name="Ratios")
    assert back.crs == soils.crs
    assert back.content == "samples"
    assert back.attributes["Sn ppm"] == soils.attributes["Sn ppm"]
    assert "ratio" in back.attributes
    table["Sn ppm"] = 0.0  # what was handed out is the user's own
    assert project["Soils"].table["Sn ppm"].max() > 0  # type: ignore[attr-defined]


def test_every_table_of_the_holes_is_there(project: Project) -> None:
    holes = project["Emberlow holes"]
    names = tables_of(holes)
    assert {"assay", "lithology", "collars", "surveys", "stations"} <= set(names)
    for name in names:
        assert len(to_pandas(holes, name)), name
    with pytest.raises(InputError, match="there is no table 'assays'"):
        to_pandas(holes, "assays")
    blocks = project["Susceptibility of Airborne magnetics"]
    cells = to_pandas(blocks)
    assert isinstance(blocks, BlockModel)
    assert len(cells) == blocks.present.sum()
    assert cells["volume_m3"].sum() == pytest.approx(blocks.mesh.volumes(np.argwhere(blocks.present)).sum())


def test_shapes_are_those_that_geopandas_measures(project: Project) -> None:
    holes = to_geopandas(project["Emberlow holes"], "traces")
    assert holes.crs == CRS.from_epsg(32629)
    lengths = holes.geometry.apply(lambda g: np.linalg.norm(np.diff(np.array(g.coords), axis=0), axis=1).sum())
    drilled = project["Emberlow holes"].collars.set_index("hole")["depth_m"]  # type: ignore[attr-defined]
    assert lengths.to_numpy() == pytest.approx(drilled.loc[holes["hole"]].to_numpy(), rel=1e-3)
    geology = project["Geological map"]
    shapes = to_geopandas(geology)
    back = from_geopandas(shapes)
    assert same_attributes(geology, back)
    assert to_geopandas(back).geometry.area.sum() == pytest.approx(shapes.geometry.area.sum(), rel=1e-12)
    assert shapes.geometry.area.sum() == pytest.approx(6_000 * 5_000, rel=0.01)
    far = from_geopandas(shapes.to_crs("EPSG:4326"), crs="EPSG:32629")
    assert np.abs(far.vertices[:, :2] - geology.vertices[:, :2]).max() < 0.01  # type: ignore[attr-defined, union-attr]
    with pytest.raises(InputError, match="in degrees"):
        from_geopandas(shapes.to_crs("EPSG:4326"))
    with pytest.raises(InputError, match="have no shapes"):
        to_geopandas(project["Soil Sn"])
    points = from_geopandas(to_geopandas(project["Soils"]))
    assert points.kind == "points"
    assert same_attributes(points, project["Soils"])


def test_grids_go_to_xarray_and_back(project: Project) -> None:
    grid = project["Soil Sn"]
    assert isinstance(grid, Grid)
    array = to_xarray(grid)
    assert array.dims == ("y", "x")
    assert array.attrs["units"] == "ppm"
    assert CRS.from_wkt(array.coords["spatial_ref"].attrs["crs_wkt"]) == CRS.from_epsg(32629)
    x, y = float(grid.x[7]), float(grid.y[11])
    assert float(array.sel(x=x, y=y)) == pytest.approx(grid.values[11, 7])
    back = from_xarray(array)
    assert isinstance(back, Grid)
    assert np.array_equal(back.values, grid.values, equal_nan=True)
    assert (back.x0, back.y0, back.dx, back.dy) == pytest.approx((grid.x0, grid.y0, grid.dx, grid.dy))
    assert same_attributes(back, grid)
    upside_down = from_xarray(array.isel(y=slice(None, None, -1)))  # as files with north on top are read
    assert isinstance(upside_down, Grid)
    assert np.array_equal(upside_down.values, grid.values, equal_nan=True)
    with pytest.raises(InputError, match="steps along x are not even"):
        from_xarray(array.isel(x=[0, 1, 3, 4]))


def model(mesh: TensorMesh | DrapedMesh) -> BlockModel:
    values = np.arange(np.prod(mesh.shape), dtype=float).reshape(mesh.shape)
    values[0, 0, -1] = np.nan
    return BlockModel(name="Model", crs=EPSG, mesh=mesh, properties={"density": values}, units={"density": "g/cm³"})


@pytest.mark.parametrize("azimuth", [0.0, 31.0])
def test_block_models_go_through_xarray(azimuth: float) -> None:
    widths = np.array([10.0, 20.0, 20.0]), np.array([10.0, 10.0]), np.array([5.0, 5.0, 10.0, 10.0])
    mesh = TensorMesh(500_000.0, 6_000_000.0, widths[0], widths[1], azimuth, 100.0, widths[2])
    made = model(mesh)
    data = to_xarray(made)
    assert (
        float(data["density"].isel({data["density"].dims[2]: 2, data["density"].dims[1]: 1}).values[3])
        == (made.properties["density"][2, 1, 3])
    )
    # Even where cells differ the middles are right; widths come back where the middles tell them.
    back = from_xarray(data)
    assert isinstance(back, BlockModel)
    assert np.array_equal(back.properties["density"], made.properties["density"], equal_nan=True)
    assert back.attributes == made.attributes
    if azimuth:
        assert back.mesh == mesh
    even = model(TensorMesh.even((0, 0, 0), (10, 20, 5), (3, 4, 5)))
    again = from_xarray(to_xarray(even))
    assert isinstance(again, BlockModel)
    assert again.mesh == even.mesh


def test_meshes_are_those_that_pyvista_measures(project: Project) -> None:
    shell = project["Sn shell 800 ppm"]
    assert isinstance(shell, Surface)
    mesh = to_pyvista(shell)
    assert mesh.n_open_edges == 0
    assert mesh.volume == pytest.approx(shell.volume_m3, rel=1e-6)
    back = from_pyvista(mesh)
    assert isinstance(back, Surface)
    assert back.closed
    assert (back.crs, back.name) == (shell.crs, shell.name)
    assert np.abs(back.vertices - shell.vertices).max() < 1e-9
    draped = project["Susceptibility of Airborne magnetics"]
    cells = to_pyvista(draped)
    assert isinstance(draped, BlockModel)
    there = draped.present & (draped.mesh.thickness > 0)  # type: ignore[attr-defined]
    assert cells.n_cells == there.sum()
    sizes = cells.compute_cell_sizes()["Volume"]
    assert sizes.sum() == pytest.approx(draped.mesh.volumes(np.argwhere(there)).sum(), rel=1e-6)
    assert sizes.min() > 0
    even = model(TensorMesh.even((500_000, 6_000_000, 0), (10, 20, 5), (3, 4, 5)))
    grid = to_pyvista(even)
    at = (500_000 + 25.0, 6_000_000 + 70.0, 12.0)
    assert grid.cell_data["density"][grid.find_containing_cell(at)] == even.properties["density"][2, 3, 2]
    again = from_pyvista(grid)
    assert isinstance(again, BlockModel)
    assert again.mesh == even.mesh
    assert np.array_equal(again.properties["density"], even.properties["density"], equal_nan=True)
    turned = to_pyvista(model(TensorMesh.even((0, 0, 0), (10, 20, 5), (3, 4, 5), 40.0)))
    assert turned.n_cells == 3 * 4 * 5 - 1
    assert turned.compute_cell_sizes()["Volume"] == pytest.approx(np.full(59, 1000.0))
    holes = to_pyvista(project["Emberlow holes"], "assay")
    table = project["Emberlow holes"].tables["assay"]  # type: ignore[attr-defined]
    assert holes.n_lines == len(table)
    assert np.nanmax(holes.cell_data["Sn_ppm"]) == table["Sn_ppm"].max()
    assert to_pyvista(project["Ground"]).bounds[5] == pytest.approx(project["Ground"].bounds[5])
    assert to_pyvista(project["Geological map"]).n_lines > 50
    soils = from_pyvista(to_pyvista(project["Soils"]))
    assert soils.attributes["Sn ppm"] == project["Soils"].attributes["Sn ppm"]


def test_what_came_back_is_stored_and_worked_with(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    table = pd.DataFrame({"x": rng.uniform(500_000, 501_000, 80), "y": rng.uniform(6e6, 6.001e6, 80)})
    table["Sn ppm"] = rng.lognormal(2, 1, 80)
    with Project.create(tmp_path / "p.lamp", EPSG) as project:
        item = project.add(from_pandas(table, crs=EPSG), name="Own soils")
        made = ops.grid_minimum_curvature(project, samples=item, attribute="Sn ppm")
        assert isinstance(project[made["grid"]], Grid)
        with pytest.raises(InputError, match="the item is in EPSG:32630"):
            project.add(from_pandas(table, crs="EPSG:32630"))
        view = project._repr_html_()
        assert "Own soils" in view
        assert "<td" in view
        nasty = project.add(from_pandas(table, crs=EPSG), name="<script>x</script>")
        assert "<script" not in project[nasty]._repr_html_()
        assert "<script" not in project._repr_html_()
    with pytest.raises(InputError, match="coordinate system is not known"):
        from_pandas(table)
    with pytest.raises(InputError, match="no column 'y' of numbers"):
        from_pandas(table.rename(columns={"y": "north"}), crs=EPSG)


def test_a_missing_library_is_said(monkeypatch: pytest.MonkeyPatch, project: Project) -> None:
    for name, make in (("geopandas", to_geopandas), ("xarray", to_xarray), ("pyvista", to_pyvista)):
        with monkeypatch.context() as patch:
            patch.setitem(sys.modules, name, None)
            with pytest.raises(InputError, match=f"{name} is not installed"):
                make(project["Soil Sn"])


def test_every_operation_has_help_in_python(capsys: pytest.CaptureFixture[str]) -> None:
    assert set(dir(ops)) == {n.replace("-", "_") for n in OPERATIONS}
    for name, op in OPERATIONS.items():
        page = pydoc.render_doc(getattr(ops, name.replace("-", "_")), renderer=pydoc.plaintext)
        assert op.title in page
        for parameter, info in op.fields().items():
            assert parameter in page
            assert info.label in page
    Project.help("grade-shell")
    assert "Cut-off" in capsys.readouterr().out
    with pytest.raises(AttributeError, match="no operation 'no_such'"):
        _ = ops.no_such


def test_the_notebook_of_the_guide_runs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each cell of docs/tutorial.ipynb in its order, as a kernel would."""
    book = json.loads((Path(__file__).parents[2] / "docs" / "tutorial.ipynb").read_text(encoding="utf-8"))
    monkeypatch.chdir(tmp_path)
    names: dict[str, object] = {"__name__": "notebook"}
    cells = ["".join(c["source"]) for c in book["cells"] if c["cell_type"] == "code"]
    assert len(cells) >= 8
    for number, cell in enumerate(cells):
        exec(compile(cell, f"cell {number}", "exec"), names)  # our own file
    ranked = names["ranked"]
    assert isinstance(ranked, pd.DataFrame)
    assert len(ranked) == 12
    assert ranked["score"].is_monotonic_decreasing
