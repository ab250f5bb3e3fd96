"""A disk that fills up, at every step of a change: one sentence, nothing half-made, and what was there is there.

Failures are injected at writing, flushing, renaming, making folders, and into the catalogue, at each call in turn.
"""

from __future__ import annotations

import errno
import os
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.errors import ProjectError
from innerlamp.core.items.points import PointSet
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"


def points(seed: int) -> PointSet:
    rng = np.random.default_rng(seed)
    table = pd.DataFrame({"x": rng.uniform(0, 9, 20), "y": rng.uniform(0, 9, 20), "z": 0.0, "v": rng.normal(0, 1, 20)})
    return PointSet(name=f"P{seed}", crs=CRS, table=table)


class Failing:
    """Lets the n-th call of some functions fail."""

    def __init__(self, at: int, number: int) -> None:
        self.left, self.number = at, number

    def around(self, real: Callable[..., Any]) -> Callable[..., Any]:
        def call(*args: Any, **more: Any) -> Any:
            self.left -= 1
            if self.left == 0:
                raise OSError(self.number, os.strerror(self.number))
            return real(*args, **more)

        return call


@contextmanager
def failing(monkeypatch: pytest.MonkeyPatch, at: int, number: int) -> Iterator[Failing]:
    plan = Failing(at, number)
    with monkeypatch.context() as patch:
        patch.setattr(os, "fsync", plan.around(os.fsync))
        patch.setattr(Path, "rename", plan.around(Path.rename))
        patch.setattr(Path, "mkdir", plan.around(Path.mkdir))
        patch.setattr(Path, "open", plan.around(Path.open))
        yield plan


@pytest.mark.parametrize("number", [errno.ENOSPC, errno.EIO, errno.EROFS])
def test_a_write_that_fails_at_any_step_leaves_the_project_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        kept = store.put(points(0))
        failed = 0
        for at in range(1, 30):
            before = [(e.id, e.version, e.name) for e in store.entries()]
            with failing(monkeypatch, at, number) as plan:
                raised = False
                try:
                    store.put(points(at))
                except ProjectError as error:
                    failed, raised = failed + 1, True
                    assert os.strerror(number) in str(error) and "as it was before" in str(error)
            if plan.left > 0:
                break  # the change made fewer calls than that: all were tried
            now = [(e.id, e.version, e.name) for e in store.entries()]
            assert now == before if raised else (now[:-1] == before and now[-1][2] == f"P{at}")
            assert not list(store.payloads.rglob(".*.part"))
            assert store.damaged() == {}
        assert failed >= 3
        again = store.put(points(100))
        assert isinstance(store.load(kept), PointSet) and isinstance(store.load(again), PointSet)
    with Store.open(tmp_path / "a.lamp") as store:
        assert store.damaged() == {}


def test_a_catalogue_that_can_not_grow_says_so_and_keeps_what_it_had(tmp_path: Path) -> None:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        store.put(points(0))
        pages = store._db.execute("PRAGMA page_count").fetchone()[0]
        store._db.execute(f"PRAGMA max_page_count={pages}")
        with pytest.raises(ProjectError, match=r"full.*as it was before.*Make room"):
            for seed in range(1, 200):
                store.put(points(seed))
        names = [e.name for e in store.entries()]
        assert names[0] == "P0"
        store._db.execute("PRAGMA max_page_count=1000000")
        store.put(points(500))
        assert [e.name for e in store.entries()] == [*names, "P500"]
        assert store._db.execute("PRAGMA integrity_check").fetchone() == ("ok",)


def test_what_another_program_locks_is_said(tmp_path: Path) -> None:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        store._db.execute("PRAGMA busy_timeout=50")
        other = sqlite3.connect(tmp_path / "a.lamp" / "catalogue.sqlite", isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(ProjectError, match="locked"):
            store.put(points(1))
        other.execute("ROLLBACK")
        other.close()
        store.put(points(1))
