"""Runs that bring files in, one after the other, since later ones take elevations from earlier ones."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ...core.compute.drilling.drilled_part import section_line
from ...core.compute.geometry.planes import SectionPlane
from ...core.errors import InputError, LampError
from ...core.importing import intake
from ...core.items.holes import HoleSet
from ...core.jobs.runner import Job
from ...core.signal import Signal
from ..context.context import Context
from .one_by_one import OneByOne


class IntakeQueue(OneByOne[intake.Run]):
    """Works off runs in order; goes on when one fails, and says what came of each."""

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.waiting: list[intake.Run] = []
        self.made: dict[str, str] = {}
        self.results: dict[str, str] = {}  # file -> what came of it
        self.items: list[str] = []
        self.failures = 0
        self._unlaid = ""  # holes through which a section will be laid once they are read
        self.changed: Signal[[]] = Signal()
        ctx.loaded.connect(self._lay_section)

    @property
    def busy(self) -> bool:
        """Whether something still runs or waits."""
        return self.under_way or bool(self.waiting)

    def start(self, runs: Sequence[intake.Run]) -> None:
        """Begin to bring in; what is under way goes on first."""
        if not self.busy:
            self.made, self.results, self.items, self.failures = {}, {}, [], 0
        self.waiting += runs
        if self.ctx.session is not None:
            self.ctx.session.desk.sparing = len(self.waiting) > 1
        self.go_on()

    def go_on(self) -> None:
        while not self.under_way and self.waiting:
            run = self.waiting.pop(0)
            try:
                job = self.ctx.start(run.operation, run.params, intake.resolved(run, self.made))
                self.began(run, job)
                self._note(run, "coming in …")
            except LampError as error:
                self.failures += 1
                self._note(run, f"✗ {error}")
                self.ctx.say(str(error), "bad")
        if not self.busy and self.ctx.session is not None:
            self.ctx.session.desk.sparing = False
        if not self.busy and self.results:
            words = f"{len(self.items)} items brought in"
            self.ctx.say(
                f"{words}, {self.failures} failed: see the form." if self.failures else f"{words}.",
                "bad" if self.failures else "good",
            )
        self.changed.emit()

    def _note(self, run: intake.Run, words: str) -> None:
        for file in run.files:
            self.results[file] = words

    def came(self, step: intake.Run, outputs: Mapping[str, str]) -> None:
        intake.remember(step, outputs, self.made)
        self.items += outputs.values()
        entries = [e for i in outputs.values() if (e := self.ctx.entry(i))]
        self._note(step, "✓ " + ", ".join(e.name for e in entries))
        self._unlaid = next((e.id for e in entries if e.kind == "holes"), self._unlaid)
        self._lay_section(self._unlaid)

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

    def failed(self, step: intake.Run, job: Job) -> bool:
        self.failures += 1
        words = str(job.error or job.message or job.state)
        error = job.error if isinstance(job.error, LampError) else InputError(words, where=words.partition(": ")[0])
        rest = intake.without(step, error)
        self._note(step, f"✗ {words}")
        if rest is not None:  # one table that can't be used does not stop the others
            self.waiting.insert(0, rest[0])
            for file in rest[0].files:
                self.results[file] = "waits …"
        return True

    def project_changed(self) -> None:
        self.forget()
        self.waiting, self.results, self._unlaid = [], {}, ""
