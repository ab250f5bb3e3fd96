"""Importing a large set of drillholes, and opening the project that holds it."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd

from .table import Row

HOLES, EACH = 5_000, 200
_KEPT = Path(tempfile.gettempdir()) / "inner-lamp-bench"

# Both run in a process of their own, so that what one has read is not in the memory of the other.
_IMPORT = """
import json, sys, time, resource
from innerlamp import Project
folder = sys.argv[1]
with Project.create(folder + "/large.lamp", "EPSG:32629") as project:
    begin = time.perf_counter()
    made = project.run("import-holes", collar=folder + "/collar.csv", survey=folder + "/survey.csv", assay=folder + "/assay.csv")
    took = time.perf_counter() - begin
    holes = project[made["holes"]]
    print(json.dumps([took, len(holes.tables["assay"]), len(holes.stations), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024]))
"""
_PANDAS = """
import json, sys, time
import pandas as pd
begin = time.perf_counter()
for name in ("collar", "survey", "assay"):
    pd.read_csv(sys.argv[1] + f"/{name}.csv")
print(json.dumps(time.perf_counter() - begin))
"""
_OPEN = """
import json, sys, time
begin = time.perf_counter()
from innerlamp import Project
loaded = time.perf_counter() - begin
begin = time.perf_counter()
with Project.open(sys.argv[1] + "/large.lamp") as project:
    rows = len(project[project.items[0].id].tables["assay"])
print(json.dumps([time.perf_counter() - begin, loaded, rows]))
"""


def _run(code: str) -> list[float] | float:
    out = subprocess.run([sys.executable, "-c", code, str(_KEPT)], capture_output=True, text=True, check=True)
    result: list[float] | float = json.loads(out.stdout.splitlines()[-1])
    return result


def write_large_set(folder: Path) -> None:
    """Write 5,000 holes with 1,000,000 assay intervals and 45,000 survey readings as CSV."""
    rng = np.random.default_rng(1)
    ids = np.array([f"LG{k:05d}" for k in range(HOLES)])
    pd.DataFrame(
        {
            "HoleID": ids,
            "East": rng.uniform(500_000, 520_000, HOLES).round(2),
            "North": rng.uniform(5_600_000, 5_620_000, HOLES).round(2),
            "RL": 300.0,
            "Depth": 400.0,
        }
    ).to_csv(folder / "collar.csv", index=False)
    depth = np.arange(0.0, 401.0, 50.0)
    n = len(depth)
    pd.DataFrame(
        {
            "HoleID": np.repeat(ids, n), "Depth": np.tile(depth, HOLES),
            "Azimuth": (np.repeat(rng.uniform(0, 360, HOLES), n) + rng.normal(0, 2, HOLES * n)).round(1) % 360,
            "Dip": (-60 + rng.normal(0, 2, HOLES * n)).round(1),
        }
    ).to_csv(folder / "survey.csv", index=False)  # fmt: skip
    start = np.tile(np.arange(EACH) * 2.0, HOLES)
    assay = pd.DataFrame({"HoleID": np.repeat(ids, EACH), "From": start, "To": start + 2.0})
    for name in ("Au_ppm", "Cu_ppm", "As_ppm", "Zn_ppm"):
        assay[name] = rng.lognormal(1, 1, HOLES * EACH).round(3)
    text = assay["Au_ppm"].astype(str)
    text[rng.integers(0, len(text), 5_000)] = "<0.01"
    assay["Au_ppm"] = text
    assay.to_csv(folder / "assay.csv", index=False)


def import_a_million_intervals() -> Iterator[Row]:
    _KEPT.mkdir(exist_ok=True)
    subprocess.run(["rm", "-rf", str(_KEPT / "large.lamp")], check=True)
    if not (_KEPT / "assay.csv").is_file():
        write_large_set(_KEPT)
    took, rows, stations, memory = _run(_IMPORT)  # type: ignore[misc]
    plain = float(_run(_PANDAS))  # type: ignore[arg-type]
    yield Row(
        f"Import, check, desurvey, store {HOLES:,} holes, {rows:,.0f} intervals",
        f"{took:.1f} s, {memory:,.0f} MB",
        "under 15 s",
        f"{took / plain:.1f} × pandas.read_csv of the same files ({plain:.1f} s), {stations:,.0f} stations",
    )


def open_that_project() -> Iterator[Row]:
    if not (_KEPT / "large.lamp").is_dir():
        yield Row("Open that project", "import it first")
        return
    took, loaded, rows = _run(_OPEN)  # type: ignore[misc]
    yield Row(
        "Open that project and read its holes",
        f"{took:.1f} s",
        "under 3 s",
        f"{rows:,.0f} intervals; loading the program {loaded:.1f} s more",
    )
