"""Projects from elsewhere: opening one writes nowhere outside it, follows no link, and says what is wrong with it."""

from __future__ import annotations

import contextlib
import errno
import os
import re
import shutil
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp import cli
from innerlamp.api import Project
from innerlamp.core.errors import ProjectError
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.points import PointSet
from innerlamp.core.project import catalogue, lock, payload
from innerlamp.core.project.lock import ProjectBusy
from innerlamp.core.project.records import Recipe
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
TREASURE = "what lies outside of the project"


def points(value: float = 1.0) -> PointSet:
    table = pd.DataFrame(
        {"x": [402000.0, 402010.0], "y": [7502000.0, 7502010.0], "z": [4000.0, 4001.0], "v": [value, 2]}
    )
    return PointSet(name="Stakes", crs=CRS, table=table)


@pytest.fixture
def project(tmp_path: Path) -> Path:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        store.put(points())
        return store.path


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    file = tmp_path / "outside.txt"
    file.write_text(TREASURE, encoding="ascii")
    return file


@pytest.mark.parametrize(
    "name", ["lock", "catalogue.sqlite", "catalogue.sqlite-wal", "payloads", "staging", "notes.txt"]
)
@pytest.mark.parametrize("write", [True, False])
def test_a_link_anywhere_in_a_project_is_refused_and_what_it_leads_to_is_left_alone(
    project: Path, outside: Path, name: str, write: bool
) -> None:
    there = project / name
    target = outside
    if there.is_dir():
        target = outside.parent / "moved"
        shutil.move(there, target)
    elif name == "catalogue.sqlite":
        target = outside.parent / "moved.sqlite"
        shutil.move(there, target)
    elif there.exists():
        there.unlink()
    before = target.read_bytes() if target.is_file() else sorted(p.name for p in target.rglob("*"))
    there.symlink_to(target)
    with pytest.raises(ProjectError, match=rf"'{name}' is a symbolic link"):
        Store.open(project, write=write)
    assert (target.read_bytes() if target.is_file() else sorted(p.name for p in target.rglob("*"))) == before
    assert outside.read_text(encoding="ascii") == TREASURE


def test_a_link_for_one_part_of_an_item_is_refused(project: Path, outside: Path) -> None:
    part = next(p for p in (project / "payloads").rglob("*") if p.is_file())
    part.unlink()
    part.symlink_to(outside)
    with pytest.raises(ProjectError, match="symbolic link"):
        Store.open(project, write=False)
    # One that comes while the project is open is not followed either.
    part.unlink()
    with Store.open(project) as store:
        part.symlink_to(outside)
        with pytest.raises(ProjectError, match="missing"):
            store.load(store.entries()[0].id)


def test_pipes_and_hard_links_are_refused(project: Path, outside: Path) -> None:
    os.mkfifo(project / "payloads" / "pipe")
    with pytest.raises(ProjectError, match="no plain file"):
        Store.open(project)
    (project / "payloads" / "pipe").unlink()
    (project / "lock").unlink()
    os.link(outside, project / "lock")
    with pytest.raises(ProjectError, match="hard link"):
        Store.open(project)
    assert outside.read_text(encoding="ascii") == TREASURE
    with Store.open(project, write=False) as store:  # to look at it nothing is written
        assert len(store.entries()) == 1


def test_the_lock_itself_follows_no_link(tmp_path: Path, outside: Path) -> None:
    (tmp_path / "lock").symlink_to(outside)
    with pytest.raises(ProjectError, match="lock can't be opened"):
        lock.take(tmp_path)
    assert outside.read_text(encoding="ascii") == TREASURE


def test_a_lock_or_folder_that_goes_while_it_is_open_stops_writing_at_once(project: Path) -> None:
    with Store.open(project) as store:
        (project / "lock").unlink()
        with pytest.raises(ProjectError, match="not where it was"):
            store.put(points(5.0))
        (project / "lock").write_text("somebody else", encoding="ascii")
        with pytest.raises(ProjectError, match="taken away"):
            store.put(points(6.0))
        assert len(store.entries()) == 1
    with Store.open(project) as store:
        project.rename(project.with_name("moved.lamp"))
        with pytest.raises(ProjectError):
            store.put(points(7.0))
    with Store.open(project.with_name("moved.lamp")) as store:
        assert len(store.entries()) == 1


