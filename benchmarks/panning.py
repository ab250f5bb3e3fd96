"""Times frames of a map while it is panned and zoomed; run in a process of its own, prints milliseconds a frame."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd
from PySide6.QtWidgets import QApplication

from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import leave, make_window
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.gridding.contouring import contours
from innerlamp.core.items.features import LINE, Features
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.points import PointSet
from innerlamp.core.project.store import Store

CRS = "EPSG:32629"


def district() -> list[Grid | PointSet | Features]:
    """A grid of 4,000 x 4,000 cells, 100,000 samples and about 5,000 contour lines of one area."""
    from scipy.ndimage import gaussian_filter

    rng = np.random.default_rng(1)
    size, cell = 4000, 10.0
    values = np.kron(gaussian_filter(rng.normal(size=(500, 500)), 4.0), np.ones((8, 8))) * 100
    grid = Grid(
        name="Field", crs=CRS, values=values, x0=500_000.0, y0=5_600_000.0, dx=cell, dy=cell, attribute="TMI", unit="nT"
    )
    x, y = rng.uniform(0, size * cell, (2, 100_000))
    table = pd.DataFrame({"x": grid.x0 + x, "y": grid.y0 + y, "z": 0.0, "Sn_ppm": rng.lognormal(2, 1, 100_000)})
    samples = PointSet(name="Samples", crs=CRS, table=table, units={"Sn_ppm": "ppm"})
    smooth = gaussian_filter(rng.normal(size=(1000, 1000)), 6.0) * 100
    levels = np.linspace(*np.percentile(smooth, [3, 97]), 22)
    axis = 40.0 * np.arange(1000)
    found = contours(smooth, grid.x0 + axis, grid.y0 + axis, levels, 600.0)[:5000]
    starts = np.concatenate([[0], np.cumsum([len(c.xy) for c in found])]).astype(np.int64)
    lines = pd.DataFrame(
        {
            "TMI": [c.level for c in found],
            "weight": ["major" if k % 5 == 0 else "minor" for k in range(len(found))],
            "round": [c.round for c in found],
        }
    )
    xy = np.concatenate([c.xy for c in found])
    features = Features(
        name="Contours",
        crs=CRS,
        table=lines,
        vertices=np.column_stack([xy, np.full(len(xy), np.nan)]),
        starts=starts,
        owner=np.arange(len(found), dtype=np.int64),
        part_types=np.full(len(found), LINE, dtype=np.int8),
        units={"TMI": "nT"},
        roles={"TMI": "level", "weight": "line weight", "round": "closing"},
    )
    return [grid, samples, features]


def main() -> None:
    folder = Path(tempfile.mkdtemp())
    with Store.create(folder / "district.lamp", CRS) as store:
        items = district()
        for item in items:
            store.put(item)
        store.light({e.id: True for e in store.entries()})
    make_application()
    window = make_window(folder)
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.open_path(folder / "district.lamp")
    window.centre.toggle_fill(0)
    settle(window)
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    pane.fit()
    settle(window)
    box = pane.plot.getViewBox()
    what = {"grid": (items[0],), "samples": (items[1],), "contours": (items[2],), "all three": tuple(items)}
    ids = {e.name: e.id for e in window.ctx.entries()}
    print(len(items[2].table), "contour lines", file=sys.stderr)  # type: ignore[union-attr]
    for name, shown in what.items():
        for item in items:
            window.ctx.set_lit(ids[item.name], item in shown)
        settle(window)
        for motion in ("pan", "zoom"):
            took = []
            for k in range(40):
                begin = time.perf_counter()
                if motion == "pan":
                    (x0, x1), _ = pane.plot.viewRange()
                    box.translateBy(x=0.01 * (x1 - x0) * (1 if k % 20 < 10 else -1), y=0)
                else:
                    factor = 0.93 if k % 20 < 10 else 1 / 0.93
                    box.scaleBy((factor, factor))
                QApplication.processEvents()  # draws once
                took.append(time.perf_counter() - begin)
            print(f"{name}, {motion}", *(f"{t:.6f}" for t in took), sep="\t", flush=True)
    window.close()
    leave(0)


if __name__ == "__main__":
    main()
