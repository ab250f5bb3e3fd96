"""Hands in 3D: sketching on surfaces and planes, the handles of the slab, slices of block models at any plane."""

from __future__ import annotations

import dataclasses
import itertools

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit
from vtkmodules.util.numpy_support import vtk_to_numpy

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.space.models import _cut_at, plane_as_style, plane_in
from innerlamp.app.panes.space.draw import in_section
from innerlamp.app.panes.space.slab_handles import behind
from innerlamp.app.scene.sight import Line
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.geometry.mesh import DrapedMesh, TensorMesh
from innerlamp.core.items.features import Features, part_vertices
from innerlamp.core.items.fields import BlockModel

from .conftest import choose, drag, menu_path, scene_alone, type_into

LEFT = Qt.MouseButton.LeftButton


def turned_model(azimuth: float) -> BlockModel:
    """A turned box far from the origin at 3 900 m, its values its first index."""
    mesh = TensorMesh.even((402000.0, 7502000.0, 3900.0), (10.0, 20.0, 5.0), (12, 9, 20), azimuth)
    values = np.broadcast_to(np.arange(12.0)[:, None, None], mesh.shape).copy()
    return BlockModel(name="Box", crs="", mesh=mesh, properties={"v": values})


def polygons(mesh: object) -> list[np.ndarray]:
    points = vtk_to_numpy(mesh.GetPoints().GetData()).astype(float)  # type: ignore[attr-defined]
    starts = vtk_to_numpy(mesh.GetPolys().GetOffsetsArray())  # type: ignore[attr-defined]
    index = vtk_to_numpy(mesh.GetPolys().GetConnectivityArray())  # type: ignore[attr-defined]
    return [points[index[a:b]] for a, b in itertools.pairwise(starts)]


def area(corners: np.ndarray) -> float:
    fan = np.cross(corners[1:-1] - corners[0], corners[2:] - corners[0])
    return 0.5 * float(np.linalg.norm(fan.sum(axis=0)))


@pytest.mark.parametrize("azimuth", [0.0, 37.0])
def test_a_slice_at_a_plane_lies_in_it_and_has_the_area_of_the_box_s_section(azimuth: float) -> None:
    item = turned_model(azimuth)
    values = item.properties["v"]
    origin = np.array([402000.0, 7502000.0, 0.0])
    # A level slice is the whole plan; an upright one along an axis the whole side.
    for plane, whole in (
        ((0.0, 0.0, 1.3), 120 * 180),
        ((90.0, azimuth, 3.0), 120 * 100),
        ((90.0, azimuth + 90, 1.0), 180 * 100),
    ):
        place, normal = plane_in(item, plane)
        mesh, cells = _cut_at(item, values, place, normal, origin)
        shades = values[tuple(cells.T)]
        pieces = polygons(mesh)
        assert sum(map(area, pieces)) == pytest.approx(whole, rel=1e-4)
        assert len(pieces) == len(shades)
    # Dipping 45° across the first axis: longer by the square root of two, and each face has the value of its cell.
    place, normal = plane_in(item, (45.0, azimuth + 90, 1.7))
    mesh, cells = _cut_at(item, values, place, normal, origin)
    shades = values[tuple(cells.T)]
    pieces = polygons(mesh)
    assert sum(map(area, pieces)) == pytest.approx(100 * np.sqrt(2) * 180, rel=1e-4)
    centres = np.array([p.mean(axis=0) for p in pieces]) + origin
    assert np.abs((centres - place) @ normal).max() < 1e-3
    along, _ = item.mesh.from_map(centres[:, 0], centres[:, 1])
    assert np.floor(along / 10.0) == pytest.approx(shades)


