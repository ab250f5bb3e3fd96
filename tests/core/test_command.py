"""The command as it is started: a library that ends its process ends no answer, and nothing outlives who waits for it."""

from __future__ import annotations

import faulthandler
import os
import resource
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from innerlamp import command
from innerlamp.core.project.store import Store


def test_a_process_that_dies_is_told_in_a_sentence(capfd: pytest.CaptureFixture[str]) -> None:
    def die() -> int:
        faulthandler.disable()  # pytest's own would print a report
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        os.kill(os.getpid(), signal.SIGSEGV)
        return 0

    assert command.apart(die) == 2
    said = capfd.readouterr().err
    assert said.count("\n") == 1 and "SIGSEGV" in said and "nothing is half-written" in said


def test_codes_and_words_come_through(capfd: pytest.CaptureFixture[str]) -> None:
    def say() -> int:
        print("seven words")
        return 7

    def leave() -> int:
        raise SystemExit(5)

    assert command.apart(say) == 7
    assert "seven words" in capfd.readouterr().out
    assert command.apart(leave) == 5


def test_what_runs_apart_is_held_to_the_memory_that_is_allowed(capfd: pytest.CaptureFixture[str]) -> None:
    def limit() -> int:
        print(resource.getrlimit(resource.RLIMIT_AS)[0])  # of this process alone
        return 0

    assert command.apart(limit) == 0
    assert 0 < int(capfd.readouterr().out) < 1 << 50


def test_the_started_command_works_and_ends_with_who_waits_for_it(tmp_path: Path) -> None:
    with Store.create(tmp_path / "a.lamp", "EPSG:32719") as store:
        path = store.path
    run = subprocess.run(
        [sys.executable, "-m", "innerlamp", "items", str(path)], capture_output=True, text=True, check=False
    )
    assert run.returncode == 0 and run.stderr == ""
    run = subprocess.run(
        [sys.executable, "-m", "innerlamp", "items", str(tmp_path / "b.lamp")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert run.returncode == 2 and run.stderr.startswith("inner-lamp: ") and run.stderr.count("\n") == 1
    script = (
        "import signal, sys\nfrom innerlamp import command\n"
        "def wait():\n    print('here', flush=True)\n    signal.pause()\n    return 0\n"
        "sys.exit(command.apart(wait))"
    )
    with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) as parent:
        assert parent.stdout is not None and parent.stdout.readline() == "here\n"
        parent.kill()
        parent.wait(20)
        assert parent.stdout.read() == ""  # ends only when the child has closed its end too
