"""A process that kills the worker in each stage of each operation and writes down what was not as before.

`python -m tests.core.stage_kills DEMO FOLDER [NAME] [AT_MOST]` runs the example of each operation (those whose name holds
NAME) on a copy of the project DEMO, notes the stages that it tells of, and runs it once more for each of them (AT_MOST
a operation), killing the worker as soon as that stage is seen. After each the job must have failed in one sentence, the
project must hold what it held, nothing may be left of it, and at the end the operation must run as if nothing had been.
It prints one line of JSON: how many kills, stages that were over before they could be met, and the faults.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import sys
import time
import warnings
from collections import Counter
from pathlib import Path

from innerlamp.api import Project
from innerlamp.core.errors import LampError
from innerlamp.core.jobs.runner import Job, Runner
from innerlamp.core.running.execute import Task, prepare
from innerlamp.core.running.table import OPERATIONS

from ..choices.cases import small
from ..choices.examples import WITHOUT_EXAMPLE, Examples, seen

PATIENCE = 300.0


def stage_of(message: str) -> str:
    """A stage without the numbers that count within it."""
    return re.sub(r"[\d.,]+", "#", message)


def followed(runner: Runner, job: Job, until: str = "") -> list[str]:
    """Poll a job to its end; kill its worker when `until` is seen. Returns the stages seen."""
    stages: list[str] = []
    end = time.monotonic() + PATIENCE
    while job.active and time.monotonic() < end:
        runner.poll(0.002)
        stage = stage_of(job.message)
        if job.state == "running" and stage not in stages:
            stages.append(stage)
            if stage == until:
                worker = next(w for w in runner._workers if w.job is job)
                os.kill(worker.process.pid or 0, signal.SIGKILL)
    return stages


def attacked(examples: Examples, runner: Runner, name: str, at_most: int, told: Counter[str]) -> list[str]:
    """Kill one operation in its stages; returns the faults."""
    faults: list[str] = []
    project, made = examples.project, dict[str, str]()
    op = OPERATIONS[name]
    examples.before(op, made)
    params = {**examples.params(op), **small(op)}
    inputs = examples.inputs(op, made)

    def task() -> Task:
        ids = {
            slot: [project.store.find(g).id for g in given]
            if isinstance(given, list | tuple)
            else project.store.find(given).id
            for slot, given in inputs.items()
        }
        return prepare(project.store, name, params, ids)

    job = runner.submit(task())
    stages = followed(runner, job)
    if job.state != "done":
        return [f"{name}: not done even before: {job.message} {job.error}"]
    shutil.rmtree(job.task.staging, ignore_errors=True)
    before = seen(project)
    for stage in stages[:at_most]:
        job = runner.submit(task())
        followed(runner, job, stage)
        if job.state == "done":
            told["missed"] += 1
            shutil.rmtree(job.task.staging, ignore_errors=True)
            continue
        told["kills"] += 1
        where = f"{name} at '{stage}'"
        words = str(job.error)
        if job.state != "failed" or not isinstance(job.error, LampError) or "SIGKILL" not in words or "\n" in words:
            faults.append(f"{where}: {job.state}, {words}")
        if Path(job.task.staging).exists():
            faults.append(f"{where}: its staging is left")
        if seen(project) != before:
            faults.append(f"{where}: the project changed")
    job = runner.submit(task())
    followed(runner, job)
    if job.state != "done":
        faults.append(f"{name}: not done afterwards: {job.message} {job.error}")
    shutil.rmtree(job.task.staging, ignore_errors=True)
    return faults


def main(demo: Path, folder: Path, part: str, at_most: int) -> None:
    warnings.simplefilter("ignore")
    folder.mkdir(parents=True, exist_ok=True)
    copy = folder / "copy.lamp"
    shutil.rmtree(copy, ignore_errors=True)
    shutil.copytree(demo, copy)
    told = Counter(operations=0, kills=0, missed=0)
    faults: list[str] = []
    runner = Runner(folder / "logs", workers=1)
    try:
        with Project.open(copy) as project:
            examples = Examples(project, folder)
            for name, op in OPERATIONS.items():
                if part in name and name not in WITHOUT_EXAMPLE and op.example is not None:
                    told["operations"] += 1
                    try:
                        faults += attacked(examples, runner, name, at_most, told)
                    except LampError as error:
                        faults.append(f"{name}: {error}")
                    print(f"{name}: {json.dumps(told)} {len(faults)} faults", file=sys.stderr)
    finally:
        runner.close()
    print(json.dumps({**told, "faults": faults}))


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), *(sys.argv[3:4] or [""]), int((sys.argv[4:5] or ["8"])[0]))