@pytest.mark.parametrize(
    ("number", "kind", "words"),
    [
        (errno.EWOULDBLOCK, ProjectBusy, "open for writing by"),
        (errno.ENOLCK, ProjectError, "gives no locks"),
        (errno.EOPNOTSUPP, ProjectError, "gives no locks"),
    ],
)
def test_what_keeps_a_lock_from_being_taken_is_said(
    project: Path, monkeypatch: pytest.MonkeyPatch, number: int, kind: type[ProjectError], words: str
) -> None:
    def refuse(*_: object) -> None:
        raise OSError(number, os.strerror(number))

    monkeypatch.setattr(lock.fcntl, "flock", refuse)
    with pytest.raises(kind, match=words) as told:
        Store.open(project)
    assert type(told.value) is kind


def test_a_project_on_a_read_only_place_opens_to_look_at_with_its_latest_change(
    project: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with Store.open(project) as store:
        store.put(points(9.0))  # stands in the log beside the catalogue
        real = os.open

        def only_read(path: object, flags: int, *rest: int, **more: int) -> int:
            if flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT) and str(path).startswith(str(project)):
                raise OSError(errno.EROFS, os.strerror(errno.EROFS))
            return real(path, flags, *rest, **more)  # type: ignore[arg-type]

        monkeypatch.setattr(os, "open", only_read)
        monkeypatch.setattr(catalogue.os, "access", lambda *_: False)
        with pytest.raises(ProjectBusy, match="nothing can be written"):
            Store.open(project)
        before = sorted(p.name for p in project.iterdir())
        with Store.open(project, write=False) as looked:
            assert len(looked.entries()) == 2
            with pytest.raises(ProjectError, match="read-only"):
                looked.put(points())
        assert sorted(p.name for p in project.iterdir()) == before


def test_a_new_project_that_breaks_off_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = catalogue.create

    def full(path: Path, crs: str) -> object:
        real(path, crs).close()
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(catalogue, "create", full)
    with pytest.raises(ProjectError, match="No space left"):
        Store.create(tmp_path / "b.lamp", CRS)
    assert list(tmp_path.iterdir()) == []
    monkeypatch.undo()
    (tmp_path / "b.lamp").mkdir()  # an empty folder may be taken
    with Store.create(tmp_path / "b.lamp", CRS) as store:
        assert store.entries() == []
    assert [p.name for p in tmp_path.iterdir()] == ["b.lamp"]
    (tmp_path / "c.lamp").write_text("a file", encoding="ascii")
    with pytest.raises(ProjectError, match="already"):
        Store.create(tmp_path / "c.lamp", CRS)


def test_a_damaged_part_is_written_anew_when_the_same_content_comes_again(project: Path) -> None:
    with Store.open(project) as store:
        entry = store.entries()[0]
        name = next(iter(payload.files_of(store.manifest(entry.version))))
        part = payload.file_path(store.payloads, name)
        whole = part.read_bytes()
        part.write_bytes(whole[:-8] + bytes(8))  # of the same size
    with Store.open(project) as store:
        with pytest.raises(ProjectError, match="damaged"):
            store.load(entry.id)
        assert store.damaged()
        store.put(points())
        assert part.read_bytes() == whole
        assert store.damaged() == {}
        item = store.load(entry.id)
        assert isinstance(item, PointSet) and np.isfinite(item.table["v"]).all()


