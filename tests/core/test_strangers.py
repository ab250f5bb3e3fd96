"""Folders, media and marks from strangers: no module of theirs is run, no signal is sent for them, no export lands in a project."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp import command, desktop
from innerlamp.api import Project
from innerlamp.core import limits
from innerlamp.core.compute.gridding import contouring
from innerlamp.core.compute.potential import fields, parts
from innerlamp.core.errors import InputError
from innerlamp.core.formats.table import FORMATS
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.points import PointSet
from innerlamp.core.jobs import looking
from innerlamp.core.jobs.runner import Runner
from innerlamp.core.project import left
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
NAMESAKES = ("numpy", "multiprocessing", "json", "innerlamp", "pandas", "pickle", "logging")


@pytest.fixture
def namesakes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The current folder, full of modules that are called as those we use; each leaves a mark when it is run."""
    folder = tmp_path / "downloads"
    folder.mkdir()
    for name in NAMESAKES:
        text = f"open({str(folder / 'RAN')!r}, 'a').write({name!r})\nraise SystemExit('a namesake was run')\n"
        (folder / f"{name}.py").write_text(text)
        (folder / name).mkdir()
        (folder / name / "__init__.py").write_text(text)
    monkeypatch.chdir(folder)
    return folder


def test_workers_take_no_module_from_the_current_folder(namesakes: Path, tmp_path: Path) -> None:
    pool = Runner(tmp_path / "logs", workers=1)
    try:
        pool.start()
        for _ in range(600):
            pool.poll(0.1)
            if pool._workers[0].ready:
                break
        assert pool._workers[0].ready
    finally:
        pool.close()
    assert looking.ask(len, [1, 2]) == 2
    assert not (namesakes / "RAN").exists()


def test_parts_take_no_module_from_the_current_folder(namesakes: Path) -> None:
    mesh = TensorMesh.even((0, 0, 0), (25, 25, 25), (4, 4, 3))
    obs = np.column_stack([np.linspace(0, 100, 8), np.linspace(0, 100, 8), np.full(8, 120.0)])
    pieces = parts.parts_of(mesh, obs, [fields.total_field(60, 3, 50_000)], np.ones(mesh.size, bool), 2)
    with parts.Parted(pieces) as kernel:
        assert np.isfinite(kernel.apply(np.ones(mesh.size))).all()
    assert not (namesakes / "RAN").exists()


def victim() -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, "-c", "import signal; signal.pause()"])


def test_a_mark_that_names_a_process_signals_nobody_who_does_not_hold_the_lock(tmp_path: Path) -> None:
    folder = tmp_path / "p.lamp"
    Store.create(folder, CRS).close()
    other = victim()
    try:
        started = left._started(other.pid)
        (folder / "left.json").write_text(json.dumps({"pid": other.pid, "started": started}))
        (folder / "lock").write_text(json.dumps({"pid": other.pid, "user": "u", "host": "h", "since": "now"}))
        assert not left.call_back(folder)
        with Store.open(folder):  # somebody else holds it: still not the one that is named
            (folder / "lock").write_text(json.dumps({"pid": other.pid, "user": "u", "host": "h", "since": "now"}))
            assert not left.call_back(folder)
        assert other.poll() is None
    finally:
        other.kill()
        other.wait()


