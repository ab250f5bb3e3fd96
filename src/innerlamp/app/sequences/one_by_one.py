"""Jobs one after the other: what the demo and files that come in have in common."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Generic, TypeVar

from ...core.jobs.runner import Job
from ..context.context import Context

S = TypeVar("S")


class OneByOne(ABC, Generic[S]):
    """Knows which step is under way and what came of it; the next begins when it has landed or failed.

    Subclasses say what begins (`go_on`, which calls `began`), what a landing means (`came`) and what a failure (`failed`).
    """

    def __init__(self, ctx: Context) -> None:
        self.ctx = ctx
        self._now: tuple[S, Job] | None = None
        ctx.landed.connect(self._landed)
        ctx.jobs_changed.connect(self._moved)
        ctx.project_changed.connect(self.project_changed)

    @property
    def under_way(self) -> bool:
        """Whether a step runs or waits for its turn."""
        return self._now is not None

    def began(self, step: S, job: Job) -> None:
        """Note which job carries a step out."""
        self._now = (step, job)

    def forget(self) -> None:
        """Wait for nothing any more."""
        self._now = None

    @abstractmethod
    def go_on(self) -> None:
        """Begin the next step, or end."""

    @abstractmethod
    def came(self, step: S, outputs: Mapping[str, str]) -> None:
        """Take in what a step made: item ids by output slot."""

    @abstractmethod
    def failed(self, step: S, job: Job) -> bool:
        """Take in that a step made nothing; whether to go on with the next."""

    @abstractmethod
    def project_changed(self) -> None:
        """Another project was opened, or this one closed."""

    def _landed(self, job: Job, outputs: dict[str, str]) -> None:
        if self._now is None or job is not self._now[1]:
            return
        step, self._now = self._now[0], None
        self.came(step, outputs)
        self.go_on()

    def _moved(self, jobs: list[Job]) -> None:
        if self._now is None or self._now[1].active or self._now[1].state == "done":
            return
        (step, job), self._now = self._now, None
        if self.failed(step, job):
            self.go_on()
