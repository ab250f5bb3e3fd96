"""Work beside the window's own thread: a function is called, and its result or a sentence comes back by signal."""

from __future__ import annotations

import concurrent.futures
import contextlib
import functools
import itertools
import os
import threading
import weakref
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject
from PySide6.QtCore import Signal as QtSignal

from ...core.errors import Cancelled, LampError, ProjectError
from ...core.progress import CallbackProgress, Progress
from ...core.signal import Signal


class Answers:
    """Where results arrive, in the window's thread: the key that the work was started under, and what came of it.

    What comes after `close`, or after nobody holds the object any more, is dropped.
    """

    def __init__(self) -> None:
        self.came: Signal[[Any, Any]] = Signal()
        self.closed = False
        _post_office()  # made in the thread of the window

    def close(self) -> None:
        """Drop every answer that is still under way."""
        self.closed = True


def answers_for(widget: QObject, slot: Callable[[Any, Any], None]) -> Answers:
    """Return answers that a widget gets while it lives; what comes after it was deleted is dropped."""
    made = Answers()
    made.came.connect(slot)
    widget.destroyed.connect(lambda *_: made.close())
    return made


class _PostOffice(QObject):
    """One object for all answers that lives as long as the program: threads may tell it something at any time."""

    came = QtSignal(int, object)

    def __init__(self) -> None:
        super().__init__()
        self.asked: dict[int, tuple[weakref.ref[Answers], object]] = {}
        self.numbers = itertools.count(1)
        self.came.connect(self._deliver)

    def _deliver(self, number: int, result: object) -> None:
        to, key = self.asked.pop(number)
        answers = to()
        if answers is not None and not answers.closed:
            answers.came.emit(key, result)


@functools.cache
def _post_office() -> _PostOffice:
    return _PostOffice()


def _carry_out(number: int, work: Callable[[], Any], failed: str) -> None:
    result: object
    try:
        result = work()
    except LampError as error:
        result = error
    except Exception as error:
        result = ProjectError(f"{failed} ({error})")
    with contextlib.suppress(RuntimeError):  # the program may be ending
        _post_office().came.emit(number, result)


_under_way: deque[Future[None]] = deque()


@functools.cache
def _threads() -> ThreadPoolExecutor:
    # Threads of Python's own, since those of Qt forget what a library keeps for a thread from one call to the next,
    # and a coordinate system that was made in an earlier call ends the process then.
    return ThreadPoolExecutor(max_workers=max(os.cpu_count() or 1, 2), thread_name_prefix="beside")


def start(answers: Answers, key: object, work: Callable[[], Any], failed: str) -> None:
    """Call `work` in another thread; `failed` is the sentence for what nobody expected."""
    office = _post_office()
    number = next(office.numbers)
    office.asked[number] = (weakref.ref(answers), key)
    _under_way.append(_threads().submit(_carry_out, number, work, failed))
    while _under_way and _under_way[0].done():
        _under_way.popleft()


def wait(seconds: float) -> None:
    """Wait for what is under way, so long at most."""
    concurrent.futures.wait(list(_under_way), seconds)


class Lane:
    """Calls of which only the newest counts: previews, estimates, suggestions.

    Of the calls of one name one runs and one waits at most. A newer one takes the place of the one
    that waits and asks the one that runs to stop; what a superseded or closed call brings is dropped.
    """

    waiting = 0  # of all lanes: calls that have not been answered; the window asks whether it is at rest

    def __init__(self) -> None:
        self._answers = Answers()
        self._answers.came.connect(self._came)
        self._running: dict[str, tuple[int, threading.Event, Callable[[Any], None]]] = {}
        self._next: dict[str, tuple[Callable[[Progress], Any], Callable[[Any], None]]] = {}
        self._number = 0
        self._closed = False

    def call(self, name: str, work: Callable[[Progress], Any], done: Callable[[Any], None]) -> None:
        """Call `work` soon; `done` gets its result, or a `LampError`, in the window's thread."""
        if self._closed:
            return
        if name in self._running:
            self._running[name][1].set()
            Lane.waiting += name not in self._next
            self._next[name] = (work, done)
            return
        Lane.waiting += 1
        self._begin(name, work, done)

    def _begin(self, name: str, work: Callable[[Progress], Any], done: Callable[[Any], None]) -> None:
        self._number += 1
        stop = threading.Event()
        self._running[name] = (self._number, stop, done)
        progress = CallbackProgress(lambda *_: None, stop.is_set)
        start(self._answers, (name, self._number), lambda: work(progress), "it can't be worked out")

    def _came(self, key: tuple[str, int], result: object) -> None:
        name, number = key
        if self._closed or self._running.get(name, (0,))[0] != number:
            return
        _, stop, done = self._running.pop(name)
        Lane.waiting -= 1
        following = self._next.pop(name, None)
        if following is not None:
            self._begin(name, *following)
        elif not stop.is_set() and not isinstance(result, Cancelled):
            done(result)

    def drop(self, name: str) -> None:
        """Forget the calls of a name."""
        if name in self._running:
            self._running[name][1].set()
            Lane.waiting -= name in self._next
            self._next.pop(name, None)

    def close(self) -> None:
        """Forget everything."""
        if not self._closed:
            self._closed = True
            self._answers.close()
            Lane.waiting -= len(self._running) + len(self._next)
            for _, stop, _ in self._running.values():
                stop.set()
            self._running.clear()
            self._next.clear()