def test_who_holds_the_lock_and_left_its_mark_is_called(tmp_path: Path) -> None:
    folder = tmp_path / "p.lamp"
    Store.create(folder, CRS).close()
    code = (
        "import signal\n"
        "from pathlib import Path\n"
        "from innerlamp.core.project import left\n"
        "from innerlamp.core.project.store import Store\n"
        f"store = Store.open(Path({str(folder)!r}))\n"
        "signal.signal(left.CALL, lambda *_: print('called', flush=True))\n"
        f"left.mark(Path({str(folder)!r}))\n"
        "print('ready', flush=True)\n"
        "while True: signal.pause()\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as holder:
        assert holder.stdout is not None
        assert holder.stdout.readline() == "ready\n"
        # A mark of a process of that number which began at another time is an old one.
        mark = json.loads((folder / "left.json").read_text())
        (folder / "left.json").write_text(json.dumps({**mark, "started": "1"}))
        assert not left.call_back(folder)
        (folder / "left.json").write_text(json.dumps(mark))
        assert left.call_back(folder)
        assert holder.stdout.readline() == "called\n"
        holder.kill()


@pytest.mark.parametrize("inside", ["catalogue.sqlite", "soils.csv", "payloads/soils.csv", "lock"])
def test_no_export_lands_in_the_folder_of_a_project(tmp_path: Path, inside: str) -> None:
    table = pd.DataFrame({"x": [430_000.0], "y": [7_410_000.0], "z": [4_012.0], "Au": [0.3]})
    with Project.create(tmp_path / "p.lamp", CRS) as project:
        item = project.add(PointSet(name="Soils", crs=CRS, table=table, units={"Au": "ppm"}))
        before = (project.store.path / "catalogue.sqlite").read_bytes()
        endings = sorted({e for f in FORMATS for e in f.extensions if "points" in f.kinds})
        for ending in ["", *endings]:
            target = project.store.path / (inside if not ending else f"{inside}{ending}")
            with pytest.raises(InputError):
                project.export(item, target)
        (tmp_path / "by link").symlink_to(project.store.path)
        with pytest.raises(InputError, match="inside the folder of a project"):
            project.export(item, tmp_path / "by link" / "soils.csv")
        assert (project.store.path / "catalogue.sqlite").read_bytes() == before
        assert project.export(item, tmp_path / "soils.csv") == [tmp_path / "soils.csv"]


def test_proposed_contours_are_never_too_many() -> None:
    values = np.random.default_rng(0).normal(size=(60, 60))
    values[30, 30] = 900.0  # one cell far off
    levels = contouring.even_levels(values, contouring.propose_interval(values))
    assert 10 < len(levels) <= contouring.MOST_LEVELS


@pytest.mark.parametrize("odd", ["a lot", "-3G", "3G3", "12 giga", "1e9", "٣G", "nan"])
def test_an_amount_of_memory_that_is_none_is_said_by_the_command(odd: str) -> None:
    words = [sys.executable, "-P", "-c", "import sys; from innerlamp.command import entry; sys.exit(entry())", "ops"]
    done = subprocess.run(words, env=os.environ | {limits.VARIABLE: odd}, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "no amount" in done.stderr and "Traceback" not in done.stderr


def test_an_amount_of_memory_beyond_all_bounds_is_no_limit(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(limits.VARIABLE, "9" * 18 + "T")
    limits.fits(1e15, "A great deal", "")


WAITING = """
import signal, sys
from innerlamp.command import apart
signal.signal(signal.SIGINT, signal.default_int_handler)  # a run in the background hands on that it is ignored
def work():
    try:
        print("begun", flush=True)
        signal.pause()
    except KeyboardInterrupt:
        signal.raise_signal(signal.SIGINT)  # as from a keyboard: the one that waits is told, and so is this one
        print("put in order", flush=True)
        return 130
sys.exit(apart(work))
"""


def test_a_signal_to_the_command_alone_stops_its_work_and_what_puts_it_in_order_is_not_broken_off() -> None:
    with subprocess.Popen([sys.executable, "-P", "-c", WAITING], stdout=subprocess.PIPE, text=True) as process:
        try:
            assert process.stdout is not None and process.stdout.readline() == "begun\n"
            process.send_signal(signal.SIGINT)
            assert process.stdout.read() == "put in order\n"
            assert process.wait(30) == 130
        finally:
            process.kill()  # else leaving would wait for it


def test_commands_that_read_files_or_write_projects_are_all_held(monkeypatch: pytest.MonkeyPatch) -> None:
    held: list[str] = []
    monkeypatch.setattr(command, "apart", lambda _: held.append(sys.argv[1]) or 0)
    for word in ("new", "change", "apply", "bring", "check", "refresh", "export", "findings", "items", "compare"):
        monkeypatch.setattr(sys, "argv", ["inner-lamp", word])
        assert command.entry() == 0 and held[-1] == word


@pytest.mark.parametrize(
    "word", ["/opt/a b/x", "/a%20/%F", "/a$HOME/`id`/x", '/a"b\\c/x', "/a\\$b/x", "/a;b&c|d/x", "/ä/x"]
)
def test_a_menu_entry_starts_just_what_it_names(word: str) -> None:
    """Desktop Entry Specification 1.5: values are unescaped first, then what is in quotes as a shell does it; %% is %."""
    value = desktop.quoted(word)
    plain = re.sub(r"\\([sntr\\])", lambda m: {"s": " ", "n": "\n", "t": "\t", "r": "\r"}.get(m[1], "\\"), value)
    shell = subprocess.run(["bash", "-c", f"printf %s {plain}"], capture_output=True, text=True, check=True)
    assert shell.stdout.replace("%%", "%") == word
    assert "%" not in value.replace("%%", "")


def test_nobody_else_gets_into_a_virtual_display(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("XAUTHORITY", str(tmp_path / "other"))
    text = (
        "import os, subprocess, sys; from innerlamp.display import ensure_display; ensure_display()\n"
        "words = [sys.executable, '-c', 'from PySide6.QtGui import QGuiApplication as A; A([]); print(1)']\n"
        "told = [subprocess.run(words, env=os.environ | {'XAUTHORITY': key}, capture_output=True, text=True).stdout\n"
        "        for key in (os.environ['XAUTHORITY'], '/dev/null')]\n"
        "print(told, oct(os.stat(os.environ['XAUTHORITY']).st_mode & 0o777))"
    )
    done = subprocess.run([sys.executable, "-P", "-c", text], capture_output=True, text=True, check=True)
    assert done.stdout == "['1\\n', ''] 0o600\n"
