"""The Python interface: the same operations as in the window, for scripts and notebooks.

>>> from innerlamp import Project                                   # doctest: +SKIP
>>> with Project.create("west.lamp", crs="EPSG:32629") as project:  # doctest: +SKIP
...     soils = project.run("import-points", file="soils.csv")["points"]
...     grid = project.run("grid-minimum-curvature", samples=soils, attribute="Sn ppm")["grid"]
...     project.export(grid, "sn.tif")
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Self

from .core.declaring.operation import Operation
from .core.errors import Cancelled, InputError, LampError
from .core.formats.table import export, export_together
from .core.formats.tables import saved_mappings
from .core.importing import intake, offers
from .core.items.attributes import is_ground
from .core.items.base import Item
from .core.items.page import Page
from .core.items.walk import Walk
from .core.progress import SILENT, Progress
from .core.project import trail
from .core.project.records import Entry
from .core.project.store import Store
from .core.running import execute
from .core.running.fresh import Fresh
from .core.running.table import OPERATIONS


class Project:
    """An open project. Items are named by id or by their name."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.problems: dict[str, str] = {}

    @classmethod
    def create(cls, path: str | Path, crs: str) -> Self:
        """Make a new project folder (``.lamp`` is added) in a projected CRS in metres."""
        return cls(Store.create(path, crs))

    @classmethod
    def open(cls, path: str | Path, write: bool = True) -> Self:
        """Open a project; `write=False` looks at it while another program has it."""
        return cls(Store.open(path, write))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Give the project back."""
        self.store.close()

    @property
    def items(self) -> list[Entry]:
        """All items as the catalogue knows them."""
        return self.store.entries()

    def __getitem__(self, item: str) -> Item:
        return self.store.load(self.store.find(item).id)

    def _repr_html_(self) -> str:
        """What notebooks show of a project."""
        from .notebook import views

        return views.project_html(self.store.path.stem, self.store.crs, self.items, trail.freshness(self.store))

    def add(self, item: Item, name: str = "") -> str:
        """Store an item that was made in Python (see `innerlamp.notebook`) and return its id; it has no recipe.

        Raises
        ------
        InputError
            When it lies in another coordinate system than the project.
        """
        if item.crs != self.store.crs:
            raise InputError(
                f"the item is in {item.crs}, the project in {self.store.crs}",
                where=item.name,
                fix="Bring it to the project's system first",
            )
        return self.store.put(replace(item, name=name) if name else item)

    @staticmethod
    def help(operation: str) -> None:
        """Print the page of an operation: what it does and how, what it needs, every parameter with its unit.

        Raises
        ------
        LampError
            When there is no such operation.
        """
        from .core.running.help_pages import operation_page

        print(operation_page(execute.find_operation(operation)).text)

    def run(self, operation: str, progress: Progress = SILENT, **values: Any) -> dict[str, str]:
        """Run an operation; `values` are its inputs (items) and parameters. Returns item ids by output.

        Raises
        ------
        LampError
            With one clear sentence when anything does not fit.
        """
        return self.run_with(operation, values, progress)

    def run_with(self, operation: str, values: Mapping[str, Any], progress: Progress = SILENT) -> dict[str, str]:
        """Run an operation with inputs and parameters that are given as a mapping, whatever they are called."""
        inputs, params = self._parted(execute.find_operation(operation), values)
        return execute.run(self.store, operation, params, inputs, progress)

    def change(self, item: str, progress: Progress = SILENT, **values: Any) -> dict[str, str]:
        """Make an item, and all that its run made, anew with some inputs or parameters changed, as new versions of them.

        Raises
        ------
        LampError
            With one clear sentence when anything does not fit, or the item was not made by a run.
        """
        return self.change_with(item, values, progress)

    def change_with(self, item: str, values: Mapping[str, Any], progress: Progress = SILENT) -> dict[str, str]:
        """Change an item's run by inputs and parameters that are given as a mapping, whatever they are called."""
        entry = self.store.find(item)
        if not entry.chain:
            raise InputError("it was not made by a run that could be changed", where=entry.name)
        run = entry.chain[0]
        inputs, params = self._parted(execute.find_operation(run.operation), values)
        before = {slot: [i for i, _ in pairs] for slot, pairs in run.inputs.items()}
        task = execute.rerun(self.store, entry.id, {**run.params, **params}, {**before, **inputs})
        return execute.land(self.store, task, execute.perform(task, progress))

    def _parted(self, op: Operation, values: Mapping[str, Any]) -> tuple[dict[str, str | list[str]], dict[str, Any]]:
        """Inputs (ids by slot) and parameters, of values by their names of today or of before."""
        many = {slot.slot: slot.many for slot in op.inputs}
        inputs: dict[str, str | list[str]] = {}
        params: dict[str, Any] = {}
        for given_name, given in values.items():
            name = op.renamed.get(given_name, given_name)
            if name not in many:
                params[name] = given
            elif given and many[name]:
                before = inputs.get(name, [])
                inputs[name] = [*([before] if isinstance(before, str) else before), *self._several(given)]
            elif given:
                inputs[name] = self.store.find(str(given)).id
        return inputs, params

    def _several(self, given: str | Sequence[str]) -> list[str]:
        """Ids of items that are named in a list, or in a text parted by semicolons."""
        if isinstance(given, str) and not self._known(given):
            given = [part.strip() for part in given.split(";") if part.strip()]
        return [self.store.find(str(each)).id for each in ([given] if isinstance(given, str) else given)]

    def _known(self, item: str) -> bool:
        return any(item.lower() in (e.id, e.name.lower()) for e in self.items)

    def bring(
        self,
        files: Sequence[str | Path | offers.Offer],
        choices: intake.Choices | None = None,
        progress: Progress = SILENT,
        told: Callable[[intake.Run, Mapping[str, str] | LampError], None] | None = None,
    ) -> list[str]:
        """Bring files and folders in, each told by its content; returns the ids of the items that were made.

        What is missing is guessed as the window's form proposes it; an offer (`looked_at`) is taken as it was corrected. A file that can't be brought in does not stop the
        others: `told` hears of each run what it made, or why it failed; `problems` says the same by file.

        Raises
        ------
        InputError
            When there is no such file, or dates could be day or month first and `choices` does not say which.
        """
        chosen = choices or intake.Choices()
        paths = [f for f in files if not isinstance(f, offers.Offer)]
        found = [o for o in (*(f for f in files if isinstance(f, offers.Offer)), *self.looked_at(paths)) if o.kind]
        if chosen.day_order == "auto":
            for ref, texts in intake.ambiguous_dates(found).items():
                raise InputError(
                    f"dates such as {texts[0]} could be day or month first",
                    where=Path(ref).name,
                    fix="Say day_order 'day first' or 'month first'",
                )
        if not chosen.ground:
            grounds = (e.id for e in self.items if e.kind == "grid" and is_ground(e.attributes) and not e.dated)
            chosen = replace(chosen, ground=next(grounds, ""))
        if not chosen.holes:
            chosen = replace(chosen, holes=next((e.id for e in self.items if e.kind == "holes" and not e.dated), ""))
        self.problems = {}
        made: dict[str, str] = {}
        out: list[str] = []
        wanted = [o for o in found if not (o.kind == "picture" and o.needs_points and o.ref not in chosen.picks)]
        wanted, self.problems = intake.usable(wanted, chosen)
        if told is not None:
            for file, why in self.problems.items():
                told(intake.Run("", {}, {}, (file,)), InputError(why))
        waiting = intake.plan(wanted, chosen)
        while waiting:
            run = waiting.pop(0)
            try:
                outputs = self.run(run.operation, progress, **intake.resolved(run, made), **run.params)
            except Cancelled:
                raise
            except LampError as error:
                rest = intake.without(run, error)
                if rest is not None:
                    waiting.insert(0, rest[0])
                files = run.files if rest is None else (rest[1],)
                self.problems |= dict.fromkeys(files, str(error))
                if told is not None:
                    told(run if rest is None else replace(run, files=files), error)
                continue
            intake.remember(run, outputs, made)
            out += outputs.values()
            if told is not None:
                told(run, outputs)
        return out

    @staticmethod
    def looked_at(files: Sequence[str | Path], progress: Progress = SILENT) -> list[offers.Offer]:
        """Return what files and folders hold, as offers that can be corrected before they are brought in.

        `progress` is told before each file, and may end it there.

        Raises
        ------
        InputError
            When there is no such file or folder.
        """
        saved = saved_mappings.load()
        found = offers.found_files(files)
        out: list[offers.Offer] = []
        for number, path in enumerate(found):
            progress(number / len(found), f"Looking at {path.name}")
            out += offers.offers_of(path, saved)
        return out

    def refresh(self, progress: Progress = SILENT, only: Sequence[str] = ()) -> list[str]:
        """Make all stale items again that are not held, in the right order; returns their ids.

        `only` limits it to some items and what they are made from. One that can't be made again stops only what hangs from it; `problems` says which and why.
        """
        done: list[str] = []
        tried: set[tuple[str, ...]] = set()
        fresh = Fresh(self.store)
        self.problems = fresh.problems
        among = self._with_inputs([self.store.find(i).id for i in only]) if only else None
        while groups := fresh.due(among=among):
            for group in groups:
                wanted = tuple(execute.wanted(self.store, item) for item in group)
                try:
                    if wanted in tried:  # an operation that gives something else each time would never end
                        raise LampError("it was made again and still does not fit its inputs")
                    tried.add(wanted)
                    done += execute.refresh(self.store, group, progress)
                except Cancelled:
                    raise
                except LampError as error:
                    fresh.failed(group, str(error))
        return list(dict.fromkeys(done))

    def _with_inputs(self, items: Sequence[str]) -> set[str]:
        """Ids of items and of all that they are made from."""
        entries = {e.id: e for e in self.items}
        out: set[str] = set()
        todo = list(items)
        while todo:
            item = todo.pop()
            if item in out or item not in entries:
                continue
            out.add(item)
            todo += [i for step in entries[item].chain for i, _ in step.pairs]
        return out

    def make_again(self, item: str, progress: Progress = SILENT) -> list[str]:
        """Make one item again from its first step, as when the file that it was imported from has changed.

        Its edits are made again on top; those that no longer fit are kept and say why.
        """
        entry = self.store.find(item)
        group = [
            e.id
            for e in self.items
            if not e.dated and (e is entry or (e.recipe and entry.recipe and e.recipe.group == entry.recipe.group))
        ]
        return execute.refresh(self.store, group, progress, anew=True)

    def mend(self, progress: Progress = SILENT) -> dict[str, str]:
        """Make every damaged item again, what it is made from before it; returns what stays damaged: item id to why.

        An imported item is read again from its file, so that this must still be where it was.
        """
        left, found = self.store.damaged_rows(), self.store.damaged()
        for entry in self.items:
            if entry.id not in found or not self.store.damage_of(entry):  # whole again since another was made
                continue
            try:
                if entry.dated or entry.recipe is None:
                    raise LampError("no recipe tells how it was made", fix="Restore it from a back-up")
                self.make_again(entry.id, progress)
            except Cancelled:
                raise
            except LampError as error:
                left[entry.id] = str(error)
        still = {e.id: self.store.damage_of(e) for e in self.items if e.id in found}
        return left | {item: left.get(item, why) for item, why in still.items() if why}

    def drop_edit(self, item: str, edit: int, progress: Progress = SILENT) -> None:
        """Leave one edit out of how an item was made; `edit` is its place in the chain of its entry."""
        task = execute.redone(self.store, self.store.find(item).id, edit, None)
        execute.land(self.store, task, execute.perform(task, progress))

    def change_edit(self, item: str, edit: int, progress: Progress = SILENT, **params: Any) -> None:
        """Make one edit of an item with other parameters; those that are not named stay."""
        entry = self.store.find(item)
        before = entry.chain[edit].params if 0 <= edit < len(entry.chain) else {}
        task = execute.redone(self.store, entry.id, edit, {**before, **params})
        execute.land(self.store, task, execute.perform(task, progress))

    def export(self, item: str, path: str | Path, dots_per_inch: float = 300.0, guard: bool = False) -> list[Path]:
        """Write an item to a file in the format its name asks for; returns the files written.

        Pages are written as PDF, SVG, PNG or GeoTIFF, the last two with so many dots per inch, or as a template. Walk-throughs are written as HTML or PDF, their views as JSON.
        With `guard` texts of a CSV that a spreadsheet would take for formulas are guarded by an apostrophe.
        """
        found = self[item]
        if isinstance(found, Page) and Path(path).suffix.lower() != ".json":
            from .app.start.headless import export_page  # the window's painters draw it

            return export_page(self.store, found, Path(path), dots_per_inch)
        if isinstance(found, Walk) and Path(path).suffix.lower() != ".json":
            from .app.start.headless import draw_walk  # and the 3D pane's draw this

            draw_walk(self.store, found, Path(path))
            return [Path(path)]
        return export(found, path, guard)

    def export_together(self, items: Sequence[str], path: str | Path) -> list[Path]:
        """Write several items into one file of the Open Mining Format; returns the files written."""
        return export_together([self[i] for i in items], path)

    @staticmethod
    def operations() -> list[str]:
        """Names of all operations."""
        return list(OPERATIONS)
