"""Who may change an item now, and who waits: one change of an item after the other."""

from __future__ import annotations

from collections.abc import Collection

from ...core.jobs.runner import Job


class Turns:
    """Jobs that hold items, and those that wait for them in the order in which they were asked for."""

    def __init__(self) -> None:
        self._held: dict[str, int] = {}
        self._waiting: list[tuple[Job, frozenset[str]]] = []

    def take(self, job: Job, items: Collection[str]) -> bool:
        """Hold items for a job; when another job has one of them, or waits for it, the job waits and False comes back."""
        mine = frozenset(items)
        if any(item in self._held for item in mine) or any(mine & theirs for _, theirs in self._waiting):
            self._waiting.append((job, mine))
            return False
        self._held |= dict.fromkeys(mine, job.id)
        return True

    def waits(self, job: Job) -> bool:
        """Whether a job waits for its turn."""
        return any(each is job for each, _ in self._waiting)

    def ended(self, job: Job) -> list[Job]:
        """Give back what a job holds or waits for; the jobs whose turn it is now, which hold their items from here on."""
        self._held = {item: holder for item, holder in self._held.items() if holder != job.id}
        self._waiting = [(each, items) for each, items in self._waiting if each is not job]
        due: list[Job] = []
        still: list[tuple[Job, frozenset[str]]] = []
        for each, items in self._waiting:
            if any(item in self._held for item in items) or any(items & theirs for _, theirs in still):
                still.append((each, items))
            else:
                self._held |= dict.fromkeys(items, each.id)
                due.append(each)
        self._waiting = still
        return due

    def clear(self) -> None:
        """Forget all: the session ends."""
        self._held.clear()
        self._waiting.clear()
