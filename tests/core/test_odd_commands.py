"""Odd commands: each is done, or refused in one sentence; none ends in a traceback or takes long.

More by hand: `python -m tests.core.odd_commands FOLDER SEED COUNT`.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from innerlamp import cli

from ..scale import share
from .odd_commands import make_project

COUNT = share(360)


@pytest.mark.parametrize(
    ("command", "words"),
    [
        (["contours", "grid=Thin"], "no lines of equal value"),
        (["source-depth", "grid=Thin", "window=0.1", "shortest=1e-9"], "windows are"),
        (["lift-corrections", "item=Stakes", "numbers=,"], "no correction is named"),
        (["import-resistivity", "readings=;;;"], "no file of readings"),
        (["long-section", "holes=Holes", "drilled=Holes", "attribute=Cu_pct", "cell=1e4"], "cell"),
    ],
)
def test_commands_that_once_ended_in_a_traceback_say_what_is_wrong(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], command: list[str], words: str
) -> None:
    lamp, _ = make_project(tmp_path)
    assert cli.main(["apply", str(lamp), *command]) == 2
    assert words in capsys.readouterr().err


def test_odd_commands_are_answered_in_one_sentence(tmp_path: Path) -> None:
    run = subprocess.run(
        [sys.executable, "-m", "tests.core.odd_commands", str(tmp_path / "in"), "7", str(COUNT)],
        check=False,
        cwd=Path(__file__).parents[2],
        env=os.environ | {"XDG_CONFIG_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)},
        capture_output=True,
        text=True,
        errors="replace",
        timeout=900,  # a command that never ends
    )
    assert run.returncode == 0, f"{(tmp_path / 'in' / 'last').read_text('utf-8')[:500]}: {run.stderr[-2000:]}"
    told = json.loads(run.stdout.strip().rpartition("\n")[2])
    assert told["faults"] == []
    assert told["tried"] == COUNT == told["done"] + told["refused"]
    assert told["done"] > COUNT // 20 and told["operations"] > (
        60 if COUNT > 300 else 25
    )  # not all of them are refused at the door
