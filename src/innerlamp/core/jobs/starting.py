"""Starting processes of our own: none of them takes modules from the folder that somebody happens to stand in.

A process that starts many of them keeps one beside it that has imported what they all need and only divides itself: a
new worker is there in hundredths of a second instead of three, and what was imported is held in memory once.
"""

from __future__ import annotations

import multiprocessing
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing.context import ForkServerContext, SpawnContext

_SAFE = "PYTHONSAFEPATH"  # what -P is for processes that are started by a library
_LOCK = threading.Lock()
# What jobs need: the operations, and libraries that most of them call. Modules that start threads do not belong here.
_NEEDED = [
    "innerlamp.core.running.errands",
    "innerlamp.core.running.execute",
    "innerlamp.core.jobs.worker",
    "numba",
    "scipy.interpolate",
    "scipy.ndimage",
    "scipy.sparse.linalg",
    "scipy.spatial",
    "shapely",
]
_KEPT: list[ForkServerContext] = []


def many() -> ForkServerContext:
    """Return how processes are started here from now on: from one that is kept ready (see above)."""
    if not _KEPT:
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(_NEEDED)
        _KEPT.append(context)
    return _KEPT[0]


def few() -> ForkServerContext | SpawnContext:
    """Return how a process is started where nobody asked for `many`: anew, with nothing imported that it may not need."""
    return _KEPT[0] if _KEPT else multiprocessing.get_context("spawn")


def environment() -> dict[str, str]:
    """Return the variables that a process started now is to have: one that is kept ready has those of its own start."""
    return {**os.environ, _SAFE: "1"}


def take_environment(variables: dict[str, str]) -> None:
    """Let this process, just started, have the variables of the one that asked for it."""
    os.environ.clear()
    os.environ.update(variables)


@contextmanager
def without_current_folder() -> Iterator[None]:
    """Let Python processes that are started here leave the current folder out of where modules come from."""
    with _LOCK:
        before = os.environ.get(_SAFE)
        os.environ[_SAFE] = "1"
        try:
            yield
        finally:
            if before is None:
                del os.environ[_SAFE]
            else:
                os.environ[_SAFE] = before
