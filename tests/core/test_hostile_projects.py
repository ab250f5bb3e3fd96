"""Projects from elsewhere: opening one writes nowhere outside it, follows no link, and says what is wrong with it."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.errors import ProjectError
from innerlamp.core.items.points import PointSet
from innerlamp.core.project import catalogue, lock, payload
from innerlamp.core.project.lock import ProjectBusy
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
