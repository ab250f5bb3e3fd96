"""Panes with keys and mouse: stepping sections, the corridor, turning the scene, exporting from the card."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.space.kept_views import SELECTED
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.panes.tables.frame_model import _facts, as_text
from innerlamp.app.panes.tables.table_pane import TablePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.attributes import plain_number
from innerlamp.core.items.fields import BlockModel

from .conftest import choose, coloured_share, finish_jobs, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier


def find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def test_page_keys_step_the_section_by_its_corridor(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    section = window.centre.pane("section")
    assert isinstance(section, SectionPane)
    before = ctx.section
    assert before is not None
    QTest.keyClick(section.plot, Qt.Key.Key_PageUp)
    settle(window)
    after = ctx.section
    assert after is not None
    _, off = before.to_plane(np.array([after.x0]), np.array([after.y0]))
    assert off[0] == pytest.approx(2 * ctx.corridor)
    assert after.azimuth == pytest.approx(before.azimuth)
    QTest.keyClick(section.plot, Qt.Key.Key_PageDown)
    assert ctx.section == pytest.approx(before) or ctx.section.x0 == pytest.approx(before.x0)


def test_the_corridor_is_typed_and_shown_on_the_map(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    section, map_pane = window.centre.pane("section"), window.centre.pane("map")
    assert isinstance(section, SectionPane)
    assert isinstance(map_pane, MapPane)
    assert section.width_box.text() == "50"
    count = section.drawn_count()
    type_into(section.width_box, "150")
    QTest.keyClick(section.width_box, Qt.Key.Key_Return)
    assert wait_until(lambda: ctx.corridor == 150.0, 3)
    settle(window)
    assert section.drawn_count() >= count  # more holes fall into it
    x, y = map_pane._corridor.getData()
    assert ctx.section is not None
    _, off = ctx.section.to_plane(np.asarray(x, dtype=float), np.asarray(y, dtype=float))
    assert np.nanmax(np.abs(off)) == pytest.approx(150.0)
    type_into(section.width_box, "wide")
    QTest.keyClick(section.width_box, Qt.Key.Key_Return)
    assert "corridor must be" in window.strip.last.text()
    assert section.width_box.text() == "150"


def test_clicking_an_interval_on_the_section_selects_its_row(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    section, table = window.centre.pane("section"), window.centre.pane("table")
    assert isinstance(section, SectionPane)
    assert isinstance(table, TablePane)
    window.centre.toggle_fill(2)
    settle(window)
    section.fit()
    settle(window)
    holes = ctx.item(find(window, "Emberlow holes"))
    assay = holes.tables["assay"]  # type: ignore[union-attr]
    assert ctx.section is not None
    along, off = ctx.section.to_plane(assay["x"].to_numpy(), assay["y"].to_numpy())
    inside = np.flatnonzero((np.abs(off) < 5) & (along > 0) & (along < ctx.section.length))
    row = int(inside[len(inside) // 2])
    at = section.plot.mapFromScene(
        section.plot.getViewBox().mapViewToScene(QPointF(float(along[row]), float(assay["z"].iloc[row])))
    )
    QTest.mouseClick(section.plot.viewport(), LEFT, NONE, at)
    settle(window)
    assert ctx.selection.table == "assay"
    chosen = assay.iloc[ctx.selection.rows[0]]
    assert np.hypot(chosen["z"] - assay["z"].iloc[row], 0) < 15  # that one or its neighbour in the corridor
    window.centre.toggle_fill(2)
    settle(window)
    (selected,) = table.view.selectionModel().selectedRows()
    assert table.model is not None
    assert table.model.data(table.model.index(selected.row(), 0)) == chosen["hole"]


def test_keys_turn_zoom_and_fit_the_scene(demo_window: Window) -> None:
    window = demo_window
    scene = window.centre.pane("scene")
    assert isinstance(scene, ScenePane)
    choose(scene.view, "From N")
    scene.look_from("From N")
    assert scene.direction()[0] == pytest.approx(180.0)
    QTest.keyClick(scene.canvas, Qt.Key.Key_Right)
    assert scene.direction()[0] == pytest.approx(190.0)
    QTest.keyClick(scene.canvas, Qt.Key.Key_Up)
    assert scene.direction()[1] == pytest.approx(33.0)
    settle(window)
    assert "looking 190°, 33° down" in scene.caption.GetInput()
    camera = scene.renderer.GetActiveCamera()
    angle = camera.GetViewAngle()
    QTest.keyClick(scene.canvas, Qt.Key.Key_Home)
    far = camera.GetDistance()
    assert camera.GetViewAngle() == angle  # fitting does not change the lens
    window.ctx.select_item(find(window, "Sn shell 800 ppm"))
    scene.look_from(SELECTED)
    assert camera.GetDistance() < 0.6 * far
    scene.look_from("From above")
    assert scene.direction()[1] == pytest.approx(90.0, abs=0.2)


def test_a_double_click_in_the_scene_moves_the_cursor_onto_what_is_drawn(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    scene = window.centre.pane("scene")
    assert isinstance(scene, ScenePane)
    scene.look_from("From above")
    settle(window)
    QTest.mouseDClick(scene.canvas, LEFT, NONE, QPoint(scene.canvas.width() // 2, scene.canvas.height() // 2))
    assert ctx.cursor.source == "scene"
    assert ctx.cursor.z == pytest.approx(ctx.ground_at(ctx.cursor.x, ctx.cursor.y), abs=80)
    map_pane = window.centre.pane("map")
    assert isinstance(map_pane, MapPane)
    assert map_pane._cross[1].value() == pytest.approx(ctx.cursor.x)


def test_colour_by_changes_every_pane(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    holes = find(window, "Emberlow holes")
    ctx.select_item(holes)
    settle(window)
    box = window.card.findChild(QComboBox, "colourBy")
    assert box is not None
    rock = next(
        box.itemText(k)
        for k in range(box.count())
        if "rock" in box.itemText(k).lower() or "lith" in box.itemText(k).lower()
    )
    ctx.set_colour_by(holes, rock)
    settle(window)
    shown = {g.attribute: g for g in window.legends.shown}
    assert rock in shown
    assert {"SLATE", "GRAN"} <= set(shown[rock].classes)
    assert coloured_share(widget_image(window, window.centre.pane("section"))) > 0.005  # type: ignore[arg-type]
    ctx.set_colour_by(holes, "-")
    settle(window)
    assert rock not in {g.attribute for g in window.legends.shown}


def test_export_from_the_card_writes_what_the_pane_shows(demo_window: Window, tmp_path: Path) -> None:
    window = demo_window
    window.card.export_to(find(window, "Targets"), tmp_path / "targets")
    finish_jobs(window)
    table = pd.read_csv(tmp_path / "targets.csv")
    assert table["rank"].tolist() == list(range(1, len(table) + 1))
    assert "targets.csv" in window.strip.last.text()
    window.card.export_to(find(window, "Emberlow holes"), tmp_path / "holes.csv")
    finish_jobs(window)
    names = {p.name for p in tmp_path.iterdir()}
    assert {
        "holes.csv",
        "holes_survey.csv",
        "holes_assay.csv",
        "holes_lithology.csv",
        "holes_findings.csv",
        "holes_by_hole.csv",
    } <= names
    window.card.export_to(find(window, "Ground"), tmp_path / "no" / "dem.tif")
    finish_jobs(window)
    assert "no such folder" in window.strip.last.text()


@pytest.mark.parametrize(
    ("value", "text"),
    [(0.00365, "0.00365"), (7100.0, "7\u2009100"), (2.5, "2.5"), (0.0, "0"), (1e-7, "1e-07"), (-57.0, "-57")],
)
def test_numbers_on_legends(value: float, text: str) -> None:
    assert plain_number(value) == text


@pytest.mark.parametrize(
    ("value", "column", "text"),
    [
        (np.nan, "Sn", ""),
        (502105.9, "x", "502105.90"),
        (0.00012, "k", "1.20e-04"),
        (48534.35, "TMI", "48534"),
        (3.14159, "W", "3.142"),
        (None, "c", ""),
        ("A", "c", "A"),
    ],
)
def test_cells_of_tables(value: object, column: str, text: str) -> None:
    assert as_text(value, column) == text


def test_facts_of_a_model_say_which_property_their_figures_are_of() -> None:
    mesh = TensorMesh.even((0.0, 0.0, 0.0), (10.0, 10.0, 10.0), (2, 2, 2))
    values = np.arange(8.0).reshape(2, 2, 2)
    one = BlockModel(name="A", crs="EPSG:32719", mesh=mesh, properties={"v": values})
    two = BlockModel(name="B", crs="EPSG:32719", mesh=mesh, properties={"v": values, "w": 10 + values})
    assert dict(_facts(one).values)["Maximum"] == "7"
    told = dict(_facts(two).values)
    assert told["v: maximum"] == "7" and told["w: minimum"] == "10"
