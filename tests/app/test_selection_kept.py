"""The selection names a version: after an edit it means the same rows, or none, and never others."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from innerlamp.app.context.context import Selection
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.tables.table_pane import TablePane
from innerlamp.app.start.waiting import settle
from innerlamp.core.items.features import RING, Features, one_each
from innerlamp.core.items.points import PointSet
from innerlamp.core.project.store import Store

from .conftest import choose, finish_jobs, map_alone, widget_image

CRS = "EPSG:32719"
LEFT = Qt.MouseButton.LeftButton


def squares(count: int) -> Features:
    ring = np.array([[0, 0], [80, 0], [80, 80], [0, 80], [0, 0]], dtype=float)
    at = [np.add(ring, (100.0 * k, 0.0)) for k in range(count)]
    return Features(
        name="Units", crs=CRS, table=pd.DataFrame({"unit": [f"U{k}" for k in range(count)]}), **one_each(at, RING)
    )


def test_a_second_remove_takes_no_other_feature_and_undo_brings_the_first_back(window: Window, tmp_path: Path) -> None:
    window.ctx.create(tmp_path / "p.lamp", CRS)
    store = window.ctx.store
    assert store is not None
    item = store.put(squares(5))
    settle(window)
    pane = map_alone(window, "Units")
    QTest.mouseClick(pane.drawing, LEFT)
    tool = pane.draw_tool
    choose(tool.mode, "corners")
    window.ctx.select_rows(Selection(item, "", (1,)))
    for _ in range(2):
        QTest.mouseClick(tool.buttons["Remove"], LEFT)
        finish_jobs(window)
        assert list(store.load(item).table["unit"]) == ["U0", "U2", "U3", "U4"]  # type: ignore[attr-defined]
    assert "choose a feature" in window.strip.last.text()
    # A feature behind the one that goes keeps its selection under its new row.
    window.ctx.select_rows(Selection(item, "", (3,)))
    window.ctx.start("edit-features", {"action": "remove", "rows": [0]}, {"features": item})
    finish_jobs(window)
    assert window.ctx.selection.rows == (2,)
    tool.value.setCurrentText("TUFF")
    QTest.mouseClick(tool.buttons["Set"], LEFT)
    finish_jobs(window)
    assert list(store.load(item).table["unit"]) == ["U2", "U3", "TUFF"]  # type: ignore[attr-defined]
    for _ in range(3):
        window.ctx.undo()
        settle(window)
    assert list(store.load(item).table["unit"]) == [f"U{k}" for k in range(5)]  # type: ignore[attr-defined]
    QTest.mouseClick(pane.drawing, LEFT)


def test_the_table_shows_a_selection_of_more_than_five_thousand_rows(window: Window, tmp_path: Path) -> None:
    window.ctx.create(tmp_path / "p.lamp", CRS)
    store = window.ctx.store
    assert store is not None
    rng = np.random.default_rng(3)
    count = 12_000
    table = pd.DataFrame(
        {"x": rng.uniform(0, 900, count), "y": rng.uniform(0, 900, count), "z": 4000.0, "Cu": np.arange(count) % 7.0}
    )
    item = store.put(PointSet(name="Soils", crs=CRS, table=table, units={"Cu": "ppm"}))
    window.ctx.select_item(item)
    settle(window)
    pane = window.centre.pane("table")
    assert isinstance(pane, TablePane)
    assert pane.model is not None
    for rows in (range(6_000), range(0, count, 2)):  # in one piece, and in very many
        window.ctx.select_rows(Selection(item, "samples", tuple(rows)))
        settle(window)
        pane.view.scrollToTop()
        settle(window)
        lit = QColor(window.ctx.theme.lit_soft).name()
        assert [lit in colours_of_row(window, pane, row) for row in (0, 1)] == [True, 1 in rows]
    QTest.keyClick(pane.view, Qt.Key.Key_Escape)
    settle(window)
    assert window.ctx.selection.rows == ()
    assert lit not in colours_of_row(window, pane, 0)


def colours_of_row(window: Window, pane: TablePane, row: int) -> set[str]:
    assert pane.model is not None
    box = pane.view.visualRect(pane.model.index(row, 0))
    image = widget_image(window, pane.view.viewport())
    inside = box.intersected(image.rect())
    return {image.pixelColor(x, inside.center().y()).name() for x in range(inside.left(), inside.right())}


def test_more_lit_items_than_ever_settle_and_are_read_once(window: Window, tmp_path: Path) -> None:
    with Store.create(tmp_path / "p.lamp", CRS) as store:
        table = pd.DataFrame({"x": np.arange(50.0), "y": 1.0, "z": 4000.0, "Au": 0.1})
        made = [store.put(PointSet(name=f"S{k}", crs=CRS, table=table + k, units={"Au": "ppb"})) for k in range(90)]
        store.light(dict.fromkeys(made, True))
    assert window.open_path(tmp_path / "p.lamp")
    opened = window.ctx.store
    assert opened is not None
    opened.at_hand.most = 100_000  # as if each were large
    assert settle(window)
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    assert set(made) <= set(pane.drawn_items())
    assert all(opened.loaded(e.version) for e in opened.entries())
    for item in made:
        window.ctx.set_lit(item, False)
    window.ctx.set_lit(made[0])
    assert settle(window)
