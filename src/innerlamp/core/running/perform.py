"""Performing: a task is carried out and its results are written into the staging folder."""

from __future__ import annotations

import contextlib
import dataclasses
import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from .. import limits
from ..declaring.operation import Inputs
from ..errors import Cancelled, InputError, LampError
from ..formats.tables import tables_in
from ..items.base import Item
from ..progress import SILENT, Progress
from ..project import payload
from ..project.records import Recipe
from ..project.store import stage
from .table import find_operation
from .task import Made, Task, Way, by_number, files_of


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
                if task.refresh and by_number(edit):
                    raise InputError(
                        "it names rows by their numbers, and other rows may have them now",
                        where=find_operation(edit.operation).title,
                        fix="Make the change again",
                    )
                item = _carry_out(edit, read, task, part, item)[edit.output]
                taken.append(dataclasses.replace(edit, sources=_sources(edit)))
            except Cancelled:
                raise
            except LampError as error:
                if not task.refresh:
                    raise
                taken.append(dataclasses.replace(edit, problem=str(error)))
        # What stays of the items that were read need not be written again.
        there = [
            (read_item, task.manifests[version]) for version, read_item in items.items() if version in task.manifests
        ]
        if at_hand is not None and way.start:  # in this process
            made.results[slot] = stage(Path(task.payloads), item, there)
            made.items[slot] = item
        else:
            staging.mkdir(parents=True, exist_ok=True)
            made.results[slot] = stage(staging, item, there)
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


def _sources(step: Recipe) -> dict[str, str]:
    found = {}
    for ref in files_of(step):
        with contextlib.suppress(InputError, OSError):  # what is not a file leaves no trace
            path, _ = tables_in.split(ref)
            with path.open("rb") as handle:
                found[str(path)] = hashlib.file_digest(handle, "blake2b").hexdigest()[:40]
    return found
