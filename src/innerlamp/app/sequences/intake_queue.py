"""Runs that bring files in, one after the other, since later ones take elevations from earlier ones."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.compute.drilling.drilled_part import section_line
from ...core.compute.geometry.planes import SectionPlane
from ...core.errors import LampError
from ...core.importing import intake
from ...core.items.holes import HoleSet
from ...core.jobs.runner import Job
from ...core.signal import Signal
from ..context.context import Context


class IntakeQueue:
    """Works off runs in order; goes on when one fails, and says what came of each."""

    def __init__(self, ctx: Context) -> None:
        self.ctx = ctx
        self.waiting: list[intake.Run] = []
        self.made: dict[str, str] = {}
        self.results: dict[str, str] = {}  # file -> what came of it
        self.items: list[str] = []
        self.failed = 0
        self._unlaid = ""  # holes through which a section will be laid once they are read
        self._now: tuple[intake.Run, Job] | None = None
        self.changed: Signal[[]] = Signal()
        ctx.landed.connect(self._landed)
        ctx.jobs_changed.connect(self._jobs)
        ctx.project_changed.connect(self._forget)
        ctx.loaded.connect(self._lay_section)

    @property
    def busy(self) -> bool:
        """Whether something still runs or waits."""
        return self._now is not None or bool(self.waiting)

    def start(self, runs: Sequence[intake.Run]) -> None:
        """Begin to bring in; what is under way goes on first."""
        if not self.busy:
            self.made, self.results, self.items, self.failed = {}, {}, [], 0
        self.waiting += runs
        if self.ctx.session is not None:
            self.ctx.session.desk.sparing = len(self.waiting) > 1
        self._next()

    def _next(self) -> None:
        while self._now is None and self.waiting:
            run = self.waiting.pop(0)
            try:
                job = self.ctx.start(run.operation, run.params, intake.resolved(run, self.made))
                self._now = (run, job)
                self._note(run, "coming in …")
            except LampError as error:
                self.failed += 1
                self._note(run, f"✗ {error}")
                self.ctx.say(str(error), "bad")
        if not self.busy and self.ctx.session is not None:
            self.ctx.session.desk.sparing = False
        if not self.busy and self.results:
            words = f"{len(self.items)} items brought in"
            self.ctx.say(
                f"{words}, {self.failed} failed: see the form." if self.failed else f"{words}.",
                "bad" if self.failed else "good",
            )
        self.changed.emit()

    def _note(self, run: intake.Run, words: str) -> None:
        for file in run.files:
            self.results[file] = words

    def _landed(self, job: Job, outputs: dict[str, str]) -> None:
        if self._now is None or job is not self._now[1]:
            return
        run, self._now = self._now[0], None
        intake.remember(run, outputs, self.made)
        self.items += outputs.values()
        entries = [e for i in outputs.values() if (e := self.ctx.entry(i))]
        self._note(run, "✓ " + ", ".join(e.name for e in entries))
        self._unlaid = next((e.id for e in entries if e.kind == "holes"), self._unlaid)
        self._lay_section(self._unlaid)
        self._next()

    def _lay_section(self, holes: str) -> None:
        """Lay a section through holes that came in, where none is laid yet, as soon as they are read."""
        if not holes or holes != self._unlaid:
            return
        item = self.ctx.item(holes)
        if item is None:
            return
        self._unlaid = ""
        if self.ctx.section is not None or not isinstance(item, HoleSet) or not len(item.stations):
            return
        by_hole = item.stations.groupby(item.stations["hole"].astype(str), sort=False)
        start, end = (part[["x", "y"]].to_numpy(float) for part in (by_hole.first(), by_hole.last()))
        line = section_line(start, end, self.ctx.corridor)
        if line is not None:
            self.ctx.set_section(SectionPlane.along(line))

    def _jobs(self, jobs: list[Job]) -> None:
        if self._now is None or self._now[1].active or self._now[1].state == "done":
            return
        run, job = self._now
        self._now = None
        self.failed += 1
        self._note(run, f"✗ {job.error or job.message or job.state}")
        self._next()

    def _forget(self) -> None:
        self.waiting, self._now, self.results, self._unlaid = [], None, {}, ""
