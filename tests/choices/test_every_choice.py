"""Contract: every choice of every operation comes to its finished item, which is drawn, written, made again and undone.

A tenth of it runs in each run, another one each day; all of it, pairs of choices included, with INNERLAMP_WALK=all
(`make test-long`). One tenth by hand: INNERLAMP_WALK=3.
"""

from __future__ import annotations

import itertools
import math
import re
import shutil
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from innerlamp.api import Project
from innerlamp.app.painters.kit.views import MapView, SceneView, SectionView, View
from innerlamp.app.painters.table import PAINTERS
from innerlamp.app.start.headless import _context
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.errors import LampError
from innerlamp.core.formats.table import export, formats_for
from innerlamp.core.items.base import Item
from innerlamp.core.items.points import PointSet
from innerlamp.core.running import execute
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import file_params

from .cases import Case, accompanied, cases, covering, fitting, options, pairs, small
from .examples import WITHOUT_EXAMPLE, Examples, few_rows, seen
from .tenth import TENTH, WALK

EVERY = [case for name, op in OPERATIONS.items() if name not in WITHOUT_EXAMPLE for case in cases(op)]
PAIRS = (
    [case for name, op in OPERATIONS.items() if name not in WITHOUT_EXAMPLE for case in pairs(op)]
    if WALK == "all"
    else []
)
SURVEYS = ("invert-magnetics", "invert-gravity", "invert-together", "regional-of-survey")
UNITS = ("build-units", "unit-uncertainty", "leave-holes-out")
FEW = {"Soils": "Few soils"}  # what is gridded in an instant instead of in seconds
# Choices that an example's data do not allow: what the sentence says. Anything else that is refused is a fault.
REFUSED: dict[str, str] = {
    "lift-corrections: as its example": "no correction to lift",
    "describe-attribute: quantity=number": "holds texts",
    "import-points: content=structures": "no column for Dip",
    "import-resistivity: positions=distances": "no reading fits the electrodes",
    "level-by-unit: without map": "no column 'unit'",
    "clip-grid: without polygons": "nothing to cut by",
    "edit-corner: action=add": "a corner already",
    "edit-corner: action=remove": "needs three corners",
    "edit-features: action=remove": "nothing would be left",
    **{f"{op}: heights=a grid": "no grid of sensor elevations" for op in SURVEYS},
    **{f"{op}: with sensors": "below the ground" for op in SURVEYS},
    **{f"{op}: with holes": "no measured property" for op in SURVEYS},
    **{f"{op}: with geology": "nothing is known of them" for op in SURVEYS},
    **{f"{op}: cluster=my cluster": "no cluster is set" for op in SURVEYS[:3]},
    **{f"{op}: noise_from=repeated readings": "three are needed" for op in SURVEYS},
    "response-of-units: measured=total field": "date of the survey is not known",
    "response-of-units: values=fitted": "a fit needs readings",
    "grade-shell: with trend": "reaches no farther along it",
    **{f"{op}: without holes": "neither holes nor a map" for op in UNITS},
    **{f"{op}: units=[unit:Till kind:background codes:TILL]": "2 units are the background" for op in UNITS},
    **{f"{op}: noise_from=line crossings": "five crossings are needed" for op in SURVEYS},
}


@pytest.fixture(scope="module")
def examples(demo_path: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Examples]:
    folder = tmp_path_factory.mktemp("choices")
    shutil.copytree(demo_path, folder / "copy.lamp")
    with Project.open(folder / "copy.lamp") as project:
        for whole, few in FEW.items():
            project.add(few_of(project[whole]), few)
        yield Examples(project, folder)


def few_of(item: Item) -> Item:
    """Every tenth row of samples."""
    assert isinstance(item, PointSet)
    return replace(item, table=item.table.iloc[::10].reset_index(drop=True))


def chosen(case: Case, examples: Examples, made: dict[str, str]) -> tuple[dict[str, Any], dict[str, Any]] | None:
    """Inputs and parameters of a case; None where the demo has nothing that fits an input."""
    op, store = OPERATIONS[case.operation], examples.project.store
    examples.before(op, made)
    params = {**examples.params(op), **small(op), **accompanied(case, op), **file_params(case.params)}
    inputs = {slot: FEW.get(str(given), given) for slot, given in examples.inputs(op, made).items()}
    for slot in op.inputs:
        if slot.slot not in case.inputs:
            continue
        if case.inputs[slot.slot] is None:
            inputs.pop(slot.slot, None)
            continue
        names = [n for given in inputs.values() for n in ([given] if isinstance(given, str) else given)]
        found = fitting(slot, store.entries(), {store.find(n).id for n in names}, lambda e: e.name == "")
        if not found:
            return None
        inputs[slot.slot] = found
    return inputs, params


