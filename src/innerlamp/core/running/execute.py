"""Running a declared operation: prepared in the project, performed anywhere, landed in the project.

What is performed is a list of lines. A line leads to one item: from the output of a run, or from an
earlier version, through edits in order. Running an operation is a run without edits, changing an item
is one edit, and making an item again is its run and its edits on what the inputs are now, beginning
at the last step whose result the project still has.
"""

from __future__ import annotations

import contextlib
import dataclasses
import hashlib
import shutil
import uuid
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from .. import limits
from ..declaring.operation import Cost, Inputs, Operation
from ..errors import Cancelled, InputError, LampError
from ..formats import tables_in
from ..items.base import Item
from ..progress import SILENT, Progress
from ..project import freshness, payload
from ..project.records import Entry, Line, Pairs, Recipe, Result
from ..project.store import Moved, Store, stage
from .table import find_operation

Chosen = Mapping[str, str | Sequence[str]]


@dataclass(frozen=True)
class Way:
    """How one item is made: edits on top of a version, or of an output of the task's run.

    Attributes
    ----------
    edits
        Steps in order; their inputs are fixed by version.
    start
        Version that the edits begin on; 0 for the output of the run.
    item, expect
        The item that gets the new version, and the version it points to now; '' for a new item.
    """

    edits: tuple[Recipe, ...] = ()
    start: int = 0
    item: str = ""
    expect: int = 0


@dataclass(frozen=True)
class Task:
    """All that a worker needs to make items; plain data that can be sent to a process.

    `ways` is by output slot; without any, every output of the run becomes a new item. A `loose` task may make other outputs
    than those that have a way: what it makes besides becomes a new item, what it makes no more stays as it was.
    """

    label: str
    run: Recipe | None
    ways: dict[str, Way]
    manifests: dict[int, payload.Manifest]
    payloads: str
    staging: str
    crs: str
    refresh: bool = False
    instant: bool = False
    layouts: tuple[tables_in.Known, ...] = ()
    area: tuple[float, float, float, float] | None = None
    loose: bool = False

    @property
    def step(self) -> Recipe:
        """The step that the task is about: its run, or its last edit."""
        if self.run is not None:
            return self.run
        return next(iter(self.ways.values())).edits[-1]

    @property
    def operation(self) -> str:
        return self.step.operation

    @property
    def items(self) -> set[str]:
        """Items that get a new version."""
        return {way.item for way in self.ways.values() if way.item}


@dataclass(frozen=True)
class Made:
    """What a task made: results by output slot, and the steps of each as they were carried out.

    `items` are the results themselves where they were made in this process.
    """

    results: dict[str, Result] = field(default_factory=dict)
    steps: dict[str, tuple[Recipe, ...]] = field(default_factory=dict)
    items: dict[str, Item] = field(default_factory=dict)


def prepare(store: Store, operation: str, params: Mapping[str, Any], inputs: Chosen) -> Task:
    """Check inputs (slot to item id, or ids where a slot takes many) and parameters, and return the task.

    Raises
    ------
    InputError, ProjectError
        When an input is missing or of the wrong kind, or a parameter is wrong.
    """
    op = find_operation(operation)
    step = _step(store, op, params, inputs)
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
        output = next(out for out, slot in op.replaces.items() if slot == op.base)
        step = dataclasses.replace(step, output=output)
        way = Way((step,), entry.version, entry.id, entry.version)
        return _task(store, op.title, None, {output: way}, instant=op.instant)
    return _task(store, op.title, dataclasses.replace(step, base=""), {}, instant=op.instant)


def _step(store: Store, op: Operation, params: Mapping[str, Any], inputs: Chosen) -> Recipe:
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


def _task(
    store: Store,
    label: str,
    run: Recipe | None,
    ways: dict[str, Way],
    *,
    refresh: bool = False,
    instant: bool = False,
) -> Task:
    steps = [s for way in ways.values() for s in way.edits] + ([run] if run is not None else [])
    versions = {v for step in steps for _, v in step.pairs} | {way.start for way in ways.values() if way.start}
    staging = store.path / "staging" / uuid.uuid4().hex[:12]
    manifests = {v: store.manifest(v) for v in versions}
    layouts = tables_in.known(ref for step in steps for ref in _files(step))
    # Only imports are held against what the project holds; edits need not wait for it.
    area = area_of(store, [way.item for way in ways.values() if way.item]) if any(map(_files, steps)) else None
    payloads = str(store.payloads)
    return Task(label, run, ways, manifests, payloads, str(staging), store.crs, refresh, instant, layouts, area)


