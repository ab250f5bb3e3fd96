"""Worker processes: results, progress, cancel within a second, death with its reason."""

from __future__ import annotations

import dataclasses
import os
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.errors import InputError
from innerlamp.core.formats.tables import tables_in
from innerlamp.core.items.points import PointSet
from innerlamp.core.jobs.runner import Job, Runner
from innerlamp.core.project import trail
from innerlamp.core.project.store import Store, stage
from innerlamp.core.running import execute


@pytest.fixture(scope="module")
def runner(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Runner]:
    pool = Runner(tmp_path_factory.mktemp("logs"), workers=1)
    pool.start()
    yield pool
    pool.close()


def soils(count: int, seed: int = 0) -> PointSet:
    rng = np.random.default_rng(seed)
    table = pd.DataFrame(
        {
            "x": rng.uniform(0, 1000, count),
            "y": rng.uniform(0, 1000, count),
            "z": np.nan,
            "Sn": rng.lognormal(1, 1, count),
        }
    )
    return PointSet(name="Soils", crs="EPSG:32629", table=table, units={"Sn": "ppm"})


def task(store: Store, cell: float = 25.0, item: str = "") -> execute.Task:
    item = item or store.put(soils(300))
    return execute.prepare(store, "grid-minimum-curvature", {"attribute": "Sn", "cell": cell}, {"samples": item})


