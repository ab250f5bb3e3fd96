"""Walk-throughs in the window: begun from the 3D pane, arranged, captioned, played full screen, written."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.sheets.walk_pane import WalkPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.walk import Walk

from .conftest import choose, coloured_share, finish_jobs, menu_path, scene_alone, type_into, widget_image


def walk_of(window: Window, name: str = "Walk-through") -> Walk:
    assert window.ctx.store is not None
    walk = window.ctx.store.load(window.ctx.store.find(name).id)
    assert isinstance(walk, Walk)
    return walk


def begun(window: Window) -> tuple[ScenePane, WalkPane]:
    """Two views taken from the 3D pane, and the pane of the walk-through beside it."""
    scene = scene_alone(window, "Sn shell 800 ppm")
    choose(scene.view, "From SW")
    settle(window)
    menu_path(scene.sharing.menu(), "Begin a walk-through with this view")
    settle(window)
    choose(scene.view, "From N")
    window.ctx.set_lit(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    settle(window)
    menu_path(scene.sharing.menu(), "Add to 'Walk-through'")
    settle(window)
    window.centre.toggle_fill(window.centre.filled)
    window.centre.frames[0].show_kind("walk")
    window.ctx.select_item(window.ctx.store.find("Walk-through").id)  # type: ignore[union-attr]
    window.centre.toggle_fill(0)
    settle(window)
    pane = window.centre.pane("walk")
    assert isinstance(pane, WalkPane)
    return scene, pane


def test_views_are_taken_named_captioned_reordered_and_removed(demo_window: Window) -> None:
    window = demo_window
    _, pane = begun(window)
    walk = walk_of(window)
    assert [s.name for s in walk.views] == ["View 1", "View 2"]
    assert len(walk.views[0].lit) == 1 and len(walk.views[1].lit) == 2
    assert pane.views.count() == 2
    assert pane.view.drawn_items() == ["Sn shell 800 ppm"]
    first = widget_image(window, pane.view)
    assert coloured_share(first) > 0.02
    # The second view shows the holes as well.
    pane.views.setCurrentRow(1)
    settle(window)
    assert pane.view.drawn_items() == ["Sn shell 800 ppm", "Emberlow holes"]
    assert widget_image(window, pane.view) != first
    type_into(pane.name, "From the north")
    QTest.keyClick(pane.name, Qt.Key.Key_Return)
    settle(window)
    pane.caption.setFocus()
    QTest.keyClicks(pane.caption, "Holes and shell")
    pane.name.setFocus()
    settle(window)
    assert [(s.name, s.caption) for s in walk_of(window).views][1] == ("From the north", "Holes and shell")
    assert pane.views.item(1).text() == "2  From the north"
    QTest.mouseClick(pane.buttons["Earlier"], Qt.MouseButton.LeftButton)
    settle(window)
    assert [s.name for s in walk_of(window).views] == ["From the north", "View 1"]
    assert pane.views.currentRow() == 0
    # Turned by hand and kept: the view begins there from now on, and undo brings the earlier one back.
    before = walk_of(window).views[0].camera
    pane.view.renderer.GetActiveCamera().Azimuth(40.0)
    QTest.mouseClick(pane.take, Qt.MouseButton.LeftButton)
    settle(window)
    after = walk_of(window).views[0].camera
    assert before is not None and after is not None
    turn = [np.degrees(np.arctan2(c[0] - c[3], c[1] - c[4])) for c in (before, after)]
    assert abs((turn[1] - turn[0] + 180) % 360 - 180) == pytest.approx(40.0, abs=6.0)
    window.ctx.undo()
    settle(window)
    assert walk_of(window).views[0].camera == before
    # What is lit in the window now is taken into the view.
    window.ctx.set_lit(window.ctx.store.find("Targets").id)  # type: ignore[union-attr]
    QTest.mouseClick(pane.relight, Qt.MouseButton.LeftButton)
    settle(window)
    assert "Targets" in pane.view.drawn_items()
    QTest.mouseClick(pane.buttons["Take the view out"], Qt.MouseButton.LeftButton)
    settle(window)
    assert [s.name for s in walk_of(window).views] == ["View 1"]
    assert not pane.buttons["Take the view out"].isEnabled()


def test_it_is_played_full_screen_by_keys(demo_window: Window) -> None:
    window = demo_window
    _, pane = begun(window)
    QTest.mouseClick(pane.play, Qt.MouseButton.LeftButton)
    player = pane.player
    assert player is not None
    assert wait_until(lambda: player.view.frames > 0 and player.view.settled, 20)
    assert player.isFullScreen()
    assert player.size() == player.screen().size()
    assert player.caption.text() == "View 1" and player.count.text() == "1 of 2"
    first = player.screen().grabWindow(0).toImage()
    frames = player.view.frames
    QTest.keyClick(player, Qt.Key.Key_Right)
    assert wait_until(lambda: player.view.frames > frames and player.view.settled, 20)
    assert player.count.text() == "2 of 2"
    assert player.screen().grabWindow(0).toImage() != first
    QTest.keyClick(player.view.canvas, Qt.Key.Key_Space)  # at its end it stays there
    assert player.count.text() == "2 of 2"
    back = next(b for b in player.findChildren(QPushButton) if b.text() == "Back")
    QTest.mouseClick(back, Qt.MouseButton.LeftButton)
    assert player.count.text() == "1 of 2"
    QTest.keyClick(player, Qt.Key.Key_End)
    QTest.keyClick(player, Qt.Key.Key_Escape)
    assert wait_until(lambda: pane.player is None, 10)
    assert pane.views.currentRow() == 1  # where it was left
    settle(window)


def test_views_and_walks_are_written_in_the_background(demo_window: Window, tmp_path: Path) -> None:
    window = demo_window
    scene, pane = begun(window)
    pane.export_to(tmp_path / "walk.html")
    assert "Written" in finish_jobs(window)
    assert (tmp_path / "walk.html").stat().st_size > 900_000
    pane.export_to(tmp_path / "walk.pdf")
    assert "Written" in finish_jobs(window)
    assert (tmp_path / "walk.pdf").read_bytes()[:5] == b"%PDF-"
    scene.sharing.write(tmp_path / "view.png", (640, 400))
    assert "Written" in finish_jobs(window)
    scene.sharing.write(tmp_path / "turn.webp", (320, 200), frames=4)
    assert "Written" in finish_jobs(window)
    scene.sharing.write(tmp_path / "scene.html")
    assert "Written" in finish_jobs(window)
    scene.sharing.write(tmp_path / "nowhere" / "view.png")
    assert "no such folder" in finish_jobs(window)
    assert sorted(p.name for p in tmp_path.iterdir() if p.is_file()) == [
        "scene.html",
        "turn.webp",
        "view.png",
        "walk.html",
        "walk.pdf",
    ]
