"""The menu entry and its companions, judged by the tools of freedesktop.org."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from innerlamp import desktop
from innerlamp.cli import main


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    return tmp_path


def test_what_is_written_is_valid_and_is_taken_out_again(home: Path, capsys: pytest.CaptureFixture[str]) -> None:
    # Judges: desktop-file-validate and appstreamcli, and the shared MIME database as it is compiled.
    assert main(["desktop"]) == 0
    written = [Path(line.split(": ", 1)[1]) for line in capsys.readouterr().out.splitlines()]
    entry, icon, mime, meta = written
    for words in (["desktop-file-validate", str(entry)], ["appstreamcli", "validate", "--no-net", str(meta)]):
        assert shutil.which(words[0]), f"{words[0]} is missing: run scripts/setup.sh dev"
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
    assert "*.omf" in (home / "mime" / "globs2").read_text()
    assert icon.read_text().startswith("<svg")
    assert mime.is_file()
    assert main(["desktop", "--remove"]) == 0
    assert not any(p.exists() for p in written)
    assert main(["desktop", "--remove"]) == 0
    assert "nothing to remove" in capsys.readouterr().out


def test_the_entry_starts_the_program_with_files(home: Path) -> None:
    entry = next(p for p in desktop.install() if p.suffix == ".desktop").read_text()
    line = next(line for line in entry.splitlines() if line.startswith("Exec="))
    assert line.endswith(" open %F")
    program = line.removeprefix("Exec=").split(" ")[0].strip('"')
    assert os.access(program, os.X_OK)


def test_what_can_not_be_opened_is_said_before_any_window(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["open", str(tmp_path / "none.csv")]) == 2
    assert "there is no such file or folder" in capsys.readouterr().err
    assert main(["open", str(tmp_path / "a.lamp"), str(tmp_path / "b.lamp")]) == 2
    assert "one project is opened at a time" in capsys.readouterr().err
