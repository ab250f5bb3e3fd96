"""Running a declared operation: prepared in the project, performed anywhere, landed in the project."""

from __future__ import annotations

import contextlib
import hashlib
import inspect
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..declaring.operation import Cost, Inputs, Operation
from ..errors import InputError, LampError
from ..formats import tables_in
from ..items.base import Item
from ..progress import SILENT, Progress
from ..project import payload
from ..project.records import Recipe, Result
from ..project.store import Store, stage
from .table import OPERATIONS


@dataclass(frozen=True)
class Task:
    """All that a worker needs to run an operation; plain data that can be sent to a process."""

    operation: str
    params: dict[str, Any]
    inputs: dict[str, tuple[str, int]]
    manifests: dict[str, payload.Manifest]
    payloads: str
    staging: str
    crs: str
    replace: dict[str, str] = field(default_factory=dict)
    group: str = field(default_factory=lambda: uuid.uuid4().hex[:12])
    label: str = ""


def find_operation(name: str) -> Operation:
    """Return the operation of a name.

    Raises
    ------
    InputError
        When there is none; the text lists what is near.
    """
    if name in OPERATIONS:
        return OPERATIONS[name]
    near = [n for n in OPERATIONS if name.lower() in n or n.split(".")[-1] in name.lower()] or list(OPERATIONS)
    raise InputError(f"there is no operation '{name}'", fix="There are: " + ", ".join(near))


def prepare(
    store: Store,
    operation: str,
    params: Mapping[str, Any],
    inputs: Mapping[str, str],
    replace: Mapping[str, str] | None = None,
) -> Task:
    """Check inputs (slot to item id) and parameters, and return the task.

    Raises
    ------
    InputError, ProjectError
        When an input is missing or of the wrong kind, or a parameter is wrong.
    """
    op = find_operation(operation)
    chosen: dict[str, tuple[str, int]] = {}
    manifests = {}
    known = {slot.slot for slot in op.inputs}
    for name in inputs:
        if name not in known:
            raise InputError(
                f"there is no input '{name}'", where=op.name, fix="There are: " + (", ".join(sorted(known)) or "none")
            )
    for slot in op.inputs:
        item = inputs.get(slot.slot)
        if not item:
            if slot.optional:
                continue
            raise InputError(f"the input '{slot.slot}' is needed ({slot.label})", where=op.name)
        entry = store.entry(item)
        if entry.kind not in slot.kinds or (slot.need is not None and not slot.need(entry)):
            raise InputError(
                f"'{entry.name}' does not fit the input '{slot.slot}'",
                where=op.name,
                fix=f"It takes: {slot.label.lower()}",
            )
        chosen[slot.slot] = (entry.id, entry.version)
        manifests[slot.slot] = store.manifest(entry.version)
    checked = op.check(params).model_dump(mode="json")
    for name, info in op.fields().items():
        if info.role in ("attribute", "code") and info.of in chosen and checked.get(name):
            entry = store.entry(chosen[info.of][0])
            if checked[name] not in entry.attributes:
                raise InputError(
                    f"'{entry.name}' has no attribute '{checked[name]}'",
                    where=op.name,
                    fix="It has: " + ", ".join(entry.attributes),
                )
    staging = store.path / "staging" / uuid.uuid4().hex[:12]
    return Task(
        op.name,
        checked,
        chosen,
        manifests,
        str(store.payloads),
        str(staging),
        store.crs,
        dict(replace or {}) | {out: chosen[slot][0] for out, slot in op.replaces.items() if slot in chosen},
        label=op.title,
    )


def refresh_task(store: Store, group: list[str]) -> Task:
    """Return the task that makes items of one run again from what their inputs are now."""
    entries = [store.entry(i) for i in group]
    recipe = entries[0].recipe
    if recipe is None:
        raise InputError("the item was not made by an operation", where=entries[0].name)
    inputs = {slot: pairs[0][0] for slot, pairs in recipe.inputs.items() if pairs}
    present = {e.id for e in store.entries()}
    for slot, item in inputs.items():
        if item not in present:
            raise InputError(
                f"the input '{slot}' is no longer in the project",
                where=entries[0].name,
                fix="Undo its removal, or make the item anew",
            )
    task = prepare(store, recipe.operation, recipe.params, inputs, {e.recipe.output: e.id for e in entries if e.recipe})
    return Task(**{**vars(task), "label": "Refresh " + ", ".join(e.name for e in entries)})


