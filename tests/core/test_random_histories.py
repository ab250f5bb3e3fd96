"""Random histories of a project against a small model of what should be there.

The model knows what every item is by definition: a source has a value, a derived item is worked out from
its inputs, edits come on top in order, a held item stays what it was. Undo restores the definitions before.
Longer by hand: INNERLAMP_STEPS=100000 pytest tests/core/test_random_histories.py
"""

from __future__ import annotations

import contextlib
import copy
import math
import os
import shutil
import tempfile
from dataclasses import dataclass, field
from errno import EIO, ENOLCK, ENOSPC, EROFS
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from innerlamp.api import Project
from innerlamp.core.errors import ProjectError
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import Grid
from innerlamp.core.project import lock, trail
from innerlamp.core.project.history import History
from innerlamp.core.project.store import stage

from ..scale import share
from .test_full_disk import failing

CRS = "EPSG:32719"
STEPS = int(os.environ.get("INNERLAMP_STEPS", share(2000)))
EACH = 50  # steps of one history
PICK = st.integers(0, 10**6)
Value = tuple[float, str] | None  # a number, the unit of a map; None: nobody knows


@dataclass
class Thing:
    """An item by definition: a source, a sum of two grids, or figures of a grid by a map."""

    how: str
    value: float = 0.0
    inputs: tuple[str, ...] = ()
    edits: list[str] = field(default_factory=list)
    held: bool = False
    kept: Value = None  # what a held one stays at
    name: str = ""
    lit: bool = False


def grid(value: float) -> Grid:
    return Grid(
        name="G", crs=CRS, values=np.full((6, 6), value), x0=5.0, y0=5.0, dx=10.0, dy=10.0, attribute="v", unit="m"
    )


def refuse_locks(*_: object) -> None:
    raise OSError(ENOLCK, os.strerror(ENOLCK))