def test_a_draped_model_is_sliced_along_its_own_layers() -> None:
    tops = 4000.0 + 50.0 * np.arange(4.0)[:, None] + np.zeros((4, 3))
    mesh = DrapedMesh(0.0, 0.0, np.full(4, 25.0), np.full(3, 25.0), 0.0, tops, np.full((4, 3, 5), 10.0))
    item = BlockModel(name="D", crs="", mesh=mesh, properties={"v": np.ones(mesh.shape)})
    got, _ = _cut_at(item, item.properties["v"], np.array([0.0, 40.0, 4000.0]), np.array([0.0, 1.0, 0.0]), np.zeros(3))
    assert sum(map(area, polygons(got))) == pytest.approx(4 * 25.0 * 50.0)
    none, shades = _cut_at(
        item, item.properties["v"], np.array([0.0, 999.0, 0.0]), np.array([0.0, 1.0, 0.0]), np.zeros(3)
    )
    assert len(shades) == 0 == none.GetNumberOfPolys()


@pytest.mark.parametrize("plane", [(30.0, 250.0, 12.5), (90.0, 10.0, -40.0), (0.0, 0.0, 7.0)])
def test_a_plane_of_the_scene_becomes_the_numbers_of_the_card_and_back(plane: tuple[float, float, float]) -> None:
    item = turned_model(15.0)
    place, normal = plane_in(item, plane)
    sideways = np.cross(normal, [0.3, 0.5, 0.8])
    assert plane_as_style(item, place + 70.0 * sideways, -normal if plane[0] < 90 else normal) == pytest.approx(
        plane, abs=0.02
    )


def test_a_line_of_sight_meets_planes_where_geometry_says() -> None:
    line = Line(np.array([0.0, 0.0, 100.0]), np.array([1.0, 0.0, -1.0]) / np.sqrt(2))
    up = np.array([0.0, 0.0, 1.0])
    assert line.on_plane(np.array([5.0, 5.0, 20.0]), up) == pytest.approx([80.0, 0.0, 20.0])
    assert line.on_plane(np.array([0.0, 0.0, 120.0]), up) is None  # behind the viewer
    assert line.on_plane(np.zeros(3), np.array([0.0, 1.0, 0.0])) is None  # along it
    # Nearest to an upright line through (40, 30): below x = 40.
    assert line.near_line(np.array([40.0, 30.0, 0.0]), up) == pytest.approx(60.0)
    assert line.near_line(np.zeros(3), line.way) is None
    # Of a fence the nearer piece is met.
    fence = SectionPlane.along([(50.0, -50.0), (50.0, 50.0), (90.0, 50.0), (90.0, -50.0)])
    assert in_section(line, fence) == pytest.approx([50.0, 0.0, 50.0])
    assert in_section(line, SectionPlane(50.0, 10.0, 50.0, 60.0)) is None  # passes beside its end
    assert in_section(line, None) is None


def drawn(window: Window) -> Features:
    item = window.ctx.item(window.ctx.store.find("Interpretation").id)  # type: ignore[union-attr]
    assert isinstance(item, Features)
    return item


