"""Changes of one item have their turns, runs made anew included; a result that can't land is kept as an item of its own."""

from __future__ import annotations

import dataclasses
import gc
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.app.session.desk import JobDesk
from innerlamp.core.errors import InputError, LampError, ProjectError
from innerlamp.core.items.fields import Grid
from innerlamp.core.jobs.runner import Job
from innerlamp.core.operations.geophysics import solving
from innerlamp.core.project.store import Store, stage
from innerlamp.core.running import execute
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"


class Slow:
    """A runner whose jobs end when they are told to."""

    def __init__(self) -> None:
        self.jobs: list[Job] = []
        self.changed: list[Job] = []
        self.count = 0

    def new(self, task: object) -> Job:
        self.count += 1
        return Job(self.count, task)  # type: ignore[arg-type]

    def hand_over(self, job: Job) -> None:
        job.state = "running"
        self.jobs.append(job)

    def cancel(self, job: Job) -> None:
        job.state = "cancelled"

    def end(self, job: Job) -> None:
        assert isinstance(job.task, execute.Task)
        try:
            job.made, job.state = execute.perform(job.task), "done"
        except LampError as error:
            job.error, job.state = error, "failed"
        self.changed.append(job)

    def poll(self) -> list[Job]:
        told, self.changed = self.changed, []
        return told


class Desk:
    """A project of samples and their grid, with the desk that changes it."""

    def __init__(self, store: Store) -> None:
        self.store, self.runner = store, Slow()
        self.desk = JobDesk(store, self.runner)  # type: ignore[arg-type]
        self.said: list[str] = []
        self.desk.said.connect(lambda text, _: self.said.append(text))
        rng = np.random.default_rng(1)
        table = pd.DataFrame({"x": 430_000 + rng.uniform(0, 300, 60), "y": 7_410_000 + rng.uniform(0, 300, 60)})
        table.assign(Cu_ppm=rng.lognormal(2, 1, 60)).to_csv(store.path.parent / "soils.csv", index=False)
        self.soils = execute.run(store, "import-points", {"file": str(store.path.parent / "soils.csv")}, {})["points"]
        made = execute.run(
            store, "grid-minimum-curvature", {"attribute": "Cu_ppm", "cell": 20.0}, {"samples": self.soils}
        )
        self.grid = made["grid"]

    @property
    def params(self) -> dict[str, object]:
        return dict(self.store.entry(self.grid).chain[0].params)

    def end(self, job: Job) -> None:
        self.runner.end(job)
        self.desk.poll()
        self.desk.poll()


@pytest.fixture
def at(tmp_path: Path) -> Iterator[Desk]:
    with Store.create(tmp_path / "p.lamp", CRS) as store:
        yield Desk(store)


def cell(at: Desk, item: str) -> float:
    grid = at.store.load(item)
    assert isinstance(grid, Grid)
    return grid.dx


def test_a_unit_described_while_the_run_is_made_anew_waits_and_both_stand(at: Desk) -> None:
    run = at.desk.rerun(at.grid, {**at.params, "cell": 10.0})
    described = at.desk.start("describe-attribute", {"attribute": "Cu_ppm", "unit": "g/t"}, {"item": at.grid})
    assert (run.state, described.state) == ("running", "waiting")
    at.end(run)
    if described.state == "running":  # the new version was not at hand in this process
        at.end(described)
    assert described.state == "done"
    assert cell(at, at.grid) == 10.0
    assert at.store.entry(at.grid).attributes["Cu_ppm"].unit == "g/t"
    assert [step.operation for step in at.store.entry(at.grid).chain] == [
        "grid-minimum-curvature",
        "describe-attribute",
    ]
    at.store.undo()
    assert (at.store.entry(at.grid).attributes["Cu_ppm"].unit, cell(at, at.grid)) == ("ppm", 10.0)
    at.store.undo()
    assert cell(at, at.grid) == 20.0


def test_a_rerun_waits_for_an_edit_and_is_made_with_it(at: Desk) -> None:
    edit = at.desk.start("smooth-grid", {"width": 60.0}, {"grid": at.grid})  # a run, not an edit: nothing waits for it
    column = at.desk.start("compute-column", {"name": "twice", "expression": "Cu_ppm * 2"}, {"item": at.soils})
    other = at.desk.start("compute-column", {"name": "half", "expression": "twice / 4"}, {"item": at.soils})
    assert [j.state for j in (edit, column, other)] == ["running", "running", "waiting"]
    drop = at.desk
    at.end(column)
    assert other.state == "running"
    at.end(other)
    assert {"twice", "half"} <= set(at.store.load(at.soils).table.columns)  # type: ignore[attr-defined]
    again = drop.redo_edit(at.soils, 1, {"name": "twice", "expression": "Cu_ppm * 20"})
    later = drop.redo_edit(at.soils, 2, None)
    assert (again.state, later.state) == ("running", "waiting")
    at.end(again)
    at.end(later)
    table = at.store.load(at.soils).table  # type: ignore[attr-defined]
    assert "half" not in table.columns
    assert table["twice"].to_numpy() == pytest.approx(20 * table["Cu_ppm"].to_numpy())


@pytest.mark.parametrize("how", ["taken off the shelf", "changed"])
def test_what_was_made_for_an_item_that_went_another_way_is_kept_apart(at: Desk, how: str) -> None:
    run = at.desk.rerun(at.grid, {**at.params, "cell": 10.0})
    if how == "changed":  # as by undo, which waits for nobody
        grid = at.store.load(at.grid)
        at.store.add({"0": stage(at.store.payloads, grid)}, "Touched", replace={"0": at.grid})
    else:
        at.store.remove([at.grid])
    before = {e.id for e in at.store.entries()}
    at.end(run)
    fresh = [e for e in at.store.entries() if e.id not in before]
    assert [cell(at, e.id) for e in fresh] == [10.0]
    assert f"{how} meanwhile. What was made is kept as '{fresh[0].name}'" in at.said[-1]
    assert fresh[0].chain[0].operation == "grid-minimum-curvature"
    at.store.undo()
    assert {e.id for e in at.store.entries()} == before


