"""Runs tasks in warm worker processes and tells what became of them. Knows nothing of any window.

The owner calls `Runner.poll` regularly (a timer in the window); it never waits. A worker that
dies takes only its own job with it: the job fails with the reason and a new worker takes its place.
"""

from __future__ import annotations

import itertools
import multiprocessing
import multiprocessing.connection
import signal
import time
from collections import deque
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any, Literal

from ..errors import Cancelled, LampError
from ..running.errands import Export, Exporter, SceneExport
from ..running.execute import Made, Task
from .starting import environment, many, without_current_folder
from .worker import clear_staging, serve

State = Literal["waiting", "running", "done", "failed", "cancelled"]
_TRIES = 3
_LAST_WAIT = 1.5  # seconds that closing waits for the workers to go
_PATIENCE = 0.4  # seconds that a job gets to stop by itself before its worker is ended


@dataclass
class Job:
    """One task on its way; `outcome` is what the operation itself said at its end, '' if nothing."""

    id: int
    task: Task | Export | SceneExport
    state: State = "waiting"
    fraction: float = 0.0
    message: str = "Waiting"
    outcome: str = ""
    measures: dict[str, float] = field(default_factory=dict)
    curve: list[tuple[float, float]] = field(default_factory=list)
    started: float = 0.0
    ended: float = 0.0
    made: Made | None = None
    files: tuple[str, ...] = ()
    error: LampError | None = None
    tries: int = 0  # how often it was handed to a worker
    watched: bool = False  # whether somebody looks at what it has by now
    shown: object = None  # the latest of that, until it is taken

    @property
    def active(self) -> bool:
        return self.state in ("waiting", "running")


@dataclass
class _Worker:
    process: BaseProcess
    connection: Connection
    stop: Any
    enough: Any
    watched: Any
    log: Path
    ready: bool = False
    job: Job | None = None
    begun: bool = False  # whether the worker said that it took its job up
    asked_to_stop: float = 0.0


