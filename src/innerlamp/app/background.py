"""Work beside the window's own thread: a function is called, and its result or a sentence comes back by signal."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool
from PySide6.QtCore import Signal as QtSignal

from ..core.errors import LampError, ProjectError


class Answers(QObject):
    """Where results arrive: the key that the work was started under, and what came of it (or a LampError)."""

    came = QtSignal(object, object)


class _Call(QRunnable):
    def __init__(self, key: object, work: Callable[[], Any], failed: str, answers: Answers) -> None:
        super().__init__()
        self._what = (key, work, failed)
        self._answers = answers

    def run(self) -> None:
        key, work, failed = self._what
        result: object
        try:
            result = work()
        except LampError as error:
            result = error
        except Exception as error:
            result = ProjectError(f"{failed} ({error})")
        with contextlib.suppress(RuntimeError):  # who asked may have closed meanwhile
            self._answers.came.emit(key, result)


def start(answers: Answers, key: object, work: Callable[[], Any], failed: str) -> None:
    """Call `work` in another thread; `failed` is the sentence for what nobody expected."""
    QThreadPool.globalInstance().start(_Call(key, work, failed, answers))