class Histories(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp())
        self.project = Project.create(self.folder / "p", CRS)
        self.now: dict[str, Thing] = {}
        self.before: list[dict[str, Thing]] = []
        self.after: list[dict[str, Thing]] = []

    def teardown(self) -> None:
        self.check_values()
        assert self.project.store.damaged() == {}
        self.project.close()
        shutil.rmtree(self.folder)

    # ---- the model

    def remember(self) -> None:
        self.before.append(copy.deepcopy(self.now))
        self.after.clear()

    def worth(self, item: str) -> Value:
        thing = self.now.get(item)
        if thing is None:
            return None
        if thing.held:
            return thing.kept
        got = [self.worth(i) for i in thing.inputs]
        if any(v is None for v in got):
            return None
        if thing.how == "sum":
            return (got[0][0] + got[1][0], "")  # type: ignore[index]
        if thing.how == "figures":
            return (got[0][0], thing.edits[-1] if thing.edits else got[1][1])  # type: ignore[index]
        return (thing.value, thing.edits[-1] if thing.edits else "A")

    def new(self, thing: Thing, item: str) -> None:
        self.remember()
        thing.name = self.project.store.entry(item).name
        self.now[item] = thing

    def a_grid(self, pick: int) -> str:
        grids = [i for i, t in self.now.items() if t.how == "sum" or (not math.isnan(t.value) and t.how == "source")]
        return grids[pick % len(grids)] if grids else ""

    def a_map(self, pick: int) -> str:
        maps = [i for i, t in self.now.items() if t.how == "figures" or math.isnan(t.value)]
        return maps[pick % len(maps)] if maps else ""

    def any(self, pick: int) -> str:
        return list(self.now)[pick % len(self.now)] if self.now else ""

    # ---- what people do

    @initialize()
    def something_to_begin_with(self) -> None:
        self.source(3)
        self.source(5)
        self.map()
        self.run_sum(0, 1)
        self.run_figures(2, 0)
        self.run_figures(2, 1)

    @rule(value=st.integers(1, 99))
    def source(self, value: int) -> None:
        if len(self.now) < 12:
            self.new(Thing("source", float(value)), self.project.store.put(grid(value)))

    def map(self) -> None:
        made = self.project.run("draw-feature", points="0 0; 60 0; 60 60; 0 60", value="A")["features"]
        self.new(Thing("source", math.nan), made)

    @rule(a=PICK, b=PICK)
    def run_sum(self, a: int, b: int) -> None:
        one, other = self.a_grid(a), self.a_grid(b)
        if one != other and len(self.now) < 12:
            made = self.project.run("calculate-grid", a=one, b=other, expression="a + b")
            self.new(Thing("sum", inputs=(one, other)), next(iter(made.values())))

    @rule(a=PICK, m=PICK)
    def run_figures(self, a: int, m: int) -> None:
        one, other = self.a_grid(a), self.a_map(m)
        if one and other and len(self.now) < 12:
            made = self.project.run("zonal-statistics", grid=one, polygons=other)["polygons"]
            self.new(Thing("figures", inputs=(one, other)), made)

    @rule(pick=PICK, value=st.integers(1, 99))
    def replace(self, pick: int, value: int) -> None:
        item = self.a_grid(pick)
        if item and self.now[item].how == "source":
            store = self.project.store
            store.add({"0": stage(store.payloads, grid(value))}, "Replace", replace={"0": item})
            self.remember()
            self.now[item].value = float(value)
            if self.now[item].held:
                self.now[item].kept = (float(value), "")

    @rule(pick=PICK, unit=st.sampled_from("BCDE"))
    def edit(self, pick: int, unit: str) -> None:
        item = self.a_map(pick)
        if item:
            self.project.run("edit-features", features=item, rows="0", column="unit", value=unit)
            self.remember()
            thing = self.now[item]
            thing.edits.append(unit)
            if thing.held and thing.kept is not None:
                thing.kept = (thing.kept[0], unit)

    @rule(pick=PICK)
    def hold_or_release(self, pick: int) -> None:
        item = self.any(pick)
        if item:
            self.refresh()
            value, held = self.worth(item), self.now[item].held
            self.project.store.hold(item, not held)
            self.remember()
            self.now[item].held, self.now[item].kept = not held, None if held else value

    @rule(pick=PICK, name=st.sampled_from("pqrs"))
    def rename(self, pick: int, name: str) -> None:
        item = self.any(pick)
        if item:
            self.project.store.rename(item, name)
            self.remember()
            self.now[item].name = name

    @rule(pick=PICK)
    def light_or_dim(self, pick: int) -> None:
        item = self.any(pick)
        if item:
            self.project.store.light({item: not self.now[item].lit})
            self.remember()
            self.now[item].lit = not self.now[item].lit

    @rule(pick=PICK)
    def remove(self, pick: int) -> None:
        if len(self.now) > 8:
            item = self.any(pick)
            self.project.store.remove([item])
            self.remember()
            del self.now[item]

    @rule()
    def undo(self) -> None:
        done = bool(self.project.store.undo())
        assert done == bool(self.before)
        if done:
            self.after.append(self.now)
            self.now = self.before.pop()

    @rule()
    def redo(self) -> None:
        done = bool(self.project.store.redo())
        assert done == bool(self.after)
        if done:
            self.before.append(self.now)
            self.now = self.after.pop()

    @rule()
    def refresh(self) -> None:
        self.project.refresh()
        self.check_values()

    @rule()
    def close_and_open(self) -> None:
        self.project.close()
        self.project = Project.open(self.folder / "p.lamp")

    @rule()
    def clean_up(self) -> None:
        self.project.store.clean_up()

    @precondition(lambda self: self.now)
    @rule()
    def die_in_the_middle(self) -> None:
        """A change that ends before its transaction does, as when the process is killed there."""
        write = History.record

        def dies(*_: object) -> None:
            raise KeyboardInterrupt

        History.record = dies  # type: ignore[method-assign]
        try:
            self.project.store.rename(next(iter(self.now)), "half")
        except KeyboardInterrupt:
            pass
        finally:
            History.record = write  # type: ignore[method-assign]
        self.project.store._db.close()
        self.project.store._lock.close()  # type: ignore[union-attr]
        self.project = Project.open(self.folder / "p.lamp")

    @rule(value=st.integers(1, 99), at=st.integers(1, 12), number=st.sampled_from([ENOSPC, EIO, EROFS]))
    def source_while_the_disk_fails(self, value: int, at: int, number: int) -> None:
        """The n-th write, flush, rename or new folder fails: nothing was done, or all of it."""
        if len(self.now) < 12:
            try:
                with pytest.MonkeyPatch.context() as patch, failing(patch, at, number):
                    made = self.project.store.put(grid(value))
            except ProjectError:
                return
            self.new(Thing("source", float(value)), made)

    @rule(value=st.integers(1, 99), how=st.sampled_from(["gone", "another's", "no locks"]))
    def source_while_the_lock_fails(self, value: int, how: str) -> None:
        """The lock is taken away while the project is open, or can't be taken when it is opened: nothing is written."""
        file, aside = self.folder / "p.lamp" / "lock", self.folder / "aside"
        if how == "no locks":
            self.project.close()
            with pytest.MonkeyPatch.context() as patch:
                patch.setattr(lock.fcntl, "flock", refuse_locks)
                with pytest.raises(ProjectError, match="gives no locks"):
                    Project.open(self.folder / "p.lamp")
            self.project = Project.open(self.folder / "p.lamp")
            return
        file.rename(aside)
        if how == "another's":
            file.write_text("somebody else", encoding="ascii")
        with pytest.raises(ProjectError):
            self.project.store.put(grid(value))
        aside.replace(file)

    @rule(back=st.booleans())
    def undo_or_redo_while_the_catalogue_can_not_grow(self, back: bool) -> None:
        db = self.project.store._db
        db.execute("PRAGMA max_page_count=1")  # as large as it is now
        try:
            with contextlib.suppress(ProjectError):
                (self.undo if back else self.redo)()
        finally:
            db.execute("PRAGMA max_page_count=4294967294")

    # ---- what must be so

    @invariant()
    def what_is_there(self) -> None:
        entries = self.project.items
        assert {e.id for e in entries} == set(self.now)
        for e in entries:
            thing = self.now[e.id]
            assert (e.name, e.held, bool(e.lit)) == (thing.name, thing.held, thing.lit)
            assert [s.params["value"] for s in e.edits] == thing.edits

    def check_values(self) -> None:
        self.project.refresh()
        state = trail.freshness(self.project.store)
        for item in self.now:
            wanted = self.worth(item)
            if wanted is None:
                continue
            assert state[item] != "stale"
            found = self.project[item]
            if isinstance(found, Grid):
                assert found.values[0, 0] == wanted[0]
            else:
                assert isinstance(found, Features)
                assert found.table["unit"].iloc[0] == wanted[1]
                if not math.isnan(wanted[0]):
                    means = [c for c in found.table.columns if c.endswith(" mean")]
                    assert found.table[means[-1]].iloc[0] == wanted[0]


Histories.TestCase.settings = settings(
    max_examples=max(STEPS // EACH, 1),
    stateful_step_count=EACH,
    deadline=None,
    derandomize=STEPS <= 2000,
    database=None,
    suppress_health_check=list(HealthCheck),
)
TestRandomHistories = Histories.TestCase
