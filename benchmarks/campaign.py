"""A campaign of 5,000 holes with 300,000 samples in the window: sections of 300 holes, and 3D; run in a process of its own."""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
from PySide6.QtWidgets import QApplication

from innerlamp.api import Project
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.application import make_application
from innerlamp.app.start.main import leave, make_window
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.geometry.planes import SectionPlane

HOLES, EACH = 5_000, 60


def made(folder: Path) -> Path:
    """A project with the campaign."""
    rng = np.random.default_rng(8)
    names = np.array([f"H{k:05d}" for k in range(HOLES)])
    x, y = 500_000 + rng.uniform(0, 20_000, HOLES), 7_000_000 + rng.uniform(0, 20_000, HOLES)
    end = 2.0 * EACH
    pd.DataFrame({"hole": names, "x": x, "y": y, "z": 300.0, "depth": end}).to_csv(folder / "collar.csv", index=False)
    hole, depth = np.repeat(names, 4), np.tile(np.arange(4) * 40.0, HOLES)
    azimuth, dip = rng.uniform(0, 360, HOLES), rng.uniform(-90, -50, HOLES)
    survey = {"hole": hole, "depth": depth, "azimuth": np.repeat(azimuth, 4), "dip": np.repeat(dip, 4) + depth / 60.0}
    pd.DataFrame(survey).to_csv(folder / "survey.csv", index=False)
    start = np.tile(np.arange(EACH) * 2.0, HOLES)
    grade = np.exp(rng.normal(0, 1.2, HOLES * EACH)).round(3)
    assay = {"hole": np.repeat(names, EACH), "from": start, "to": start + 2.0, "Cu_pct": grade}
    pd.DataFrame(assay).to_csv(folder / "assay.csv", index=False)
    path = folder / "campaign.lamp"
    with Project.create(path, "EPSG:32633") as project:
        files = {k: str(folder / f"{k}.csv") for k in ("collar", "survey", "assay")}
        project.run("import-holes", **files, name="Holes")
    return path


def clock(act: object, times: int) -> float:
    """Median milliseconds of something."""
    out = []
    for _ in range(times):
        begin = time.perf_counter()
        act()  # type: ignore[operator]
        out.append(time.perf_counter() - begin)
    return 1000.0 * float(np.median(out))


def main(folder: Path) -> None:
    path = made(folder)
    make_application()
    window = make_window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    assert window.open_path(path)
    ctx = window.ctx
    holes = ctx.entries()[0].id
    for number, kind in enumerate(("section", "table")):
        window.centre.frames[number].show_kind(kind)
    ctx.set_lit(holes)
    settle(window)
    window.centre.toggle_fill(0)
    settle(window)
    section = window.centre.pane("section")
    assert isinstance(section, SectionPane)
    # In a corridor of 600 m to each side lie 300 of the holes.
    ctx.set_section(SectionPlane(500_000, 7_010_000, 520_000, 7_010_000))
    ctx.set_corridor(600.0)
    settle(window)
    names = ctx.item(holes).collars  # type: ignore[union-attr]
    near = int((np.abs(names["y"].to_numpy(float) - 7_010_000) <= 600).sum())

    def drawn() -> None:
        section.draw()
        section.plot.viewport().repaint()

    def whole() -> None:
        section._moving = False
        section.layers.clear()
        drawn()

    def step() -> None:
        section._moved = 0.0  # a step is not a drag: all is drawn
        section.step(1.0)
        drawn()

    def drag() -> None:
        ctx.set_section(ctx.section.moved(0.0, 7.0))  # type: ignore[union-attr]
        drawn()

    print("section", near, clock(whole, 7), clock(step, 6), clock(drag, 12), flush=True)
    window.centre.frames[0].show_kind("table")
    QApplication.processEvents()
    begin = time.perf_counter()
    window.centre.frames[0].show_kind("scene")
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    while not pane.layers or pane.frame_seconds == 0.0:
        QApplication.processEvents()
    first = time.perf_counter() - begin
    settle(window)
    item = ctx.item(holes)
    legend = ctx.legend("Cu_pct", item)  # type: ignore[arg-type]
    cuts = []
    for value in (1.0, 2.0, 0.5, 3.0):
        begin = time.perf_counter()
        ctx.set_legend(replace(legend, cutoff=value))
        pane.draw()
        pane._render_now()
        cuts.append(time.perf_counter() - begin)
    ctx.set_legend(legend)
    settle(window)
    pane._begin_to_move()
    frames = []
    for _ in range(24):
        begin = time.perf_counter()
        pane.renderer.GetActiveCamera().Azimuth(5.0)
        pane.renderer.ResetCameraClippingRange()
        pane._turn_furniture()
        pane.window_.Render()
        frames.append(time.perf_counter() - begin)
    print("scene", first, float(np.median(cuts)), 1.0 / float(np.median(frames)), flush=True)
    window.close()
    leave(0)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
