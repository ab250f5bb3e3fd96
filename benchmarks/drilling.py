"""A million intervals along 5,000 holes: places, composites, intercepts; a strip log of 32 tracks; each against its limit."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd

from innerlamp.core.compute.drilling.cells import divided
from innerlamp.core.compute.drilling.desurvey import Path as HolePath
from innerlamp.core.compute.drilling.desurvey import desurvey, locate
from innerlamp.core.compute.drilling.intercepts import Rules, included, significant
from innerlamp.core.compute.drilling.weighted import means_over
from innerlamp.core.importing.hole_paths import place

from .table import Row, seconds

HOLES, EACH = 5_000, 200


def campaign() -> tuple[HolePath, pd.DataFrame, pd.DataFrame]:
    """Holes that bend, with 200 samples each."""
    rng = np.random.default_rng(2)
    collar = np.column_stack([rng.uniform(0, 20_000, (HOLES, 2)), np.full(HOLES, 300.0)])
    end = np.full(HOLES, 1.5 * EACH)
    hole = np.repeat(np.arange(HOLES), 11)
    depth = np.tile(np.arange(11) * 30.0, HOLES)
    azimuth, dip = (rng.normal(m, 20, HOLES)[hole] + rng.normal(0, 3, len(hole)) for m in (90.0, -60.0))
    path = desurvey(collar, end, hole, depth, azimuth % 360, np.clip(dip, -90, -20))
    names = np.array([f"H{k:05d}" for k in range(HOLES)])
    start = np.tile(np.arange(EACH) * 1.5, HOLES)
    grade = np.exp(rng.normal(0, 1.2, HOLES * EACH))
    table = pd.DataFrame({"hole": np.repeat(names, EACH), "from_m": start, "to_m": start + 1.5, "Sn": grade})
    collars = pd.DataFrame({"hole": names, "x": collar[:, 0], "y": collar[:, 1], "z": 300.0, "depth_m": end})
    return path, table, collars


def a_million_intervals() -> Iterator[Row]:
    path, table, collars = campaign()
    code = np.repeat(np.arange(HOLES), EACH)
    start, stop, grade = (table[c].to_numpy() for c in ("from_m", "to_m", "Sn"))
    words = f"{len(table):,} intervals, {HOLES:,} holes:"
    once = seconds(lambda: locate(path, code, 0.5 * (start + stop)), 2)
    all_three = seconds(lambda: place(table, collars, path), 2)
    yield Row(f"{words} placed", f"{all_three:.2f} s", "1.0 s", f"mid-points alone {once:.2f} s")

    def composites() -> None:
        hole, a, b, _ = divided(np.arange(HOLES), np.zeros(HOLES), np.full(HOLES, 300.0), 4.0)
        means_over(hole, a, b, code, start, stop, grade)

    took = seconds(composites, 2)
    frame = pd.DataFrame({"hole": code, "bin": (start // 4.0).astype(int), "w": 1.5, "g": grade * 1.5})
    plain = seconds(lambda: frame.groupby(["hole", "bin"]).sum(), 2)
    yield Row(f"{words} composites of 4 m", f"{took:.2f} s", "2 s", f"a plain groupby that cuts nothing {plain:.2f} s")
    rules = Rules(3.0, shortest=3.0, waste_in_row=4.5, waste_in_all=12.0)
    significant(code[:200], start[:200], stop[:200], grade[:200], rules)  # compiled before the clock runs

    def intercepts() -> None:
        outer = significant(code, start, stop, grade, rules)
        included(outer, code, start, stop, grade, Rules(6.0))

    yield Row(f"{words} intercepts with included ones", f"{seconds(intercepts, 2):.2f} s", "2 s")


def a_strip_log_of_32_tracks() -> Iterator[Row]:
    root = Path(__file__).resolve().parents[1]
    run = subprocess.run(
        ["bash", str(root / "scripts" / "with_display.sh"), sys.executable, "-m", "benchmarks.logging"],
        cwd=root,
        env=dict(os.environ),
        capture_output=True,
        text=True,
        check=True,
    )
    whole, scroll = (float(v) for v in run.stdout.split()[-2:])
    yield Row("strip log, 32 tracks over 1,500 m: drawn whole", f"{whole:.0f} ms", "100 ms")
    yield Row("strip log, 32 tracks, zoomed in: a step of scrolling", f"{scroll:.0f} ms", "30 ms")


def a_campaign_in_the_window() -> Iterator[Row]:
    """Sections with 300 holes in their corridor, and 3D of all 5,000 with 300,000 samples."""
    root = Path(__file__).resolve().parents[1]
    with tempfile.TemporaryDirectory() as folder:
        run = subprocess.run(
            ["bash", str(root / "scripts" / "with_display.sh"), sys.executable, "-m", "benchmarks.campaign", folder],
            cwd=root,
            env={**os.environ, "XDG_CONFIG_HOME": folder},
            capture_output=True,
            text=True,
            check=True,
        )
    told = {line.split()[0]: [float(v) for v in line.split()[1:]] for line in run.stdout.splitlines() if line.strip()}
    near, whole, step, drag = told["section"]
    first, cut, frames = told["scene"]
    words = f"Section with {near:.0f} holes in its corridor:"
    yield Row(f"{words} drawn whole", f"{whole:.0f} ms", "80 ms")
    yield Row(f"{words} step to the next", f"{step:.0f} ms", "120 ms")
    yield Row(f"{words} dragged", f"{drag:.0f} ms a frame", "50 ms", "bars and names come back at rest")
    words = "3D of 5,000 holes with 300,000 samples:"
    yield Row(f"{words} first picture", f"{first:.1f} s", "3 s", "holes as lines")
    yield Row(f"{words} another cut-off", f"{cut:.2f} s", "0.4 s")
    yield Row(f"{words} turning", f"{frames:.1f} frames/s", "10 frames/s", "in fewer, longer pieces")
