"""The window on small screens and at 125, 150 and 200 %: all of it within the free part, no words cut."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from ..scale import fifth


@contextmanager
def screen(width: int, height: int) -> Iterator[str]:
    """A virtual screen of a size; yields its name."""
    ask, tell = os.pipe()
    command = ["Xvfb", "-displayfd", str(tell), "-screen", "0", f"{width}x{height}x24", "-nolisten", "tcp"]
    server = subprocess.Popen(
        [*command, "+extension", "GLX"], pass_fds=[tell], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    os.close(tell)
    try:
        with os.fdopen(ask) as answer:
            yield f":{answer.readline().strip()}"
    finally:
        server.terminate()
        server.wait(20)


SCREENS = [(1366, 768, 1.0), (1920, 1080, 1.25), (2732, 1536, 2.0), (1920, 1080, 1.5)]


@pytest.mark.parametrize(("width", "height", "factor"), fifth(SCREENS))
def test_the_window_fits_the_screen_and_cuts_no_words(
    demo_path: Path, tmp_path: Path, width: int, height: int, factor: float
) -> None:
    project = tmp_path / "Emberlow.lamp"
    shutil.copytree(demo_path, project)
    with screen(width, height) as display:
        around = {**os.environ, "DISPLAY": display, "QT_SCALE_FACTOR": str(factor), "XDG_CONFIG_HOME": str(tmp_path)}
        run = subprocess.run(
            [sys.executable, str(Path(__file__).with_name("scaled_window.py")), str(project)],
            env=around,
            capture_output=True,
            text=True,
            timeout=300,
            check=False,
        )
    line = next((t for t in run.stdout.splitlines() if t.startswith("REPORT ")), None)
    assert line is not None, run.stderr[-2000:]
    report = json.loads(line.removeprefix("REPORT "))
    assert report["ratio"] == factor
    assert report["inside"]
    assert report["title_free"] >= 30  # the title bar of a window manager
    assert report["share"] > 0.75
    assert report["cut"] == []
    assert report["outside"] == []
    assert 0.03 < report["bar_share"] < 0.6  # marks in the corners of 3D grow with the screen's pixels