def area_of(store: Store, without: Sequence[str] = ()) -> tuple[float, float, float, float] | None:
    """Return west, east, south and north of a project's items, None for nothing; what lies far off or is far wider than most is left out."""
    boxes = [
        np.array(e.bounds[:4])
        for e in store.entries()
        if e.id not in without and e.bounds[1] > e.bounds[0] and e.bounds[3] > e.bounds[2]
    ]
    if not boxes:
        return None
    all_boxes = np.array(boxes)
    wide = np.hypot(all_boxes[:, 1] - all_boxes[:, 0], all_boxes[:, 3] - all_boxes[:, 2])
    centre = 0.5 * (all_boxes[:, [0, 2]] + all_boxes[:, [1, 3]])
    # The item with the most others around it is at home, the oldest of several: one that came in wrongly is not.
    reach = max(10.0 * float(np.median(wide)), 20_000.0)
    near = np.hypot(*(centre[:, None, :] - centre[None, :, :]).transpose(2, 0, 1)) < reach
    good = all_boxes[near[int(np.argmax(near.sum(axis=1)))] & (wide <= 5.0 * float(np.median(wide)))]
    good = good if len(good) else all_boxes
    west, south = good[:, [0, 2]].min(axis=0)
    east, north = good[:, [1, 3]].max(axis=0)
    return float(west), float(east), float(south), float(north)


# ---- making again


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
        steps = [_today(step.on(present)) for step in entry.chain]
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
    return Again(found, _task(store, label, run, ways, refresh=True) if ways else None)


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
    steps = [_today(step.on(present)) for step in entry.chain]
    keys = freshness.wanted_keys(entry, present)
    op = find_operation(steps[edit].operation)
    changed = (
        ()
        if params is None
        else (dataclasses.replace(steps[edit], params=op.check(params).model_dump(mode="json"), problem=""),)
    )
    rest = (*changed, *(dataclasses.replace(s, problem="") for s in steps[edit + 1 :]))
    word = "Drop" if params is None else "Change"
    for k in range(edit - 1, -1, -1):
        if start := store.version_of(item, keys[k]):
            edits = (*steps[k + 1 : edit], *rest)
            way = Way(edits, start, item, entry.version)
            return _task(store, f"{word}: {op.title}", None, {steps[0].output: way}, refresh=True)
    run = dataclasses.replace(steps[0], group=uuid.uuid4().hex[:12])
    way = Way((*steps[1:edit], *rest), 0, item, entry.version)
    return _task(store, f"{word}: {op.title}", run, {run.output: way}, refresh=True)


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
    run = dataclasses.replace(_step(store, op, params, chosen), base="")
    for used, _ in run.pairs:
        if any(used == e.id or freshness.made_of(every, used, e.id) for e in group):
            raise InputError(
                f"'{every[used].name}' is itself made from '{entry.name}'", where=op.name, fix="Use a dated copy of it"
            )
    ways = {
        e.chain[0].output: Way(
            tuple(dataclasses.replace(_today(s.on(present)), problem="") for s in e.chain[1:]), 0, e.id, e.version
        )
        for e in group
    }
    return dataclasses.replace(_task(store, f"Change: {op.title}", run, ways, refresh=True), loose=True)


# ---- carrying out