def until(runner: Runner, job: Job, state: str, seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while job.state != state and time.monotonic() < end:
        runner.poll(0.1)
    assert job.state == state, job.message


def started_solving(runner: Runner, job: Job) -> None:
    """Wait until the operation itself has said that it is under way."""
    end = time.monotonic() + 60.0
    while not job.fraction and job.active and time.monotonic() < end:
        runner.poll(0.1)
    assert job.fraction > 0


def test_result_lands_with_its_recipe(store: Store, runner: Runner) -> None:
    wanted = task(store)
    job = runner.wait(runner.submit(wanted))
    assert (job.state, job.error) == ("done", None)
    assert job.fraction == 1.0
    made = execute.land(store, wanted, job.made)
    entry = store.entry(made["grid"])
    assert entry.recipe is not None
    assert entry.recipe.params["cell"] == 25.0
    assert trail.freshness(store)[entry.id] == "fresh"
    assert not Path(wanted.staging).exists()
    here = execute.perform(wanted).results["grid"].manifest  # the same in this process: named by content, so equal
    assert here["arrays"] == store.manifest(entry.version)["arrays"]


def test_late_result_of_replaced_input_lands_as_stale(store: Store, runner: Runner) -> None:
    item = store.put(soils(300))
    job = runner.submit(task(store, item=item))
    store.add({"0": stage(store.payloads, soils(300, seed=1))}, "New soils", replace={"0": item})
    runner.wait(job)
    made = execute.land(store, job.task, job.made)
    assert trail.freshness(store)[made["grid"]] == "stale"


def test_cancel_ends_a_solve_that_does_not_look_up_and_leaves_nothing(store: Store, runner: Runner) -> None:
    job = runner.submit(task(store, cell=2.2))  # a solve of many seconds that does not look up
    until(runner, job, "running")
    started_solving(runner, job)
    runner.cancel(job)
    until(runner, job, "cancelled", 5.0)
    assert not Path(job.task.staging).exists()
    assert len(store.entries()) == 1


def test_death_is_reported_and_the_next_job_runs(store: Store, runner: Runner) -> None:
    job = runner.submit(task(store, cell=2.2))
    until(runner, job, "running")
    started_solving(runner, job)
    pid = runner._workers[0].process.pid
    assert pid is not None
    os.kill(pid, signal.SIGKILL)
    until(runner, job, "failed", 10.0)
    words = str(job.error)
    assert "signal SIGKILL (perhaps there was not enough memory)" in words
    log = Path(words.split("Its log is ")[1].rstrip("."))
    assert "grid-minimum-curvature" in log.read_text()
    assert runner.wait(runner.submit(task(store))).state == "done"


def test_a_failing_operation_says_why(store: Store, runner: Runner) -> None:
    table = soils(3).table.assign(x=[0.0, 1.0, 2.0], y=[0.0, 1.0, 2.0])
    item = store.put(PointSet(name="Line", crs="EPSG:32629", table=table))
    job = runner.wait(
        runner.submit(
            execute.prepare(store, "grid-minimum-curvature", {"attribute": "Sn", "cell": 0.5}, {"samples": item})
        )
    )
    assert job.state == "failed"
    assert "one line" in str(job.error)


@pytest.mark.parametrize(
    ("params", "inputs", "words"),
    [
        ({"attribute": "Sn", "cell": -1}, True, "cell .Cell size. must be greater than or equal to 0, not -1"),
        ({"attribute": "Au"}, True, "has no attribute 'Au'. It has: Sn"),
        ({"attribute": "Sn", "colour": 1}, True, "there is no parameter 'colour'"),
        ({}, True, "'attribute' is needed"),
        ({"attribute": "Sn"}, False, "the input 'samples' is needed"),
    ],
)
def test_wrong_tasks_never_start(store: Store, params: dict[str, object], inputs: bool, words: str) -> None:
    item = store.put(soils(20))
    with pytest.raises(InputError, match=words):
        execute.prepare(store, "grid-minimum-curvature", params, {"samples": item} if inputs else {})


def test_what_was_shown_of_a_file_is_what_runs(store: Store, runner: Runner, tmp_path: Path) -> None:
    """The worker does not look at the file again: it reads it as the layout that was looked at says."""
    file = tmp_path / "soils.csv"
    file.write_text("x;y;Sn ppm\n" + "".join(f"{500000 + k},5;{6000000 + k};{k},25\n" for k in range(40)))
    shown = tables_in.look(file)
    assert shown.decimal_comma
    wanted = execute.prepare(store, "import-points", {"file": str(file)}, {})
    assert [each[3] for each in wanted.layouts] == [shown]
    # A heading that stands in no file: only this process can know of it.
    other = dataclasses.replace(shown, columns=("x", "y", "Zinn ppm"))
    job = runner.wait(runner.submit(dataclasses.replace(wanted, layouts=((*wanted.layouts[0][:3], other),))))
    assert job.state == "done", job.message
    made = execute.land(store, wanted, job.made)
    assert "Zinn ppm" in store.load(made["points"]).table.columns  # type: ignore[attr-defined]
    again = tables_in.look(file)
    assert again is shown
    file.write_text(file.read_text() + "1,5;2;3\n")
    assert tables_in.look(file) is not shown  # a file that changed is looked at anew


def test_a_job_handed_to_a_worker_that_was_killed_while_idle_is_run_by_the_next(store: Store, tmp_path: Path) -> None:
    pool = Runner(tmp_path / "logs", workers=1)
    try:
        pool.start()
        while not pool._workers[0].ready:
            pool.poll(0.1)
        worker = pool._workers[0]
        os.kill(worker.process.pid or 0, signal.SIGSTOP)  # it hears nothing, and is not dead yet
        job = pool.submit(task(store, 50.0))
        pool.poll()
        assert job.state == "running"
        os.kill(worker.process.pid or 0, signal.SIGKILL)
        pool.wait(job)
        assert (job.state, job.tries) == ("done", 2)
        # One that is dead by the time a job is sent to it.
        worker = pool._workers[0]
        worker.process.kill()
        worker.process.join(5)
        another = pool.submit(task(store, 40.0))
        pool.wait(another)
        assert another.state == "done"
    finally:
        pool.close()


def test_a_job_that_ends_its_worker_itself_is_not_tried_again(store: Store, runner: Runner) -> None:
    job = runner.submit(task(store, 2.0))
    started_solving(runner, job)
    os.kill(runner._workers[0].process.pid or 0, signal.SIGKILL)
    runner.wait(job)
    assert (job.state, job.tries) == ("failed", 1)


def test_closing_waits_for_no_worker_that_takes_long_to_go(store: Store, tmp_path: Path) -> None:
    """A process that holds much memory is alive for seconds after it was killed; its object can't be closed until then."""
    pool = Runner(tmp_path / "logs", workers=1)
    job = pool.submit(task(store, 2.0))
    started_solving(pool, job)
    worker, real = pool._workers[0], pool._workers[0].process

    class Lingers:
        exitcode = None
        waited = 0.0

        def kill(self) -> None:
            real.kill()

        def join(self, timeout: float) -> None:
            self.waited += timeout

        def is_alive(self) -> bool:
            return True

        def close(self) -> None:
            raise ValueError("Cannot close a process while it is still running")

    worker.process = lingers = Lingers()  # type: ignore[assignment]
    pool.close()
    assert lingers.waited <= 1.5
    assert not pool.busy
    assert not Path(job.task.staging).exists()
    real.join(10)


def test_a_process_has_the_variables_of_now_though_it_comes_from_one_that_was_kept(
    runner: Runner, monkeypatch: pytest.MonkeyPatch
) -> None:
    from innerlamp.core.jobs import looking

    runner.start()  # from here on processes divide off the one that is kept
    for value in ("one", "two"):
        looking.close()
        monkeypatch.setenv("INNER_LAMP_TRIED", value)
        assert looking.ask(os.getenv, "INNER_LAMP_TRIED") == value
    looking.close()
