"""The window: how long it takes to start, and whether its event loop is ever held up."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from innerlamp.demo.build import ensure

from .table import Row


def start_of_the_window() -> Iterator[Row]:
    path = ensure()
    took = []
    for _ in range(4):
        begin = time.perf_counter()
        env = {**os.environ, "INNERLAMP_QUIT_WHEN_DRAWN": "1", "XDG_CONFIG_HOME": tempfile.gettempdir()}
        subprocess.run([sys.executable, "-m", "innerlamp", "open", str(path)], check=True, env=env, capture_output=True)
        took.append(time.perf_counter() - begin)
    yield Row(
        "Start of the window on the demo, everything drawn, to its end",
        f"{min(took[1:]):.1f} s",
        "under 4 s",
        "runs: " + ", ".join(f"{t:.1f}" for t in took),
    )


def first_start_of_the_demo() -> Iterator[Row]:
    """The demo on a machine that has never seen it."""
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "XDG_CONFIG_HOME": folder, "XDG_DATA_HOME": folder}
        words = [sys.executable, "-m", "benchmarks.first_start"]
        out = subprocess.run(words, check=True, capture_output=True, text=True, env=env).stdout
    asked = {"window": "4 s", "complete": "60 s"}
    for line in out.splitlines():
        what, took = line.split("\t")
        yield Row(f"First start of the demo: {what}", f"{took} s", asked.get(what, ""))


def _of_the_demo(module: str) -> Iterator[tuple[str, np.ndarray]]:
    """Names and numbers that a measurement on a copy of the demo prints, a line each."""
    # In a process of its own: the window ends its process when it closes.
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "Emberlow.lamp"
        subprocess.run(["cp", "-r", str(ensure()), str(copy)], check=True)
        out = subprocess.run(
            [sys.executable, "-m", f"benchmarks.{module}", str(copy)],
            check=True,
            capture_output=True,
            text=True,
            env={**os.environ, "XDG_CONFIG_HOME": folder},
        )
    for line in out.stdout.splitlines():
        what, *numbers = line.split("\t")
        yield what, np.array([float(n) for n in numbers])


def event_loop_under_load() -> Iterator[Row]:
    """Gaps of the window's event loop while it idles, computes in the background and lands results."""
    for what, values in _of_the_demo("heartbeat"):
        yield Row(
            f"Event loop, {what}: longest gap",
            f"{values.max() * 1e3:.0f} ms",
            "100 ms",
            f"{int((values > 0.1).sum())} of {len(values):,} gaps over 100 ms, median {np.median(values) * 1e3:.1f} ms",
        )


def pan_and_zoom() -> Iterator[Row]:
    """Frames of a map with a grid of 4,000 x 4,000 cells, 100,000 samples and 5,000 contour lines, in continuous motion."""
    with tempfile.TemporaryDirectory() as folder:
        out = subprocess.run(
            [sys.executable, "-m", "benchmarks.panning"],
            check=True,
            capture_output=True,
            text=True,
            env={**os.environ, "XDG_CONFIG_HOME": folder},
        )
    for line in out.stdout.splitlines():
        what, *frames = line.split("\t")
        values = np.array([float(f) for f in frames]) * 1e3
        yield Row(
            f"Map frame, {what}",
            f"{np.median(values):.0f} ms",
            "under 60 ms" if "all" in what else "",
            f"longest {values.max():.0f} ms of {len(values)} frames",
        )


def turning_the_scene() -> Iterator[Row]:
    """Frames of the demo's scene in space while it turns, and as it is drawn at rest."""
    for what, values in _of_the_demo("turning"):
        yield Row(
            f"3D scene of the demo, {what}",
            f"{1 / np.median(values):.1f} frames/s",
            "10 frames/s" if what == "turning" else "",
            f"worst {1 / values.max():.1f} frames/s of {len(values)} frames",
        )


def edits_and_undo() -> Iterator[Row]:
    """How quick an edit, its undo and a very large block model are in the window."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "Emberlow.lamp"
        subprocess.run(["cp", "-r", str(ensure()), str(copy)], check=True)
        out = subprocess.run(
            [sys.executable, "-m", "benchmarks.editing", folder, str(copy)],
            check=True,
            capture_output=True,
            text=True,
            env={**os.environ, "XDG_CONFIG_HOME": folder},
        )
    asked = {"One": "50 ms", "The": "50 ms", "Undo": "100 ms", "Block": "under 1 s", "memory": "under 300 MB"}
    for line in out.stdout.splitlines():
        what, *numbers = line.split("\t")
        values = np.array([float(v) for v in numbers])
        unit = f"{values.max():.0f} MB" if what.startswith("memory") else f"{np.median(values) * 1e3:.0f} ms"
        yield Row(
            what,
            unit,
            asked.get(what.split()[0], ""),
            f"longest {values.max() * 1e3:.0f} ms of {len(values)}" if len(values) > 1 else "",
        )