def perform(task: Task, progress: Progress = SILENT, at_hand: Mapping[int, Item] | None = None) -> Made:
    """Carry a task out and write its results into the staging folder. Touches nothing else.

    Parameters
    ----------
    at_hand
        Versions that are in memory already; parts of them that stay are not written again.

    Raises
    ------
    LampError
        When something does not fit. An edit that is made again and no longer fits is passed over instead,
        and its step says why.
    """
    progress(0.0, "Reading inputs")
    tables_in.remember(task.layouts)
    items: dict[int, Item] = dict(at_hand or {})

    def read(version: int) -> Item:
        if version not in items:
            items[version] = payload.read_item(Path(task.payloads), task.manifests[version])
        return items[version]

    outputs: dict[str, Item] = {}
    run = task.run
    count = (run is not None) + sum(len(way.edits) for way in task.ways.values())
    done = 0
    if run is not None:
        outputs = _carry_out(run, read, task, progress.part(0.02, 0.02 + 0.94 / max(count, 1)))
        run = dataclasses.replace(run, sources=_sources(run))
        done = 1
    made = Made()
    staging = Path(task.staging)
    others = {name: Way() for name in outputs} if task.loose or not task.ways else {}
    for slot, way in {**others, **task.ways}.items():
        if task.loose and not way.start and slot not in outputs:
            continue  # what the run makes no more stays as it was
        first = () if way.start or run is None else (dataclasses.replace(run, output=slot),)
        if not way.start and slot not in outputs:
            raise InputError(
                f"the run makes no '{slot}' any more", where=task.label, fix="Remove the item, or make it anew"
            )
        item = read(way.start) if way.start else outputs[slot]
        taken = []
        for edit in way.edits:
            part = progress.part(0.02 + 0.94 * done / max(count, 1), 0.02 + 0.94 * (done + 1) / max(count, 1))
            done += 1
            try:
                item = _carry_out(edit, read, task, part, item)[edit.output]
                taken.append(dataclasses.replace(edit, sources=_sources(edit)))
            except Cancelled:
                raise
            except LampError as error:
                if not task.refresh:
                    raise
                taken.append(dataclasses.replace(edit, problem=str(error)))
        if at_hand is not None and way.start:  # in this process: what stays of the item need not be written again
            made.results[slot] = stage(Path(task.payloads), item, (items[way.start], task.manifests[way.start]))
            made.items[slot] = item
        else:
            staging.mkdir(parents=True, exist_ok=True)
            made.results[slot] = stage(staging, item)
        made.steps[slot] = (*first, *taken)
    progress(1.0, "Done")
    return made


def _carry_out(step: Recipe, read: Any, task: Task, progress: Progress, base: Item | None = None) -> dict[str, Item]:
    op = find_operation(step.operation)
    items: dict[str, Item | Sequence[Item]] = {
        slot: tuple(read(v) for _, v in pairs) for slot, pairs in step.inputs.items()
    }
    if base is not None:
        items[step.base] = base
    inputs, params = Inputs(items, task.crs, task.area), op.check(step.params)
    if op.estimate is not None:
        cost = op.estimate(inputs, params)
        limits.fits(1e6 * cost.megabytes, cost.text, "Take larger cells, or less data")
    try:
        return op.run(inputs, params, progress)
    except MemoryError as error:
        raise InputError(
            f"{op.title} does not fit into memory", where=task.label, fix="Take larger cells, or less data"
        ) from error


def _files(step: Recipe) -> list[str]:
    """What the parameters of a step name as files."""
    out: list[str] = []
    for name, info in find_operation(step.operation).fields().items():
        if info.editor in ("file", "files") and step.params.get(name):
            out += [step.params[name]] if info.editor == "file" else step.params[name]
    return [str(ref) for ref in out]


def _sources(step: Recipe) -> dict[str, str]:
    found = {}
    for ref in _files(step):
        with contextlib.suppress(InputError, OSError):  # what is not a file leaves no trace
            path, _ = tables_in.split(ref)
            with path.open("rb") as handle:
                found[str(path)] = hashlib.file_digest(handle, "blake2b").hexdigest()[:40]
    return found


def land(store: Store, task: Task, made: Made, cause: int | None = None, light: Collection[str] = ()) -> dict[str, str]:
    """Take results into the project as one undoable change; returns item id by output slot.

    New items of the slots in `light` are lit at once.

    When inputs moved on meanwhile the result still lands: its steps name the versions it was made
    from, so it shows as stale. When the item itself moved on, a refresh is only put aside (and found
    again should it fit), and an edit is refused.

    Raises
    ------
    Moved
        When an edit was prepared on a version that its item no longer points to: prepare it anew.
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
        if way.item not in present:  # taken off the shelf while its refresh ran: it stays off
            continue
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


def estimate(store: Store, operation: str, params: Mapping[str, Any], inputs: Chosen) -> Cost | None:
    """Return what a run would cost, or None when that is unknown or something is not yet chosen."""
    op = find_operation(operation)
    if op.estimate is None:
        return None
    try:
        _step(store, op, params, inputs)
        items = {
            slot: store.load(str(i)) if isinstance(i, str) else [store.load(k) for k in i]
            for slot, i in inputs.items()
            if i
        }
        return op.estimate(Inputs(items, store.crs), op.check(params))
    except LampError:
        return None


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
    "perform",
    "prepare",
    "redone",
    "refresh",
    "run",
    "wanted",
]
