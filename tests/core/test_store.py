"""The store: versions, undo, freshness, locks, damage."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.errors import CrsError, ProjectError
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.points import PointSet
from innerlamp.core.project import payload, trail
from innerlamp.core.project.lock import ProjectBusy
from innerlamp.core.project.records import Notice, Recipe
from innerlamp.core.project.store import Store, stage

CRS = "EPSG:32629"


def points(name: str = "Soils", value: float = 1.0) -> PointSet:
    table = pd.DataFrame(
        {"x": [1.0, 2.0], "y": [3.0, 4.0], "z": [np.nan, 5.0], "Sn": [value, 2.0], "code": ["a", None]}
    )
    return PointSet(name=name, crs=CRS, table=table, units={"Sn": "ppm"})


def grid(value: float = 0.0) -> Grid:
    return Grid(name="G", crs=CRS, values=np.full((3, 4), value), x0=0.0, y0=0.0, dx=1.0, dy=1.0, attribute="Sn")


def derived(store: Store, source: str, name: str = "G", value: float = 0.0) -> str:
    recipe = Recipe(
        "grid", {}, {"samples": ((source, store.entry(source).version),)}, {}, "grid", f"group-{name}-{source}"
    )
    item = grid(value)
    return store.put(Grid(**{**vars(item), "name": name}), recipe=recipe)


def test_items_come_back_as_they_were_after_reopening(tmp_path: Path) -> None:
    with Store.create(tmp_path / "p", CRS) as store:
        kept = store.put(points())
        store.set_workspace({"lit": [kept], "section": [0, 1, 2, 3]})
        store.set_legend(Legend("Sn", "ppm", low=2.0, high=9.0, cutoff=3.0))
    with Store.open(tmp_path / "p.lamp") as store:
        back = store.load(kept)
        assert isinstance(back, PointSet)
        pd.testing.assert_frame_equal(back.table, points().table, check_dtype=False)
        assert (back.units, back.content, back.crs) == ({"Sn": "ppm"}, "samples", CRS)
        assert store.workspace("lit") == [kept]
        assert store.legend("Sn") == Legend("Sn", "ppm", low=2.0, high=9.0, cutoff=3.0)
        assert store.undo_label() == "Legend of Sn"


def test_undo_and_redo_move_pointers_both_ways(store: Store) -> None:
    seen: list[Notice] = []
    store.changed.connect(seen.append)
    first = store.put(points())
    store.add({"0": stage(store.payloads, points(value=7.0))}, "Replace", replace={"0": first})
    store.rename(first, "Other")
    store.remove([first])
    assert store.entries() == []
    store.undo()
    assert store.entry(first).name == "Other"
    store.undo()
    store.undo()
    assert float(store.load(first).table["Sn"].iloc[0]) == 1.0  # type: ignore[attr-defined]
    assert store.redo() == "Replace"
    assert float(store.load(first).table["Sn"].iloc[0]) == 7.0  # type: ignore[attr-defined]
    store.rename(first, "Third")  # a new change forgets what could be redone
    assert store.redo() == ""
    assert seen[0].added == (first,)
    assert seen[1].replaced == (first,)
    assert len(store.versions(first)) == 2


def test_names_are_kept_apart_and_found(store: Store) -> None:
    a, b = store.put(points()), store.put(points())
    assert [e.name for e in store.entries()] == ["Soils", "Soils 2"]
    assert store.find("soils 2").id == b
    assert store.find(a).name == "Soils"
    with pytest.raises(ProjectError, match="There are: Soils, Soils 2"):
        store.find("gold")


def test_stale_hold_dated_copy_and_order(store: Store) -> None:
    soil = store.put(points())
    first = derived(store, soil, "first")
    second = derived(store, first, "second")
    held = derived(store, soil, "held")
    store.hold(held)
    copy = store.dated_copy(first)
    assert set(trail.freshness(store).values()) == {"source", "fresh"}
    store.add({"0": stage(store.payloads, points(value=3.0))}, "New assays", replace={"0": soil})
    state = trail.freshness(store)
    assert (state[first], state[second], state[held], state[copy]) == ("stale", "stale", "behind", "source")
    assert trail.next_to_refresh(store) == [[first]]  # the second must wait for the first
    assert trail.used_by(store, soil) == [first, held]
    assert trail.made_from(store, second) == [first]
    recipe = store.entry(first).recipe
    assert recipe is not None
    fresh = Recipe(recipe.operation, {}, {"samples": ((soil, store.entry(soil).version),)}, {}, "grid", recipe.group)
    store.add({"grid": stage(store.payloads, grid(5.0))}, "Refresh", {"grid": fresh}, {"grid": first})
    assert trail.next_to_refresh(store) == [[second]]
    assert np.all(store.load(copy).values == 0.0)  # type: ignore[attr-defined]
    store.hold(held, held=False)
    assert trail.freshness(store)[held] == "stale"


def test_clean_up_keeps_present_items_only(store: Store) -> None:
    soil = store.put(points())
    gone = store.put(grid(1.0))
    copy = store.dated_copy(soil)
    store.remove([gone])
    before = len(list(store.payloads.glob("*/*")))
    assert store.clean_up() == 0  # undo can still reach it
    assert store.clean_up(forget=True) > 0
    assert len(list(store.payloads.glob("*/*"))) == before - 1
    assert store.undo() == ""
    assert {e.id for e in store.entries()} == {soil, copy}
    assert store.damaged() == {}


def test_second_writer_is_told_who_holds_it_and_may_read(store: Store) -> None:
    store.put(points())
    code = f"from innerlamp.core.project.store import Store; Store.open({str(store.path)!r})"
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert "ProjectBusy" in out.stderr
    with pytest.raises(ProjectBusy, match=r"open for writing by .* on .* \(process \d+, since 20"):
        Store.open(store.path)
    with Store.open(store.path, write=False) as reader:
        assert [e.name for e in reader.entries()] == ["Soils"]
        with pytest.raises(ProjectError, match="read-only"):
            reader.put(points())


def test_damaged_payload_is_named_and_the_rest_opens(store: Store) -> None:
    soil, other = store.put(points()), store.put(grid(2.0))
    path = store.path
    (name,) = payload.files_of(store.manifest(store.entry(other).version))
    file = store.payloads / name[:2] / name
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 0xFF
    store.close()
    file.write_bytes(data)
    with Store.open(path) as again:
        assert len(again.entries()) == 2
        assert again.load(soil).name == "Soils"
        with pytest.raises(ProjectError, match=f"{name}: a part of the project is damaged"):
            again.load(other)
        assert list(again.damaged()) == [other]
        file.unlink()
        with pytest.raises(ProjectError, match="is missing"):
            again.load(other)


def test_wrong_places_and_systems(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match="no Inner Lamp project"):
        Store.open(tmp_path)
    with pytest.raises(CrsError, match="in degrees"):
        Store.create(tmp_path / "x", "EPSG:4326")
    Store.create(tmp_path / "x", CRS).close()
    with pytest.raises(ProjectError, match="of that name already"):
        Store.create(tmp_path / "x", CRS)
    (tmp_path / "x.lamp" / "catalogue.sqlite").write_bytes(b"not a database" * 100)
    with pytest.raises(ProjectError, match="catalogue can't be read"):
        Store.open(tmp_path / "x.lamp")


def test_payload_names_cannot_leave_the_project(store: Store) -> None:
    for name in ("../secret.npz", "/etc/passwd", ".hidden"):
        with pytest.raises(ProjectError, match="outside the project"):
            payload.read_file(store.payloads, name)
