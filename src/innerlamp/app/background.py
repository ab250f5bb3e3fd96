"""Work beside the window's own thread: a function is called, and its result or a sentence comes back by signal."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool
from PySide6.QtCore import Signal as QtSignal

from ..core.comparing import differences
from ..core.errors import LampError, ProjectError
from ..core.project import payload


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


def read_item(answers: Answers, folder: Path, version: int, manifest: payload.Manifest) -> None:
    """Read a version of an item; its key is the version."""
    start(answers, version, lambda: payload.read_item(folder, manifest), "a part of the item can't be read")


def compare(answers: Answers, folder: Path, versions: tuple[int, int], manifests: list[payload.Manifest]) -> None:
    """Compare two versions; their key is the pair of versions."""

    def work() -> list[differences.Change]:
        old, new = (payload.read_item(folder, m) for m in manifests)
        return differences.difference(old, new)

    start(answers, versions, work, "The two can't be compared")
