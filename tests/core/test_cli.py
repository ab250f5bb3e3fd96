"""The command line and the Python interface: same operations, clear errors, exit codes."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import rasterio

from innerlamp import Project
from innerlamp.cli import main
from innerlamp.core.items.fields import Grid
from innerlamp.demo.build import FILES


def test_project_from_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = str(tmp_path / "west.lamp")
    assert main(["new", path, "EPSG:32629"]) == 0
    assert main(["apply", path, "import-points", f"file={FILES}/geochemistry/soils_emberlow.csv", "name=Soils"]) == 0
    assert (
        main(
            ["apply", path, "grid-minimum-curvature", "samples=Soils", "attribute=Sn ppm", "transform=log10", "cell=60"]
        )
        == 0
    )
    assert main(["items", path]) == 0
    said = capsys.readouterr()
    assert "100% Done" in said.err
    assert "fresh   Sn ppm grid" in said.out
    assert main(["export", path, "Sn ppm grid", str(tmp_path / "sn.tif")]) == 0
    with rasterio.open(tmp_path / "sn.tif") as file, Project.open(path) as project:
        grid = project["Sn ppm grid"]
        assert isinstance(grid, Grid)
        assert np.array_equal(file.read(1)[::-1], grid.values, equal_nan=True)
        assert file.crs.to_epsg() == 32629
        assert file.xy(file.height - 1, 0) == pytest.approx((grid.x0, grid.y0))


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["frobnicate"], "invalid choice"),
        (["items", "nowhere"], "no Inner Lamp project"),
        (["ops", "grid"], "there is no operation 'grid'. There are: import-grid, grid-minimum-curvature"),
        (
            ["apply", "DEMO", "composite", "holes=Emberlow holes", "attribute=Sn_ppm", "length=-2"],
            "Length) must be greater than 0",
        ),
        (["apply", "DEMO", "composite", "holes=Emberlow holes", "attribute=Au"], "has no attribute 'Au'"),
        (["apply", "DEMO", "composite", "holes=Soils", "attribute=Sn_ppm"], "does not fit the input 'holes'"),
        (["apply", "DEMO", "composite", "holes"], "not of the form name=value"),
        (["export", "DEMO", "Ground", "x.obj"], "can't be written as '.obj'"),
        (["export", "DEMO", "Gold", "x.tif"], "there is no item 'Gold'"),
        (["new", "DEMO", "EPSG:32629"], "of that name already"),
        (["apply", "DEMO", "composite", "holes=Emberlow holes", "progress=1"], "no parameter 'progress'"),
        (["apply", "DEMO", "composite", "holes=Emberlow holes", "self=1"], "no parameter 'self'"),
        (["apply", "DEMO", "composite", "length=2", "length=3"], "'length' is given twice"),
        (["apply", "DEMO", "draw-feature", "value=A", "points=" + "[" * 20_000], "not valid JSON"),
        (["apply", "DEMO", "draw-feature", "value=A", "points=[[NaN,NaN],[1,2],[3,NaN]]"], "must be a finite number"),
        (["bring", "DEMO", "~no such user/a.csv"], "no such file or folder"),
        (["bring", "DEMO", "a" * 300 + ".csv"], "File name too long"),
        (["systems", "a" * 5000], "can't be looked at"),
    ],
)
def test_errors_are_one_line_and_exit_code_2(
    demo_path: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], words: list[str], said: str
) -> None:
    copy = tmp_path / "demo.lamp"
    if "DEMO" in words:
        shutil.copytree(demo_path, copy)
    assert main([str(copy) if w == "DEMO" else w for w in words]) == 2
    err = capsys.readouterr().err
    assert said in err
    assert err.count("\n") == 1
    assert "Traceback" not in err


def test_ops_and_doctor(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["ops", "invert-magnetics"]) == 0
    text = capsys.readouterr().out
    assert "cell           Cell size (m); above 0; default 50.0" in text
    assert "none | constant | plane" in text
    assert main(["doctor"]) == 0
    assert "Memory" in capsys.readouterr().out


def test_core_needs_no_window() -> None:
    code = "import sys\nfor n in ('PySide6','pyqtgraph','vtkmodules','pyvista'): sys.modules[n] = None\nimport innerlamp, innerlamp.cli, innerlamp.core.running.table, innerlamp.demo.build\nfrom innerlamp import Project\nprint(Project.operations()[0])"
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert out.stdout.strip() == "import-holes"


def test_refresh_follows_new_data_and_undo_takes_it_back(demo_path: Path, tmp_path: Path) -> None:
    path = tmp_path / "demo.lamp"
    shutil.copytree(demo_path, path)
    with Project.open(path) as project:
        soils = project.store.find("Soils")
        table = project["Soils"].table.copy()  # type: ignore[attr-defined]
        table["Sn ppm"] *= 2.0
        from innerlamp.core.items.points import PointSet
        from innerlamp.core.project.store import stage

        old = project["Soil Sn"].values  # type: ignore[attr-defined]
        changed = PointSet(name="Soils", crs=soils.crs, table=table, units={"Sn ppm": "ppm"})
        project.store.hold(project.store.find("Targets").id)
        project.store.add({"0": stage(project.store.payloads, changed)}, "New soils", replace={"0": soils.id})
        done = [project.store.entry(i).name for i in project.refresh()]
        assert done[0] == "Soil Sn"
        assert "Targets" not in done
        new = project["Soil Sn"].values  # type: ignore[attr-defined]
        assert np.nanmedian(new / old) == pytest.approx(2.0, rel=1e-6)
