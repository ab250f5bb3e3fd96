"""Drawing on the map with mouse and keyboard: a polygon with shared edges, clicks taken back, corners dragged, a split."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.formats.shapes.features import shapes_of
from innerlamp.core.items.features import Features

from .conftest import choose, drag, map_alone

LEFT = Qt.MouseButton.LeftButton


def opened(window: Window) -> MapPane:
    """The map alone, with the geological map lit and drawing begun."""
    pane = map_alone(window, "Geological map")
    pane.plot.setRange(xRange=(501_900.0, 505_300.0), yRange=(5_600_900.0, 5_603_500.0), padding=0.0)
    QTest.mouseClick(pane.drawing, LEFT)
    settle(window)
    return pane


def pixel(pane: MapPane, x: float, y: float) -> QPoint:
    return pane.plot.mapFromScene(pane.plot.getViewBox().mapViewToScene(QPointF(x, y)))


def click(pane: MapPane, x: float, y: float, key: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    at = pixel(pane, x, y)
    QTest.mouseMove(pane.plot.viewport(), at)
    QTest.mouseClick(pane.plot.viewport(), LEFT, key, at)
    wait_until(lambda: False, 0.02)


def features(window: Window, name: str = "Geological map") -> Features:
    assert window.ctx.store is not None
    item = window.ctx.store.load(window.ctx.store.find(name).id)
    assert isinstance(item, Features)
    return item


def finished(window: Window) -> None:
    assert wait_until(lambda: not any(j.active for j in window.ctx.jobs), 120)
    settle(window)


def total(item: Features) -> float:
    return sum(s.area for s in shapes_of(item) if "Polygon" in s.geom_type)


def test_a_polygon_is_drawn_with_clicks_taken_back_and_undone(demo_window: Window) -> None:
    window = demo_window
    pane = opened(window)
    before = features(window)
    tool = pane.draw_tool
    assert tool.map.currentText() == "Geological map"
    choose(tool.mode, "polygon")
    tool.value.setCurrentText("DIORITE")
    corners = [(502400.0, 5601400.0), (502900.0, 5601400.0), (502900.0, 5601900.0)]
    for x, y in corners:
        click(pane, x, y)
    click(pane, 504000.0, 5601900.0)
    assert len(tool.sketch.corners) == 4
    QTest.keyClick(pane.plot, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(tool.sketch.corners) == 3
    QTest.keyClick(pane.plot, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert len(tool.sketch.corners) == 4
    QTest.keyClick(pane.plot, Qt.Key.Key_Backspace)
    assert features(window) is before or len(features(window).table) == len(before.table)
    QTest.keyClick(pane.plot, Qt.Key.Key_Return)
    finished(window)
    made = features(window)
    assert made.table["unit"].iloc[-1] == "DIORITE"
    assert shapes_of(made)[-1].area == pytest.approx(125_000, rel=0.03)
    assert total(made) == pytest.approx(total(before), rel=1e-6)  # taken from the slate, not laid over it
    assert not tool.sketch.steps
    window.ctx.undo()
    settle(window)
    assert "DIORITE" not in set(features(window).table["unit"])


def test_a_polygon_that_crosses_itself_is_refused_and_the_sketch_stays(demo_window: Window) -> None:
    window = demo_window
    pane = opened(window)
    choose(pane.draw_tool.mode, "polygon")
    for x, y in ((502300.0, 5601300.0), (502700.0, 5601700.0), (502700.0, 5601300.0), (502300.0, 5601700.0)):
        click(pane, x, y)
    said: list[str] = []
    window.ctx.said.connect(lambda text, _: said.append(text))
    QTest.mouseClick(pane.draw_tool.buttons["Finish"], LEFT)
    finished(window)
    assert any("cross itself" in text for text in said)
    QTest.keyClick(pane.plot, Qt.Key.Key_Escape)
    QTest.keyClick(pane.plot, Qt.Key.Key_Escape)
    assert not pane.drawing.isChecked() and not pane.draw_tool.isVisible()


def test_a_new_map_is_begun_split_and_its_shared_corner_dragged(demo_window: Window) -> None:
    window = demo_window
    pane = opened(window)
    tool = pane.draw_tool
    choose(tool.map, "a new map")
    choose(tool.mode, "polygon")
    tool.value.setCurrentText("A")
    square = [(504200.0, 5601300.0), (504800.0, 5601300.0), (504800.0, 5601900.0), (504200.0, 5601900.0)]
    for x, y in square:
        click(pane, x, y)
    click(pane, *square[0])  # on the first corner: closes it
    finished(window)
    assert tool.map.currentText() == "Drawn map"
    choose(tool.mode, "split")
    for x in (504100.0, 504900.0):
        click(pane, x, 5601600.0)
    QTest.keyClick(pane.plot, Qt.Key.Key_Return)
    finished(window)
    halves = features(window, "Drawn map")
    assert [round(s.area, -4) for s in shapes_of(halves)] == [180_000, 180_000]
    choose(tool.mode, "corners")
    settle(window)
    shared = halves.vertices[np.argmin(np.hypot(halves.vertices[:, 0] - 504200, halves.vertices[:, 1] - 5601600)), :2]
    view, start, stop = pane.plot.viewport(), pixel(pane, *shared), pixel(pane, 504200.0, 5601450.0)
    drag(view, start, stop)
    finished(window)
    moved = features(window, "Drawn map")
    assert total(moved) == pytest.approx(total(halves), rel=0.03)
    assert sorted(round(s.area, -3) for s in shapes_of(moved)) != [180_000, 180_000]
    assert shapes_of(moved)[0].intersection(shapes_of(moved)[1]).area == pytest.approx(0.0, abs=1e-6)
    # Two polygons are chosen by clicks and joined again.
    click(pane, 504600.0, 5601400.0)
    click(pane, 504600.0, 5601800.0, Qt.KeyboardModifier.ControlModifier)
    assert len(window.ctx.selection.rows) == 2
    QTest.mouseClick(tool.buttons["Join"], LEFT)
    finished(window)
    assert len(features(window, "Drawn map").table) == 1
