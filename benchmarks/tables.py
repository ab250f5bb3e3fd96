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
            "HoleID": np.repeat(ids, n),
            "Depth": np.tile(depth, HOLES),
            "Azimuth": (np.repeat(rng.uniform(0, 360, HOLES), n) + rng.normal(0, 2, HOLES * n)).round(1) % 360,
            "Dip": (-60 + rng.normal(0, 2, HOLES * n)).round(1),
        }
    ).to_csv(folder / "survey.csv", index=False)
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
        "6 s",
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


_SHEET = """
import json, sys, time
from innerlamp import Project
import shutil
folder = sys.argv[1]
shutil.rmtree(folder + "/sheet.lamp", ignore_errors=True)
with Project.create(folder + "/sheet.lamp", "EPSG:32629") as project:
    begin = time.perf_counter()
    made = project.run("import-holes", collar=folder + "/all.xlsx#collar", survey=folder + "/all.xlsx#survey", assay=folder + "/all.xlsx#assay")
    print(json.dumps([time.perf_counter() - begin, len(project[made["holes"]].tables["assay"])]))
"""
_LINES = """
import json, sys, time, resource
from innerlamp import Project
import shutil
folder = sys.argv[1]
shutil.rmtree(folder + "/lines.lamp", ignore_errors=True)
with Project.create(folder + "/lines.lamp", "EPSG:32629") as project:
    begin = time.perf_counter()
    made = project.run("import-lines", file=folder + "/lines.csv")
    took = time.perf_counter() - begin
    print(json.dumps([took, len(project[made["lines"]].table), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024]))
"""
_MORE = """
import json, sys, time, shutil
from innerlamp import Project
folder = sys.argv[1]
with Project.open(folder + "/large.lamp") as project:
    holes = project.items[0].name
    if not any(e.kind == "points" for e in project.items):
        project.run("composite", holes=holes, attribute="Cu_ppm", length=4.0)
    begin = time.perf_counter()
    project.run("add-holes", holes=holes, collar=folder + "/few_collar.csv", survey=folder + "/few_survey.csv", assay=folder + "/few_assay.csv")
    added = time.perf_counter() - begin
    done = project.refresh()
    print(json.dumps([time.perf_counter() - begin, added, len(project[holes].collars), len(done)]))
    project.store.undo(); project.store.undo()
"""


def _write_workbook(folder: Path) -> None:
    import xlsxwriter

    with xlsxwriter.Workbook(folder / "all.xlsx", {"constant_memory": True}) as book:
        for name in ("collar", "survey", "assay"):
            table = pd.read_csv(folder / f"{name}.csv")
            sheet = book.add_worksheet(name)
            sheet.write_row(0, 0, list(table.columns))
            for number, row in enumerate(table.itertuples(index=False), start=1):
                sheet.write_row(number, 0, row)


def import_the_same_from_a_spreadsheet() -> Iterator[Row]:
    if not (_KEPT / "all.xlsx").is_file():
        _write_workbook(_KEPT)
    took, rows = _run(_SHEET)  # type: ignore[misc]
    yield Row(f"The same from XLSX, {rows:,.0f} intervals", f"{took:.1f} s", "under 60 s")


def import_two_million_readings() -> Iterator[Row]:
    path = _KEPT / "lines.csv"
    if not path.is_file():
        rng = np.random.default_rng(2)
        lines, each = 400, 5_000
        x = np.tile(np.arange(each) * 5.0, lines) + 500_000
        table = pd.DataFrame(
            {
                "Line": np.repeat([f"L{k:04d}" for k in range(lines)], each),
                "FID": np.arange(lines * each),
                "Date": "2024-05-16",
                "X": x.round(1),
                "Y": (5_600_000 + np.repeat(np.arange(lines) * 50.0, each)).round(1),
                "GPS_ALT": 350.0,
                "TMI_nT": rng.normal(48_500, 30, lines * each).round(2),
            }
        )
        table.to_csv(path, index=False)
    took, rows, memory = _run(_LINES)  # type: ignore[misc]
    yield Row(f"Import {rows:,.0f} magnetic readings in 400 lines", f"{took:.1f} s, {memory:,.0f} MB", "under 10 s")