class Runner:
    """A small pool of worker processes.

    Parameters
    ----------
    logs
        Folder for the workers' logs.
    workers
        How many; two let a small job pass a long one.
    exporter
        What draws pages, walk-throughs and 3D views in a worker; without one such errands fail with a sentence.
    """

    def __init__(self, logs: Path, workers: int = 2, exporter: Exporter | None = None) -> None:
        self._exporter = exporter
        self._context = many()
        self._logs = logs
        self._logs.mkdir(parents=True, exist_ok=True)
        self._numbers = itertools.count(1)
        self._waiting: deque[Job] = deque()
        self._count = workers
        self._workers: list[_Worker] = []
        self._serial = itertools.count(1)

    def start(self) -> None:
        """Start the workers so that they are warm when needed; otherwise the first job does."""
        while len(self._workers) < self._count:
            self._workers.append(self._new_worker())

    def new(self, task: Task | Export | SceneExport) -> Job:
        """Return a job that waits to be handed over by `hand_over`."""
        return Job(next(self._numbers), task)

    def hand_over(self, job: Job) -> None:
        """Queue a job."""
        job.state, job.message, job.fraction = "waiting", "Waiting", 0.0
        self._waiting.append(job)
        self.start()

    def submit(self, task: Task | Export | SceneExport) -> Job:
        """Queue a task."""
        job = self.new(task)
        self.hand_over(job)
        return job

    @property
    def busy(self) -> bool:
        """Whether anything waits or runs."""
        return bool(self._waiting) or any(w.job for w in self._workers)

    def cancel(self, job: Job) -> None:
        """Stop a job; its worker is ended if it does not stop by itself at once."""
        if job.state == "waiting":
            if job in self._waiting:
                self._waiting.remove(job)
            job.state, job.error, job.message = "cancelled", Cancelled(), "Cancelled"
        for worker in self._workers:
            if worker.job is job and not worker.asked_to_stop:
                worker.stop.set()
                worker.asked_to_stop = time.monotonic()

    def finish(self, job: Job) -> None:
        """Let a job that comes nearer step by step end with what it has; others go on as they would."""
        for worker in self._workers:
            if worker.job is job:
                worker.enough.set()

    def watch(self, job: Job, on: bool) -> None:
        """Let a job show what it has by now (`Job.shown`), or no longer."""
        job.watched = on
        for worker in self._workers:
            if worker.job is job:
                (worker.watched.set if on else worker.watched.clear)()

    def poll(self, patience: float = 0.0) -> list[Job]:
        """Take in what the workers said, hand out waiting jobs; returns the jobs that changed.

        Waits up to `patience` seconds for one of them to say something.
        """
        if patience and self._workers:
            multiprocessing.connection.wait(
                [part for w in self._workers for part in (w.connection, w.process.sentinel)], patience
            )
        changed: dict[int, Job] = {}
        for worker in list(self._workers):
            self._read(worker, changed)
            if worker.asked_to_stop and worker.job and time.monotonic() - worker.asked_to_stop > _PATIENCE:
                worker.process.kill()  # one that holds much memory takes a while to go: a later look buries it
            if not worker.process.is_alive():
                self._read(worker, changed)
                self._bury(worker, changed)
        for worker in list(self._workers):
            if worker.ready and worker.job is None and self._waiting:
                job = self._waiting.popleft()
                worker.job, worker.begun = job, False
                worker.asked_to_stop = 0.0
                worker.stop.clear()
                worker.enough.clear()
                (worker.watched.set if job.watched else worker.watched.clear)()
                job.tries += 1
                job.state, job.message, job.started = "running", "Starting", time.monotonic()
                changed[job.id] = job
                try:
                    worker.connection.send((job.id, job.task))
                except OSError:  # it died while it had nothing to do: the next look at it gives the job to another
                    worker.process.kill()
        return list(changed.values())

    def wait(self, job: Job, timeout: float = 600.0) -> Job:
        """Poll until a job has ended (for scripts and tests)."""
        end = time.monotonic() + timeout
        while job.active and time.monotonic() < end:
            self.poll(0.1)
        return job

    def close(self) -> None:
        """End all workers at once; one that takes long to give its memory back is not waited for."""
        for worker in self._workers:
            worker.connection.close()
            worker.process.kill()
        end = time.monotonic() + _LAST_WAIT
        for worker in self._workers:
            worker.process.join(max(end - time.monotonic(), 0.0))
            if not worker.process.is_alive():
                worker.process.close()
        for worker in self._workers:
            if worker.job:
                clear_staging(worker.job.task.staging)
        self._workers.clear()
        self._waiting.clear()

    def _new_worker(self) -> _Worker:
        # The library starts a process of its own for the events, beside the worker.
        with without_current_folder():
            return self._started()

    def _started(self) -> _Worker:
        here, there = self._context.Pipe()
        stop, enough, watched = (self._context.Event() for _ in range(3))
        log = self._logs / f"worker-{next(self._serial)}.log"
        process = self._context.Process(
            target=serve,
            args=(there, stop, enough, watched, str(log), environment(), self._exporter),
            daemon=True,
            name="inner-lamp worker",
        )
        process.start()
        there.close()
        return _Worker(process, here, stop, enough, watched, log)

    def _read(self, worker: _Worker, changed: dict[int, Job]) -> None:
        try:
            while worker.connection.poll():
                message = worker.connection.recv()
                if message[0] == "ready":
                    worker.ready = True
                    continue
                job = worker.job
                if job is None or message[1] != job.id:
                    continue
                changed[job.id] = job
                worker.begun = True
                if message[0] == "begun":
                    continue
                if message[0] == "shown":
                    job.shown = message[2]
                elif message[0] == "progress":
                    _, _, job.fraction, job.message, measures = message
                    if job.fraction >= 0.95 and job.message not in ("", "Done", "Storing"):
                        job.outcome = job.message
                    if measures:
                        job.measures = measures
                        if "misfit" in measures:
                            job.curve.append((measures.get("iteration", len(job.curve) + 1.0), measures["misfit"]))
                elif message[0] == "done":
                    self._end(worker, "done", None)
                    job.fraction = 1.0
                    if isinstance(message[2], Made):
                        job.made = message[2]
                    else:
                        job.files = message[2]
                else:
                    error = message[2]
                    self._end(worker, "cancelled" if isinstance(error, Cancelled) else "failed", error)
        except (EOFError, OSError):
            return

    def _end(self, worker: _Worker, state: State, error: LampError | None) -> None:
        job = worker.job
        assert job is not None
        job.state, job.error, job.ended = state, error, time.monotonic()
        job.message = {"done": "Done", "cancelled": "Cancelled"}.get(state, str(error))
        worker.job = None
        worker.asked_to_stop = 0.0

    def _bury(self, worker: _Worker, changed: dict[int, Job]) -> None:
        job = worker.job
        if job is not None:
            clear_staging(job.task.staging)
            changed[job.id] = job
            if worker.asked_to_stop:
                self._end(worker, "cancelled", Cancelled())
            elif not worker.begun and job.tries < _TRIES:
                # The worker was gone before it took the job up: another does it.
                job.state, job.message, job.fraction = "waiting", "Waiting", 0.0
                self._waiting.appendleft(job)
            else:
                self._end(
                    worker,
                    "failed",
                    LampError(
                        f"the worker process ended: {_reason(worker.process.exitcode)}",
                        where=job.task.label,
                        fix=f"Its log is {worker.log}",
                    ),
                )
        code = worker.process.exitcode
        worker.process.close()
        worker.connection.close()
        self._workers.remove(worker)
        # A worker that can't even start would be replaced for ever.
        if worker.ready or code == -signal.SIGKILL:
            self._workers.append(self._new_worker())
        elif not self._workers:
            for waiting in self._waiting:
                waiting.state, waiting.error = (
                    "failed",
                    LampError("no worker process could be started", fix=f"See {worker.log}"),
                )
                changed[waiting.id] = waiting
            self._waiting.clear()


def _reason(code: int | None) -> str:
    if code is None:
        return "for an unknown reason"
    if code < 0:
        name = signal.Signals(-code).name
        hint = " (perhaps there was not enough memory)" if -code == signal.SIGKILL else ""
        return f"stopped by the signal {name}{hint}"
    return f"exit code {code}"
