"""Panes split, closed, moved and kept by name; 3D with axes, compass, names under the pointer; maps that thin out."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QToolButton

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.colours import class_colour
from innerlamp.app.painters.kit.flat import Labels
from innerlamp.app.painters.kit.views import SectionView
from innerlamp.app.painters.map.point_marks import PointMarks
from innerlamp.app.painters.section import section_painters
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.space.scene_pane import ScenePane
from innerlamp.app.scene.axes import ticks
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.holes import HoleSet

from .conftest import choose, coloured_share, map_alone, scene_alone, widget_image

LEFT = Qt.MouseButton.LeftButton


def shown(window: Window) -> list[list[str]]:
    """Kinds of panes row by row, as they lie on the screen."""
    frames = [f for f in window.centre.frames if f.isVisible() and f.pane is not None]
    tops = sorted({f.mapTo(window, QPoint(0, 0)).y() for f in frames})
    rows = []
    for top in tops:
        row = [f for f in frames if f.mapTo(window, QPoint(0, 0)).y() == top]
        rows.append([f.pane.kind for f in sorted(row, key=lambda f: f.mapTo(window, QPoint(0, 0)).x())])  # type: ignore[union-attr]
    return rows


def act(window: Window, kind: str, words: str) -> None:
    """Choose from the menu of a pane's place, as a hand does."""
    frame = next(f for f in window.centre.frames if f.pane is not None and f.pane.kind == kind)
    menu = frame.findChild(QToolButton, "place").menu()
    assert isinstance(menu, QMenu)
    menu.aboutToShow.emit()
    action = next(a for a in menu.actions() if a.text() == words)
    assert action.isEnabled()
    action.trigger()
    settle(window)


def test_a_closed_pane_is_told_nothing_more(demo_window: Window) -> None:
    """Its frame once answered to projects and items after its words were deleted."""
    window = demo_window
    made = window.centre.split(window.centre.frames[0])
    assert made is not None
    window.centre.close_frame(made)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    window.ctx.set_lit(window.ctx.entries()[0].id)
    store = window.ctx.store
    assert store is not None
    store.rename(window.ctx.entries()[0].id, "Another name")
    window.ctx.close_project()
    assert not window.strip.last.text().startswith("Something unexpected")


def test_panes_are_split_moved_and_closed(demo_window: Window) -> None:
    window = demo_window
    assert shown(window) == [["map", "scene"], ["section", "table"]]
    act(window, "map", "Split to the right")
    assert [len(row) for row in shown(window)] == [3, 2]
    new = shown(window)[0][1]
    assert new not in ("map", "scene", "section", "table")
    act(window, new, "Close this pane")
    assert shown(window) == [["map", "scene"], ["section", "table"]]
    act(window, "section", "Move right")
    assert shown(window) == [["map", "scene"], ["table", "section"]]
    act(window, "section", "Move up")
    assert shown(window) == [["map", "section"], ["table", "scene"]]
    assert isinstance(window.centre.pane("section"), SectionPane)
    assert window.centre.pane("section").drawn_count() > 0  # type: ignore[union-attr]
    act(window, "table", "Close this pane")
    act(window, "scene", "Close this pane")
    assert shown(window) == [["map", "section"]]
    act(window, "map", "Split below")
    assert [len(row) for row in shown(window)] == [2, 1]
    act(window, "section", "Close this pane")
    act(window, shown(window)[1][0], "Close this pane")
    assert shown(window) == [["map"]]
    frame = window.centre.frames[0]
    possible = {words: can for words, _, can in window.centre.moves(frame)}
    assert not possible["Close this pane"]  # the last one stays
    # What asks for a kind that is not there gets it all the same.
    window.ctx.wish.emit("table", "")
    settle(window)
    assert shown(window) == [["table"]]


