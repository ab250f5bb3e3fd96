"""Inversions in the window: the area in every pane, the model while it runs, a run that is left, what is not seen, coincidence."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pyqtgraph as pg
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QMessageBox, QPushButton

from innerlamp.app.forms.fields import AreaField
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.base.area_handles import edges_cut
from innerlamp.app.panes.base.run_sketch import box_edges, plan_outline, section_outline
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.project import left
from innerlamp.core.project.store import Store

from .conftest import drag, finish_jobs, light_only, run_form, scene_alone

LEFT = Qt.MouseButton.LeftButton
COARSE = {"attribute": "TMI_ANOM_nT", "cell": 150.0, "cell_z": 75.0, "depth": 600.0}


def opened(window: Window) -> AreaField:
    """The form of magnetics on the demo's survey, with its cells told."""
    window.ctx.select_item(window.ctx.store.find("Airborne magnetics").id)  # type: ignore[union-attr]
    form = window.steps.open_form("invert-magnetics")
    assert wait_until(lambda: "cells" in form.cost.text(), 20)
    field = form.fields["outline"]
    assert isinstance(field, AreaField)
    return field


def on_plot(pane: MapPane | SectionPane, x: float, y: float) -> QPoint:
    at = pane.plot.getViewBox().mapViewToScene(QPointF(x, y))
    return pane.plot.mapFromScene(at)