def test_check_mends_what_can_be_made_again_and_says_what_can_not(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    rng = np.random.default_rng(0)
    table = pd.DataFrame(
        {"x": 402000 + 100 * rng.random(30), "y": 7502000 + 100 * rng.random(30), "Cu_ppm": rng.random(30)}
    )
    raw = tmp_path / "soils.csv"
    table.to_csv(raw, index=False)
    with Project.create(tmp_path / "m.lamp", CRS) as lamp:
        soils = lamp.run("import-points", file=str(raw), name="Soils")["points"]
        grid = lamp.run("grid-minimum-curvature", samples=soils, attribute="Cu_ppm", cell="10")["grid"]
        typed = lamp.store.put(points())
        store = lamp.store
        files = {i: payload.files_of(store.manifest(store.entry(i).version)) for i in (soils, grid, typed)}
    parts = {  # one that no other item shares
        i: payload.file_path(store.payloads, min(own - set().union(*(f for k, f in files.items() if k != i))))
        for i, own in files.items()
    }
    whole = {i: part.read_bytes() for i, part in parts.items()}
    for part in parts.values():
        part.write_bytes(part.read_bytes()[:-8] + bytes(8))
    assert cli.main(["check", str(tmp_path / "m.lamp")]) == 2
    assert "3 of 3 items are damaged" in capsys.readouterr().out
    assert cli.main(["check", "--mend", str(tmp_path / "m.lamp")]) == 2
    said = capsys.readouterr().out
    assert "Soils: made again" in said and "1 of 3 items are damaged" in said
    assert "Stakes: stays damaged" in said and "no recipe" in said
    assert parts[soils].read_bytes() == whole[soils] and parts[grid].read_bytes() == whole[grid]
    raw.unlink()
    parts[soils].write_bytes(b"")
    assert cli.main(["check", "--mend", str(tmp_path / "m.lamp")]) == 2
    said = capsys.readouterr().out
    assert "Soils: stays damaged" in said and "soils.csv" in said
    with Project.open(tmp_path / "m.lamp") as lamp:
        assert {e.name for e in lamp.items} >= {"Soils", "Stakes"} and len(lamp.items) == 3


def two_items(project: Path) -> dict[str, str]:
    """Item id to name, of a project that holds a second item."""
    with Store.open(project) as store:
        other = points(5.0)
        store.put(replace(other, name="Pegs"))
        return {e.id: e.name for e in store.entries()}


def in_catalogue(project: Path, query: str, *values: object) -> None:
    db = sqlite3.connect(project / "catalogue.sqlite")
    with db:
        db.execute(query, values)
    db.close()


def test_one_item_whose_row_is_damaged_is_named_and_the_others_open(
    project: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    pegs = next(key for key, name in two_items(project).items() if name == "Pegs")
    in_catalogue(project, "UPDATE head SET state = substr(state, 1, length(state) - 9) WHERE key = ?", pegs)
    with Store.open(project) as store:
        assert [e.name for e in store.entries()] == ["Stakes"]
        (why,) = store.damaged_rows().values()
        assert "Pegs" in why and "back-up" in why
        assert list(store.damaged()) == [pegs]
        assert store.load(store.entries()[0].id).table["v"].tolist() == [1.0, 2.0]  # type: ignore[attr-defined]
        store.put(replace(points(), name="Later"))  # work goes on beside it
        assert [e.name for e in store.entries()] == ["Stakes", "Later"]
    assert cli.main(["items", str(project)]) == 0
    said = capsys.readouterr()
    assert "Stakes" in said.out and "Not listed: Pegs" in said.err
    assert cli.main(["check", str(project)]) == 2
    assert "1 of 3 items are damaged" in capsys.readouterr().out
    parts = sorted((project / "payloads").glob("*/*"))
    with Store.open(project) as store:
        with pytest.raises(ProjectError, match=r"nothing is cleaned up.*Pegs"):
            store.clean_up(forget=True)  # what the damaged item needs is not known
        with contextlib.suppress(ProjectError):  # a step that can't be taken back says so
            store.undo()
    assert sorted((project / "payloads").glob("*/*")) == parts


def test_a_name_with_accents_is_told_of_a_damaged_row_as_well(project: Path) -> None:
    with Store.open(project) as store:
        (item,) = [e.id for e in store.entries()]
        store.rename(item, 'Señal "3" \\ norte')
    in_catalogue(project, "UPDATE head SET state = substr(state, 1, length(state) - 2)")
    with Store.open(project, write=False) as store:
        (why,) = store.damaged_rows().values()
        assert why.startswith('Señal "3" \\ norte: ')


def test_a_damaged_step_of_the_history_costs_only_that_history(project: Path) -> None:
    names = set(two_items(project).values())
    in_catalogue(project, "UPDATE change SET entries = substr(entries, 1, length(entries) - 9)")
    with Store.open(project) as store:
        with pytest.raises(ProjectError, match="a step of the history is damaged"):
            store.undo()
        assert {e.name for e in store.entries()} == names and not store.damaged()
        store.put(replace(points(), name="Later"))
        store.undo()
        assert {e.name for e in store.entries()} == names
        store.clean_up(forget=True)
        assert store.undo_label() == "" and not store.damaged()


def all_of(store: Store) -> list[object]:
    """All that a project tells of its items, and their tables."""
    tables = [store.load(e.id).table.to_csv() for e in store.entries()]  # type: ignore[attr-defined]
    return [store.crs, *store.entries(), *tables, store.undo_label()]


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("UPDATE head SET state = replace(state, 'Pegs', 'Begs')", "part of the catalogue is damaged"),
        ("UPDATE version SET bounds = replace(bounds, '402000', '402008') WHERE id = 2", "Pegs.*damaged"),
        ("UPDATE version SET attributes = replace(attributes, 'v', 'w') WHERE id = 2", "Pegs.*damaged"),
        ("UPDATE origin SET recipe = replace(recipe, '60', '61')", "Pegs.*damaged"),
        ("UPDATE legend SET state = replace(state, '1', '2')", "Legend of v.*usual colours"),
    ],
)
def test_a_letter_that_turned_in_the_catalogue_is_named(project: Path, query: str, words: str) -> None:
    pegs = next(key for key, name in two_items(project).items() if name == "Pegs")
    recipe = Recipe("draw-feature", {"at": 60})
    with Store.open(project) as store:
        legend = Legend("v", low=1.0, high=2.0)
        store.set_legend(legend)
        with store._transaction():
            origin = store._origins.extend(None, (recipe,))
            store._db.execute("UPDATE version SET origin=? WHERE id=2", (origin,))
    with Store.open(project) as store:
        assert not store.damaged_rows() and store.legend("v") == legend
    in_catalogue(project, query)
    with Store.open(project) as store:
        (why,) = store.damaged_rows().values()
        assert re.search(words, why)
        if "Legend" in why:
            assert store.legend("v") is None and len(store.entries()) == 2
            store.set_legend(legend)  # set again it is whole
            assert store.legend("v") == legend and not store.damaged_rows()
        else:
            assert [e.name for e in store.entries()] == ["Stakes"]
            with pytest.raises(ProjectError, match="no item"):
                store.rename(pegs, "Stones")


