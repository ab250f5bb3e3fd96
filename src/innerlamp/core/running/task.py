"""What is to be made, as plain data that can be sent to a process.

What is performed is a list of lines. A line leads to one item: from the output of a run, or from an
earlier version, through edits in order. Running an operation is a run without edits, changing an item
is one edit, and making an item again is its run and its edits on what the inputs are now, beginning
at the last step whose result the project still has.
"""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from ..errors import LampError
from ..formats.tables import tables_in
from ..items.base import Item
from ..project import payload
from ..project.records import Recipe, Result
from ..project.store import Store
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


def task_of(
    store: Store,
    label: str,
    run: Recipe | None,
    ways: dict[str, Way],
    *,
    refresh: bool = False,
    instant: bool = False,
) -> Task:
    """Return the task of a run and ways, with all that a worker needs of the project."""
    steps = [s for way in ways.values() for s in way.edits] + ([run] if run is not None else [])
    versions = {v for step in steps for _, v in step.pairs} | {way.start for way in ways.values() if way.start}
    staging = store.path / "staging" / uuid.uuid4().hex[:12]
    manifests = {v: store.manifest(v) for v in versions}
    layouts = tables_in.known(ref for step in steps for ref in files_of(step))
    # Only imports are held against what the project holds; edits need not wait for it.
    area = area_of(store, [way.item for way in ways.values() if way.item]) if any(map(files_of, steps)) else None
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


def files_of(step: Recipe) -> list[str]:
    """Return what the parameters of a step name as files."""
    out: list[str] = []
    for name, info in find_operation(step.operation).fields().items():
        if info.editor in ("file", "files") and step.params.get(name):
            out += [step.params[name]] if info.editor == "file" else step.params[name]
    return [str(ref) for ref in out]


def reaches_out(step: Recipe) -> list[str]:
    """Return what a step would read or call beyond its project: files by their paths, and the user's cluster."""
    try:
        out = files_of(step)
    except LampError:  # an operation that this version does not know is not carried out anyway
        return []
    return [*out, *(["your cluster"] if step.params.get("cluster", "") not in ("", "this machine") else [])]


def by_number(step: Recipe) -> bool:
    """Whether an edit names the rows that it changes by their numbers, which hold for one version only."""
    return find_operation(step.operation).pin is not None and bool(step.params.get("rows"))
