"""Contract: every operation is run by its example from the command line, in a tenth of them a run (see `tenth`)."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from innerlamp import cli
from innerlamp.api import Project
from innerlamp.core.running.table import OPERATIONS

from .cases import small
from .examples import WITHOUT_EXAMPLE, Examples
from .tenth import of_this_run


def word(value: Any) -> str:
    """A value as it is typed."""
    if isinstance(value, list | tuple | dict):
        return json.dumps(value)
    return str(value)


@pytest.mark.parametrize("name", of_this_run([n for n in OPERATIONS if n not in WITHOUT_EXAMPLE]))
def test_every_operation_runs_by_its_command(
    demo_path: Path, tmp_path: Path, name: str, capsys: pytest.CaptureFixture[str]
) -> None:
    path, op = Path(shutil.copytree(demo_path, tmp_path / "copy.lamp")), OPERATIONS[name]
    with Project.open(path) as project:
        examples, made = Examples(project, tmp_path), {}
        examples.before(op, made)
        inputs, params = examples.inputs(op, made), {**examples.params(op), **small(op)}
        before = {e.id: e.version for e in project.items}
    words = [f"{k}={word(v)}" for k, v in {**inputs, **params}.items()]
    assert cli.main(["apply", str(path), name, *words]) == 0, capsys.readouterr().err
    with Project.open(path) as project:
        assert {e.id: e.version for e in project.items} != before
