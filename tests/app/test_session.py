"""State over time in the window: quick edits, undo, changing projects, a second window, operations that are gone."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from innerlamp.api import Project
from innerlamp.app.base import settings
from innerlamp.app.context.context import Context
from innerlamp.app.mainwindow.shelf import Shelf
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.sheets.page_pane import PagePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.fields import Grid
from innerlamp.core.jobs.runner import Runner
from innerlamp.core.project.store import Store, stage

from .conftest import finish_jobs, widget_image

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def there(window: Window, item: str) -> Any:
    """The item as it is now, once it has been read."""
    assert wait_until(lambda: window.ctx.item(item) is not None, 30)
    return window.ctx.item(item)


def press(window: Window, key: Qt.Key, modifier: Qt.KeyboardModifier = CTRL) -> None:
    window.setFocus()
    QTest.keyClick(window, key, modifier)
    settle(window)


def square(window: Window, west: float, south: float, unit: str) -> dict[str, object]:
    corners = [(west, south), (west + 200, south), (west + 200, south + 200), (west, south + 200)]
    return {"points": corners, "value": unit, "over": "lie over"}


def test_two_polygons_drawn_in_a_row_both_stand(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    item = find(window, "Geological map")
    before = len(there(window, item).table)
    ctx.set_lit(item)
    for k in range(4):  # none waits for the one before
        ctx.start("draw-feature", square(window, 503000.0 + 300 * k, 5601500.0, f"U{k}"), {"features": item})
    finish_jobs(window)
    table = there(window, item).table
    assert len(table) == before + 4
    assert table.iloc[-4:, :].astype(str).apply(lambda row: any(v.startswith("U") for v in row), axis=1).all()
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    assert item in pane.drawn_items()
    for left in (3, 2, 1, 0):
        press(window, Qt.Key.Key_Z)
        assert len(there(window, item).table) == before + left
    for _ in range(4):
        press(window, Qt.Key.Key_Z, CTRL | SHIFT)
    assert len(there(window, item).table) == before + 4


def test_edits_that_wait_for_a_worker_take_their_turns(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    soils = find(window, "Soils")
    for k in range(3):  # not instant: each runs in a worker, one after the other
        ctx.start("compute-column", {"name": f"c{k}", "expression": f"[Sn ppm] * {k + 2}"}, {"item": soils})
    finish_jobs(window)
    assert {"c0", "c1", "c2"} <= set(there(window, soils).table.columns)
    entry = ctx.entry(soils)
    assert entry is not None
    assert [s.params["name"] for s in entry.edits] == ["c0", "c1", "c2"]


def test_an_edit_that_waits_is_cancelled_alone(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    soils = find(window, "Soils")
    jobs = [
        ctx.start("compute-column", {"name": f"c{k}", "expression": f"[Sn ppm] * {k + 2}"}, {"item": soils})
        for k in range(3)
    ]
    assert ctx.session is not None
    ctx.session.desk.cancel(jobs[1])
    assert [job.state for job in jobs] == ["waiting", "cancelled", "waiting"]
    finish_jobs(window)
    entry = ctx.entry(soils)
    assert entry is not None
    assert [s.params["name"] for s in entry.edits] == ["c0", "c2"]


def test_three_arrow_keys_move_a_page_element_three_steps(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    page = find(window, "Emberlow A3")
    window.centre.frames[0].show_kind("page")
    ctx.select_item(page)
    settle(window)
    pane = window.centre.pane("page")
    assert isinstance(pane, PagePane)
    assert pane.page is not None
    number = next(k for k, e in enumerate(pane.page.layout) if e.kind == "scale bar")
    x = pane.page.layout[number].x
    pane.choose(number)
    pane.sheet.setFocus()
    for _ in range(3):
        QTest.keyClick(pane.sheet, Qt.Key.Key_Left)
    finish_jobs(window)
    stored = there(window, page)
    assert stored.layout[number].x == pytest.approx(x - 3.0)
    for back in (2.0, 1.0, 0.0):
        press(window, Qt.Key.Key_Z)
        assert there(window, page).layout[number].x == pytest.approx(x - back)


def test_undo_reaches_the_users_change_past_what_followed(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    assert ctx.store is not None
    before = {e.id: e.version for e in ctx.entries()}
    ctx.start("compute-column", {"name": "k", "expression": "[Sn ppm] * 2"}, {"item": find(window, "Soils")})
    assert wait_until(lambda: len(ctx.store.entry(find(window, "Soils")).edits) == 1, 60)  # type: ignore[union-attr]
    assert wait_until(lambda: "stale" not in ctx.freshness().values() and not any(j.active for j in ctx.jobs), 200)
    after = {e.id: e.version for e in ctx.entries()}
    assert sum(before[i] != after[i] for i in before) > 3
    count = len(ctx.jobs)
    press(window, Qt.Key.Key_Z)
    assert {e.id: e.version for e in ctx.entries()} == before
    press(window, Qt.Key.Key_Z, CTRL | SHIFT)
    assert {e.id: e.version for e in ctx.entries()} == after
    press(window, Qt.Key.Key_Z)
    wait_until(lambda: False, 0.5)
    assert len(ctx.jobs) == count  # nothing was computed for any of it


def test_a_late_answer_of_a_closed_project_is_dropped(demo_window: Window, demo_path: Path, tmp_path: Path) -> None:
    window, ctx = demo_window, demo_window.ctx
    other = tmp_path / "other.lamp"
    with Project.create(other, "EPSG:32629") as project:
        values = np.full((5, 5), 7.0)
        made = project.store.put(
            Grid(name="Only", crs="EPSG:32629", values=values, x0=0, y0=0, dx=1, dy=1, attribute="a")
        )
        project.store.light({made: True})
    store, runner = ctx.store, ctx.runner
    assert store is not None
    store.at_hand.clear()
    for entry in ctx.entries():
        ctx.item(entry.id)  # all are being read
    job = ctx.start("composite", {"attribute": "Sn_ppm", "length": 5.0}, {"holes": find(window, "Emberlow holes")})
    assert wait_until(lambda: job.state == "running", 60)
    row = window.strip.rows[job.id]
    assert window.open_path(other)
    # It may take a while to stop: the strip says what goes on here, and has the height of an empty one.
    assert not row.isVisible()
    assert window.strip.rows == {}
    assert window.strip.idle.isVisible()
    settle(window)
    assert wait_until(lambda: not job.active and not runner.busy, 60)
    wait_until(lambda: False, 0.3)
    assert [e.name for e in ctx.entries()] == ["Only"]
    (only,) = ctx.entries()
    assert float(ctx.item(only.id).values[0, 0]) == 7.0
    assert ctx.jobs == []
    assert window.open_path(tmp_path / "Emberlow.lamp")
    settle(window)
    assert not any("composites 5" in e.name for e in ctx.entries())
    assert not list((tmp_path / "Emberlow.lamp" / "staging").glob("*"))


def test_who_only_looks_follows_the_one_who_writes(demo_window: Window, tmp_path: Path) -> None:
    window, ctx = demo_window, demo_window.ctx
    second = Context(Runner(tmp_path / "logs2"))  # as in another window
    said: list[str] = []
    second.said.connect(lambda text, _: said.append(text))
    shelf = Shelf(second)
    try:
        second.open(tmp_path / "Emberlow.lamp")
        assert second.store is not None
        assert not second.store.writable
        soils = find(window, "Soils")
        assert ctx.session is not None
        ctx.session.rename(soils, "Ground samples")
        ctx.session.remove(find(window, "Targets"))
        assert wait_until(lambda: "Ground samples" in {e.name for e in second.entries()}, 10)
        assert "Targets" not in {e.name for e in second.entries()}
        assert any("Ground samples" in row.text(0) for row in shelf.rows().values())
        # Who only looks still lights what it likes, for itself.
        lit = soils in second.lit
        second.set_lit(soils, not lit)
        assert (soils in second.lit) != lit
        assert (soils in ctx.lit) == lit
        assert not second.guard(second.session.rename, soils, "x")  # type: ignore[union-attr]
        assert "read-only" in said[-1]
    finally:
        second.close()
        shelf.deleteLater()


def test_an_operation_that_is_gone_is_named_and_the_rest_works(window: Window, demo_path: Path, tmp_path: Path) -> None:
    copy = tmp_path / "old.lamp"
    shutil.copytree(demo_path, copy)
    with Project.open(copy) as project:
        store = project.store
        soils, grid = store.find("Soils").id, store.find("Soil Sn").id
        for name, operation in ((soils, "import-of-old"), (grid, "grid-by-magic")):
            (origin,) = store._db.execute(
                "SELECT origin FROM version WHERE id=?", (store.entry(name).version,)
            ).fetchone()
            (text,) = store._db.execute("SELECT recipe FROM origin WHERE id=?", (origin,)).fetchone()
            changed = json.dumps(json.loads(text) | {"operation": operation})
            store._db.execute("UPDATE origin SET recipe=? WHERE id=?", (changed, origin))
    assert window.open_path(copy)
    settle(window)
    ctx = window.ctx
    seen: list[str] = []
    ctx.said.connect(lambda text, _: seen.append(text))
    ctx.select_item(soils)
    settle(window)
    words = " ".join(label.text() for label in window.card.findChildren(type(window.strip.last)))
    assert "import-of-old (not known to this version)" in words
    # Its grid can't be made again; it says so once, and what does not hang from it goes on.
    store_ = ctx.store
    assert store_ is not None
    item = there(window, soils)
    result = stage(store_.payloads, item)  # type: ignore[arg-type]
    store_.add({"0": result}, "New assays", replace={"0": soils})
    settle(window)
    assert sum("there is no operation 'grid-by-magic'" in text for text in seen) == 1
    ctx.set_lit(grid)
    settle(window)
    assert grid in window.centre.pane("map").drawn_items()
    assert ctx.freshness()[grid] == "stale"


def test_function_keys_and_an_empty_intake(demo_window: Window) -> None:
    window = demo_window
    window.setFocus()
    QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
    settle(window)
    assert sum(frame.isVisible() for frame in window.centre.frames) == 1  # it fills the centre
    QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
    form = window.steps.open_intake()
    assert not form.run_button.isEnabled()
    QTest.mouseClick(form.run_button, Qt.MouseButton.LeftButton)
    assert window.ctx.jobs == []


def test_a_change_is_dropped_from_the_card(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    soils = find(window, "Soils")
    for name in ("one", "two"):
        ctx.start("compute-column", {"name": name, "expression": "[Sn ppm] * 2"}, {"item": soils})
    finish_jobs(window)
    ctx.select_item(soils)
    settle(window)
    from innerlamp.app.mainwindow.item_history import HistoryList

    QTest.mouseClick(window.card.findChild(QPushButton, "origin"), Qt.MouseButton.LeftButton)
    history = window.card.findChild(HistoryList)
    assert history is not None
    assert history.isVisible()
    assert [row.text()[:9] for row in history.rows] == ["Import sa", "1. Comput", "2. Comput"]
    history.drop(1)
    finish_jobs(window)
    assert "one" not in there(window, soils).table
    assert "two" in there(window, soils).table
    history = window.card.findChild(HistoryList)
    assert history is not None
    history.open(1)
    form = window.steps.form
    assert form is not None
    assert form.run_button.text() == "Change"
    form.fields["expression"].set_value("[Sn ppm] * 10")
    form.run()
    finish_jobs(window)
    table = there(window, soils).table
    assert table["two"].to_numpy() == pytest.approx(10 * table["Sn ppm"].to_numpy(), nan_ok=True)
    assert widget_image(window, window.card).width() > 100


def test_a_project_from_elsewhere_is_trusted_from_the_menu_and_one_s_own_at_once(
    window: Window, demo_path: Path, tmp_path: Path
) -> None:
    shutil.copytree(demo_path, tmp_path / "stranger.lamp")
    assert window.open_path(tmp_path / "stranger.lamp")
    settle(window)
    window._show_trust()
    assert window.trust.isEnabled()
    assert not window.trust.isChecked()
    # Core pictures are read from files: when the holes move on they wait, and the strip says for what.
    holes = find(window, "Emberlow holes")
    window.ctx.start("describe-attribute", {"attribute": "Sn_ppm", "unit": "g/t"}, {"item": holes})
    finish_jobs(window, 120)
    said = " ".join(window.strip.log.item(k).text() for k in range(window.strip.log.count()))
    assert "which this project names. It waits" in said
    window.trust.trigger()
    assert settings.trusts(tmp_path / "stranger.lamp")
    finish_jobs(window, 120)
    assert "stale" not in window.ctx.freshness().values()
    window.ctx.create(tmp_path / "mine.lamp", "EPSG:32719")
    settle(window)
    window._show_trust()
    assert window.trust.isChecked()


@pytest.mark.parametrize("odd", ["x", 1e308, [{"item": 5}], {"kinds": [[5]], "a": [1], "tracks": {"b": 1}}])
def test_view_settings_of_any_type_open_and_are_passed_over(
    window: Window, demo_path: Path, tmp_path: Path, odd: object
) -> None:
    copy = tmp_path / "Emberlow.lamp"
    shutil.copytree(demo_path, copy)
    with Store.open(copy) as store:
        keys = ("panes", "section", "selected", "corridor", "side", "section look", "exaggeration", "selections")
        store.set_workspace(dict.fromkeys((*keys, "log", "section looks", "views", "demo", "demo complete"), odd))
    assert window.open_path(copy) and settle(window)
    assert window.ctx.view.corridor == 50.0 and window.ctx.view.exaggeration == 0.0
    window.centre.frames[0].show_kind("table")
    window.ctx.select_item(next(e.id for e in window.ctx.entries() if e.kind == "holes"))
    assert settle(window) and len(window.ctx.entries()) > 10