def test_arrangements_are_kept_by_name_and_with_the_project(demo_window: Window, tmp_path: Path) -> None:
    window = demo_window
    act(window, "map", "Split below")
    act(window, "table", "Close this pane")
    wanted = shown(window)
    window.arrangements.keep_as("Three rows")
    window.centre.restore({"kinds": [["map", "scene"], ["section", "table"]]})
    settle(window)
    assert shown(window) == [["map", "scene"], ["section", "table"]]
    names = [a.text() for a in window.arrangements.actions() if a.text()]
    assert "Three rows" in names
    next(a for a in window.arrangements.actions() if a.text() == "Three rows").trigger()
    settle(window)
    assert shown(window) == wanted
    # The project remembers it as well.
    assert window.ctx.store is not None
    path = window.ctx.store.path
    window.close_project()
    other = tmp_path / "Other.lamp"
    window.ctx.create(other, "EPSG:32629")
    settle(window)
    assert shown(window) == [["map", "scene"], ["section", "table"]]
    window.close_project()
    assert window.open_path(path)
    settle(window)
    assert shown(window) == wanted
    shutil.rmtree(other)


@pytest.mark.parametrize(
    "state",
    [
        {"kinds": ["map", "table", "section", "scene"], "rows": [500, 300], "lines": [[400, 500], [300, 600]]},
        {"kinds": [["nothing", "map"]]},
        {"kinds": [["map"] * 9]},
        {"kinds": "map", "rows": "x"},
        {},
    ],
)
def test_layouts_of_earlier_versions_and_broken_ones_harm_nothing(
    demo_window: Window, state: dict[str, object]
) -> None:
    demo_window.centre.restore(state)
    settle(demo_window)
    four = state.get("kinds") == ["map", "table", "section", "scene"]
    assert shown(demo_window) == (
        [["map", "table"], ["section", "scene"]] if four else [["map", "scene"], ["section", "table"]]
    )


# ---- three dimensions


def scene_of(window: Window) -> ScenePane:
    window.centre.toggle_fill(1)
    settle(window)
    pane = window.centre.pane("scene")
    assert isinstance(pane, ScenePane)
    return pane


def test_axes_lie_on_the_far_sides_with_round_numbers(demo_window: Window) -> None:
    pane = scene_of(demo_window)
    words = pane.axes.words
    assert any(w.endswith("m E") for w in words)
    assert any(w.endswith("m N") for w in words)
    assert any(w.endswith("m elev") for w in words)
    numbers = [int("".join(c for c in w.split(" m ")[0] if c.isdigit())) for w in words]
    assert all(n % 50 == 0 for n in numbers)
    # From the south-east the walls stand in the north-west; from the south-west in the north-east.
    pane.look_from("From SE")
    settle(demo_window)
    south_east = pane.axes._key
    pane.look_from("From SW")
    settle(demo_window)
    assert pane.axes._key[-3:-1] != south_east[-3:-1]
    assert ticks(501_642.0, 507_610.0).tolist() == [502_000.0, 503_000.0, 504_000.0, 505_000.0, 506_000.0, 507_000.0]


def test_the_compass_points_north_however_the_camera_stands(demo_window: Window) -> None:
    pane = scene_of(demo_window)
    pane.look_from("From above")
    settle(demo_window)
    assert pane.compass.needle[1] > 20
    assert abs(pane.compass.needle[0]) < 2
    pane.aim(90.0, 40.0)  # from the east, looking west: north is on the right
    settle(demo_window)
    assert pane.compass.needle[0] > 20


def test_what_is_under_the_pointer_is_named_with_its_values(demo_window: Window) -> None:
    pane, ctx = scene_of(demo_window), demo_window.ctx
    holes = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]
    for other in list(ctx.lit):
        ctx.set_lit(other, other == holes)
    settle(demo_window)
    pane.fit_item(holes)
    pane.aim(150.0, 35.0)
    settle(demo_window)
    found = set()
    for x in range(20, pane.canvas.width() - 20, 9):
        for y in range(20, pane.canvas.height() - 20, 9):
            words = pane.under(QPoint(x, y))
            if words:
                found.add(words)
    assert len(found) > 5
    item = ctx.item(holes)
    table = item.tables["assay"]  # type: ignore[union-attr]
    for words in found:
        name, place = words.split("\n")
        assert name == "Emberlow holes"
        hole, rest = place.split(", ")
        start, stop = (float(v) for v in rest.split(" m")[0].split("–"))
        row = table[(table["hole"] == hole) & (table["from_m"] == start) & (table["to_m"] == stop)]
        assert len(row) == 1
        assert f"Sn_ppm {item.attributes['Sn_ppm'].said(row['Sn_ppm'].iloc[0])} ppm" in place  # type: ignore[union-attr]
    # The mouse that rests shows the same.
    assert pane.under(QPoint(2, 2)) == ""


