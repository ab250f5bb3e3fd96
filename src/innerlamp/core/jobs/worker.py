"""The worker process: waits for tasks, performs them, tells how far it is, and writes only into its staging folder."""

from __future__ import annotations

import faulthandler
import os
import shutil
import sys
import time
import traceback
from collections.abc import Mapping
from multiprocessing.connection import Connection
from typing import TYPE_CHECKING, Any

from .. import limits
from .starting import take_environment

if TYPE_CHECKING:
    from ..running.errands import Exporter

_LOOKS = 0.7  # seconds between two looks at what a job has by now
_INTERVAL = 0.04  # seconds between progress messages; measures are always sent


def serve(
    connection: Connection,
    stop: Any,
    enough: Any,
    watched: Any,
    log_path: str,
    variables: dict[str, str],
    exporter: Exporter | None = None,
) -> None:
    """Serve tasks until the connection closes. Runs in its own process, with the variables of the one that it serves.

    `exporter` draws what is to be written.
    """
    take_environment(variables)
    with open(log_path, "a", encoding="utf-8", buffering=1) as log:  # noqa: PTH123 - the descriptor is needed
        os.dup2(log.fileno(), 1)
        os.dup2(log.fileno(), 2)
        faulthandler.enable(log)
        os.nice(5)  # the window goes first
        limits.hold()
        parent = os.getppid()
        from ..errors import LampError
        from ..progress import CallbackProgress
        from ..running.errands import Export, SceneExport, carry_out
        from ..running.execute import Task, perform

        connection.send(("ready",))
        while True:
            try:
                job, task = connection.recv()
            except (EOFError, OSError):
                return
            assert isinstance(task, Task | Export | SceneExport)
            connection.send(("begun", job))
            last = [0.0]

            def report(
                fraction: float, message: str, measures: Mapping[str, float], job: int = job, last: list[float] = last
            ) -> None:
                if os.getppid() != parent:
                    os._exit(1)  # the window is gone: nobody waits for this
                now = time.monotonic()  # what an operation says at its end comes at 0.96 and always goes through
                if measures or fraction >= 0.955 or now - last[0] > _INTERVAL:
                    last[0] = now
                    connection.send(("progress", job, fraction, message, dict(measures)))

            looked = [0.0]

            def view(item: object, job: int = job, looked: list[float] = looked) -> None:
                connection.send(("shown", job, item))
                looked[0] = time.monotonic()

            def wanted(looked: list[float] = looked) -> bool:
                return bool(watched.is_set()) and time.monotonic() - looked[0] > _LOOKS

            told = task.step.params if isinstance(task, Task) else task.path
            print(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {task.operation} {told}", file=sys.stderr)
            try:
                progress = CallbackProgress(report, stop.is_set, enough.is_set, wanted, view)
                results = perform(task, progress) if isinstance(task, Task) else carry_out(task, progress, exporter)
                connection.send(("done", job, results))
            except LampError as error:
                clear_staging(task.staging)
                connection.send(("failed", job, error))
            except MemoryError:
                clear_staging(task.staging)
                connection.send(
                    (
                        "failed",
                        job,
                        LampError("there is not enough memory", where=task.label, fix="Take larger cells or less data"),
                    )
                )
            except Exception as error:
                traceback.print_exc()
                clear_staging(task.staging)
                what = f"the operation failed unexpectedly ({type(error).__name__}: {error})"
                connection.send(
                    ("failed", job, LampError(what, where=task.label, fix=f"The details are in {log_path}"))
                )


def clear_staging(staging: str) -> None:
    """Delete what a task left in its staging folder."""
    if staging:
        shutil.rmtree(staging, ignore_errors=True)