def test_undo_does_not_pass_a_damaged_row_off_as_whole(project: Path) -> None:
    with Store.open(project) as store:
        (item,) = [e.id for e in store.entries()]
        store.rename(item, "Pegs")
    in_catalogue(project, "UPDATE head SET state = replace(state, 'version\": 1', 'version\": 3')")
    with Store.open(project) as store:
        with pytest.raises(ProjectError, match="damaged"):
            store.undo()
        assert store.entries() == [] and len(store.damaged_rows()) == 1


def test_a_project_without_seals_gets_them_and_one_with_a_damaged_heading_is_refused(project: Path) -> None:
    in_catalogue(project, "DROP TABLE seal")
    in_catalogue(project, "UPDATE meta SET value='3' WHERE key='schema'")
    with Store.open(project, write=False) as store:
        assert len(store.entries()) == 1 and not store.damaged_rows()
    with Store.open(project) as store:
        assert len(store.entries()) == 1 and not store.damaged_rows()
    in_catalogue(project, "UPDATE meta SET value='EPSG:32718' WHERE key='crs'")
    with pytest.raises(ProjectError, match="coordinate system or version is damaged"):
        Store.open(project)


@pytest.mark.parametrize("seed", range(3))
def test_bits_that_flip_in_the_catalogue_are_told_or_leave_every_item_as_it_was(project: Path, seed: int) -> None:
    """Of what a project holds nothing may raise anything but a sentence, whichever bits of its catalogue turn."""
    names = set(two_items(project).values())
    with Store.open(project) as store:
        before = all_of(store)
    file = project / "catalogue.sqlite"
    whole = file.read_bytes()
    rng = np.random.default_rng(seed)
    told = 0
    for _ in range(40):
        data = bytearray(whole)
        for place in rng.integers(0, len(data), int(rng.choice([1, 4]))):
            data[place] ^= 1 << int(rng.integers(8))
        file.write_bytes(data)
        for beside in ("-wal", "-shm"):
            (project / f"catalogue.sqlite{beside}").unlink(missing_ok=True)
        try:
            with Store.open(project) as store:
                assert store.damaged_rows() or all_of(store) == before
        except ProjectError as error:
            assert str(error).isprintable()
            told += 1
    assert told > 0
    file.write_bytes(whole)
    with Store.open(project) as store:
        assert {e.name for e in store.entries()} == names and not store.damaged()