def test_lines_and_notes_are_sketched_on_surfaces_planes_and_snap_to_holes(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Ground")
    choose(pane.view, "From above")
    settle(window)
    pane.canvas.setFocus()
    QTest.keyClick(pane.canvas, Qt.Key.Key_D)
    tool = pane.draw_tool
    assert tool.isVisible()
    settle(window)
    middle = pane.canvas.rect().center()
    spots = [middle + QPoint(*d) for d in ((-120, -60), (90, -40), (20, 90))]
    on_ground = [pane.sight.place_at(s) for s in spots]
    tool.value.setCurrentText("Ridge")
    for spot in spots:
        QTest.mouseClick(pane.canvas, LEFT, pos=spot)
    assert len(tool.sketch) == 3
    QTest.keyClick(
        pane.canvas, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier
    )  # takes a click back, not the project
    assert len(tool.sketch) == 2
    before = pane.direction()
    drag(pane.canvas, middle, middle + QPoint(40, 10))  # a drag turns the scene and is no click
    assert len(tool.sketch) == 2
    assert pane.direction() != before
    QTest.keyClick(pane.canvas, Qt.Key.Key_Return)
    settle(window)
    line = part_vertices(drawn(window), 0)
    assert line == pytest.approx(np.array(on_ground[:2]), abs=0.01)
    assert drawn(window).table["body"].tolist() == ["Ridge"]

    # On the section: places lie in its plane; a double click ends.
    x, y = np.array(on_ground).mean(axis=0)[:2].tolist()
    ctx.set_section(SectionPlane(x - 2500, y, x + 2500, y))
    choose(pane.view, "Along section")
    choose(tool.ground, "the section")
    settle(window)
    for d in ((-60, 20), (30, 60)):
        QTest.mouseClick(pane.canvas, LEFT, pos=middle + QPoint(*d))
    QTest.mouseDClick(pane.canvas, LEFT, pos=middle + QPoint(30, 60))
    settle(window)
    line = part_vertices(drawn(window), 1)
    assert len(line) == 2
    assert line[:, 1] == pytest.approx(y, abs=1e-3)
    assert abs(line[1, 2] - line[0, 2]) > 1.0
    # A note at an elevation; without one, or without a plane, the click says why it does nothing.
    choose(tool.mode, "note")
    choose(tool.ground, "the measured plane")
    QTest.mouseClick(pane.canvas, LEFT, pos=middle)
    assert "Measure three points" in window.strip.last.text()
    choose(tool.ground, "an elevation")
    choose(pane.view, "From above")
    settle(window)
    QTest.mouseClick(pane.canvas, LEFT, pos=middle)
    assert "Type the elevation" in window.strip.last.text()
    type_into(tool.level, "123.5")
    type_into(tool.words, "drill here")
    QTest.mouseClick(pane.canvas, LEFT, pos=middle + QPoint(77, 0))
    settle(window)
    assert drawn(window).table["note"].tolist()[-1] == "drill here"
    assert part_vertices(drawn(window), 2)[0, 2] == pytest.approx(123.5, abs=1e-6)
    QTest.keyClick(pane.canvas, Qt.Key.Key_Escape)
    assert not tool.isVisible()

    # Near an interval's end a click goes to it, whatever lies behind.
    holes = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]
    ctx.set_lit(holes)
    ctx.set_colour_by(holes, "Rock")
    settle(window)
    QTest.keyClick(pane.canvas, Qt.Key.Key_D)
    choose(tool.mode, "line")
    ends = tool.lit_places()
    seen = pane.sight.pixels(ends)
    inside = np.flatnonzero((np.abs(seen - [middle.x(), middle.y()]) < [200, 120]).all(axis=1))
    aim = QPoint(*np.round(seen[inside[0]] + [3, -2]).astype(int).tolist())
    QTest.mouseClick(pane.canvas, LEFT, pos=aim)
    assert tool.sketch[0].snapped
    got = np.array(tool.sketch[0].xyz)
    assert np.linalg.norm(ends - got, axis=1).min() < 1e-9
    assert np.linalg.norm(pane.sight.pixels(got[None, :])[0] - [aim.x(), aim.y()]) < 10


