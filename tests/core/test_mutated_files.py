"""Two thousand damaged files: each is read, or refused in one sentence; none ends the process or asks for more memory."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import warnings
from pathlib import Path

import ezdxf
import numpy as np
import pytest

from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.shapes import features, meshes, mining
from innerlamp.core.formats.tables import vectors

from ..scale import share
from .mutations import damaged

COUNT = share(2000)
ENDINGS = "asc csv dxf geojson gpkg jpg las nc obj ods omf ply png shp sqlite stl tif txt vti vtp vtr vtu xlsx xyz"


def test_damaged_files_are_read_or_refused_in_one_sentence(tmp_path: Path) -> None:
    run = subprocess.run(
        [sys.executable, "-m", "tests.core.mutations", str(tmp_path), "20", str(COUNT)],
        check=False,
        cwd=Path(__file__).parents[2],
        env=os.environ | {"XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)},
        capture_output=True,
        text=True,
        errors="replace",
        timeout=900,  # a reader that never ends
    )
    last = sorted(p.name for p in (tmp_path / "damaged").glob("*")) if (tmp_path / "damaged").is_dir() else []
    assert run.returncode == 0, f"the process ended with {run.returncode} at {last}: {run.stderr[-2000:]}"
    told = json.loads(run.stdout.strip().rpartition("\n")[2])
    assert {name.rpartition(".")[2] for name in told["formats"]} == set(ENDINGS.split())
    assert told["faults"] == []
    assert told["tried"] == COUNT == told["read"] + told["refused"]
    assert min(told["read"], told["refused"]) > COUNT // 10  # the damage is neither too little nor too much


def test_damage_is_the_same_for_the_same_seed_and_is_damage() -> None:
    whole = b"EAST,NORTH\n402000,7502000\n" * 20
    first = [damaged(whole, np.random.default_rng(k)) for k in range(50)]
    assert first == [damaged(whole, np.random.default_rng(k)) for k in range(50)]
    assert sum(d != whole for d in first) > 40


@pytest.mark.parametrize("corner", ["4294967295", "99999999999999999999999", "-9999999999"])
def test_corners_that_no_mesh_has_are_refused(tmp_path: Path, corner: str) -> None:
    file = tmp_path / "a.obj"
    file.write_text(f"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 {corner}\n", encoding="ascii")
    with pytest.raises(InputError, match=r"a\.obj"):
        meshes.read_mesh(file)


def test_a_damaged_schema_that_can_not_even_be_shown_is_refused(tmp_path: Path) -> None:
    import sqlite3

    file = tmp_path / "a.gpkg"
    db = sqlite3.connect(file)
    db.execute("CREATE TABLE gpkg_contents(table_name TEXT)")
    db.commit()
    db.close()
    file.write_bytes(file.read_bytes().replace(b"(table_name TEXT)", b"((\xcf_name TEXT)"))
    with pytest.raises(InputError, match=r"a\.gpkg"):
        vectors.layers(file)


def test_faces_of_two_corners_and_a_drawing_without_its_model_are_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    corners = "0 0 0\n1 0 0\n0 1 0\n"
    head = "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
    file = tmp_path / "a.ply"
    file.write_text(
        f"{head}element face 2\nproperty list uchar int vertex_indices\nend_header\n{corners}3 0  1\n3 0 1 2\n",
        encoding="ascii",
    )
    with pytest.raises(InputError, match=r"a\.ply"):
        meshes.read_mesh(file)
    drawing = ezdxf.new("R2010")
    drawing.saveas(tmp_path / "a.dxf")

    def gone(_: object) -> None:
        raise KeyError("MODEL")

    monkeypatch.setattr("ezdxf.document.Drawing.modelspace", gone)  # what damage of its layouts leads to
    with pytest.raises(InputError, match=r"a\.dxf"):
        features.read_features(tmp_path / "a.dxf", "", "a", "EPSG:32719", Findings())


def test_a_mining_file_whose_root_is_no_project_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    omf = mining._omf()
    file = tmp_path / "a.omf"
    with warnings.catch_warnings(action="ignore"):
        points = omf.PointSetElement(name="Pegs", geometry=omf.PointSetGeometry(vertices=np.zeros((1, 3))))
        omf.OMFWriter(omf.Project(name="Project", elements=[points]), str(file))
    assert mining.elements(file) == ("Pegs",)
    # What a turned letter in the class of the root leads the package to.
    monkeypatch.setattr(omf.OMFReader, "get_project_overview", lambda _: omf.base.UidModel())
    with pytest.raises(InputError, match=r"a\.omf.*no project"):
        mining.elements(file)
