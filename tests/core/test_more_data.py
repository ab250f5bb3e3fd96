"""More data later: a further batch, corrected tables, and the difference card against known changes."""

from __future__ import annotations

import dataclasses
import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from pytest import approx

from innerlamp.api import Project
from innerlamp.cli import main
from innerlamp.core.comparing.differences import Change, compare_holes, difference
from innerlamp.core.compute.geometry.surface_distance import distance_to_surface
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.operations.data import add_holes
from innerlamp.core.progress import SILENT
from innerlamp.core.project import trail
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"
SECOND = FILES / "drilling_second_phase"
BATCH = {
    "collar": str(SECOND / "collars.csv"),
    "survey": str(SECOND / "downhole_surveys.csv"),
    "assay": str(SECOND / "assays.csv"),
    "lithology": str(SECOND / "geology_log.csv"),
}
COLLAR = "hole,east,north,rl,depth\nA,0,0,100,50\nB,100,0,100,50\n"
ASSAY = "hole,from,to,Au_ppm\nA,0,2,1\nA,2,4,2\nB,0,2,3\n"


def load(folder: Path, collar: str = COLLAR, assay: str = ASSAY) -> HoleSet:
    (folder / "c.csv").write_text(collar)
    (folder / "a.csv").write_text(assay)
    op = OPERATIONS["import-holes"]
    made = op.run(Inputs({}, CRS), op.check({"collar": str(folder / "c.csv"), "assay": str(folder / "a.csv")}), SILENT)[
        "holes"
    ]
    assert isinstance(made, HoleSet)
    return made


def found(changes: list[Change], what: str) -> Change:
    return next(c for c in changes if c.what == what)


# ---- holes against holes


def test_each_hole_is_new_changed_gone_or_unchanged(tmp_path: Path) -> None:
    old = load(tmp_path)
    new = load(
        tmp_path,
        "hole,east,north,rl,depth\nA,3,4,100,60\nC,9,9,100,20\nB,100,0,100,50\n",
        "hole,from,to,Au_ppm\nA,0,2,1\nA,2,4,2.5\nA,4,6,9\nB,0,2,3\n",
    )
    table = compare_holes(old, new).set_index("hole")
    assert table["status"].to_dict() == {"A": "changed", "C": "new", "B": "unchanged"}
    assert table.loc["A", "what"] == "collar moved 5.00 m, depth 50 → 60 m, assay: 1 new, 1 changed"
    gone = compare_holes(new, old).set_index("hole")
    assert gone.loc["C", "status"] == "gone"
    assert "assay: 1 gone, 1 changed" in gone.loc["A", "what"]
    assert set(compare_holes(old, old)["status"]) == {"unchanged"}


def test_adding_keeps_what_is_there_and_replacing_does_not(tmp_path: Path) -> None:
    old = load(tmp_path)
    batch = load(tmp_path, "hole,east,north,rl,depth\nB,100,0,101,50\nC,9,9,100,20\n", "hole,from,to,Au_ppm\nC,0,2,7\n")
    added = add_holes.merge(old, batch, "add", {})
    assert added.collars["hole"].tolist() == ["A", "B", "C"]
    assert added.collars.set_index("hole").loc["B", "z"] == 101.0
    assert added.tables["assay"].groupby("hole", observed=True).size().to_dict() == {
        "A": 2,
        "B": 1,
        "C": 1,
    }  # B keeps its assays
    b = added.tables["assay"].query("hole == 'B'").iloc[0]
    assert b["z0"] == approx(101.0)  # ... on its corrected collar
    replaced = add_holes.merge(old, batch, "replace", {})
    assert replaced.collars["hole"].tolist() == ["B", "C"]
    assert set(replaced.tables["assay"]["hole"].astype(str)) == {"B", "C"}