def test_the_slab_is_dragged_and_turned_by_its_handles(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane = scene_alone(window, "Ground")
    ground = ctx.store.find("Ground")  # type: ignore[union-attr]
    x, y = 0.5 * (ground.bounds[0] + ground.bounds[1]), 0.5 * (ground.bounds[2] + ground.bounds[3])
    ctx.set_section(SectionPlane(x - 600, y, x + 600, y))
    choose(pane.view, "From above")
    settle(window)
    assert not len(pane.handles.places)  # without the slab there is nothing to drag
    pane.canvas.setFocus()
    QTest.keyClick(pane.canvas, Qt.Key.Key_L)
    settle(window)
    camera = pane.direction()

    def spot(k: int) -> QPoint:
        return QPoint(*np.round(pane.sight.pixels(pane.handles.places)[k]).astype(int).tolist())

    # The middle one moves it across itself, as far as the pointer goes: behind is north, up in the picture.
    metre = np.linalg.norm(np.diff(pane.sight.pixels(pane.handles.places)[1:], axis=0)) / 1200.0
    drag(pane.canvas, spot(0), spot(0) - QPoint(0, 60))
    settle(window)
    moved = ctx.section
    assert moved is not None
    assert moved.y0 - y == pytest.approx(60 / metre, rel=0.05)
    assert moved.azimuth == pytest.approx(90.0, abs=0.01)
    assert pane.direction() == camera  # the camera stood still
    # An end turns it about its middle: its length stays.
    a, b = spot(1), spot(2)
    half = (b - a) / 2
    drag(pane.canvas, b, (a + b) / 2 + QPoint(round(half.x() * np.cos(0.5)), round(half.x() * np.sin(0.5))))
    settle(window)
    now = ctx.section
    assert now is not None
    assert now.azimuth == pytest.approx(90.0 + np.degrees(0.5), abs=1.0)  # towards the south: clockwise
    assert now.length == pytest.approx(1200.0)
    assert now.places.mean(axis=0) == pytest.approx(moved.places.mean(axis=0))
    # What is seen is cut where the section is now, and the view can face it.
    shown = [
        p
        for row in range(4, pane.canvas.height(), 6)
        if (p := pane.sight.place_at(QPoint(pane.canvas.width() // 2, row))) is not None
    ]
    _, off = now.to_plane(*np.array(shown)[:, :2].T)
    assert np.abs(off).max() <= ctx.corridor + 1.0
    choose(pane.view, "Along section")
    settle(window)
    assert pane.direction()[0] == pytest.approx(now.view_azimuth, abs=0.1)
    assert behind(now)[:2] @ [
        np.sin(np.radians(now.view_azimuth)),
        np.cos(np.radians(now.view_azimuth)),
    ] == pytest.approx(1.0)


def test_block_models_are_sliced_at_the_section_and_at_numbers_typed(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    entry = next(e for e in ctx.entries() if e.name == "Susceptibility of Airborne magnetics")
    pane = scene_alone(window, entry.name)
    item = ctx.item(entry.id)
    assert isinstance(item, BlockModel)
    b = item.bounds
    x, y = 0.5 * (b[0] + b[1]), 0.5 * (b[2] + b[3])
    ctx.set_section(SectionPlane(x - 500, y - 200, x + 500, y + 300))
    ctx.select_item(entry.id)
    legend = ctx.legend(ctx.attribute_of(entry), item)
    ctx.set_legend(dataclasses.replace(legend, cutoff=None))
    settle(window)
    menu_path(pane.slab.menu(), "Slice block models at the section")
    settle(window)

    def off_plane(normal: np.ndarray, place: np.ndarray) -> float:
        (prop,) = pane.layers.graphics(entry.id)
        points = vtk_to_numpy(prop.GetMapper().GetInput().GetPoints().GetData()) + pane.origin
        assert len(points) > 100
        return float(np.abs((points - place) @ normal).max())

    plane = ctx.section
    assert plane is not None
    assert off_plane(behind(plane), np.array([plane.x0, plane.y0, 0.0])) < 0.2
    # The numbers stand in the card, and others can be typed.
    dip = window.card.findChild(QLineEdit, "planeDip")
    assert dip is not None and dip.text() == "90"
    type_into(dip, "35")
    QTest.keyClick(dip, Qt.Key.Key_Return)
    settle(window)
    style = ctx.style(entry.id)
    assert style.plane[0] == 35.0
    place, normal = plane_in(item, style.plane)
    assert normal == pytest.approx(plane_normal(np.array([35.0]), np.array([style.plane[1]]))[0])
    assert off_plane(normal, place) < 0.2
    dip = window.card.findChild(QLineEdit, "planeDip")
    type_into(dip, "135")
    QTest.keyClick(dip, Qt.Key.Key_Return)
    assert "from 0 to 90" in window.strip.last.text()