def drawn(examples: Examples, item: str) -> None:
    """Draw an item in every view: nothing that a painter does may fail."""
    ctx = _context(examples.project.store)
    entry = ctx.entry(item)
    assert entry is not None
    loaded = examples.project.store.load(item)
    west, east, south, north, low, _ = entry.bounds
    views: list[View] = [
        MapView(),
        SectionView(SectionPlane(west, south, max(east, west + 1.0), max(north, south + 1.0)), 200.0),
        SceneView((west, south, low if math.isfinite(low) else 0.0)),
    ]
    for view in views:
        for graphic in PAINTERS[view.kind, entry.kind].paint(ctx, view, entry, loaded):
            assert graphic is not None
    ctx.session = None


def written(examples: Examples, item: str, folder: Path) -> None:
    loaded = few_rows(examples.project.store.load(item))
    for form in formats_for(loaded.kind):
        extension = form.extensions[0]
        name = f"{loaded.kind}_{{hole}}" if "{hole}" in form.name else loaded.kind
        for rest in folder.glob("*"):
            rest.unlink()
        try:
            files = export(loaded, folder / f"{name}{extension}")
        except LampError as error:
            # What a format can't hold is said; that it has nothing at all to hold is no fault of the choice.
            assert re.search(
                r"levels in common|can't hold these cells|no numbers along|turned|uneven|nothing|none of the items|no (readings|logs|rows|pieces|triangles)|only",
                str(error),
            ), error
            continue
        assert all(f.stat().st_size for f in files)


def walked(case: Case, examples: Examples, folder: Path) -> str:
    """Carry a case through; returns what it was refused with, '' when it came to its end."""
    project, store = examples.project, examples.project.store
    start, made = seen(project), {}
    given = chosen(case, examples, made)
    if given is None:
        while seen(project) != start:
            assert store.undo()
        return "nothing fits"
    try:
        out = project.run(case.operation, **given[0], **given[1])
        ran = seen(project)
        for item in out.values():
            assert store.entry(item).facts
            drawn(examples, item)
            written(examples, item, folder)
        # Made again from nothing it is the same, byte for byte.
        item = next(iter(out.values()))
        if not store.entry(item).chain[-1].is_edit:
            execute.refresh(store, list(out.values()), anew=True)
            assert {i: v for i, v in seen(project).items() if i in out.values()} == {i: ran[i] for i in out.values()}
            assert store.undo()
            assert seen(project) == ran
    except LampError as error:
        return str(error)
    finally:
        while seen(project) != start:
            assert store.undo()
    assert not list((store.path / "staging").glob("*"))
    return ""


@pytest.mark.parametrize("case", [c for c in EVERY if WALK == "all" or c.tenth == TENTH], ids=lambda c: c.label)
def test_every_choice_comes_to_its_end(examples: Examples, qapp: object, case: Case, tmp_path: Path) -> None:
    why = walked(case, examples, tmp_path)
    if why and why != "nothing fits" and not case.bound:
        assert case.label in REFUSED, why
        assert re.search(REFUSED[case.label], why), why


@pytest.mark.parametrize("case", PAIRS, ids=lambda c: c.label)
def test_every_pair_of_choices_comes_to_its_end_or_is_refused(
    examples: Examples, qapp: object, case: Case, tmp_path: Path
) -> None:
    walked(case, examples, tmp_path)


def test_what_is_refused_is_still_a_case() -> None:
    """What is no case of any survey is left out of the table by hand."""
    known = {c.label for c in EVERY}
    assert {label for label in REFUSED if label.split(":")[0] not in SURVEYS} <= known


def test_the_walk_knows_all_choices_of_a_magnetisation() -> None:
    labels = {c.label for c in EVERY}
    for way in ("one direction, to be found", "any direction"):
        assert f"invert-magnetics: magnetisation={way}" in labels
    assert options(OPERATIONS["invert-magnetics"].fields()["parts"].kind) == ()
    assert {c.tenth for c in EVERY} == set(range(10))


def test_a_covering_array_has_every_pair_and_is_much_smaller_than_all() -> None:
    values = {"a": [1, 2, 3], "b": [1, 2], "c": [1, 2, 3, 4], "d": [True, False]}
    rows = covering(values)
    for one, other in itertools.permutations(values, 2):
        assert {(r[one], r[other]) for r in rows} == set(itertools.product(values[one], values[other]))
    assert 12 <= len(rows) <= 16  # of 48
