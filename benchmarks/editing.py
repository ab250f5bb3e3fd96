"""State over time in a real window: one vertex among 10,000 features, undo on the demo, a model of fifty million cells.

Run as a process of its own by `benchmarks.interface`; prints a line for each: name, seconds or megabytes.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import psutil

from innerlamp.api import Project
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.main import leave, make_window
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.features import RING, Features, one_each
from innerlamp.core.items.fields import BlockModel

CRS = "EPSG:32719"


def told(what: str, values: list[float]) -> None:
    print(what, *values, sep="\t", flush=True)


def clocked(window: Window, act: Callable[[], object]) -> float:
    """Seconds from an action until what it changed is on the screen."""
    begin = time.perf_counter()
    act()
    pane = window.centre.panes()[0]
    while not pane.settled:
        wait_until(lambda: True, 0.05)
    pane.repaint()
    return time.perf_counter() - begin


def vertex(window: Window, folder: Path) -> None:
    rng = np.random.default_rng(1)
    at = np.stack(np.meshgrid(np.arange(100) * 50.0, np.arange(100) * 50.0), axis=-1).reshape(-1, 2)
    square = np.array([(0, 0), (40, 0), (40, 40), (20, 42), (0, 40), (0, 0)], dtype=float)
    made = Features(
        name="F",
        crs=CRS,
        table=pd.DataFrame({"unit": rng.choice(list("ABCD"), len(at))}),
        **one_each([square + p for p in at], RING),
    )
    with Project.create(folder / "vertex", CRS) as project:
        item = project.store.put(made)
        project.store.light({item: True})
    window.open_path(folder / "vertex.lamp")
    window.centre.frames[0].show_kind("map")
    window.centre.toggle_fill(0)
    settle(window)
    x, y = at[5050]
    took = []
    for k in range(12):
        values = {"action": "move", "x": x, "y": y, "to_x": x + 1.0, "to_y": y}
        took.append(clocked(window, lambda values=values: window.ctx.start("edit-corner", values, {"features": item})))
        x += 1.0
        assert len(window.ctx.entries()[0].edits) == k + 1
    told("One vertex among 10,000 features moved, on the screen", took[2:])
    told("The same taken back", [clocked(window, window.ctx.undo) for _ in range(8)])
    window.centre.toggle_fill(0)


def undo(window: Window, demo: Path) -> None:
    window.open_path(demo)
    settle(window)
    ctx = window.ctx
    store = ctx.store
    assert store is not None
    ctx.start("compute-column", {"name": "k", "expression": "[Sn ppm] * 2"}, {"item": store.find("Soils").id})
    wait_until(lambda: bool(store.find("Soils").edits), 60)
    wait_until(lambda: "stale" not in ctx.freshness().values() and not any(j.active for j in ctx.jobs), 300)
    settle(window)
    took = []
    for _ in range(4):
        for act in (ctx.undo, ctx.redo):
            begin = time.perf_counter()
            act()
            took.append(time.perf_counter() - begin)
            settle(window)
    told("Undo and redo of a column with all that follows, on the demo", took)


def cells(window: Window, folder: Path) -> None:
    nx, ny, nz = 500, 500, 200
    values = np.random.default_rng(0).random((nx, ny, nz))
    model = BlockModel(
        name="B", crs=CRS, mesh=TensorMesh.even((0, 0, 0), (10, 10, 10), (nx, ny, nz)), properties={"a": values}
    )
    with Project.create(folder / "cells", CRS) as project:
        item = project.store.put(model)
        project.store.light({item: True})
        panes = {"kinds": ["section", "scene", "map", "table"]}
        project.store.set_workspace({"section": [100.0, 2500.0, 4900.0, 2520.0], "panes": panes})
    del values, model
    window.centre.frames[0].show_kind("section")
    window.centre.toggle_fill(0)
    process = psutil.Process()
    before = process.memory_info()
    begin = time.perf_counter()
    window.open_path(folder / "cells.lamp")
    wait_until(lambda: window.centre.pane("section").drawn_count() > 0, 60)
    window.centre.pane("section").repaint()
    took = time.perf_counter() - begin
    after = process.memory_info()
    told("Block model of 50,000,000 cells opened, a section through it drawn", [took])
    told("memory of its own for that", [(after.rss - after.shared - before.rss + before.shared) / 1e6])
    window.ctx.set_section(SectionPlane(100.0, 100.0, 4900.0, 4900.0))
    told("another section through it", [clocked(window, lambda: None)])


def main() -> None:
    folder, demo = Path(sys.argv[1]), Path(sys.argv[2])
    window = make_window(folder / "logs")
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    vertex(window, folder)
    undo(window, demo)
    cells(window, folder)
    window.close()
    leave(0)


if __name__ == "__main__":
    main()
