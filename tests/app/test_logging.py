"""The strip log, structures in section and 3D, and intercepts on the holes: by what is drawn and said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from vtkmodules.util.numpy_support import vtk_to_numpy

from innerlamp.app.context.context import Selection
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.pages.writing import pdf_bytes, picture_of
from innerlamp.app.painters.kit.colours import class_colour
from innerlamp.app.painters.kit.flat import Labels
from innerlamp.app.painters.kit.line_pieces import LinePieces
from innerlamp.app.panes.logs.log_pane import LogPane
from innerlamp.app.panes.logs.log_view import HEAD
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.page import Page
from innerlamp.core.items.tracks import Track

from .conftest import (
    choose,
    colours_in,
    drag,
    finish_jobs,
    menu_path,
    pick,
    run_form,
    scene_alone,
    type_into,
    widget_image,
)

LEFT = Qt.MouseButton.LeftButton


def opened(window: Window, hole: str = "EMB010") -> LogPane:
    """The log of a hole of the demo, filling the centre."""
    frame = window.centre.frames[3]
    frame.show_kind("log")
    window.centre.toggle_fill(3)
    entry = window.ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    assert entry is not None
    window.ctx.select_item(entry.id)
    settle(window)
    pane = frame.pane
    assert isinstance(pane, LogPane)
    choose(pane.which, hole)
    settle(window)
    return pane


def holes_of(window: Window) -> HoleSet:
    item = window.ctx.item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    assert isinstance(item, HoleSet)
    return item


def track(pane: LogPane, name: str) -> int:
    return next(k for k, t in enumerate(pane.tracks) if t.attributes[:1] == (name,))


def test_a_hole_is_drawn_as_it_was_logged_and_named_under_the_pointer(demo_window: Window) -> None:
    pane = opened(demo_window)
    item = holes_of(demo_window)
    log = item.tables["lithology"]
    rows = log[log["hole"].astype(str) == "EMB010"]
    image = widget_image(demo_window, pane.view.viewport())
    legend = demo_window.ctx.legend("Rock", item)
    k = track(pane, "Rock")
    for start, stop, rock in zip(rows["from_m"], rows["to_m"], rows["Rock"], strict=True):
        if (stop - start) * pane.view.per_metre < 14:
            continue
        at = pane.view.place_of(0, k, 0.5 * (start + stop))
        near = {image.pixelColor(at.x() + dx, at.y() + dy).name() for dx in (-22, -18, 20) for dy in (-3, 0, 3)}
        assert class_colour(legend, rock).name() in near
    assay = item.tables["assay"]
    row = int(np.flatnonzero((assay["hole"].astype(str) == "EMB010").to_numpy())[40])
    depth = 0.5 * float(assay["from_m"].iloc[row] + assay["to_m"].iloc[row])
    at = pane.view.place_of(0, track(pane, "Sn_ppm"), depth)
    QTest.mouseMove(pane.view.viewport(), at)
    assert wait_until(lambda: "Sn" in pane.words.text(), 5)
    assert pane.words.text().startswith("EMB010")
    assert f"{assay['Sn_ppm'].iloc[row]:.4g} ppm" in pane.words.text()
    assert demo_window.ctx.cursor.z == pytest.approx(
        float(assay["z"].iloc[row]), abs=1.0
    )  # the same place in every pane
    QTest.mouseClick(pane.view.viewport(), LEFT, pos=at)
    assert demo_window.ctx.selection.rows == (row,)
    assert demo_window.ctx.selection.table == "assay"
    settle(demo_window)
    lit = QColor(demo_window.ctx.theme.lit).name()
    image = widget_image(demo_window, pane.view.viewport())
    strip = pane.view.track_rect(0, track(pane, "Sn_ppm"))
    assert any(image.pixelColor(x, at.y()).name() == lit for x in range(int(strip.left()), int(strip.right()) + 2))


def test_tracks_are_added_changed_and_kept_as_templates(demo_window: Window) -> None:
    pane = opened(demo_window)
    before = pane.tracks
    menu = pane.arrange.menu()
    menu_path(menu, "Add a track", "As_ppm", "curve")
    settle(demo_window)
    assert pane.tracks == (*before, Track("curve", ("As_ppm",), 70))
    assert (0, len(before)) in pane.view.painted
    menu_path(menu, "As_ppm", "Another curve in it", "Zn_ppm")
    menu_path(menu, "As_ppm, Zn_ppm", "Log scale")
    menu_path(menu, "As_ppm, Zn_ppm", "To the left")
    settle(demo_window)
    assert pane.tracks[-2] == Track("curve", ("As_ppm", "Zn_ppm"), 70, "log")
    rect = pane.view.track_rect(0, len(before) - 1).toRect()
    inner = widget_image(demo_window, pane.view.viewport()).copy(rect.adjusted(2, HEAD + 4, -2, -10))
    assert {(0, 114, 178), (213, 94, 0)} <= colours_in(inner, 1)  # both curves
    pane.keep_template("Pathfinders")
    menu_path(menu, "As_ppm, Zn_ppm", "Take away")
    settle(demo_window)
    assert len(pane.tracks) == len(before)
    menu_path(menu, "Templates", "Pathfinders")
    assert any(t.attributes == ("As_ppm", "Zn_ppm") for t in pane.tracks)
    # They are there when the project is opened again.
    path = demo_window.ctx.store.path  # type: ignore[union-attr]
    demo_window.close_project()
    assert demo_window.open_path(path)
    settle(demo_window)
    again = demo_window.centre.pane("log")
    assert isinstance(again, LogPane)
    assert any(t.attributes == ("As_ppm", "Zn_ppm") for t in again.tracks)
    assert "Pathfinders" in again.templates


def test_holes_stand_side_by_side_with_their_units_tied(demo_window: Window) -> None:
    pane = opened(demo_window)
    pane.set_tracks((Track("rock", ("Rock",), 60),))
    pane.beside.menu().aboutToShow.emit()
    action = pane.beside.menu().actions()[0]
    name = action.text().split()[0]
    action.trigger()
    settle(demo_window)
    assert [h.name for h in pane.view.holes] == ["EMB010", name]
    left = pane.view.left_of(0) + pane.view.hole_width()
    gap = widget_image(demo_window, pane.view.viewport()).copy(
        left + 3, HEAD + 4, 26, pane.view.viewport().height() - HEAD - 8
    )
    assert QColor(demo_window.ctx.theme.canvas).getRgb()[:3] in colours_in(gap, 1)
    assert len(colours_in(gap, 1)) > 1  # dashes of ties
    # By elevation the higher collar begins higher.
    choose(pane.axis, "elevation")
    settle(demo_window)
    tops = [float(pane.view.to_y(k)(np.zeros(1))[0]) for k in (0, 1)]
    z = [float(h.elevations[0]) for h in pane.view.holes]
    assert (tops[0] < tops[1]) == (z[0] > z[1])
    assert pane.view.depth_at(0, float(pane.view.to_y(0)(np.array([50.0]))[0])) == pytest.approx(50.0, abs=0.5)


def test_the_log_is_zoomed_about_the_pointer_scrolled_and_fitted(demo_window: Window) -> None:
    pane = opened(demo_window)
    view = pane.view
    wide = view.per_metre
    at = view.place_of(0, 0, 100.0)
    wheel = QWheelEvent(
        QPointF(at), QPointF(view.viewport().mapToGlobal(at)), QPoint(), QPoint(0, 480), Qt.MouseButton.NoButton, Qt.KeyboardModifier.ControlModifier, Qt.ScrollPhase.NoScrollPhase, False
    )  # fmt: skip
    QApplication.sendEvent(view.viewport(), wheel)
    assert view.per_metre > 1.5 * wide
    assert view.place_of(0, 0, 100.0).y() == pytest.approx(at.y(), abs=2)
    view.setFocus()
    bar = view.verticalScrollBar()
    before = bar.value()
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert bar.value() > before
    QTest.keyClick(view, Qt.Key.Key_Home)
    assert view.per_metre == pytest.approx(wide)
    # A row that is selected elsewhere comes into view.
    for _ in range(6):
        QTest.keyClick(view, Qt.Key.Key_Plus)
    assay = holes_of(demo_window).tables["assay"]
    mine = np.flatnonzero((assay["hole"].astype(str) == "EMB010").to_numpy())
    last = int(mine[-1])
    demo_window.ctx.select_rows(Selection(demo_window.ctx.selected, "assay", (last,)))
    y = view.place_of(0, 0, float(assay["from_m"].iloc[last])).y()
    assert HEAD < y < view.viewport().height()


def test_a_double_click_opens_the_correction_of_that_interval(demo_window: Window) -> None:
    pane = opened(demo_window)
    at = pane.view.place_of(0, track(pane, "Rock"), 60.0)
    QTest.mouseDClick(pane.view.viewport(), LEFT, pos=at)
    settle(demo_window)
    form = demo_window.steps.form
    assert form is not None
    assert form.operation.name == "correct"
    assert "Rock" in str(form.values())


def test_planes_are_disks_in_3d_and_traces_with_apparent_dip_on_the_section(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    entry = ctx.store.find("Oriented core by set")  # type: ignore[union-attr]
    assert entry is not None
    for each in ctx.entries():
        ctx.set_lit(each.id, each.id == entry.id)
    settle(window)
    scene, section = window.centre.pane("scene"), window.centre.pane("section")
    assert isinstance(scene, ScenePane)
    assert isinstance(section, SectionPane)
    scene.fit_item(entry.id)
    settle(window)
    item = ctx.item(entry.id)
    assert item is not None
    legend = ctx.legend("set", item)

    def seen(name: str) -> int:
        image, hue = widget_image(window, scene), class_colour(legend, name).hslHueF()
        spots = [image.pixelColor(x, y) for x in range(0, image.width(), 2) for y in range(60, image.height(), 2)]
        return sum(abs(c.hslHueF() - hue) < 0.03 and c.hslSaturationF() > 0.3 for c in spots)

    # Steep planes towards 61 are seen on edge from the south-east, and face on from the east-north-east.
    blue, on_edge = seen("set 2"), seen("set 3")
    scene.aim(61.0, 5.0)
    scene.fit_item(entry.id)
    settle(window)
    assert blue > 50
    assert seen("set 3") > max(50, 4 * on_edge)
    # Traces: those of one set are parallel on the section, as long as a tick.
    drawn = [p for g in section.layers.graphics() if isinstance(g, LinePieces) for _, p in g.groups()]
    assert len(drawn) == 3
    for pieces in drawn:
        angle = np.degrees(np.arctan2(pieces[:, 3] - pieces[:, 1], pieces[:, 2] - pieces[:, 0]))
        doubled = np.exp(2j * np.radians(angle))
        assert abs(doubled.mean()) > 0.8


def test_a_section_is_placed_by_holes_and_planes_turned_and_given_one_side(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    item = holes_of(window)
    window.centre.toggle_fill(next(f.number for f in window.centre.frames if f.pane is pane))
    settle(window)
    log = item.tables["lithology"]
    row = int(np.flatnonzero((log["hole"].astype(str) == "EMB014").to_numpy())[0])
    ctx.select_rows(Selection(ctx.store.find("Emberlow holes").id, "lithology", (row,)))  # type: ignore[union-attr]
    menu = pane.placing.menu()
    menu_path(menu, "Through EMB014")
    settle(window)
    plane = ctx.section
    assert plane is not None
    path = item.stations[item.stations["hole"].astype(str) == "EMB014"]
    _, off = plane.to_plane(path["x"].to_numpy(float)[[0, -1]], path["y"].to_numpy(float)[[0, -1]])
    assert np.abs(off).max() < 0.5  # its collar and its end lie on it
    menu_path(menu, "From the other side")
    assert ctx.section is not None
    assert (ctx.section.azimuth - plane.azimuth) % 360 == pytest.approx(180.0)
    menu_path(menu, "Turned by a right angle")
    assert (ctx.section.azimuth - plane.azimuth) % 360 == pytest.approx(270.0)
    # Along and across the veins of the demo.
    ctx.select_item(ctx.store.find("Oriented core by set, means").id)  # type: ignore[union-attr]
    ctx.select_rows(Selection(ctx.selected, "", (1,)))
    settle(window)
    menu_path(menu, "Along the strike of the selected planes")
    along = ctx.section.azimuth % 180
    menu_path(menu, "Across the selected planes")
    assert (ctx.section.azimuth - along) % 180 == pytest.approx(90.0)
    assert along == pytest.approx(62.0, abs=3.0)  # the strike of the veins
    # One side only: what is drawn of the holes lies there.
    x, y = item.collars["x"].median(), item.collars["y"].median()
    ctx.set_section(SectionPlane(x - 500, y, x + 500, y))
    ctx.set_corridor(300.0)
    settle(window)
    names = {side: drawn_names(pane) for side in ("both sides",)}
    for side, words in (("behind", "Corridor behind only"), ("in front", "Corridor in front only")):
        menu_path(menu, words)
        settle(window)
        names[side] = drawn_names(pane)
        assert f"{side} only" in pane.caption.text()
    assert names["behind"] and names["in front"]
    assert names["behind"] | names["in front"] == names["both sides"]
    assert len(names["behind"] & names["in front"]) < 3
    here = ctx.section
    pane.plot.setFocus()
    QTest.keyClick(pane.plot, Qt.Key.Key_PageUp)
    assert ctx.section.y0 - here.y0 == pytest.approx(300.0)  # to where the corridor ends, behind


def test_two_points_in_3d_give_a_line_three_a_plane_and_a_drag_still_turns(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Ground")
    choose(pane.view, "From above")
    settle(window)
    pane.canvas.setFocus()
    QTest.keyClick(pane.canvas, Qt.Key.Key_M)
    assert pane.measuring.isChecked()
    middle = pane.canvas.rect().center()
    spots = [middle + QPoint(*d) for d in ((-120, -60), (110, -40), (20, 90))]
    places = [pane.sight.place_at(spot) for spot in spots]
    a, b, c = (np.asarray(p) for p in places)
    for spot in spots[:2]:
        QTest.mouseClick(pane.canvas, LEFT, pos=spot)
    settle(window)
    long = float(np.linalg.norm(b - a))
    trend = float(np.degrees(np.arctan2(b[0] - a[0], b[1] - a[1])) % 360)
    assert f"{long:.1f} m" in pane.measure.words
    assert f"towards {trend:05.1f}" in pane.measure.words
    amber = QColor(ctx.theme.lit)
    image = widget_image(window, pane)
    half = pane.canvas.mapTo(pane, (spots[0] + spots[1]) / 2)
    near = [image.pixelColor(half.x() + dx, half.y() + dy) for dx in range(-3, 4) for dy in range(-6, 7)]
    assert any(
        abs(n.hslHueF() - amber.hslHueF()) < 0.03 and n.hslSaturationF() > 0.5 for n in near
    )  # the line is drawn
    QTest.mouseClick(pane.canvas, LEFT, pos=spots[2])
    normal = np.cross(b - a, c - a)
    normal = normal if normal[2] > 0 else -normal
    dip = np.degrees(np.arctan2(np.hypot(normal[0], normal[1]), normal[2]))
    assert pane.measure.words.startswith(f"plane {dip:.1f}°")
    before = pane.direction()
    QTest.mousePress(pane.canvas, LEFT, pos=middle)
    QTest.mouseMove(pane.canvas, middle + QPoint(60, 40))
    QTest.mouseRelease(pane.canvas, LEFT, pos=middle + QPoint(60, 40))
    settle(window)
    assert len(pane.measure.points) == 3
    assert pane.direction() != before
    QTest.keyClick(pane.canvas, Qt.Key.Key_M)
    assert pane.measure.words == ""


def test_the_slab_cuts_the_scene_to_the_section_s_corridor_and_moves_with_it(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Ground", "Emberlow holes")
    choose(pane.view, "From above")
    item = holes_of(window)
    x, y = float(item.collars["x"].median()), float(item.collars["y"].median())
    ctx.set_section(SectionPlane(x - 600, y, x + 600, y))
    ctx.set_corridor(100.0)
    pane.fit_item(ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    settle(window)

    def northings() -> tuple[float, float]:
        picks = [
            pane.sight.place_at(QPoint(pane.canvas.width() // 2 - 90, row)) for row in range(4, pane.canvas.height(), 4)
        ]
        found = [float(p[1]) for p in picks if p is not None]
        return min(found), max(found)

    assert np.ptp(northings()) > 500
    before = colours_in(widget_image(window, pane.canvas), 4)
    pane.canvas.setFocus()
    QTest.keyClick(pane.canvas, Qt.Key.Key_L)
    settle(window)
    assert pane.slab.isChecked()
    assert len(colours_in(widget_image(window, pane.canvas), 4)) < 0.8 * len(
        before
    )  # ground and holes beside it are gone
    low, high = northings()
    assert y - 101 <= low and high <= y + 101
    ctx.set_section(SectionPlane(x - 600, y + 200, x + 600, y + 200))
    settle(window)
    low, high = northings()
    assert y + 99 <= low and high <= y + 301
    QTest.keyClick(pane.canvas, Qt.Key.Key_L)
    settle(window)
    assert np.ptp(northings()) > 500


def test_views_are_kept_by_name_and_hold_after_opening_again(
    demo_window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = demo_window
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    pane.aim(77.0, 33.0)
    pane.renderer.GetActiveCamera().Zoom(2.0)
    settle(window)
    before, angle = pane.direction(), pane.renderer.GetActiveCamera().GetViewAngle()
    monkeypatch.setattr(
        "innerlamp.app.panes.space.kept_views.QInputDialog.getText", lambda *_: ("Down the shoot", True)
    )
    pane.view.setCurrentText("Keep this view…")  # as from the list that is open: arrows would look from each in turn
    pane.view.activated.emit(pane.view.currentIndex())
    assert pane.view.currentText() == "Down the shoot"
    choose(pane.view, "From N")
    settle(window)
    assert pane.direction() != pytest.approx(before, abs=5)
    path = window.ctx.store.path  # type: ignore[union-attr]
    window.close_project()
    assert window.open_path(path)
    settle(window)
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    pane.look_from("Down the shoot")
    settle(window)
    assert pane.direction() == pytest.approx(before, abs=0.1)
    assert pane.renderer.GetActiveCamera().GetViewAngle() == pytest.approx(angle)
    assert pane.view.currentText() == "Down the shoot"


def test_holes_are_as_wide_as_one_column_and_coloured_by_another(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    entry = ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    assert entry is not None
    for each in ctx.entries():
        ctx.set_lit(each.id, each.id == entry.id)
    ctx.select_item(entry.id)
    settle(window)
    section, scene = window.centre.pane("section"), window.centre.pane("scene")
    assert isinstance(section, SectionPane)
    assert isinstance(scene, ScenePane)
    pick(window, "colourBy", "Rock")
    settle(window)
    assert not [g for g in section.layers.graphics(entry.id) if g.zValue() == 9.5]  # classes have no bars

    def radii() -> np.ndarray:
        """Radius of each tube of the scene, metres."""
        mesh = next(
            p.GetMapper().GetInput()
            for p in scene.layers.graphics(entry.id)
            if p.IsA("vtkActor") and p.GetMapper().GetInput().GetNumberOfPolys()
        )
        points = vtk_to_numpy(mesh.GetPoints().GetData()).reshape(-1, 10, 3)[:, :5]
        return np.linalg.norm(points - points.mean(axis=1, keepdims=True), axis=2).mean(axis=1)

    assert np.ptp(radii()) < 0.01
    pick(window, "widthBy", "Sn_ppm")
    settle(window)
    grade = holes_of(window).tables["assay"]["Sn_ppm"].to_numpy(float)
    found = radii()
    assert len(found) == len(grade)
    known = np.isfinite(grade)
    assert np.corrcoef(found[known], np.log(np.maximum(grade[known], 1e-3)))[0, 1] > 0.9
    bars = [g for g in section.layers.graphics(entry.id) if g.zValue() == 9.5]
    assert bars  # of the grade, beside the rock
    legend = ctx.legend("Rock", holes_of(window))
    tube = {
        colour.name()
        for g in section.layers.graphics(entry.id)
        if g.zValue() == 10 and isinstance(g, LinePieces)
        for colour, _ in g.groups()
    }
    assert class_colour(legend, "SLATE").name() in tube
    window.ctx.undo()
    settle(window)
    assert np.ptp(radii()) < 0.01


def test_what_lies_off_the_section_is_fainter(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    ctx.set_corridor(60.0)
    settle(window)
    entry = ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    assert entry is not None
    assay = holes_of(window).tables["assay"]
    plane = ctx.section
    assert plane is not None
    bars = [g for g in pane.layers.graphics(entry.id) if g.zValue() in (9.5, 10) and hasattr(g, "getData")]
    seen = {round(float(g.opacity()), 2) for g in bars}
    assert len(seen) >= 2
    along, off = plane.to_plane(assay["x"].to_numpy(float), assay["y"].to_numpy(float))
    near = {round(float(a), 1) for a, o in zip(along, off, strict=True) if abs(o) < 20.0}
    for graphic in bars:
        x = np.asarray(graphic.getData()[0]).reshape(-1, 2)
        if graphic.zValue() == 10 and graphic.opacity() == 1.0:
            assert all(any(abs(m - n) < 1.6 for n in near) for m in x.mean(axis=1)[:40])


def drawn_names(pane: SectionPane) -> set[str]:
    return {w for g in pane.layers.graphics() if isinstance(g, Labels) and g.left is None for w in g.words}


def test_intercepts_are_made_from_the_form(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    form = window.steps.open_form("intercepts")
    settle(window)
    fields = form.fields
    fields["attribute"].set_value("Sn_ppm")
    for name, words in (
        ("cutoff", "2000"),
        ("waste_in_row", "4"),
        ("including", "4000; 6000"),
        ("also", "Cu_pct"),
        ("name", "By hand"),
    ):
        type_into(fields[name].edit, words)  # type: ignore[attr-defined]
    run_form(window)
    entry = window.ctx.store.find("By hand")  # type: ignore[union-attr]
    assert entry is not None
    item = window.ctx.store.load(entry.id)  # type: ignore[union-attr]
    assert isinstance(item, HoleSet)
    table = item.tables["intercepts"]
    assert set(table["cut-off"]) == {2000.0, 4000.0, 6000.0}
    assert (table.loc[table["is"] == "intercept", "Sn_ppm"] >= 2000).all()
    window.ctx.undo()
    assert "By hand" not in [e.name for e in window.ctx.entries()]


def test_intercepts_stand_on_map_and_section_with_their_words(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    entry = ctx.store.find("Sn intercepts")  # type: ignore[union-attr]
    assert entry is not None
    for each in ctx.entries():
        ctx.set_lit(each.id, each.id == entry.id)
    ctx.select_item(entry.id)
    settle(window)
    section = window.centre.pane("section")
    assert isinstance(section, SectionPane)
    labels = [g for g in section.layers.graphics() if isinstance(g, Labels) and g.left is not None]
    assert labels and labels[0].shown >= 3
    item = ctx.item(entry.id)
    assert isinstance(item, HoleSet)
    table = item.tables["intercepts"]
    assert set(labels[0].words) <= set(table["label"])
    assert table["report"].iloc[0].count("@") >= 1
    rows = window.centre.pane("table")
    assert rows is not None
    assert rows.which.currentText() == "intercepts"  # type: ignore[attr-defined]


def test_a_boundary_is_dragged_to_another_depth_on_record(demo_window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = opened(window, "EMB014")
    settle(window)
    view = pane.view
    number = track(pane, "Rock")
    log = holes_of(window).tables["lithology"]
    mine = log[log["hole"].astype(str) == "EMB014"]
    depth = float(mine["to_m"].iloc[1])
    at = view.place_of(0, number, depth)
    # Without the switch a drag over a boundary moves nothing.
    asked: list[str] = []

    def answer(*args: object, **_: object) -> tuple[str, bool]:
        asked.append(str(args[2]))
        return "looked at the core again", True

    monkeypatch.setattr("innerlamp.app.panes.logs.log_pane.QInputDialog.getText", answer)
    drag(view.viewport(), at, at + QPoint(0, 25))
    assert not asked
    QTest.mouseClick(pane.moving, Qt.MouseButton.LeftButton)
    assert view.editing
    QTest.mouseMove(view.viewport(), at + QPoint(0, 1))
    QTest.mouseMove(view.viewport(), at)
    settle(window)
    assert view.viewport().cursor().shape() == Qt.CursorShape.SplitVCursor
    before = widget_image(window, view)
    store = ctx.store
    assert store is not None

    def corrected() -> int:
        item = store.load(store.find("Emberlow holes").id)
        assert isinstance(item, HoleSet)
        return len(item.corrections)

    known = corrected()
    wanted = view.depth_at(0, at.y() + 25)
    drag(view.viewport(), at, at + QPoint(0, 25))
    # Two corrections, landed as one change.
    assert wait_until(lambda: corrected() == known + 2, 60)
    settle(window)
    assert asked and asked[0].startswith("EMB014: ")
    after = holes_of(window)
    moved = after.tables["lithology"]
    rows = moved[moved["hole"].astype(str) == "EMB014"]
    assert float(rows["to_m"].iloc[1]) == pytest.approx(wanted, abs=0.6)
    assert float(rows["from_m"].iloc[2]) == float(rows["to_m"].iloc[1])
    assert set(after.corrections["why"].tail(2)) == {"looked at the core again"}
    assert widget_image(window, view) != before
    # A boundary stays between the ends of its intervals, however far it is dragged.
    at = view.place_of(0, number, float(rows["to_m"].iloc[1]))
    drag(view.viewport(), at, at + QPoint(0, 2000))
    said = float(asked[-1].split(" m to ")[1].split(" m")[0])
    assert said < float(rows["to_m"].iloc[2])


@pytest.mark.own_window
def test_pictures_of_core_stand_upright_by_depth_in_the_log_and_open_large(demo_window: Window, tmp_path: Path) -> None:
    window, ctx = demo_window, demo_window.ctx
    # Two rows of core, each red at its left and blue at its right; the lower row is greenish.
    for top in (10.0, 14.0):
        along = np.linspace(0.0, 1.0, 400)[None, :] * np.ones((60, 1))
        green = np.repeat([0.0, 120.0], 30)[:, None] * np.ones((1, 400))
        pixels = np.stack([255 * (1 - along), green, 255 * along], axis=-1).astype(np.uint8)
        Image.fromarray(pixels).save(tmp_path / f"EMB014_{top:g}-{top + 4:g}.png")
    holes = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]
    ctx.start("import-core-pictures", {"files": [str(tmp_path)], "rows": 2, "name": "Boxes"}, {"holes": holes})
    finish_jobs(window)
    for entry in ctx.entries():
        ctx.set_lit(entry.id, entry.name in ("Boxes", "Emberlow holes"))
    ctx.select_item(holes)
    pane = opened(window, "EMB014")
    pane.set_tracks((Track("rock", ("Rock",), 40),))
    settle(window)
    menu_path(pane.arrange.menu(), "Add a track", "pictures")
    settle(window)
    assert pane.tracks[-1].kind == "pictures"
    pane.view.per_metre = 30.0
    pane.view._ranges()
    pane.view.show_depth(0, 14.0)
    settle(window)
    image = pane.view.viewport().grab().toImage()
    rect, to_y = pane.view.track_rect(0, 1), pane.view.to_y(0)

    def seen(depth: float, share: float = 0.5) -> tuple[int, int, int]:
        x = rect.left() + share * rect.width()
        c = image.pixelColor(int(x), int(to_y(np.array([depth]))[0]))
        return c.red(), c.green(), c.blue()

    # From 10 to 12 m the first row, from 12 to 14 m the second: red where each begins, blue where it ends.
    for top, green in ((10.0, 0), (12.0, 120), (14.0, 0), (16.0, 120)):
        for share in (0.2, 0.8):
            r, g, b = seen(top + 0.2, share)
            assert r > 190 and b < 70 and abs(g - green) < 40, (top, share)
            r, g, b = seen(top + 1.8, share)
            assert r < 70 and b > 190 and abs(g - green) < 40, (top, share)
    assert seen(9.5) == seen(9.0)  # nothing above
    # The pointer names the picture; a double click opens it, arrow keys go on to the next.
    at = QPoint(int(rect.center().x()), int(to_y(np.array([13.0]))[0]))
    QTest.mouseMove(pane.view.viewport(), at - QPoint(0, 25))
    QTest.mouseMove(pane.view.viewport(), at)
    assert wait_until(lambda: "EMB014_10-14.png" in pane.words.text(), 5)
    QTest.mouseDClick(pane.view.viewport(), LEFT, pos=at)
    settle(window)
    large = pane.large
    assert large is not None and large.isVisible()
    assert large.windowTitle() == "EMB014  10 to 14 m"
    shown = large.grab().toImage()
    middle = shown.height() // 2 - 10
    assert shown.pixelColor(20, middle).red() > 200 and shown.pixelColor(shown.width() - 20, middle).blue() > 200
    QTest.keyClick(large, Qt.Key.Key_Right)
    QTest.keyClick(large, Qt.Key.Key_Right)  # the last one
    assert large.windowTitle() == "EMB014  14 to 18 m"
    QTest.keyClick(large, Qt.Key.Key_Escape)
    # On a page the same track is drawn with them.
    made = ctx.store.find("Boxes").id  # type: ignore[union-attr]
    ctx.start(
        "log-pages",
        {"of": ["EMB014"], "scale": 200.0, "tracks": ["Rock", "pictures"], "name": "Log with core"},
        {"holes": holes, "pictures": made},
    )
    finish_jobs(window)
    page = ctx.item(ctx.store.find("Log with core").id)  # type: ignore[union-attr]
    assert isinstance(page, Page)
    pdf, problems = pdf_bytes(ctx, page)
    assert problems == []
    dots = picture_of(pdf, 60.0).astype(int)
    red = (dots[..., 0] > 180) & (dots[..., 1] < 60) & (dots[..., 2] < 60)
    blue = (dots[..., 2] > 180) & (dots[..., 1] < 60) & (dots[..., 0] < 60)
    assert red.sum() > 300 and blue.sum() > 300