def add_ten_holes_and_refresh_composites() -> Iterator[Row]:
    rng = np.random.default_rng(3)
    ids = [f"NEW{k:02d}" for k in range(10)]
    pd.DataFrame(
        {
            "HoleID": ids,
            "East": rng.uniform(500_000, 520_000, 10),
            "North": rng.uniform(5_600_000, 5_620_000, 10),
            "RL": 300.0,
            "Depth": 400.0,
        }
    ).to_csv(_KEPT / "few_collar.csv", index=False)
    pd.DataFrame({"HoleID": ids, "Depth": 0.0, "Azimuth": 90.0, "Dip": -60.0}).to_csv(
        _KEPT / "few_survey.csv", index=False
    )
    start = np.tile(np.arange(EACH) * 2.0, 10)
    pd.DataFrame(
        {
            "HoleID": np.repeat(ids, EACH),
            "From": start,
            "To": start + 2,
            "Au_ppm": 1.0,
            "Cu_ppm": 2.0,
            "As_ppm": 3.0,
            "Zn_ppm": 4.0,
        }
    ).to_csv(_KEPT / "few_assay.csv", index=False)
    took, added, holes, made = _run(_MORE)  # type: ignore[misc]
    yield Row(
        f"Add 10 holes to {holes - 10:,.0f} and make the composites again",
        f"{took:.1f} s",
        "under 5 s",
        f"adding {added:.1f} s, {made:.0f} item made again",
    )


def sort_and_filter_a_million_rows() -> Iterator[Row]:
    from PySide6.QtCore import Qt

    from innerlamp.app.panes.tables.frame_model import FrameModel
    from innerlamp.core.compute.expression import condition
    from innerlamp.core.operations.data.computed import columns_of

    from .table import seconds

    table = pd.read_csv(_KEPT / "assay.csv")
    table["Au_ppm"] = pd.to_numeric(table["Au_ppm"], errors="coerce")
    model = FrameModel(table, {})
    names = list(table.columns)
    by_number = seconds(lambda: model.sort(names.index("Cu_ppm"), Qt.SortOrder.DescendingOrder), 2)
    by_text = seconds(lambda: model.sort(names.index("HoleID"), Qt.SortOrder.DescendingOrder), 2)
    columns = columns_of(table)
    chosen = seconds(
        lambda: model.keep(np.flatnonzero(condition("Cu_ppm > 5 and (Au_ppm < 1 or Zn_ppm > 9)", columns, len(table)))),
        2,
    )
    peer = seconds(lambda: table.query("Cu_ppm > 5 and (Au_ppm < 1 or Zn_ppm > 9)"), 2)
    yield Row("Sort 1,000,000 rows by a number", f"{by_number:.2f} s", "under 0.5 s")
    yield Row("Sort 1,000,000 rows by a text", f"{by_text:.2f} s", "under 0.5 s")
    yield Row(
        "Filter 1,000,000 rows by three conditions", f"{chosen:.2f} s", "under 0.5 s", f"pandas query {peer:.2f} s"
    )


def scroll_a_million_rows() -> Iterator[Row]:
    import time

    from PySide6.QtCore import QEventLoop
    from PySide6.QtWidgets import QApplication, QTableView

    from innerlamp.app.panes.tables.frame_model import FrameModel
    from innerlamp.app.start.application import make_application

    make_application()
    table = pd.read_csv(_KEPT / "assay.csv")
    view = QTableView()
    view.setModel(FrameModel(table, {}))
    view.verticalHeader().setDefaultSectionSize(20)
    view.resize(900, 700)
    view.show()
    QApplication.processEvents()
    bar = view.verticalScrollBar()
    frames = []
    for step in range(300):
        begin = time.perf_counter()
        bar.setValue(int(bar.maximum() * ((step * 37) % 300) / 300) + step)
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)
        frames.append(time.perf_counter() - begin)
    view.close()
    gaps = np.array(frames) * 1e3
    yield Row(
        "Scroll a table of 1,000,000 rows to and fro, longest frame",
        f"{gaps.max():.0f} ms",
        "under 50 ms",
        f"median {np.median(gaps):.1f} ms, {len(gaps)} jumps",
    )
