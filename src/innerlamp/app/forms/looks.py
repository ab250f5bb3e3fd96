"""Files that are being looked at beside the window: how far that is, what came of each, and an end to it on request."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import QTimer

from ...core.errors import Cancelled, LampError
from ...core.formats.tables.saved_mappings import SavedMapping
from ...core.importing import offers
from ...core.importing.offers import Offer
from ...core.jobs import looking
from ...core.progress import CallbackProgress
from ...core.signal import Signal
from ..base import background

STOPPED = "looking at it was stopped; add it again to look at it"
_TOLD_AFTER = 2.0  # seconds that a file may take before its time is told


class Looks:
    """Looks at files in processes of their own, two at a time, and tells of each as it comes.

    Attributes
    ----------
    came
        A path and the offers in it; one offer without a kind says why it is none.
    moved
        What `words` says is another now.
    """

    def __init__(self) -> None:
        self.came: Signal[[str, list[Offer]]] = Signal()
        self.moved: Signal[[]] = Signal()
        self._answers = background.Answers()
        self._answers.came.connect(self._came)
        self._stop = threading.Event()
        self._waiting: set[str] = set()
        self._begun: dict[str, float] = {}
        self._count = 0
        self._clock = QTimer()
        self._clock.setInterval(1000)
        self._clock.timeout.connect(self.moved.emit)

    @property
    def left(self) -> int:
        """How many files have not been answered."""
        return len(self._waiting)

    def words(self) -> str:
        """What is being looked at, how many files are done, and how long the slowest has taken where it takes long."""
        now = time.monotonic()
        begun = {path: at for path, at in list(self._begun.items()) if path in self._waiting}
        done = f"{self._count - self.left} of {self._count} files done" if self._count > 1 else ""
        if not begun:
            return f"Looking at files{f' ({done})' if done else ''} …"
        path, at = min(begun.items(), key=lambda each: each[1])
        took = f"{now - at:.0f} s" if now - at >= _TOLD_AFTER else ""
        told = ", ".join(part for part in (took, done) if part)
        return f"Looking at {Path(path).name}{f' ({told})' if told else ''} …"

    def take(self, files: Sequence[Path], saved: Sequence[SavedMapping]) -> None:
        """Look at files; those that are being looked at are not taken twice."""
        if not self._waiting:
            self._begun, self._count = {}, 0
        if not self._waiting or self._stop.is_set():
            self._stop = threading.Event()
        for path in files:
            if str(path) not in self._waiting:
                self._waiting.add(str(path))
                self._count += 1
                background.start(self._answers, str(path), self._asked(path, saved), "the file can't be looked at")
        if self._waiting:
            self._clock.start()
        self.moved.emit()

    def _asked(self, path: Path, saved: Sequence[SavedMapping]) -> Callable[[], list[Offer]]:
        begun, stop = self._begun, self._stop

        def under_way(fraction: float, message: str, measures: Mapping[str, float]) -> None:
            begun.setdefault(str(path), time.monotonic())

        progress = CallbackProgress(under_way, stop.is_set)
        return partial(looking.ask, offers.offers_of, path, saved, where=path.name, progress=progress)

    def _came(self, path: str, result: list[Offer] | LampError) -> None:
        self._waiting.discard(path)
        if not self._waiting:
            self._clock.stop()
        if isinstance(result, LampError):
            why = STOPPED if isinstance(result, Cancelled) else str(result)
            result = [Offer(path, "", why, ("",))]
        self.came.emit(path, result)

    def stop(self) -> None:
        """End what is under way; files that were not looked at are told as such."""
        self._stop.set()

    def close(self) -> None:
        """End what is under way and tell nothing more."""
        self._stop.set()
        self._clock.stop()
        self._answers.close()
