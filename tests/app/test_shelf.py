"""The shelf: finding, several lamps at once, only what is selected and the others again, the border to the card."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QPushButton

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.main import make_window
from innerlamp.app.start.waiting import settle, wait_until

from .conftest import bury, map_alone, type_into

LEFT = Qt.MouseButton.LeftButton
NONE, CTRL, SHIFT = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
)


def find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def click(window: Window, name: str, modifier: Qt.KeyboardModifier = NONE, lamp: bool = False) -> None:
    tree = window.shelf.tree
    row = window.shelf.rows()[find(window, name)]
    tree.scrollToItem(row)
    box = tree.visualItemRect(row)
    QTest.mouseClick(tree.viewport(), LEFT, modifier, QPoint(box.left() + (8 if lamp else 60), box.center().y()))


def names(window: Window, lit: bool = True) -> set[str]:
    return {e.name for e in window.ctx.entries() if (e.id in window.ctx.lit) == lit}


def test_what_is_found_stands_alone_under_its_headings_and_in_sight(demo_window: Window) -> None:
    window, shelf = demo_window, demo_window.shelf
    type_into(shelf.search, "shell 2500")
    groups = [shelf.tree.topLevelItem(k) for k in range(shelf.tree.topLevelItemCount())]
    assert [g.text(0).split(" ·")[0] for g in groups if g is not None and not g.isHidden()] == ["Surfaces"]
    row = shelf.rows()[find(window, "Sn shell 2500 ppm")]
    assert shelf.tree.viewport().rect().contains(shelf.tree.visualItemRect(row))
    QTest.keyClick(shelf.search, Qt.Key.Key_Return)
    assert window.ctx.selected == find(window, "Sn shell 2500 ppm")
    assert shelf.tree.hasFocus()
    # An item that is chosen elsewhere is seen, whatever was looked for before.
    window.ctx.select_item(find(window, "Targets"))
    assert shelf.search.text() == ""
    assert all(not g.isHidden() for g in groups if g is not None)
    row = shelf.rows()[find(window, "Targets")]
    assert shelf.tree.viewport().rect().contains(shelf.tree.visualItemRect(row))


def test_lamps_of_several_items_move_together_and_are_one_undo(demo_window: Window) -> None:
    window = demo_window
    before = names(window)
    click(window, "Soils")
    click(window, "Old workings", SHIFT)
    between = {"Soils", "Rock chips", "Gravity stations", "Old workings"}
    assert {window.ctx.entry(i).name for i in window.shelf.chosen()} == between  # type: ignore[union-attr]
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space)
    settle(window)
    assert names(window) == before | between
    pane = next(p for p in window.centre.panes() if p.kind == "map")
    assert {find(window, n) for n in between} <= set(pane.drawn_items())  # type: ignore[attr-defined]
    click(window, "Rock chips", lamp=True)  # the lamp of one of the selected is that of all
    settle(window)
    assert names(window) == before
    window.ctx.undo()
    assert names(window) == before | between
    window.ctx.undo()
    settle(window)
    assert names(window) == before


def test_only_what_is_selected_is_lit_and_the_others_come_back(demo_window: Window) -> None:
    window = demo_window
    before = names(window)
    click(window, "Soils")
    click(window, "Soil Sn", CTRL)
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space, SHIFT)
    settle(window)
    assert names(window) == {"Soils", "Soil Sn"}
    pane = next(p for p in window.centre.panes() if p.kind == "map")
    assert set(pane.drawn_items()) == {find(window, "Soils"), find(window, "Soil Sn")}  # type: ignore[attr-defined]
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space, SHIFT)
    settle(window)
    assert names(window) == before
    # Once something else was lit meanwhile there is nothing to come back to: they are lit alone again.
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space, SHIFT)
    window.ctx.set_lit(find(window, "Targets"))
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Space, SHIFT)
    settle(window)
    assert names(window) == {"Soils", "Soil Sn"}


def test_several_items_are_removed_and_come_back_by_one_undo(demo_window: Window) -> None:
    window = demo_window
    count = len(window.ctx.entries())
    click(window, "Soils")
    click(window, "Rock chips", SHIFT)
    QTest.keyClick(window.shelf.tree, Qt.Key.Key_Delete)
    settle(window)
    assert len(window.ctx.entries()) == count - 2
    window.ctx.undo()
    settle(window)
    assert len(window.ctx.entries()) == count


def test_long_facts_fold_and_stand_one_a_line_when_asked_for(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(find(window, "Emberlow holes"))
    settle(window)
    facts = window.card.findChild(QLabel, "facts")
    assert "Findings" not in facts.text()
    QTest.mouseClick(window.card.findChild(QPushButton, "factsFold"), LEFT)
    settle(window)
    facts = window.card.findChild(QLabel, "facts")
    entry = window.ctx.entry(find(window, "Emberlow holes"))
    assert entry is not None
    assert all(name in facts.text() and value in facts.text() for name, value in entry.facts.items())
    QTest.mouseClick(window.card.findChild(QPushButton, "factsFold"), LEFT)
    assert "Findings" not in window.card.findChild(QLabel, "facts").text()


def test_a_pane_that_fills_the_centre_has_the_only_legend(demo_window: Window) -> None:
    window = demo_window
    assert window.legends.isVisible()
    pane = map_alone(window, "Geological map")
    frame = window.centre.frames[0]
    assert frame.legend is not None
    assert frame.legend.isVisible()
    assert not window.legends.isVisible()
    frame.show_kind("table")  # a kind without one
    settle(window)
    assert window.legends.isVisible()
    frame.show_kind(pane.kind)
    window.centre.toggle_fill(0)
    settle(window)
    assert window.legends.isVisible()


@pytest.mark.own_window
def test_the_border_between_shelf_and_card_is_kept(window: Window, tmp_path: Path) -> None:
    handle = window.stack.handle(1)
    start = handle.rect().center()
    before = window.stack.sizes()
    QTest.mousePress(handle, LEFT, pos=start)
    QTest.mouseMove(handle, start + QPoint(0, 90))
    QTest.mouseRelease(handle, LEFT, pos=start + QPoint(0, 90))
    after = window.stack.sizes()
    assert after[0] > before[0] + 40
    window.hide()
    window.close()
    again = make_window(tmp_path / "more logs")
    again.setGeometry(0, 0, 1280, 800)
    again.show()
    assert wait_until(lambda: abs(again.stack.sizes()[0] - after[0]) <= 2, 5)
    again.hide()
    again.close()
    bury(again)
