"""Emberlow's geology: models held against the rocks of the demo, what phase-two holes change, and how long it all takes."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from innerlamp.api import Project
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import Progress
from innerlamp.core.running import execute
from innerlamp.demo import build, geology
from innerlamp.demo.agreement import against_the_truth

from .table import Row, seconds

SECOND = {
    "collar": "collars.csv",
    "survey": "downhole_surveys.csv",
    "assay": "assays.csv",
    "lithology": "geology_log.csv",
}


class Watch(Progress):
    """Notes when the first model was shown."""

    def __init__(self) -> None:
        self.begun, self.shown = time.perf_counter(), 0.0

    def show(self, what: object) -> None:
        self.shown = self.shown or time.perf_counter() - self.begun


def rows_of(model: BlockModel, what: str) -> Iterator[Row]:
    table = against_the_truth(model)
    for row in table.itertuples():
        words = f"true {row.true:,.1f}, modelled {row.modelled:,.1f} million m3"
        yield Row(
            f"{what}: {row.unit}",
            f"{row.overlap:.0f} %",
            "",
            words if row.unit != "all" else "volume with the true unit",
        )


def model_of(project: Project, item: str) -> BlockModel:
    model = project[item]
    assert isinstance(model, BlockModel)
    return model


def emberlow_geology() -> Iterator[Row]:
    """The models of the demo, made again with the holes of phase two, and without any."""
    folder = Path(tempfile.mkdtemp())
    shutil.copytree(build.ensure(), folder / "e.lamp")
    phase_two = {k: str(build.FILES / "drilling_second_phase" / v) for k, v in SECOND.items()}
    with Project.open(folder / "e.lamp") as project:
        before = project.store.find(geology.MODEL).id
        yield from rows_of(model_of(project, before), "Phase one")
        yield from rows_of(model_of(project, geology.FROM_MAP), "From the map")
        project.run("import-holes", name="Phase two alone", **phase_two)

        def score() -> float:
            table = project[
                project.run("score-model", holes="Phase two alone", model=before, attribute="Rock")["by_hole"]
            ]
            assert isinstance(table, PointSet)
            wrong, agree = table.table["wrong"], table.table["agreement"]
            metres = wrong / (1.0 - agree.clip(upper=99.999) / 100.0)
            return float(100.0 - 100.0 * wrong.sum() / metres.sum())

        first = score()
        project.run("add-holes", holes="Emberlow holes", **phase_two)
        warm: dict[str, Any] = geology.model_params(100.0, 50.0) | {"name": "Warm"}  # as a worker of the window is
        chosen = {s: [i for i, _ in pairs] for s, pairs in project.store.find(geology.MODEL).chain[0].inputs.items()}
        execute.perform(execute.prepare(project.store, "build-units", warm, chosen))
        params: dict[str, Any] = dict(project.store.entry(before).chain[0].params)
        task = execute.rerun(project.store, before, params)
        watch = Watch()
        took = seconds(lambda: execute.land(project.store, task, execute.perform(task, watch)))
        yield Row("Emberlow's geology made again when holes are added", f"{took:.1f} s", "20 s")
        yield Row("its coarse model is seen after", f"{watch.shown:.1f} s", "2 s")
        yield Row(
            "Phase two: metres of its holes that the model has, before and after",
            f"{first:.1f} to {score():.1f} %",
            "better",
        )
        yield from rows_of(model_of(project, before), "Phase two")
        inputs = {slot: [i for i, _ in pairs] for slot, pairs in project.store.entry(before).chain[0].inputs.items()}
        many = execute.prepare(project.store, "unit-uncertainty", params | {"realisations": 100, "name": ""}, inputs)
        took = seconds(lambda: execute.perform(many))
        yield Row("100 realisations of Emberlow's geology", f"{took:.0f} s", "600 s")
    shutil.rmtree(folder, ignore_errors=True)