def test_the_area_is_drawn_and_reshaped_in_every_pane_and_the_cells_follow(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Magnetics", "Ground")
    ctx.set_section(SectionPlane.along(np.array([[501_800.0, 5_602_400.0], [507_400.0, 5_602_400.0]])))
    field = opened(window)
    form = window.steps.form
    assert form is not None
    assert not form.slots["start"].isVisible()  # what is rarely known stands apart
    said = form.cost.text()
    chart, across = window.centre.pane("map"), window.centre.pane("section")
    assert isinstance(chart, MapPane) and isinstance(across, SectionPane)
    whole = chart.sketch.outline.getData()
    QTest.mouseClick(field.box, LEFT)
    assert wait_until(lambda: form.cost.text() != said and settle(window), 30)
    assert any(note.startswith("•") and "outside of the area" in note for note in form.notes.text().splitlines())
    # Drawn: the outline with four handles, cells around it, the readings that are taken and no others.
    assert chart.area.roi is not None and len(chart.area.roi.getHandles()) == 4
    corners = np.array(field.corners)
    outline = np.column_stack(chart.sketch.outline.getData())
    assert (outline.min(axis=0) < corners.min(axis=0)).all() and (outline.max(axis=0) > corners.max(axis=0)).all()
    assert np.ptp(whole[0]) > np.ptp(outline[:, 0])
    dots = np.column_stack(chart.sketch.readings.getData())
    assert f"{len(dots):,} readings" in form.cost.text()
    assert (dots >= corners.min(axis=0)).all() and (dots <= corners.max(axis=0)).all()
    # On the map a corner is dragged with the mouse.
    said, viewport = form.cost.text(), chart.plot.viewport()
    drag(viewport, on_plot(chart, *corners[2]), on_plot(chart, *(corners[2] + [600, 500])))
    assert wait_until(lambda: field.corners != tuple(map(tuple, corners.tolist())), 5)
    moved = np.array(field.corners)
    assert (moved[[0, 1, 3]] == corners[[0, 1, 3]]).all() and moved[2] == pytest.approx(corners[2] + [600, 500], abs=60)
    assert wait_until(lambda: form.cost.text() != said and settle(window), 30)
    # On the section the western edge stands upright, and is dragged to the east.
    assert len(across.area.lines) == 2
    line, edge = across.area.lines[0]
    assert edge == 3 and line.value() == pytest.approx(moved[0, 0] - 501_800.0, abs=1.0)
    height = float(np.mean(across.plot.viewRange()[1]))
    drag(across.plot.viewport(), on_plot(across, line.value(), height), on_plot(across, line.value() + 400, height))
    assert wait_until(lambda: field.corners != tuple(map(tuple, moved.tolist())), 5)
    shifted = np.array(field.corners)
    assert shifted[[0, 3], 0] == pytest.approx(moved[[0, 3], 0] + 400, abs=60)
    assert (shifted[[1, 2]] == moved[[1, 2]]).all() and (shifted[:, 1] == moved[:, 1]).all()
    assert wait_until(lambda: len(across.area.lines) == 2 and settle(window), 30)
    sketch = np.column_stack(across.sketch.outline.getData())
    assert len(sketch) and sketch[:, 0].min() > 300.0 and np.ptp(sketch[:, 1]) > 500.0
    # In 3D a corner is taken on the ground, and the middle moves the whole.
    pane = scene_alone(window, "Ground")
    pane.aim(180.0, 70.0)
    pane.fit()
    assert settle(window)
    spots = pane.sight.pixels(pane.area.places())
    start = QPoint(*np.round(spots[-1]).astype(int).tolist())
    drag(pane.canvas, start, start + QPoint(40, 0))
    assert wait_until(lambda: field.corners != tuple(map(tuple, shifted.tolist())), 5)
    whole_moved = np.array(field.corners) - shifted
    assert np.ptp(whole_moved, axis=0).max() <= 1.0 and whole_moved[0, 0] > 50.0
    # It goes with the form, and the whole survey is taken without it.
    QTest.mouseClick(field.clear, LEFT)
    assert field.value() == [] and ctx.area is not None and not ctx.area.corners
    window.steps.close_form()
    assert ctx.area is None and ctx.sketch is None


def test_an_area_is_clicked_on_the_map(demo_window: Window) -> None:
    window = demo_window
    light_only(window, "Magnetics")
    field = opened(window)
    chart = window.centre.pane("map")
    assert isinstance(chart, MapPane)
    wanted = [(503_000.0, 5_601_000.0), (505_500.0, 5_601_200.0), (504_000.0, 5_603_500.0)]
    QTest.mouseClick(field.draw, LEFT)
    assert chart.area.drawing
    for place in wanted:
        at = on_plot(chart, *place)
        QTest.mouseMove(chart.plot.viewport(), at)
        QTest.mouseClick(chart.plot.viewport(), LEFT, pos=at)
    chart.plot.setFocus()
    QTest.keyClick(chart.plot, Qt.Key.Key_Return)
    assert not chart.area.drawing and chart.area.roi is not None
    assert np.array(field.corners) == pytest.approx(np.array(wanted), abs=60.0)
    assert not field.draw.isChecked() and "km²" in field.words.text()
    window.steps.close_form()


def test_the_outlines_of_cells_are_those_of_the_mesh(demo_window: Window) -> None:
    store = demo_window.ctx.store
    assert store is not None
    model = store.load(store.find("Susceptibility of Airborne magnetics").id)
    assert isinstance(model, BlockModel)
    points, edges = box_edges(model.mesh)
    west, east, south, north, low, high = model.bounds
    assert points.min(axis=0) == pytest.approx([west, south, low]) and points[:, :2].max(axis=0) == pytest.approx(
        [east, north]
    )
    assert points[:, 2].max() <= high + 1e-6 and edges.max() == len(points) - 1
    assert plan_outline(model.mesh)[0].tolist() == pytest.approx([west, south])
    pane = demo_window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    demo_window.ctx.set_section(
        SectionPlane.along(np.array([[west - 500, south + 1000], [east + 500, south + 1000.0]]))
    )
    view = pane._seen()
    assert view is not None
    cut = section_outline(model.mesh, view)
    assert cut[:, 0].min() == pytest.approx(500.0, abs=30) and cut[:, 1].min() == pytest.approx(low, abs=1.0)
    assert edges_cut(((0.0, 0.0), (1.0, 0.0), (1.0, 1.0)), view) == []


def test_the_model_of_each_iteration_is_seen_while_it_runs_and_leaves_no_trace(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    assert ctx.store is not None
    before = {e.id for e in ctx.entries()}
    inputs = {"lines": ctx.store.find("Airborne magnetics").id, "ground": ctx.store.find("Ground").id}
    job = ctx.start("invert-magnetics", COARSE | {"cell": 75.0, "cell_z": 40.0, "character": "compact"}, inputs)
    assert wait_until(lambda: job.id in window.strip.rows and len(job.curve) >= 1, 60)
    chart = window.centre.pane("map")
    assert isinstance(chart, MapPane)
    QTest.mouseClick(window.strip.rows[job.id].look, LEFT)
    guest = f"job {job.id}"
    assert wait_until(lambda: guest in chart.drawn_items(), 30)
    first = ctx.entry(guest)
    assert first is not None and "iteration" in first.name and ctx.item(guest) is not None
    # The next one takes its place, in the panes as in the legend.
    assert wait_until(lambda: (e := ctx.entry(guest)) is None or e.version != first.version, 60)
    assert guest not in {e.id for e in ctx.entries()}  # it is nothing of the project
    QTest.mouseClick(window.strip.rows[job.id].look, LEFT)
    assert wait_until(lambda: guest not in chart.drawn_items() and settle(window), 30)
    QTest.mouseClick(window.strip.rows[job.id].stop, LEFT)
    assert wait_until(lambda: not job.active, 30)
    assert {e.id for e in ctx.entries()} == before


def test_a_run_is_left_to_finish_and_its_result_is_there_next_time(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    assert ctx.store is not None
    path = ctx.store.path
    inputs = {"lines": ctx.store.find("Airborne magnetics").id, "ground": ctx.store.find("Ground").id}
    ctx.start("invert-magnetics", COARSE, inputs)

    def answer(words: str) -> None:
        box = QApplication.activeModalWidget()
        assert isinstance(box, QMessageBox) and "Invert magnetics" in box.text()
        button = next(b for b in box.findChildren(QPushButton) if b.text() == words)
        QTest.mouseClick(button, LEFT)

    QTimer.singleShot(300, lambda: answer("Don't close"))
    window.close()
    assert window.isVisible() and ctx.store is not None
    QTimer.singleShot(300, lambda: answer("Leave to finish"))
    window.close()
    assert not window.isVisible() and ctx.store is not None and (path / "left.json").is_file()
    # Whoever opens the project calls it back: here a call to this very process is refused, so it is sent by hand.
    assert not left.call_back(path)
    window.come_back()
    assert window.isVisible() and not (path / "left.json").exists()
    window.leave()
    assert wait_until(lambda: ctx.store is None, 120)
    assert not (path / "left.json").exists()
    with Store.open(path) as again:
        assert again.find("Susceptibility of Airborne magnetics 2").kind == "blocks"


def test_a_mark_that_was_left_behind_calls_nobody(tmp_path: Path) -> None:
    assert not left.call_back(tmp_path)
    (tmp_path / "left.json").write_text('{"pid": 1}')
    (tmp_path / "lock").write_text('{"pid": 1}')
    assert not left.call_back(tmp_path)
    (tmp_path / "left.json").write_text(f'{{"pid": {os.getppid()}}}')
    (tmp_path / "lock").write_text('{"pid": 999999}')
    assert not left.call_back(tmp_path)
    (tmp_path / "left.json").write_text("[not json")
    assert not left.call_back(tmp_path)


def test_cells_that_the_readings_can_not_see_are_faint_in_all_panes(demo_window: Window) -> None:
    window = demo_window
    light_only(window, "Susceptibility of Airborne magnetics")
    ctx, store = window.ctx, window.ctx.store
    assert store is not None
    entry = store.find("Susceptibility of Airborne magnetics")
    west, east, south, north = entry.bounds[:4]
    ctx.set_section(SectionPlane.along(np.array([[west, (south + north) / 2], [east, (south + north) / 2]])))
    assert settle(window)

    def strengths(kind: str) -> np.ndarray:
        pane = window.centre.pane(kind)
        image = next(g for g in pane.layers.graphics(entry.id) if isinstance(g, pg.ImageItem))  # type: ignore[attr-defined]
        alpha = np.asarray(image.image)[..., 3].astype(float)
        return np.unique(alpha[alpha > 0])

    scene = next(p for p in window.centre.panes() if p.kind == "scene")

    def shades() -> int:
        actor = scene.layers.graphics(entry.id)[0]  # type: ignore[attr-defined]
        rgb = actor.GetMapper().GetInput().GetCellData().GetScalars()
        return len({rgb.GetTuple3(k) for k in range(rgb.GetNumberOfTuples())})

    faded = {kind: strengths(kind) for kind in ("map", "section")}
    assert len(faded["section"]) > 20 and faded["section"].min() < 0.3 * faded["section"].max()
    many = shades()
    box = window.card.findChild(QCheckBox, "faded")
    assert box is not None and box.isChecked()
    QTest.mouseClick(box, LEFT)
    assert settle(window)
    assert len(strengths("section")) == 1 and len(strengths("map")) == 1
    assert shades() != many


def test_where_two_models_coincide_is_found_from_the_form_and_drawn(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    store = ctx.store
    assert store is not None
    gravity = {"stations": store.find("Gravity stations").id, "ground": store.find("Ground").id}
    cells = {"cell": 200.0, "cell_z": 100.0, "depth": 800.0, "attribute": "Bouguer_mGal", "noise": 0.05}
    ctx.start("invert-gravity", cells, gravity)
    finish_jobs(window, 120)
    form = window.steps.open_form("coincidence")
    for slot, name in (
        ("first", "Susceptibility of Airborne magnetics"),
        ("second", "Density contrast of Gravity stations"),
    ):
        form.slots[slot].setCurrentIndex(form.slots[slot].findData(store.find(name).id))
    form._slot_changed()
    for name, value in (
        ("first_property", "susceptibility"),
        ("second_property", "density_contrast"),
        ("first_from", "0.004"),
        ("second_from", "0.03"),
    ):
        form.fields[name].set_value(value)
    said = run_form(window)
    assert "bodies of" in said and "overlap" in said
    model = store.load(store.find("Susceptibility of Airborne magnetics and Density contrast of Gravity stations").id)
    assert isinstance(model, BlockModel)
    numbers = model.properties["body"]
    assert np.nanmax(numbers) >= 1
    # The gabbro is dense and magnetic: the largest body lies at it.
    largest = model.mesh.centres()[(numbers == 1).ravel()].mean(axis=0)
    assert np.hypot(largest[0] - 506_550.0, largest[1] - 5_603_250.0) < 900.0
    chart = window.centre.pane("map")
    assert isinstance(chart, MapPane) and store.find(model.name).id in chart.drawn_items()
