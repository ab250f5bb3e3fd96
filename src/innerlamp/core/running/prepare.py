"""Preparing: an operation with its inputs and parameters checked becomes a task."""

from __future__ import annotations

import dataclasses
import uuid
from collections.abc import Mapping
from typing import Any

from ..declaring.operation import Cost, Inputs, Operation
from ..errors import InputError, LampError
from ..project import freshness
from ..project.named_grids import resolved
from ..project.records import Entry, Pairs, Recipe
from ..project.store import Store
from .table import find_operation
from .task import Chosen, Task, Way, task_of


def prepare(store: Store, operation: str, params: Mapping[str, Any], inputs: Chosen) -> Task:
    """Check inputs (slot to item id, or ids where a slot takes many) and parameters, and return the task.

    Raises
    ------
    InputError, ProjectError
        When an input is missing or of the wrong kind, or a parameter is wrong.
    """
    op = find_operation(operation)
    step = step_of(store, op, params, inputs)
    if op.base and op.base in inputs and inputs[op.base]:
        entry = store.entry(str(inputs[op.base]))
        if entry.dated:
            raise InputError("a dated copy never changes", where=entry.name, fix="Change the item that it was made of")
        every = {e.id: e for e in store.entries()}
        for item, _ in step.pairs:
            if item == entry.id or freshness.made_of(every, item, entry.id):
                raise InputError(
                    f"'{every[item].name}' is itself made from '{entry.name}'",
                    where=op.name,
                    fix="Use a dated copy of it, which stays as it is",
                )
        step = pinned(store, step, entry.version)
        output = next(out for out, slot in op.replaces.items() if slot == op.base)
        step = dataclasses.replace(step, output=output)
        way = Way((step,), entry.version, entry.id, entry.version)
        return task_of(store, op.title, None, {output: way}, instant=op.instant)
    return task_of(store, op.title, dataclasses.replace(step, base=""), {}, instant=op.instant)


def pinned(store: Store, step: Recipe, version: int) -> Recipe:
    """Return an edit whose parameters say what is in the rows that it changes rather than their numbers.

    Raises
    ------
    InputError
        When there are no such rows in that version of the item.
    """
    op = find_operation(step.operation)
    if op.pin is None or not (step.params.get("rows") or step.params.get("meant")):
        return step  # it names no rows: the item need not be read here
    params = op.pin(store.load("", version), dict(step.params))
    return dataclasses.replace(step, params=op.check(params).model_dump(mode="json"))


def step_of(store: Store, op: Operation, params: Mapping[str, Any], inputs: Chosen) -> Recipe:
    """Return the step of an operation on items as they are now.

    Raises
    ------
    InputError
        As `prepare`.
    """
    known = {slot.slot for slot in op.inputs}
    for name in inputs:
        if name not in known:
            raise InputError(
                f"there is no input '{name}'", where=op.name, fix="There are: " + (", ".join(sorted(known)) or "none")
            )
    chosen: dict[str, Pairs] = {}
    entries: dict[str, Entry] = {}
    for slot in op.inputs:
        given = inputs.get(slot.slot) or ()
        items = [given] if isinstance(given, str) else list(given)
        if not items:
            if slot.optional:
                continue
            raise InputError(f"the input '{slot.slot}' is needed ({slot.label})", where=op.name)
        if len(items) > 1 and not slot.many:
            raise InputError(f"the input '{slot.slot}' takes one item", where=op.name)
        for item in items:
            entry = store.entry(item)
            if entry.kind not in slot.kinds or (slot.need is not None and not slot.need(entry)):
                raise InputError(
                    f"'{entry.name}' does not fit the input '{slot.slot}'",
                    where=op.name,
                    fix=f"It takes: {slot.label.lower()}",
                )
            entries.setdefault(slot.slot, entry)
        if slot.slot != op.base:
            chosen[slot.slot] = tuple((i, store.entry(i).version) for i in items)
    checked = op.check(params).model_dump(mode="json")
    if isinstance(text := checked.get("coordinates"), str) and text:
        checked["coordinates"] = resolved(store, text)
    for name, info in op.fields().items():
        if info.editor in ("attribute", "code") and info.of in entries and checked.get(name):
            entry = entries[info.of]
            if checked[name] not in entry.attributes:
                raise InputError(
                    f"'{entry.name}' has no attribute '{checked[name]}'",
                    where=op.name,
                    fix="It has: " + ", ".join(entry.attributes),
                )
    return Recipe(
        op.name, checked, chosen, {}, "", uuid.uuid4().hex[:12], op.base, "", op.version, op.attributes_read(checked)
    )


def estimate(store: Store, operation: str, params: Mapping[str, Any], inputs: Chosen) -> Cost | None:
    """Return what a run would cost, or None when that is unknown or something is not yet chosen."""
    op = find_operation(operation)
    if op.estimate is None:
        return None
    try:
        step_of(store, op, params, inputs)
        items = {
            slot: store.load(str(i)) if isinstance(i, str) else [store.load(k) for k in i]
            for slot, i in inputs.items()
            if i
        }
        return op.estimate(Inputs(items, store.crs), op.check(params))
    except LampError:
        return None