def test_rock_units_of_the_map_lie_on_the_ground_in_3d(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Ground", "Geological map")
    choose(pane.view, "From above")
    settle(window)
    entry = ctx.store.find("Geological map")  # type: ignore[union-attr]
    assert entry is not None
    legend = ctx.legend(ctx.attribute_of(entry), ctx.item(entry.id))
    marble = class_colour(legend, "Marble")

    def share() -> float:
        image = widget_image(window, pane)
        spots = [image.pixelColor(x, y) for x in range(0, image.width(), 3) for y in range(0, image.height(), 3)]
        # Shaded by the ground: told by its hue.
        return sum(abs(c.hslHueF() - marble.hslHueF()) < 0.03 and c.hslSaturationF() > 0.3 for c in spots) / len(spots)

    whole = share()
    assert whole > 0.01
    ctx.set_lit(entry.id, False)
    settle(window)
    assert share() < 0.1 * whole


def test_while_it_turns_less_is_drawn_and_at_rest_all(demo_window: Window) -> None:
    pane = scene_of(demo_window)
    assert pane.renderer.GetUseFXAA()
    assert pane.renderer.GetUseDepthPeeling()
    middle = QPoint(pane.canvas.width() // 2, pane.canvas.height() // 2)
    QTest.mousePress(pane.canvas, LEFT, pos=middle)
    QTest.mouseMove(pane.canvas, middle + QPoint(20, 5))
    assert pane.quality.moving
    assert not pane.renderer.GetUseDepthPeeling()
    before = pane.direction()
    QTest.mouseMove(pane.canvas, middle + QPoint(60, 10))
    QTest.mouseRelease(pane.canvas, LEFT, pos=middle + QPoint(60, 10))
    assert pane.direction() != before
    assert wait_until(lambda: not pane.quality.moving, 5)
    settle(demo_window)
    assert pane.renderer.GetUseDepthPeeling()
    assert coloured_share(widget_image(demo_window, pane.canvas)) > 0.005


# ---- maps


def test_hollows_are_shaded_where_graphics_are_hardware_and_only_at_rest(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Sn shell 800 ppm")
    pane.fit_item(next(e.id for e in ctx.entries() if e.name.startswith("Sn shell")))
    settle(window)
    assert pane.quality.shadows is False  # Mesa draws here
    assert not pane.renderer.GetUseSSAO()

    def darkness() -> tuple[float, float]:
        image = widget_image(window, pane)
        at = [image.pixelColor(x, y) for x in range(0, image.width(), 4) for y in range(0, image.height(), 4)]
        shell = np.array([c.lightnessF() for c in at if c.hslSaturationF() > 0.3 and 0.03 < c.hslHueF() < 0.11])
        return float(shell.mean()), float(np.percentile(shell, 95))

    mean, light = darkness()
    pane.quality.shadows = True  # as on hardware
    pane.quality.still()
    pane.render_soon()
    settle(window)
    assert pane.renderer.GetUseSSAO()
    shaded, still_light = darkness()
    assert shaded < mean - 0.005
    assert still_light == pytest.approx(light, abs=0.05)
    pane.quality.move()
    assert not pane.renderer.GetUseSSAO()


def test_samples_thin_out_when_the_map_is_zoomed_out_and_all_come_back(demo_window: Window) -> None:
    pane = map_alone(demo_window, "Soils")
    (marks,) = [g for g in pane.layers.graphics() if isinstance(g, PointMarks)]
    box = pane.plot.getViewBox()
    box.setRange(xRange=(495_000, 515_000), yRange=(5_594_000, 5_610_000), padding=0)
    settle(demo_window)
    widget_image(demo_window, pane.plot)
    few = marks.shown
    assert 100 < few < 1200
    x, y = marks.xy[100]
    box.setRange(xRange=(x - 400, x + 400), yRange=(y - 320, y + 320), padding=0)
    settle(demo_window)
    widget_image(demo_window, pane.plot)
    (left, right), (low, high) = pane.plot.viewRange()
    inside = (marks.xy[:, 0] > left) & (marks.xy[:, 0] < right) & (marks.xy[:, 1] > low) & (marks.xy[:, 1] < high)
    assert marks.shown >= inside.sum()  # those at the edge of the view are drawn as well


def test_no_name_on_the_map_covers_another_even_of_another_item(demo_window: Window) -> None:
    window = demo_window
    window.centre.toggle_fill(0)
    settle(window)
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    labels = [g for g in pane.layers.graphics() if isinstance(g, Labels)]
    assert len(labels) >= 2
    boxes = []
    for each in labels:
        place = each.place

        def caught(*given, place=place):  # type: ignore[no-untyped-def]
            found = place(*given)
            boxes.append((id(place), found))
            return found

        each.place = caught  # type: ignore[method-assign]
    pane.plot.viewport().update()
    settle(window)
    widget_image(window, pane.plot)
    last = dict(boxes)
    placed = [box for found in last.values() for box, _ in found]
    assert len(placed) > 8
    for k, one in enumerate(placed):
        for other in placed[k + 1 :]:
            covered = one.intersected(other)
            assert covered.width() * covered.height() < 40.0  # less than a letter


def test_targets_leave_what_they_mark_to_be_seen(demo_window: Window) -> None:
    pane = map_alone(demo_window, "Targets")
    table = demo_window.ctx.item(demo_window.ctx.selected).table  # type: ignore[union-attr]
    image = widget_image(demo_window, pane.plot)
    first = table.iloc[0]
    apart = np.hypot(table["x"][1:] - first["x"], table["y"][1:] - first["y"]).min()
    pane.plot.getViewBox().setRange(
        xRange=(first["x"] - 2 * apart, first["x"] + 2 * apart),
        yRange=(first["y"] - apart, first["y"] + apart),
        padding=0,
    )
    settle(demo_window)
    image = widget_image(demo_window, pane.plot)
    at = pane.plot.mapFromScene(pane.plot.getViewBox().mapViewToScene(pane.plot.getViewBox().viewRect().center()))
    inside = {image.pixelColor(at.x() + dx, at.y() + dy).name() for dx in (-2, 0, 2) for dy in (-2, 0, 2)}
    assert inside == {demo_window.ctx.theme.canvas.lower()}


def test_the_section_is_filled_by_what_lies_on_it(demo_window: Window) -> None:
    window = demo_window
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    pane.fit()
    settle(window)
    (left, right), (low, high) = pane.plot.viewRange()
    item = window.ctx.item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    stations = item.stations  # type: ignore[union-attr]
    along, off = window.ctx.section.to_plane(stations["x"].to_numpy(), stations["y"].to_numpy())  # type: ignore[union-attr]
    near = (np.abs(off) < window.ctx.corridor) & (along > 0) & (along < window.ctx.section.length)  # type: ignore[union-attr]
    assert left <= along[near].min() and right >= along[near].max()
    assert low <= stations["z"][near].min() and high >= stations["z"][near].max()
    wide = (along[near].max() - along[near].min()) / (right - left)
    tall = (stations["z"][near].max() - stations["z"][near].min()) / (high - low)
    assert max(wide, tall) > 0.7


def test_the_vertical_scale_is_proposed_by_the_content_until_one_is_chosen(demo_window: Window) -> None:
    window = demo_window
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    assert "×1" in pane.caption.text()  # holes on it: true angles
    assert pane.vertical.currentText() == "z auto"
    dem = window.ctx.ground()
    assert dem is not None
    south = float(dem.y[2])
    window.ctx.set_section(SectionPlane(float(dem.x[2]), south, float(dem.x[-2]), south))  # 6 km beside all holes
    settle(window)
    factor = window.ctx.section_exaggeration
    assert factor >= 2.0
    assert f"×{factor:g}" in pane.caption.text()
    assert window.ctx.exaggeration == 1.0  # 3D stays true
    dx, dy = pane.plot.metres_per_pixel()
    assert dx / dy == pytest.approx(factor, rel=0.02)  # as it is drawn
    choose(pane.vertical, "z × 1.5")
    settle(window)
    dx, dy = pane.plot.metres_per_pixel()
    assert dx / dy == pytest.approx(1.5, rel=0.02)


def test_bars_do_not_run_into_the_next_hole(demo_window: Window) -> None:
    window = demo_window
    pane = window.centre.pane("section")
    assert isinstance(pane, SectionPane)
    plane, item = window.ctx.section, window.ctx.item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    assert plane is not None
    assert isinstance(item, HoleSet)
    # Along its strike holes of a fence stand one behind the other: on this line they come close together.
    middle = item.collars[["x", "y"]].to_numpy(float).mean(axis=0)
    away = np.array([plane.y1 - plane.y0, plane.x0 - plane.x1]) / plane.length * 600.0
    window.ctx.set_corridor(120.0)
    window.ctx.set_section(SectionPlane(*(middle - away), *(middle + away)))
    settle(window)
    view = SectionView(window.ctx.section, window.ctx.corridor, 1.0)  # type: ignore[arg-type]
    entry = window.ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    assert entry is not None
    stations = item.stations
    along, off = view.plane.to_plane(stations["x"].to_numpy(float), stations["y"].to_numpy(float))
    near = (np.abs(off) <= 120.0) & (along >= 0) & (along <= view.plane.length)
    z, names = stations["z"].to_numpy(float), stations["hole"][near].unique()
    assert len(names) > 4
    traces = [(along[near & (name == stations["hole"])], z[near & (name == stations["hole"])]) for name in names]
    bars = [g for g in section_painters.paint_holes(window.ctx, view, entry, item) if g.zValue() == 9.5]
    ends = np.concatenate([np.column_stack(g.getData()).reshape(-1, 2, 2) for g in bars])  # (bars, start and end, 2)
    assert len(ends) > 100
    length = np.hypot(*(ends[:, 1] - ends[:, 0]).T)
    assert length.max() <= section_painters.BAR_METRES + 1e-6
    crossed = 0
    for at, depth in traces:
        order = np.argsort(depth)
        there = np.interp(ends[:, 1, 1], depth[order], at[order], left=np.nan, right=np.nan)
        free = there - ends[:, 0, 0] > 5.0  # where traces meet nothing can stand between them
        crossed += int((free & (there < ends[:, 1, 0])).sum())
    assert crossed == 0


@pytest.mark.parametrize("kind", ["map", "section", "scene"])
def test_the_legend_stands_in_a_pane_that_is_filled_and_can_be_dragged(demo_window: Window, kind: str) -> None:
    window = demo_window
    frame = next(f for f in window.centre.frames if f.pane is not None and f.pane.kind == kind)
    assert frame.legend is None
    window.centre.toggle_fill(frame.number)
    settle(window)
    legend = frame.legend
    assert legend is not None and legend.isVisible()
    assert {g.attribute for g in legend.shown} == {g.attribute for g in window.legends.shown}
    # It is seen on the screen, over OpenGL as well: the colours of its ramp stand where it stands.
    picture = widget_image(window, legend)
    assert coloured_share(picture) > 0.03
    assert picture.pixelColor(3, picture.height() - 3).name() == window.ctx.theme.panel.lower()
    before = legend.pos()
    QTest.mousePress(legend, LEFT, pos=QPoint(20, 8))
    QTest.mouseMove(legend, QPoint(-40, -52))
    QTest.mouseRelease(legend, LEFT, pos=QPoint(20, 8))
    settle(window)
    assert legend.pos() == before - QPoint(60, 60)
    for _ in range(200):
        QTest.keyClick(legend, Qt.Key.Key_Left)
    assert legend.x() == 0  # it stays in the pane
    for item in list(window.ctx.lit):
        window.ctx.set_lit(item, False)
    assert not legend.isVisible()
    window.centre.toggle_fill(frame.number)
    settle(window)
    assert frame.legend is None