def test_columns_are_matched_to_the_first_import(tmp_path: Path) -> None:
    old = load(tmp_path)
    batch = load(
        tmp_path, "hole,east,north,rl,depth\nC,9,9,100,20\n", "hole,from,to,AU (ppm),Gold check,Ag_ppm\nC,0,2,7,8,9\n"
    )
    joined = add_holes.merge(old, batch, "add", {})
    table = joined.tables["assay"].set_index("hole")
    assert table.loc["C", "Ag_ppm"] == 9.0
    assert joined.findings["what"].str.contains("column 'Ag_ppm' was not in the first import").any()
    answered = add_holes.merge(old, batch, "add", {"Gold check": "Au_ppm"}).tables["assay"].set_index("hole")
    assert answered.loc["C", "Au_ppm"] == 8.0  # a mismatch is a question, and this is its answer
    assert "Gold check" not in answered.columns
    near = load(tmp_path, "hole,east,north,rl,depth\nC,9,9,100,20\n", "hole,from,to,AU PPM\nC,0,2,7\n")
    matched = add_holes.merge(old, near, "add", {})
    assert matched.tables["assay"].set_index("hole").loc["C", "Au_ppm"] == 7.0
    assert matched.findings["what"].str.contains("column 'AU PPM'").any()
    without = load(tmp_path, "hole,east,north,rl,depth\nC,9,9,100,20\n", "hole,from,to,Cu_pct\nC,0,2,7\n")
    assert (
        add_holes.merge(old, without, "add", {})
        .findings["what"]
        .str.contains("'Au_ppm' of the first import is not in the new file")
        .any()
    )


# ---- the second phase of the made-up prospect


