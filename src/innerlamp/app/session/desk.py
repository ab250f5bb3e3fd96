"""The jobs of a session: what runs, what waits for its turn, and what comes of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Cancelled, LampError, ProjectError
from ...core.items.attributes import in_role, is_ground
from ...core.jobs.runner import Job, Runner
from ...core.jobs.worker import clear_staging
from ...core.project import trail
from ...core.project.records import Result
from ...core.project.store import Moved, Store
from ...core.running import execute
from ...core.running.errands import Export, SceneExport, prepare_export
from ...core.running.execute import Task
from ...core.running.fresh import Fresh
from ...core.running.task import area_of
from ...core.signal import Signal
from .turns import Turns

_TRIES = 5
_KEPT = 100  # jobs that have ended
# What was asked for: it is prepared anew when its turn comes. None when there is nothing left to do.
_Wish = Callable[[], Task | None]


class JobDesk:
    """Starts operations, one edit of an item after the other, lands what they made, keeps items fresh.

    Whatever changes an item by a user's wish (an edit, an edit made otherwise or dropped, a run made anew) has its turn and
    is prepared when that comes, so that two quick changes of one item both stand. Instant edits are carried out here and
    now when nothing is ahead of them. A result that can't land any more, since its item was taken back or off the shelf
    meanwhile, is kept as an item of its own. Whatever a session's jobs still bring after it is closed is dropped.

    What came of a job is told by `changed`, `landed` and `said` after the call that started it has returned, whether a
    worker carried it out or this thread did at once: who starts a job knows which one it is before its end is told.
    `untold` says that there is something that the next `poll` will tell.
    """

    def __init__(self, store: Store, runner: Runner, trusted: bool = True) -> None:
        self.store, self.runner = store, runner
        self.jobs: list[Job] = []
        self.changed: Signal[[list[Job]]] = Signal()
        self.landed: Signal[[Job, dict[str, str]]] = Signal()
        self.said: Signal[[str, str]] = Signal()
        self.untold: Signal[[]] = Signal()
        self.closed = False
        self.sparing = False  # whether many items come in at once, of which the first of each kind are lit
        self._news: list[Callable[[], None]] = []
        self._here = False  # whether a job is carried out in this thread just now
        self._turns = Turns()
        self._wishes: dict[int, _Wish] = {}
        self._causes: dict[int, int] = {}
        self._tries: dict[int, int] = {}
        self._fresh = Fresh(store, trusted)
        self._asked: set[str] = set()

    @property
    def quiet(self) -> bool:
        """Whether all that came of jobs was told."""
        return not self._news

    def _tell(self, told: Callable[[], None]) -> None:
        """Tell something now, or at the next poll when it comes of a job that is carried out here."""
        if not self._here:
            told()
            return
        self._news.append(told)
        if len(self._news) == 1:
            self.untold.emit()

    # ---- starting

    def start(self, operation: str, params: Mapping[str, Any], inputs: Mapping[str, str | Sequence[str]]) -> Job:
        """Start an operation.

        Raises
        ------
        LampError
            When inputs or parameters do not fit; nothing is started then.
        """
        task = execute.prepare(self.store, operation, params, inputs)
        # Rows that were meant by their numbers are those of the version that was looked at when it was asked for.
        values = task.step.params if task.items else dict(params)
        return self._ask(task, lambda: execute.prepare(self.store, operation, values, inputs))

    def _ask(self, task: Task, wish: _Wish) -> Job:
        """Start what was prepared, or let it wait until what changes the same items before it has ended."""
        if not self.store.writable:
            raise ProjectError("the project is open read-only", where=self.store.name)
        job = self.runner.new(task)
        self._wishes[job.id] = wish
        self.jobs.append(job)
        if self._turns.take(job, task.items):
            self._go(job)
        else:
            job.message = "Waits for what changes the same item before it"
            self.changed.emit([job])
        return job

    def _go(self, job: Job) -> None:
        task = job.task
        if isinstance(task, Task) and task.instant and all(self.store.loaded(version) for version in task.manifests):
            self._now(job, task)
            return
        self.runner.hand_over(job)
        self.changed.emit([job])

    def _now(self, job: Job, task: Task) -> None:
        """Carry an instant edit out in this thread; what came of it is told by the next poll."""
        before, self._here = self._here, True
        try:
            job.state, job.started = "running", time.monotonic()
            try:
                job.made = execute.perform(task, at_hand={v: self.store.load("", v) for v in task.manifests})
                job.state = "done"
            except LampError as error:
                job.state, job.error, job.message = "failed", error, str(error)
                clear_staging(job.task.staging)
            job.ended = time.monotonic()
            self._ended(job)
            self._tell(lambda: self.changed.emit([job]))
        finally:
            self._here = before

    def export(self, items: list[str], path: Path, guard: bool = False) -> Job:
        """Write items as they are now to a file, in a worker; `guard` as in `formats.table.export`."""
        return self.errand(prepare_export(self.store, items, path, guard))

    def errand(self, task: Export | SceneExport) -> Job:
        """Write something to a file, in a worker."""
        job = self.runner.new(task)
        self.jobs.append(job)
        self.runner.hand_over(job)
        self.changed.emit([job])
        return job

    def again(self, item: str) -> None:
        """Make an item again: what is stale of its run from its inputs, an import from its files.

        Raises
        ------
        LampError
            When it can't be made again.
        """
        entry = self.store.entry(item)
        if entry.recipe is None:
            raise ProjectError("it was not made by an operation", where=entry.name)
        run = entry.recipe.group

        def prepared() -> Task | None:
            group = [e.id for e in self.store.entries() if e.recipe and e.recipe.group == run and not e.dated]
            stale = [i for i in group if trail.freshness(self.store)[i] in ("stale", "behind")]
            how = execute.again(self.store, stale or group, anew=not stale)
            if how.found:
                self.store.point(how.found, "Found again")
            return how.task

        task = prepared()
        if task is not None:
            self._ask(task, prepared)

    def redo_edit(self, item: str, edit: int, params: Mapping[str, Any] | None) -> Job:
        """Drop an edit of an item, or make it with other parameters.

        Raises
        ------
        LampError
            When there is no such edit or the parameters do not fit.
        """
        step = self.store.entry(item).chain[edit : edit + 1]
        task = execute.redone(self.store, item, edit, params)

        def prepared() -> Task | None:
            chain = self.store.entry(item).chain  # changes before it may have gone meanwhile
            at = [
                k for k, each in enumerate(chain) if each.group == step[0].group and each.operation == step[0].operation
            ]
            return execute.redone(self.store, item, at[-1] if at else -1, params)

        return self._ask(task, prepared)

    def rerun(
        self, item: str, params: Mapping[str, Any], inputs: Mapping[str, str | Sequence[str]] | None = None
    ) -> Job:
        """Make all items of an item's run anew with other parameters or inputs, as new versions of them.

        Raises
        ------
        LampError
            When the item was not made by a run, or the parameters do not fit.
        """
        wish = partial(execute.rerun, self.store, item, params, inputs)
        return self._ask(wish(), wish)

    def _refresh(self, how: execute.Again, cause: int | None) -> None:
        """Make fresh what follows from a change: a user's own change of the same item goes before it at any time."""
        if how.found:
            self.store.point(how.found, "Found again", cause)
        if how.task is not None:
            job = self.runner.new(how.task)
            if cause is not None:
                self._causes[job.id] = cause
            self.jobs.append(job)
            self._go(job)

    def cancel(self, job: Job) -> None:
        """Stop a job; one that waits behind another is taken out of the queue."""
        if self._turns.waits(job):
            job.state, job.message = "cancelled", "Cancelled"
        else:
            self.runner.cancel(job)
        if job.state == "cancelled":
            self.said.emit(f"{job.task.label} was cancelled. Nothing was changed.", "note")
            self._next(job)
            self.changed.emit([job])

    # ---- ending

    def poll(self) -> None:
        """Take in what the workers said, and tell what came of jobs."""
        news, self._news = self._news, []
        for told in news:
            told()
        mine = {job.id for job in self.jobs}
        changed = self.runner.poll()
        for job in changed:
            if job.id not in mine:  # of a session that was closed meanwhile
                if not job.active:
                    clear_staging(job.task.staging)
            elif not job.active:
                self._ended(job)
        if any(job.id in mine for job in changed):
            self.changed.emit([job for job in changed if job.id in mine])

    def _ended(self, job: Job) -> None:
        task = job.task
        if not isinstance(task, Task):
            self._written(job)
            return
        if job.state == "done" and job.made is not None:
            self._land(job, task, job.made)
        elif job.state == "failed" and job.error is not None:
            why = str(job.error)
            self._tell(lambda: self.said.emit(why, "bad"))
        elif job.state == "cancelled":
            self.said.emit(f"{job.task.label} was cancelled. Nothing was changed.", "note")
        if job.state in ("failed", "cancelled") and task.refresh:
            self._fresh.failed(task.items, str(job.error))
        if not job.active:
            self._next(job)
            if job.state != "done":
                self.keep_fresh()

    def _written(self, job: Job) -> None:
        if job.state == "done":
            problems = [line for line in job.files if line.startswith("without ")]
            files = [line for line in job.files if line not in problems]
            text = "Written: " + ", ".join(files) + (f", {'; '.join(problems)}" if problems else "")
            self.said.emit(text, "look" if problems else "good")
        elif job.state == "failed":
            self.said.emit(str(job.error), "bad")
        else:
            self.said.emit(f"{job.task.label} was cancelled.", "note")

    def _land(self, job: Job, task: Task, made: execute.Made) -> None:
        cause = self._causes.get(job.id)
        light = [
            slot
            for slot, r in made.results.items()
            if not task.ways
            and not in_role(r.attributes, "residual")
            and r.manifest["kind"] not in ("points", "page", "walk")
            and (not self.sparing or self._first_of_its_kind(r))
        ]
        try:
            outputs = execute.land(self.store, task, made, cause, light)
        except Moved as moved:
            wish, tries = self._wishes.get(job.id), self._tries.get(job.id, 0) + 1
            self._tries[job.id] = tries
            if wish is None or task.refresh or tries > _TRIES:
                self._keep_apart(job, task, made, str(moved))
            else:
                self._prepare_again(job, wish)
            return
        except (LampError, OSError) as error:
            self._lost(job, str(error))
            return
        job.made = None
        if not outputs:  # put aside: what it was for has changed
            self.keep_fresh()
            return
        names = ", ".join(self.store.entry(i).name for i in outputs.values())
        text = f"{task.label}: {names} ({job.ended - job.started:.1f} s)" + (f". {job.outcome}" if job.outcome else "")
        problems = [step.problem for steps in made.steps.values() for step in steps if step.problem]
        if problems:
            text += f". A change of it no longer fits and was passed over: {problems[0]}"
        self._tell(lambda: self.said.emit(text, "look" if problems else "good"))
        self._tell(lambda: self.landed.emit(job, outputs))

    def _first_of_its_kind(self, result: Result) -> bool:
        """Whether nothing of its kind is lit yet, and it lies where the others do; holes and ground are none too many."""
        kind, ground = result.manifest["kind"], is_ground(result.attributes)
        area = area_of(self.store)
        if area is not None and np.isfinite(result.bounds[:4]).all():
            west, east, south, north = area
            reach = max(5.0 * float(np.hypot(east - west, north - south)), 20_000.0)
            left, right, bottom, top = result.bounds[:4]
            if right < west - reach or left > east + reach or top < south - reach or bottom > north + reach:
                return False  # views that fit it would show nothing else
        if kind == "holes" or ground:
            return True
        return not any(e.lit and e.kind == kind and not is_ground(e.attributes) for e in self.store.entries())

    def _keep_apart(self, job: Job, task: Task, made: execute.Made, why: str) -> None:
        """Keep a result whose item went another way as an item of its own: it may have taken hours."""
        try:
            outputs = execute.land_apart(self.store, task, made)
        except (LampError, OSError) as error:
            self._lost(job, str(error))
            return
        job.made = None
        names = ", ".join(f"'{self.store.entry(i).name}'" for i in outputs.values())
        text = f"{task.label}: {why.rstrip('.')}. What was made is kept as {names}."
        self._tell(lambda: self.said.emit(text, "look"))
        self._tell(lambda: self.landed.emit(job, outputs))

    def _lost(self, job: Job, why: str) -> None:
        job.state, job.message, job.error = "failed", why, ProjectError(why)
        clear_staging(job.task.staging)
        self._tell(lambda: self.said.emit(f"The result of '{job.task.label}' could not be stored: {why}", "bad"))

    def _prepare_again(self, job: Job, wish: _Wish) -> None:
        try:
            task = wish()
            if task is None:
                job.state, job.message = "done", "Nothing is left to do"
                return
            job.task = task
        except LampError as error:
            job.state, job.error, job.message = "failed", error, str(error)
            why = str(error)
            self._tell(lambda: self.said.emit(why, "bad"))
            return
        job.made, job.state = None, "waiting"
        self._go(job)

    def _next(self, job: Job) -> None:
        """Let what waits behind a job have its turn."""
        self._wishes.pop(job.id, None)
        self._causes.pop(job.id, None)
        self._tries.pop(job.id, None)
        self._forget_old()
        for following in self._turns.ended(job):
            self._prepare_again(following, self._wishes[following.id])
            if not following.active:
                self.changed.emit([following])
                self._next(following)

    def _forget_old(self) -> None:
        """Let go of jobs that ended long ago."""
        ended = [job for job in self.jobs if not job.active]
        if len(ended) > _KEPT:
            old = {job.id for job in ended[: len(ended) - _KEPT]}
            self.jobs[:] = [job for job in self.jobs if job.id not in old]

    # ---- keeping fresh

    def keep_fresh(self) -> None:
        """Start making stale items again whose inputs are ready; what failed waits until an input changes."""
        if self.closed or not self.store.writable:
            return
        running = {i for j in self.jobs if j.active and isinstance(j.task, Task) for i in j.task.items}
        for todo in self._fresh.due(running):
            try:
                self._refresh(execute.again(self.store, todo), self.store.history.last())
            except Cancelled:
                raise
            except LampError as error:
                self._fresh.failed(todo, str(error))
                self.said.emit(str(error), "look")
        self._say_what_waits()

    def _say_what_waits(self) -> None:
        for item, what in self._fresh.asking.items():
            if item not in self._asked:
                self._asked.add(item)
                self.said.emit(
                    f"'{self.store.entry(item).name}' would be made again from {what}, which this project names. It waits: "
                    "refresh it from its card, or trust the project (Project menu).",
                    "look",
                )

    @property
    def trusted(self) -> bool:
        """Whether items that read files or call a cluster are made again unasked."""
        return self._fresh.trusted

    def trust(self, trusted: bool) -> None:
        """Let items that read files or call a cluster be made again unasked, or no longer."""
        self._fresh.trusted = trusted
        self._fresh.asking.clear()
        self._asked.clear()
        self.keep_fresh()

    def close(self) -> None:
        """Stop everything; what still comes is dropped."""
        self.closed = True
        for job in self.jobs:
            if job.active:
                self.runner.cancel(job)
        self._turns.clear()
        self._news.clear()