def perform(task: Task, progress: Progress = SILENT) -> dict[str, Result]:
    """Run a task and write its results into the staging folder. Touches nothing else."""
    op = find_operation(task.operation)
    params = op.check(task.params)
    progress(0.0, "Reading inputs")
    items: dict[str, Item] = {slot: payload.read_item(Path(task.payloads), m) for slot, m in task.manifests.items()}
    made = op.run(Inputs(items, task.crs), params, progress.part(0.02, 0.96))
    progress(0.97, "Storing")
    staging = Path(task.staging)
    staging.mkdir(parents=True, exist_ok=True)
    results = {slot: stage(staging, item) for slot, item in made.items()}
    progress(1.0, "Done")
    return results


def land(store: Store, task: Task, results: Mapping[str, Result]) -> dict[str, str]:
    """Take results into the project as one undoable change; returns item id by output slot.

    When inputs moved on meanwhile the result still lands: its recipe names the versions it was
    made from, so it shows as stale.
    """
    for result in results.values():
        payload.adopt(Path(task.staging), store.payloads, result.manifest)
    # An item that the result replaces is its own past, not something it is made from.
    past = set(task.replace.values())
    inputs: dict[str, tuple[tuple[str, int], ...]] = {
        slot: (pair,) for slot, pair in task.inputs.items() if pair[0] not in past
    }
    sources = _sources(find_operation(task.operation), task.params)
    recipes = {slot: Recipe(task.operation, task.params, inputs, sources, slot, task.group) for slot in results}
    present = {e.id for e in store.entries()}
    replace = {slot: item for slot, item in task.replace.items() if slot in results and item in present}
    if task.replace:
        # What was taken off the shelf while its refresh ran stays off.
        results = {slot: r for slot, r in results.items() if slot in replace}
    return store.add(results, task.label, recipes, replace)


def run(
    store: Store, operation: str, params: Mapping[str, Any], inputs: Mapping[str, str], progress: Progress = SILENT
) -> dict[str, str]:
    """Prepare, perform and land an operation in this process; returns item id by output slot."""
    task = prepare(store, operation, params, inputs)
    return land(store, task, perform(task, progress))


def estimate(store: Store, operation: str, params: Mapping[str, Any], inputs: Mapping[str, str]) -> Cost | None:
    """Return what a run would cost, or None when that is unknown or something is not yet chosen."""
    op = find_operation(operation)
    if op.estimate is None:
        return None
    try:
        task = prepare(store, operation, params, inputs)
        return op.estimate(
            Inputs({slot: store.load(i) for slot, (i, _) in task.inputs.items()}, store.crs), op.check(task.params)
        )
    except LampError:
        return None


def _sources(op: Operation, params: Mapping[str, Any]) -> dict[str, str]:
    found = {}
    for name, info in op.fields().items():
        if info.role not in ("file", "files") or not params.get(name):
            continue
        for ref in [params[name]] if info.role == "file" else params[name]:
            with contextlib.suppress(InputError):  # what is not a file leaves no trace
                path, _ = tables_in.split(str(ref))
                with path.open("rb") as handle:
                    found[str(path)] = hashlib.file_digest(handle, "blake2b").hexdigest()[:40]
    return found


def describe(op: Operation) -> str:
    """Return the parameters of an operation as text, for the command line and the documentation."""
    lines = [f"{op.name} · {op.title} ({op.area})", "", inspect.cleandoc(op.help), ""]
    if op.inputs:
        lines.append("Inputs (name or id of an item):")
        for slot in op.inputs:
            lines.append(f"  {slot.slot:<14} {slot.label}{' (optional)' if slot.optional else ''}")
    lines.append("Parameters:")
    for name, info in op.fields().items():
        default = (
            "needed"
            if info.required
            else f"default {info.default!r}"
            if info.default not in ("", None)
            else "default: none"
        )
        options = getattr(info.kind, "__args__", ())
        choice = (
            " | ".join(map(str, options)) if options and all(isinstance(o, str) for o in options) else info.bounds_text
        )
        unit = f" ({info.unit})" if info.unit else ""
        lines.append(f"  {name:<14} {info.label}{unit}; {'; '.join(t for t in (choice, default) if t)}")
        if info.help:
            lines.append(f"  {'':<14}   {info.help}")
    lines.append("Makes:")
    lines += [f"  {out.slot:<14} {out.label}{f' ({out.kind})' if out.kind else ''}" for out in op.outputs]
    return "\n".join(lines)