@pytest.fixture(scope="module")
def grown(demo_path: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("grown") / "Emberlow.lamp"
    shutil.copytree(demo_path, path)
    with Project.open(path) as project:
        project.store.hold(project.store.find("Targets").id)
        project.run("add-holes", holes="Emberlow holes", **BATCH)
        assert project.refresh()
    return path


def test_second_phase_makes_everything_behind_it_anew_but_what_is_held(grown: Path) -> None:
    with Project.open(grown, write=False) as project:
        store = project.store
        holes = project["Emberlow holes"]
        assert isinstance(holes, HoleSet)
        first, second = (
            pd.read_csv(FILES / d / "collars.csv", sep=None, engine="python")
            for d in ("drilling", "drilling_second_phase")
        )
        assert len(holes.collars) == len(first) + len(second)
        state = {store.entry(i).name: s for i, s in trail.freshness(store).items()}
        assert state["Sn shell 800 ppm"] == state["Sn_ppm composites 6 m"] == "fresh"
        assert state["Targets"] == "behind"
        assert len(store.versions(store.find("Sn shell 800 ppm").id)) == 2
        assert len(store.versions(store.find("Soil Sn").id)) == 1  # it has nothing to do with holes


def test_difference_of_the_second_phase_is_right(grown: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with Project.open(grown, write=False) as project:
        store = project.store

        def both(name: str) -> tuple[object, object]:
            item = store.find(name)
            (a, _), (b, _) = store.versions(item.id)
            return store.load(item.id, a), store.load(item.id, b)

        old, new = both("Emberlow holes")
        card = difference(old, new)  # type: ignore[arg-type]
        assert found(card, "Holes new, changed, gone").after == f"{len(new.collars) - len(old.collars)}, 0, 0"  # type: ignore[attr-defined]
        mean = found(card, "Sn_ppm (ppm): mean")
        assert float(mean.after.replace(",", "")) == approx(new.tables["assay"]["Sn_ppm"].mean(), rel=1e-3)  # type: ignore[attr-defined]
        a, b = both("Sn shell 800 ppm")
        card = difference(a, b)  # type: ignore[arg-type]
        volumes = found(card, "Volume")
        assert volumes.after == f"{b.volume_m3 / 1e6:,.6g} million m³"  # type: ignore[attr-defined]
        far = found(card, "Moved: farthest")
        assert far.place is not None
        brute = np.linalg.norm(np.array(far.place) - a.vertices, axis=1).min()  # type: ignore[attr-defined]
        assert float(far.after.split()[0]) <= brute + 0.01
    assert main(["compare", str(grown), "Sn shell 800 ppm"]) == 0
    assert "Moved: 95 % within" in capsys.readouterr().out
    assert main(["compare", str(grown), "Soil Sn"]) == 2
    assert "no earlier version" in capsys.readouterr().err


# ---- single kinds against changes that are known


def sphere(radius: float) -> Surface:
    from skimage.measure import marching_cubes

    n = 41
    g = np.linspace(-30, 30, n)
    x, y, z = np.meshgrid(g, g, g, indexing="ij")
    v, t, _, _ = marching_cubes(radius - np.sqrt(x**2 + y**2 + z**2), 0.0)
    return Surface(
        name="s",
        crs=CRS,
        vertices=v * (g[1] - g[0]) - 30.0,
        triangles=t,
        closed=True,
        volume_m3=4 / 3 * np.pi * radius**3,
    )


def test_distance_to_a_surface_agrees_with_brute_force_and_with_a_plane() -> None:
    rng = np.random.default_rng(4)
    vertices = rng.normal(size=(60, 3))
    triangles = rng.integers(0, 60, (90, 3))
    points = rng.normal(size=(40, 3)) * 2
    u, v = (a.ravel() for a in np.meshgrid(np.linspace(0, 1, 60), np.linspace(0, 1, 60)))
    u, v = u[u + v <= 1], v[u + v <= 1]
    a, b, c = (vertices[triangles[:, k]] for k in range(3))
    cloud = (a[:, None] + u[:, None] * (b - a)[:, None] + v[:, None] * (c - a)[:, None]).reshape(-1, 3)
    brute = np.array([np.linalg.norm(cloud - p, axis=1).min() for p in points])
    ours = distance_to_surface(points, vertices, triangles)
    assert (ours <= brute + 1e-12).mean() > 0.9  # the candidates hold the nearest one but in rare tangles
    assert np.abs(ours - brute).max() < 0.15
    square = np.array([[0.0, 0, 0], [1000, 0, 0], [1000, 1000, 0], [0, 1000, 0]])
    above = np.array([[500.0, 400, 7], [990, 10, -3], [1005, 500, 0]])
    assert distance_to_surface(above, square, np.array([[0, 1, 2], [0, 2, 3]])) == approx([7.0, 3.0, 5.0])


def test_a_shell_that_grew_by_three_metres_says_so() -> None:
    card = difference(sphere(17.0), sphere(20.0))
    assert float(found(card, "Moved: mean").after.split()[0]) == approx(3.0, abs=0.05)
    assert float(found(card, "Moved: farthest").after.split()[0]) == approx(3.0, abs=0.15)
    assert found(card, "Volume").before == f"{4 / 3 * np.pi * 17**3 / 1e6:,.6g} million m³"


def test_a_raised_grid_says_by_how_much_and_where() -> None:
    values = np.tile(np.arange(20.0), (20, 1))
    a = Grid(name="g", crs=CRS, values=values, x0=0.0, y0=0.0, dx=10.0, dy=10.0, attribute="Sn", unit="ppm")
    raised = values + 0.5
    raised[3, 7] += 9.0
    card = difference(a, dataclasses.replace(a, values=raised))
    assert float(found(card, "Change (ppm): mean").after) == approx(0.5 + 9 / 400, abs=1e-4)
    largest = found(card, "Change (ppm): largest")
    assert largest.after == "+9.5"
    assert largest.place is not None
    assert largest.place[:2] == (70.0, 30.0)


def test_volumes_by_class_of_a_model() -> None:
    box = np.arange(1000.0).reshape(10, 10, 10)
    a = BlockModel(
        name="m",
        crs=CRS,
        mesh=TensorMesh.even((0.0, 0.0, 0.0), (100.0, 100.0, 100.0), (10, 10, 10)),
        properties={"k": box},
        units={"k": "SI"},
    )
    b = dataclasses.replace(a, properties={"k": box * 2})
    card = difference(a, b)
    half = next(c for c in card if c.what.startswith("Volume with k ≥ 5"))  # the median of the first, 499.5
    assert (half.before, half.after) == ("500 million m³", "750 million m³")
    place = found(card, "k: largest change").place
    assert place == (950.0, 950.0, 950.0)


def test_different_kinds_can_not_be_compared() -> None:
    grid = Grid(name="g", crs=CRS, values=np.zeros((2, 2)), x0=0.0, y0=0.0, dx=1.0, dy=1.0, attribute="a")
    with pytest.raises(InputError, match="can't be compared"):
        difference(grid, sphere(9.0))
