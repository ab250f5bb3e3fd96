"""Making again: from what the inputs are now, without an edit or with another one, with other parameters."""

from __future__ import annotations

import contextlib
import dataclasses
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..errors import InputError, LampError
from ..project import freshness
from ..project.records import Entry, Pairs, Recipe
from ..project.store import Store
from .prepare import pinned, step_of
from .table import find_operation
from .task import Chosen, Task, Way, by_number, task_of


def wanted(store: Store, item: str) -> str:
    """Return the name of what an item should be made of now: it changes when an input does."""
    present = store.heads()
    keys = freshness.wanted_keys(store.entry(item), present) if item in present else []
    return f"{item}:{keys[-1]}" if keys else item


@dataclass(frozen=True)
class Again:
    """How stale items become fresh: versions that are there already, and a task for the rest (None: nothing)."""

    found: dict[str, int]
    task: Task | None


def again(store: Store, group: Sequence[str], *, anew: bool = False) -> Again:
    """Return how items of one run are made again from what their inputs are now.

    Parameters
    ----------
    anew
        Run the first step in any case: the files that it reads may have changed.

    Raises
    ------
    InputError
        When an item was not made by an operation, or an input is no longer there.
    """
    entries = [store.entry(i) for i in group]
    present = store.heads()
    found: dict[str, int] = {}
    ways: dict[str, Way] = {}
    run: Recipe | None = None
    for entry in entries:
        if not entry.chain:
            raise InputError("the item was not made by an operation", where=entry.name)
        gone = [
            slot for step in entry.chain for slot, pairs in step.inputs.items() for i, _ in pairs if i not in present
        ]
        if gone:
            raise InputError(
                f"the input '{gone[0]}' is no longer in the project",
                where=entry.name,
                fix="Undo its removal, or make the item anew",
            )
        steps = _steps(store, entry, present)
        keys = freshness.wanted_keys(entry, present)
        have = [0 if anew else store.version_of(entry.id, key) for key in keys]
        last = max((k for k, version in enumerate(have) if version), default=-1)
        if last == len(steps) - 1:
            found[entry.id] = have[last]
            continue
        first = steps[0]
        begins = first.is_edit  # drawn upon something that is no longer known: it can only stay
        if last < 0 and begins:
            raise InputError("what its first change was made on is not known", where=entry.name)
        edits = tuple(dataclasses.replace(step, problem="") for step in steps[last + 1 if last >= 0 else 1 :])
        ways[first.output] = Way(edits, have[last] if last >= 0 else 0, entry.id, entry.version)
        if last < 0:
            run = run or dataclasses.replace(first, group=uuid.uuid4().hex[:12])
    label = "Refresh " + ", ".join(e.name for e in entries if e.id not in found)
    return Again(found, task_of(store, label, run, ways, refresh=True) if ways else None)


def _steps(store: Store, entry: Entry, present: Mapping[str, int]) -> list[Recipe]:
    """The steps of an item on the versions that their inputs have now.

    Edits of old projects say which rows they changed by number; they are read in the version that they were made on,
    where the project still has it.
    """
    out: list[Recipe] = []
    key = ""
    for step in entry.chain:
        today = _today(step.on(dict(present)))
        if step.is_edit and by_number(today) and (below := store.version_of(entry.id, key)):
            with contextlib.suppress(LampError):
                today = pinned(store, today, below)
        out.append(today)
        key = step.key(key)
    return out


def _today(step: Recipe) -> Recipe:
    """The step as today's declaration has it.

    Raises
    ------
    InputError
        When there is no such operation any more, or its parameters do not fit.
    """
    op = find_operation(step.operation)
    if op.name == step.operation and op.version == step.version:
        with contextlib.suppress(InputError):
            op.check(step.params)
            return step
    params = op.check(op.today(step.params, step.version)).model_dump(mode="json")
    inputs: dict[str, Pairs] = {}
    for slot, pairs in step.inputs.items():  # slots may have become one that takes many
        name = op.renamed.get(slot, slot)
        inputs[name] = inputs.get(name, ()) + pairs
    return dataclasses.replace(step, operation=op.name, version=op.version, params=params, inputs=inputs)


def redone(store: Store, item: str, edit: int, params: Mapping[str, Any] | None) -> Task:
    """Return the task that drops one edit of an item (`params` None) or makes it with other parameters.

    Parameters
    ----------
    edit
        Its place in the item's chain.

    Raises
    ------
    InputError
        When there is no such edit, or the parameters do not fit.
    """
    entry = store.entry(item)
    if not 0 < edit < len(entry.chain) or not entry.chain[edit].is_edit:
        raise InputError("there is no such change", where=entry.name)
    present = store.heads()
    steps = _steps(store, entry, present)
    keys = freshness.wanted_keys(entry, present)
    op = find_operation(steps[edit].operation)
    changed: tuple[Recipe, ...] = ()
    if params is not None:
        changed = (dataclasses.replace(steps[edit], params=op.check(params).model_dump(mode="json"), problem=""),)
        if below := store.version_of(item, keys[edit - 1]):
            changed = (pinned(store, changed[0], below),)
    rest = (*changed, *(dataclasses.replace(s, problem="") for s in steps[edit + 1 :]))
    word = "Drop" if params is None else "Change"
    for k in range(edit - 1, -1, -1):
        if start := store.version_of(item, keys[k]):
            edits = (*steps[k + 1 : edit], *rest)
            way = Way(edits, start, item, entry.version)
            return task_of(store, f"{word}: {op.title}", None, {steps[0].output: way}, refresh=True)
    run = dataclasses.replace(steps[0], group=uuid.uuid4().hex[:12])
    way = Way((*steps[1:edit], *rest), 0, item, entry.version)
    return task_of(store, f"{word}: {op.title}", run, {run.output: way}, refresh=True)


def rerun(store: Store, item: str, params: Mapping[str, Any], inputs: Chosen | None = None) -> Task:
    """Return the task that makes all items of the run of an item anew, with other parameters or inputs, as new versions of them.

    Their later changes are made again on top.

    Raises
    ------
    InputError
        When the item was not made by a run, or the parameters or inputs do not fit.
    """
    entry = store.entry(item)
    if not entry.chain or entry.chain[0].is_edit or entry.dated:
        raise InputError("it was not made by a run that could be changed", where=entry.name)
    present = store.heads()
    first = _today(entry.chain[0].on(present))
    op = find_operation(first.operation)
    chosen = {slot: [i for i, _ in pairs] for slot, pairs in first.inputs.items()} if inputs is None else inputs
    group = [e for e in store.entries() if e.chain and e.chain[0].group == entry.chain[0].group and not e.dated]
    every = {e.id: e for e in store.entries()}
    run = dataclasses.replace(step_of(store, op, params, chosen), base="")
    for used, _ in run.pairs:
        if any(used == e.id or freshness.made_of(every, used, e.id) for e in group):
            raise InputError(
                f"'{every[used].name}' is itself made from '{entry.name}'", where=op.name, fix="Use a dated copy of it"
            )
    ways = {
        e.chain[0].output: Way(
            tuple(dataclasses.replace(s, problem="") for s in _steps(store, e, present)[1:]), 0, e.id, e.version
        )
        for e in group
    }
    return dataclasses.replace(task_of(store, f"Change: {op.title}", run, ways, refresh=True), loose=True)