def test_who_waits_behind_one_that_is_cancelled_or_fails_goes_on(at: Desk) -> None:
    first = at.desk.start("compute-column", {"name": "a", "expression": "Cu_ppm * 2"}, {"item": at.soils})
    fails = at.desk.start("compute-column", {"name": "b", "expression": "nothing * 2"}, {"item": at.soils})
    waits = at.desk.start("compute-column", {"name": "c", "expression": "Cu_ppm * 3"}, {"item": at.soils})
    last = at.desk.start("compute-column", {"name": "d", "expression": "Cu_ppm * 4"}, {"item": at.soils})
    at.desk.cancel(waits)
    at.end(first)
    at.end(fails)
    assert (fails.state, waits.state, last.state) == ("failed", "cancelled", "running")
    at.end(last)
    assert [s.params["name"] for s in at.store.entry(at.soils).edits] == ["a", "d"]


def test_nothing_is_made_anew_where_one_may_only_look(at: Desk, tmp_path: Path) -> None:
    with Store.open(tmp_path / "p.lamp", write=False) as store:
        desk = JobDesk(store, Slow())  # type: ignore[arg-type]
        for ask in (
            lambda: desk.rerun(at.grid, at.params),
            lambda: desk.again(at.grid),
            lambda: desk.start("compute-column", {"name": "a", "expression": "Cu_ppm"}, {"item": at.soils}),
        ):
            with pytest.raises(ProjectError, match="read-only"):
                ask()
        assert not desk.jobs


def test_jobs_that_ended_long_ago_are_let_go_and_chains_hold_each_step_once(at: Desk) -> None:
    asked = [{"name": f"c{k % 7}", "expression": f"Cu_ppm * {k + 1}"} for k in range(120)]
    for values in asked:
        at.end(at.desk.start("compute-column", values, {"item": at.soils}))
    assert len(at.desk.jobs) == 100
    chain = at.store.entry(at.soils).chain
    assert len(chain) == 121
    held = [r for r in gc.get_referrers(chain[1]) if isinstance(r, tuple) and len(r) > 1]
    assert len(held) <= 3  # of the item as it is now, not of each of its versions


def test_a_project_from_elsewhere_reads_no_file_unasked(at: Desk) -> None:
    """A stranger's recipe may name any file of this user's: what would be read waits, and is said."""
    cells = np.full((20, 20), 4000.0)
    ground = Grid(
        name="Ground", crs=CRS, values=cells, x0=429_900.0, y0=7_409_900.0, dx=30.0, dy=30.0, attribute="elevation",
        unit="m", quantities={"elevation": "elevation"},
    )  # fmt: skip
    dem = at.store.put(ground)
    folder = at.store.path.parent
    (folder / "collar.csv").write_text("hole,x,y,depth\nA,430100,7410100,50\n")
    (folder / "survey.csv").write_text("hole,depth,azimuth,dip\nA,0,90,-60\n")
    file = str(folder / "collar.csv")
    files = {"collar": file, "survey": str(folder / "survey.csv")}
    high = execute.run(at.store, "import-holes", files, {"ground": dem})["holes"]
    smooth = execute.run(at.store, "smooth-grid", {"width": 60.0}, {"grid": dem})
    desk = JobDesk(at.store, at.runner, trusted=False)  # type: ignore[arg-type]
    said: list[str] = []
    desk.said.connect(lambda text, _: said.append(text))
    at.store.add(
        {"0": stage(at.store.payloads, dataclasses.replace(ground, values=cells + 12.0))}, "Touched", replace={"0": dem}
    )
    desk.keep_fresh()
    desk.keep_fresh()
    made = {i for job in desk.jobs for i in job.task.items}  # type: ignore[union-attr]
    assert made == set(smooth.values())  # what reads nothing is made again as ever
    assert [text for text in said if file in text] == [said[0]]
    assert "It waits" in said[0]
    for job in list(desk.jobs):
        at.runner.end(job)
    desk.poll()
    desk.again(high)  # asked for by the user
    assert desk.jobs[-1].task.items == {high}  # type: ignore[union-attr]
    at.runner.cancel(desk.jobs[-1])
    desk.cancel(desk.jobs[-1])
    again = JobDesk(at.store, at.runner, trusted=False)  # type: ignore[arg-type]
    again.keep_fresh()
    assert not again.jobs
    again.trust(True)
    assert {i for job in again.jobs for i in job.task.items} == {high}  # type: ignore[union-attr]


def test_no_recipe_names_the_address_of_a_cluster(monkeypatch: pytest.MonkeyPatch) -> None:
    op = OPERATIONS["invert-magnetics"]
    params = op.check({"attribute": "TMI", "cluster": "tcp://203.0.113.7:8786"})
    assert "203.0.113.7" not in params.model_dump_json()
    assert params.cluster == "my cluster"  # type: ignore[attr-defined]
    assert op.check({"attribute": "TMI", "cluster": ""}).cluster == "this machine"  # type: ignore[attr-defined]
    monkeypatch.delenv("INNER_LAMP_CLUSTER", raising=False)
    with pytest.raises(InputError, match="no cluster is set"):
        solving._my_cluster()
