"""Running a declared operation: prepared in the project, performed anywhere, landed in the project.

Each verb has a module of its own; here they stand together, with the two that do all of it in this process.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ..progress import SILENT, Progress
from ..project.store import Moved, Store
from .again import Again, again, redone, rerun, wanted
from .land import land, land_apart
from .perform import perform
from .prepare import estimate, prepare
from .table import find_operation
from .task import Chosen, Made, Task, Way


def run(
    store: Store, operation: str, params: Mapping[str, Any], inputs: Chosen, progress: Progress = SILENT
) -> dict[str, str]:
    """Prepare, perform and land an operation in this process; returns item id by output slot."""
    task = prepare(store, operation, params, inputs)
    return land(store, task, perform(task, progress))


def refresh(store: Store, group: Sequence[str], progress: Progress = SILENT, *, anew: bool = False) -> list[str]:
    """Make items of one run again in this process; returns the ids of those that changed."""
    how = again(store, group, anew=anew)
    cause = None if anew else store.history.last()
    if how.found:
        store.point(how.found, "Found again", cause)
    done = list(how.found)
    if how.task is not None:
        done += land(store, how.task, perform(how.task, progress), cause).values()
    return done


__all__ = [
    "Again",
    "Made",
    "Moved",
    "Task",
    "Way",
    "again",
    "estimate",
    "find_operation",
    "land",
    "land_apart",
    "perform",
    "prepare",
    "redone",
    "refresh",
    "rerun",
    "run",
    "wanted",
]
