"""The demo's geology against the rocks that it was made of, and what the holes of the second phase change."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from innerlamp.api import Project
from innerlamp.core.items.fields import BlockModel, Surface
from innerlamp.core.items.points import PointSet
from innerlamp.core.running import execute
from innerlamp.demo import build, geology
from innerlamp.demo.agreement import against_the_truth

SECOND = {
    "collar": "collars.csv",
    "survey": "downhole_surveys.csv",
    "assay": "assays.csv",
    "lithology": "geology_log.csv",
}


def overlap(project: Project, name: str) -> dict[str, float]:
    model = project[name]
    assert isinstance(model, BlockModel)
    return dict(against_the_truth(model).set_index("unit")["overlap"])


def wrong(project: Project, holes: str) -> float:
    by_hole = project[project.run("score-model", holes=holes, model=geology.MODEL, attribute="Rock")["by_hole"]]
    assert isinstance(by_hole, PointSet)
    return float(by_hole.table["wrong"].sum())


@pytest.fixture
def emberlow(demo_path: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(demo_path, tmp_path / "Emberlow.lamp"))


def test_the_model_has_the_rocks_and_new_holes_make_it_better(emberlow: Path) -> None:
    second = {k: str(build.FILES / "drilling_second_phase" / v) for k, v in SECOND.items()}
    with Project.open(emberlow) as project:
        before = overlap(project, geology.MODEL)
        assert before["all"] > 85 and before["Till"] > 75 and before["Dolerite"] > 80 and before["Porphyry"] > 60
        assert min(before[n] for n in ("Granite", "Marble", "Greisen veins", "Skarn")) > 30
        project.run("import-holes", name="Second phase", **second)
        foretold = wrong(project, "Second phase")
        project.run("add-holes", holes="Emberlow holes", **second)
        run = project.store.find(geology.MODEL).chain[0]
        task = execute.rerun(project.store, project.store.find(geology.MODEL).id, run.params)
        execute.land(project.store, task, execute.perform(task))
        after = overlap(project, geology.MODEL)
        assert after["all"] > before["all"] + 1.0
        assert all(after[n] > before[n] for n in ("Granite", "Greisen veins", "Skarn"))
        assert wrong(project, "Second phase") < 0.85 * foretold
        shells = [project[f"Sn shell {c} ppm"] for c in (800, 2500)]
        assert all(isinstance(s, Surface) for s in shells) and shells[0].volume_m3 > shells[1].volume_m3 > 0  # type: ignore[attr-defined]


def test_a_model_comes_of_the_map_and_readings_alone(demo_path: Path) -> None:
    with Project.open(demo_path, write=False) as project:
        found = overlap(project, geology.FROM_MAP)
        assert found["all"] > 85 and found["Porphyry"] > 40 and found["Gabbro"] > 50
        assert "holes" not in project.store.find(geology.FROM_MAP).chain[0].inputs
