"""Landing: what a task made is taken into the project as one change."""

from __future__ import annotations

import shutil
from collections.abc import Collection
from pathlib import Path

from ..project import freshness, payload
from ..project.records import Line, Result
from ..project.store import Moved, Store
from .task import Made, Task


def land(store: Store, task: Task, made: Made, cause: int | None = None, light: Collection[str] = ()) -> dict[str, str]:
    """Take results into the project as one undoable change; returns item id by output slot.

    New items of the slots in `light` are lit at once.

    When inputs moved on meanwhile the result still lands: its steps name the versions it was made
    from, so it shows as stale. When the item itself moved on, a refresh is only put aside (and found
    again should it fit), and an edit is refused.

    Raises
    ------
    Moved
        When a user's change was prepared on a version that its item no longer points to, or its item is off the shelf by now:
        prepare it anew, or `land_apart`.
    """
    for result in made.results.values():
        payload.adopt(Path(task.staging), store.payloads, result.manifest)
    shutil.rmtree(task.staging, ignore_errors=True)
    lines = {slot: Line(steps, task.ways[slot].start if slot in task.ways else 0) for slot, steps in made.steps.items()}
    if not task.ways:
        return store.add(made.results, task.label, lines, cause=cause, light=light)
    present = store.heads()
    state = freshness.judge(store.entries(), store.same) if cause is not None else {}
    landing: dict[str, Result] = {}
    for slot, result in made.results.items():
        if slot not in task.ways:
            landing[slot] = result
            continue
        way = task.ways[slot]
        if way.item not in present:
            if cause is None:
                raise Moved("the item was taken off the shelf meanwhile", where=result.name)
            continue  # what follows from a change stays off the shelf
        if present[way.item] == way.expect and state.get(way.item) not in ("fresh", "behind"):
            landing[slot] = result
        elif cause is None:
            raise Moved("the item was changed meanwhile", where=store.entry(way.item).name)
        else:
            store.put_aside(way.item, result, lines[slot])
    if not landing:
        return {}
    replace = {slot: task.ways[slot].item for slot in landing if slot in task.ways}
    expect = {task.ways[slot].item: task.ways[slot].expect for slot in replace}
    return store.add(landing, task.label, lines, replace, expect=expect, cause=cause, items=made.items)


def land_apart(store: Store, task: Task, made: Made) -> dict[str, str]:
    """Take results into the project as items of their own, since the items that they were made for went another way.

    Returns item id by output slot.
    """
    for result in made.results.values():
        payload.adopt(Path(task.staging), store.payloads, result.manifest)
    shutil.rmtree(task.staging, ignore_errors=True)
    lines = {slot: Line(steps, task.ways[slot].start if slot in task.ways else 0) for slot, steps in made.steps.items()}
    return store.add(made.results, task.label, lines)
