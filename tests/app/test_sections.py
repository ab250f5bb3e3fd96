"""Sections: fences, drawing in space with snapping, what neighbours show of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyqtgraph as pg
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QGraphicsItem

from innerlamp.app.context.context import Selection
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.colours import class_colour
from innerlamp.app.painters.kit.flat import Boxes, Labels
from innerlamp.app.painters.kit.line_pieces import LinePieces
from innerlamp.app.painters.kit.unit_areas import UnitAreas
from innerlamp.app.painters.section.intervals import intervals_near
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.compute.geometry.sampling import bilinear
from innerlamp.core.items.features import Features
from innerlamp.core.items.holes import HoleSet

from .conftest import choose, drag, light_only, menu_path, type_into, widget_image


def section_alone(window: Window) -> SectionPane:
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    window.centre.toggle_fill(next(f.number for f in window.centre.frames if f.pane is pane))
    settle(window)
    return pane


def spot(pane: SectionPane | MapPane, x: float, y: float) -> QPoint:
    """Where a place of a plot lies in its widget."""
    return pane.plot.mapFromScene(pane.plot.getViewBox().mapViewToScene(QPointF(x, y)))


def click(pane: SectionPane | MapPane, x: float, y: float, held: Qt.KeyboardModifier | None = None) -> None:
    at = spot(pane, x, y)
    QTest.mouseMove(pane.plot.viewport(), at)
    modifier = held or Qt.KeyboardModifier.NoModifier
    QTest.mouseClick(pane.plot.viewport(), Qt.MouseButton.LeftButton, modifier, at)


def holes_item(window: Window) -> HoleSet:
    store = window.ctx.store
    assert store is not None
    item = store.load(store.find("Emberlow holes").id)
    assert isinstance(item, HoleSet)
    return item


def test_a_fence_is_drawn_on_the_map_dragged_and_taken_through_holes(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    window.centre.toggle_fill(0)
    settle(window)
    (x0, x1), (y0, y1) = pane.plot.viewRange()
    places = [(x0 + a * (x1 - x0), y0 + b * (y1 - y0)) for a, b in ((0.3, 0.4), (0.45, 0.6), (0.65, 0.45))]
    QTest.mouseClick(pane.across, Qt.MouseButton.LeftButton)
    click(pane, *places[0])
    click(pane, *places[1], Qt.KeyboardModifier.ShiftModifier)
    assert pane.across.isChecked()
    click(pane, *places[2])
    assert not pane.across.isChecked()
    pixel = pane.plot.metres_per_pixel()[0]
    assert ctx.section is not None
    assert ctx.section.places == pytest.approx(np.array(places), abs=1.5 * pixel)
    # Its bend is dragged like its ends.
    settle(window)
    drag(pane.plot.viewport(), spot(pane, *ctx.section.places[1]), spot(pane, *places[1]) + QPoint(0, -60))
    assert ctx.section.places[1][1] - places[1][1] == pytest.approx(60 * pixel, abs=3 * pixel)
    assert ctx.section.places[0] == pytest.approx(places[0], abs=1.5 * pixel)

    section = section_alone(window)
    assert section.caption.text().startswith("Fence of 2 pieces")
    assert len(section._bends) == 1
    assert section._bends[0].value() == pytest.approx(np.hypot(*(ctx.section.places[1] - ctx.section.places[0])))
    # Through holes that stand in no line: each collar lies on the fence, in order from the west.
    item = holes_item(window)
    rows = np.flatnonzero(item.collars["hole"].isin(["EMB001", "EMB014", "EMB009", "EMB003"]).to_numpy())
    ctx.select_rows(Selection(ctx.store.find("Emberlow holes").id, "collar", tuple(rows.tolist())))  # type: ignore[union-attr]
    menu_path(section.placing.menu(), "Fence through the selected holes")
    settle(window)
    at = item.collars.iloc[rows][["x", "y"]].to_numpy(float)
    along, off = ctx.section.to_plane(*at.T)
    assert np.abs(off).max() < 0.01
    assert ((along > 0) & (along < ctx.section.length)).all()
    seen = {w for g in section.layers.graphics() for w in getattr(g, "words", [])}
    assert {"EMB001", "EMB014", "EMB009", "EMB003"} <= seen
    # The slab of 3D has no fence; the window says so.
    window.centre.frames[0].show_kind("scene")
    window.centre.toggle_fill(0)
    settle(window)
    scene = window.centre.pane("scene")
    scene.slab.click()  # type: ignore[union-attr]
    assert not scene.slab.isChecked()  # type: ignore[union-attr]


def test_lines_outlines_and_notes_are_drawn_on_a_section_snap_and_are_ghosts_beside_it(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    ctx.set_colour_by(ctx.store.find("Emberlow holes").id, "Rock")  # type: ignore[union-attr]
    item = holes_item(window)
    collar = item.collars[item.collars["hole"] == "EMB014"].iloc[0]
    x, y = float(collar["x"]), float(collar["y"])
    ctx.set_section(SectionPlane(x - 300, y, x + 300, y))
    ctx.set_corridor(40.0)
    section = section_alone(window)
    QTest.keyClick(section.plot, Qt.Key.Key_D)
    tool = section.draw_tool
    assert tool.isVisible()
    log = item.tables["lithology"]
    mine = log[log["hole"].astype(str) == "EMB014"]
    contact = mine[["x1", "y1", "z1"]].to_numpy(float)[1]
    along, _ = ctx.section.to_plane(contact[:1], contact[1:2])  # type: ignore[union-attr]
    tool.value.setCurrentText("Vein 7")
    pixel, up = section.plot.metres_per_pixel()
    # Within ten pixels of a contact the click goes to it, in space; elsewhere it lies on the section.
    click(section, along[0] + 1 * pixel, contact[2] + 1 * up)
    click(section, along[0] + 80 * pixel, contact[2] - 60 * up)
    click(section, along[0] + 140 * pixel, contact[2] - 90 * up)
    QTest.keyClick(section.plot, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(tool.sketch) == 2
    QTest.keyClick(section.plot, Qt.Key.Key_Return)
    settle(window)
    drawn = ctx.item(ctx.store.find("Interpretation").id)  # type: ignore[union-attr]
    assert isinstance(drawn, Features)
    assert drawn.vertices[0] == pytest.approx(contact, abs=1e-6)
    assert drawn.vertices[1, 1] == pytest.approx(y, abs=1e-6)
    assert drawn.table["body"].tolist() == ["Vein 7"]
    # An outline that begins at a corner of the line shares it, and is filled.
    choose(tool.mode, "outline")
    for dx, dz in ((80, -60), (120, -120), (40, -130)):
        click(section, along[0] + dx * pixel, contact[2] + dz * up)
    click(section, along[0] + 80 * pixel + pixel, contact[2] - 60 * up)  # back at its beginning
    settle(window)
    # A note stands where it is clicked.
    choose(tool.mode, "note")
    type_into(tool.words, "open to the west")
    click(section, along[0] - 100 * pixel, contact[2] - 40 * up)
    settle(window)
    drawn = ctx.item(ctx.store.find("Interpretation").id)  # type: ignore[union-attr]
    assert isinstance(drawn, Features)
    assert len(drawn.table) == 3
    assert drawn.vertices[2] == pytest.approx(drawn.vertices[1], abs=1e-6)
    assert drawn.vertices[2] == pytest.approx(drawn.vertices[drawn.starts[2] - 1])
    mine_drawn = section.layers.graphics(ctx.store.find("Interpretation").id)  # type: ignore[union-attr]
    assert "open to the west" in {w for g in mine_drawn for w in getattr(g, "words", [])}
    assert all(QGraphicsItem.opacity(g) == 1.0 for g in mine_drawn)

    # A corner is dragged, in space; what meets there goes with it.
    choose(tool.mode, "corners")
    settle(window)
    drag(
        section.plot.viewport(),
        spot(section, along[0] + 80 * pixel, contact[2] - 60 * up),
        spot(section, along[0] + 95 * pixel, contact[2] - 20 * up),
    )
    settle(window)
    moved = ctx.item(ctx.store.find("Interpretation").id)  # type: ignore[union-attr]
    assert isinstance(moved, Features)
    assert moved.vertices[1, 2] - drawn.vertices[1, 2] == pytest.approx(40 * up, abs=3 * up)
    assert moved.vertices[2] == pytest.approx(moved.vertices[1])
    # A click on the line selects it; Remove takes it out.
    middle = 0.5 * (moved.vertices[0] + moved.vertices[1])
    at, _ = ctx.section.to_plane(middle[:1], middle[1:2])  # type: ignore[union-attr]
    click(section, float(at[0]), float(middle[2]))
    assert ctx.selection.rows == (0,)
    assert len(section._marked.data) == 2
    QTest.mouseClick(tool.buttons["Remove"], Qt.MouseButton.LeftButton)
    settle(window)
    QTest.keyClick(section.plot, Qt.Key.Key_Escape)
    assert not tool.isVisible()
    # On the neighbouring section the outline is a ghost, far away it is gone.
    one = ctx.store.find("Interpretation").id  # type: ignore[union-attr]
    QTest.keyClick(section.plot, Qt.Key.Key_PageUp)
    settle(window)
    ghosts = section.layers.graphics(one)
    assert ghosts and all(QGraphicsItem.opacity(g) < 0.5 for g in ghosts)
    assert not any(getattr(g, "words", []) for g in ghosts)
    for _ in range(3):
        QTest.keyClick(section.plot, Qt.Key.Key_PageUp)
    settle(window)
    assert not section.layers.graphics(one)
    # And 3D shows it where it lies, filled.
    ctx.set_section(SectionPlane(x - 300, y, x + 300, y))
    light_only(window, "Interpretation")
    window.centre.frames[0].show_kind("scene")
    window.centre.toggle_fill(0)
    settle(window)
    scene = window.centre.pane("scene")
    choose(scene.view, "Along section")  # type: ignore[union-attr]
    settle(window)
    image = widget_image(window, scene.canvas)  # type: ignore[union-attr]
    back = QColor(image.pixel(5, 5))
    inked = sum(
        abs(QColor(image.pixel(px, py)).lightness() - back.lightness()) > 12
        for px in range(60, image.width() - 60, 6)
        for py in range(60, image.height() - 60, 6)
    )
    assert inked > 200  # an area, not a line


def test_columns_stand_left_and_right_of_holes_within_their_room_and_panels_above(
    demo_window: Window, tmp_path: Path
) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Ground", "Emberlow holes")
    ctx.set_colour_by(ctx.store.find("Emberlow holes").id, "Rock")  # type: ignore[union-attr]
    section = section_alone(window)
    ctx.set_section(SectionPlane(503450, 5602700, 503790, 5602080))
    ctx.set_corridor(30.0)
    settle(window)
    menu = section.looks.menu()
    menu_path(menu, "Add to the right of holes", "Sn_ppm", "bars")
    menu_path(menu, "Add to the left of holes", "W_ppm", "curve")
    menu_path(menu, "Add to the left of holes", "Alteration", "intervals")
    menu_path(menu, "Plan of the corridor above")
    menu_path(menu, "Profiles above", "Magnetics")
    settle(window)
    assert [(b.hand, b.attribute, b.way) for b in ctx.section_look.beside] == [
        ("right", "Sn_ppm", "bars"),
        ("left", "W_ppm", "curve"),
        ("left", "Alteration", "intervals"),
    ]
    # Bars lie to the right of their hole as it is seen, strips to the left, at their distance.
    item = holes_item(window)
    path = item.stations[item.stations["hole"].astype(str) == "EMB015"]
    along, _ = ctx.section.to_plane(path["x"].to_numpy(float), path["y"].to_numpy(float))  # type: ignore[union-attr]
    z = path["z"].to_numpy(float)
    mine = section.layers.graphics(ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    boxes = np.concatenate([g.corners for g in mine if isinstance(g, Boxes)])
    middle = boxes.mean(axis=1)
    away = np.abs(middle[:, None, :] - np.column_stack([along, z])[None, :, :]).sum(axis=2)
    near = boxes[away.min(axis=1) < 62.0]
    order = np.argsort(z)
    beside = near.mean(axis=1)[:, 0] - np.interp(near.mean(axis=1)[:, 1], z[order], along[order])
    assert (beside > 3.0).sum() > 30 and (beside < -3.0).sum() > 2
    # Nothing reaches into the next hole: the room of each side is shared.
    other = item.stations[item.stations["hole"].astype(str) == "EMB016"]
    a, _ = ctx.section.to_plane(other["x"].to_numpy(float), other["y"].to_numpy(float))  # type: ignore[union-attr]
    oz = other["z"].to_numpy(float)
    of_15 = near[(beside > 3.0)]
    limit = np.interp(of_15[..., 1], oz[np.argsort(oz)], a[np.argsort(oz)])
    assert (of_15[..., 0] < limit).all()
    # The panel shows the grid's own values at the section's own distances.
    assert section.above.panels[0].objectName() == "strip"
    panel = section.above.panels[1]
    (curve,) = [g for g in panel.getPlotItem().listDataItems() if isinstance(g, pg.PlotCurveItem)] or [
        g for g in panel.getPlotItem().items if isinstance(g, pg.PlotCurveItem)
    ]
    x, y = curve.getData()
    grid = ctx.item(ctx.store.find("Magnetics").id)  # type: ignore[union-attr]
    at = ctx.section.to_map(np.array([x[40]]))  # type: ignore[union-attr]
    wanted = bilinear(grid.values, grid.x0, grid.y0, grid.dx, grid.dy, *at)  # type: ignore[union-attr]
    assert y[40] == pytest.approx(wanted[0])
    assert panel.viewRange()[0] == pytest.approx(section.plot.viewRange()[0], abs=2.0)
    # Stepping moves both; wider columns are wider.
    before = widget_image(window, section.above)
    QTest.keyClick(section.plot, Qt.Key.Key_PageUp)
    settle(window)
    assert widget_image(window, section.above) != before
    menu_path(menu, "right: Sn_ppm, bars", "Wider")
    assert ctx.section_look.beside[0].width == pytest.approx(45.0)
    # Kept by name, shared as a file, taken away, read again.
    section.looks.keep("Tin and tungsten")
    section.looks.write(tmp_path / "tin.look.json")
    kept = ctx.section_look
    menu_path(menu, "Usual look")
    settle(window)
    assert not section.above.isVisible()
    menu_path(menu, "Kept looks", "Tin and tungsten")
    assert ctx.section_look == kept
    menu_path(menu, "Usual look")
    section.looks.read(tmp_path / "tin.look.json")
    assert ctx.section_look == kept
    (tmp_path / "bad.json").write_text("{}")
    section.looks.read(tmp_path / "bad.json")
    assert ctx.section_look == kept
    assert "no look of a section" in window.strip.last.text()


def test_depths_stand_along_holes_when_the_look_asks_for_them(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    section = section_alone(window)
    ctx.set_section(SectionPlane(503450, 5602700, 503790, 5602080))
    ctx.set_corridor(30.0)
    settle(window)
    one = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]

    def depths() -> list[Labels]:
        return [g for g in section.layers.graphics(one) if isinstance(g, Labels) and g.left == 8.0]

    assert not depths()
    menu_path(section.looks.menu(), "Depths along holes")
    settle(window)
    (labels,) = depths()
    assert {"20", "100", "200"} <= set(labels.words)
    # EMB014 is 302.6 m deep: its mark of 200 m lies where its path is at that depth.
    item = holes_item(window)
    path = item.stations[item.stations["hole"].astype(str) == "EMB014"]
    along, _ = ctx.section.to_plane(path["x"].to_numpy(float), path["y"].to_numpy(float))  # type: ignore[union-attr]
    deep = path["depth_m"].to_numpy(float)
    at = np.interp(200.0, deep, along), np.interp(200.0, deep, path["z"].to_numpy(float))
    found = [(x, z) for w, x, z in zip(labels.words, labels.x, labels.y, strict=True) if w == "200"]
    assert min(np.hypot(x - at[0], z - at[1]) for x, z in found) < 0.1
    menu_path(section.looks.menu(), "Depths along holes")
    settle(window)
    assert not depths()


def test_scale_extents_and_exaggeration_follow_each_other(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    section = section_alone(window)
    ctx.set_exaggeration(1.0)
    settle(window)
    QTest.mouseClick(section.sizing, Qt.MouseButton.LeftButton)
    settle(window)
    fields = section.sizes.fields
    assert all(edit.isVisible() for edit in fields.values())

    def ask(name: str, text: str) -> dict[str, float]:
        type_into(fields[name], text)
        QTest.keyClick(fields[name], Qt.Key.Key_Return)
        settle(window)
        return {k: float(edit.text()) for k, edit in fields.items()}

    def seen() -> tuple[float, float]:
        """Pixels of 100 m along and of 100 m up, as they are drawn."""
        a, b = spot(section, 0.0, 0.0), spot(section, 1000.0, 0.0)
        c = spot(section, 0.0, 1000.0)
        return (b.x() - a.x()) / 10, (a.y() - c.y()) / 10

    # At 1:5 000 a hundred metres take two centimetres of this screen.
    now = ask("scale", "5 000")
    assert seen()[0] == pytest.approx(0.02 / 0.0254 * section.plot.logicalDpiX(), rel=0.01)
    assert seen()[1] == pytest.approx(seen()[0], rel=0.01)
    # Twice exaggerated: the scale along stays, half of the elevations are seen.
    half = ask("factor", "2.5")
    assert half["scale"] == pytest.approx(5000, abs=1)
    assert half["high"] - half["low"] == pytest.approx((now["high"] - now["low"]) / 2.5, abs=2)
    assert seen()[1] == pytest.approx(2.5 * seen()[0], rel=0.01)
    assert section.vertical.currentText() == "z × 2.5"
    assert ctx.section_exaggeration == 2.5
    # Other elevations: the exaggeration follows and the caption says it.
    taller = ask("low", f"{half['low'] - (half['high'] - half['low']):.0f}")
    assert taller["factor"] == pytest.approx(1.25, abs=0.02)
    assert "vertical ×1.2" in section.caption.text()
    assert seen()[1] == pytest.approx(1.25 * seen()[0], rel=0.02)
    # Other distances: the scale follows.
    wide = ask("right", f"{taller['left'] + 2 * (taller['right'] - taller['left']):.0f}")
    assert wide["scale"] == pytest.approx(10_000, rel=0.01)
    assert wide["factor"] == pytest.approx(taller["factor"], abs=0.02)
    # What can't be says so and changes nothing; the wheel is followed.
    assert ask("scale", "none")["scale"] == wide["scale"]
    assert "is not a number" in window.strip.last.text()
    section.plot.setFocus()
    QTest.keyClick(section.plot, Qt.Key.Key_Plus)
    settle(window)
    assert float(fields["scale"].text()) == pytest.approx(8000, rel=0.01)


def test_patterns_and_ticks_stand_beside_holes(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    holes = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]
    ctx.set_colour_by(holes, "Rock")
    item = holes_item(window)
    collar = item.collars[item.collars["hole"] == "EMB014"].iloc[0]
    section = section_alone(window)
    ctx.set_section(
        SectionPlane(float(collar["x"]) - 250, float(collar["y"]), float(collar["x"]) + 250, float(collar["y"]))
    )
    ctx.set_corridor(30.0)
    settle(window)
    menu = section.looks.menu()
    menu_path(menu, "Add to the right of holes", "Rock", "patterns")
    menu_path(menu, "Add to the left of holes", "Rock", "ticks")
    settle(window)
    mine = section.layers.graphics(holes)
    areas = [g for g in mine if isinstance(g, UnitAreas)]
    log = item.tables["lithology"]
    legend = ctx.legend("Rock", item)
    seen = intervals_near(section._seen(), log)  # type: ignore[arg-type]
    words = log["Rock"].iloc[seen.rows].astype(str)
    # Each rock of the corridor has its own colour and pattern; its area is to the right of its hole.
    assert {(g.colour.name(), g.pattern) for g in areas} == {
        (class_colour(legend, w).name(), legend.patterns.get(w, "plain")) for w in words.unique()
    }
    for graphic in areas:
        (piece,) = graphic.pieces
        word = piece.key.decode()
        starts = seen.start[(words == word).to_numpy()]
        assert piece.box.left() > starts[:, 0].min() - 60 and piece.box.right() > starts[:, 0].min()
    # A tick stands where the rock changes, across, to the left: as many as there are tops and ends of runs.
    (ticks,) = [g for g in mine if isinstance(g, LinePieces) and g.zValue() == pytest.approx(9.45)]
    x, _ = (v.reshape(-1, 2) for v in ticks.getData())
    assert (x[:, 1] < x[:, 0]).all()
    runs = 0
    for _, one in log.iloc[seen.rows].assign(word=words.to_numpy()).groupby("hole", observed=True):
        change = (one["word"].to_numpy()[1:] != one["word"].to_numpy()[:-1]) | (
            np.abs(one["from_m"].to_numpy(float)[1:] - one["to_m"].to_numpy(float)[:-1]) > 1e-3
        )
        runs += 1 + int(change.sum())
    assert 0.6 * 2 * runs <= len(x) <= 2 * runs  # holes without room have none
    # Of samples each has its ends.
    menu_path(menu, "left: Rock, ticks", "Take away")
    menu_path(menu, "Add to the left of holes", "Sn_ppm", "ticks")
    settle(window)
    (ticks,) = [
        g for g in section.layers.graphics(holes) if isinstance(g, LinePieces) and g.zValue() == pytest.approx(9.45)
    ]
    assert len(ticks.getData()[0]) > 4 * runs
