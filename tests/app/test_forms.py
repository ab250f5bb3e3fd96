"""How items stand in 3D: closed forms of what is drawn, and the controls that need a hand of their own."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QSlider
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkPolyData

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.colours import class_colour
from innerlamp.app.painters.kit.line_pieces import LinePieces
from innerlamp.app.painters.space.markers import SHAPES, solids
from innerlamp.app.painters.space.models import _isosurface, _slices, contour_lines, draped, own_relief
from innerlamp.app.painters.space.polydata import polydata
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.compute.geometry.triangles import is_closed, volume
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.picture import Picture
from innerlamp.core.items.style import Style

from .conftest import choose, coloured_share, light_only, menu_path, pick, scene_alone, widget_image


def model(azimuth: float = 30.0) -> tuple[BlockModel, np.ndarray]:
    """A turned model whose values fall off from its middle; and the middle."""
    mesh = TensorMesh.even((402000.0, 7502000.0, 3900.0), (10.0, 10.0, 10.0), (30, 30, 30), azimuth)
    centres = mesh.centres()
    middle = centres.mean(axis=0)
    values = 200.0 - np.linalg.norm(centres - middle, axis=1)
    return BlockModel(name="Ball", crs="", mesh=mesh, properties={"v": values.reshape(mesh.shape)}), middle


def parts(prop: object) -> tuple[np.ndarray, np.ndarray]:
    mesh: vtkPolyData = prop.GetMapper().GetInput()  # type: ignore[attr-defined]
    points = vtk_to_numpy(mesh.GetPoints().GetData()).astype(float)
    return points, vtk_to_numpy(mesh.GetPolys().GetConnectivityArray())


def test_an_isosurface_is_the_sphere_of_its_value_also_in_a_turned_model() -> None:
    item, middle = model()
    (surface,) = _isosurface(item, item.properties["v"], 100.0, Legend("v", "v", low=0.0, high=200.0), middle)
    points, index = parts(surface)
    assert np.linalg.norm(points, axis=1) == pytest.approx(100.0, abs=2.5)
    triangles = index.reshape(-1, 3)
    assert abs(volume(points, triangles)) == pytest.approx(4 / 3 * np.pi * 100.0**3, rel=0.03)
    assert _isosurface(item, item.properties["v"], 500.0, Legend("v", "v", low=0.0, high=200.0), middle) == []


def test_slices_lie_where_they_are_asked_for() -> None:
    item, middle = model(0.0)
    corners, cells = _slices(item, item.properties["v"], (0.0, 0.5, 0.999), middle)
    shades = item.properties["v"][tuple(cells.T)]
    quads = corners.reshape(-1, 4, 3)
    assert len(quads) == len(shades) == 3 * 900
    assert np.ptp(quads[:900, :, 0]) == pytest.approx(0.0) and quads[0, 0, 0] == pytest.approx(-145.0)
    assert np.ptp(quads[900:1800, :, 1]) == pytest.approx(0.0) and abs(quads[900, 0, 1]) <= 5.0
    assert np.ptp(quads[1800:, :, 2]) == pytest.approx(0.0) and quads[1800, 0, 2] == pytest.approx(145.0)
    # Each cell has its own value.
    centre = quads[1800:].mean(axis=1)
    assert shades[1800:] == pytest.approx(200.0 - np.linalg.norm(centre, axis=1), abs=1e-6)


def test_contour_lines_lie_at_whole_multiples_of_their_interval() -> None:
    x, y = np.meshgrid(np.arange(20.0), np.arange(20.0))
    points = np.column_stack([x.ravel(), y.ravel(), 3.0 * x.ravel() + 1.0])
    index = np.arange(400).reshape(20, 20)
    quads = np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], axis=-1).reshape(-1, 4)
    mesh = polydata(points, faces=quads)
    (lines,) = contour_lines(mesh, 10.0, 100.0, QColor("black"), 1.0)
    z = vtk_to_numpy(lines.GetMapper().GetInput().GetPoints().GetData())[:, 2] + 100.0
    assert sorted(set(np.round(z, 3))) == [110.0, 120.0, 130.0, 140.0, 150.0]
    assert contour_lines(mesh, 1e-6, 100.0, QColor("black"), 1.0) == []  # too many to be read


def test_relief_stands_above_its_ground_as_high_as_values_are() -> None:
    ground = np.array([[10.0, 20.0], [30.0, np.nan]])
    z = own_relief(np.array([[0.0, 5.0], [10.0, np.nan]]), ground, 1000.0, Legend("v", "v", low=0.0, high=10.0))
    assert z[0].tolist() == pytest.approx([30.0, 30.0 + 60.0])
    assert z[1, 0] == pytest.approx(150.0) and np.isnan(z[1, 1])


def test_markers_are_closed_solids_of_the_size_asked_for() -> None:
    for points, faces in SHAPES:
        assert is_closed(faces)
        assert volume(points, faces) > 0.4  # outward, and not thin
        assert 0.85 <= np.linalg.norm(points, axis=1).max() <= 1.1
    at = np.array([[0.0, 0.0, 0.0], [100.0, 0.0, 0.0], [0.0, 100.0, 0.0]])
    rgb = np.array([[255, 0, 0], [0, 255, 0], [0, 0, 255]], np.uint8)
    made = solids(at, rgb, np.array([0, 3, 3]), np.array([5.0, 10.0, 20.0]))
    assert len(made) == 2  # one mesh a shape
    points, _ = parts(made[1])
    assert points[:, 0].max() == pytest.approx(110.0) and points[:, 1].max() == pytest.approx(120.0)


def test_styles_of_later_versions_and_odd_ones_are_read() -> None:
    style = dataclasses.replace(Style(), form="slices", slices=(0.1, 0.2, 0.3), every=5.0)
    assert Style.from_json(style.to_json()) == style
    assert Style.from_json({**style.to_json(), "of later": 3, "slices": [0.1, 0.2, 0.3]}) == style


def test_slices_are_moved_by_their_sliders(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    name = "Susceptibility of Airborne magnetics"
    scene = scene_alone(window, name)
    one = ctx.store.find(name).id  # type: ignore[union-attr]
    ctx.select_item(one)
    choose(scene.view, "From SW")
    ctx.restyle(one, dataclasses.replace(ctx.style(one), form="slices"))
    settle(window)
    before = widget_image(window, scene.canvas)
    assert coloured_share(before) > 0.02
    slider = window.card.findChild(QSlider, "slice2")
    assert slider.toolTip().endswith("in percent of the model")
    slider.setValue(90)
    assert wait_until(lambda: ctx.style(one).slices == (0.5, 0.5, 0.9), 5)
    settle(window)
    assert widget_image(window, scene.canvas) != before
    ctx.undo()
    settle(window)
    assert ctx.style(one).slices == (0.5, 0.5, 0.5)


def test_classes_are_switched_off_one_by_one_in_all_panes(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    entry = ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    ctx.set_colour_by(entry.id, "Rock")
    item = ctx.item(entry.id)
    settle(window)
    rock = item.tables["lithology"]["Rock"].astype(str)  # type: ignore[union-attr]
    slate = class_colour(ctx.legend("Rock", item), "SLATE").name()  # type: ignore[arg-type]

    def tubes() -> int:
        scene = window.centre.pane("scene")
        sides = [
            p.GetMapper().GetInput().GetNumberOfPolys() for p in scene.layers.graphics(entry.id) if p.IsA("vtkActor")
        ]  # type: ignore[union-attr]
        return sum(sides) // 5

    def colours(kind: str) -> set[str]:
        graphics = window.centre.pane(kind).layers.graphics(entry.id)  # type: ignore[union-attr]
        return {c.name() for g in graphics if isinstance(g, LinePieces) for c, _ in g.groups()}

    assert tubes() == len(rock)
    assert slate in colours("map") and slate in colours("section")
    box = window.card.findChild(QCheckBox, "show_SLATE")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    settle(window)
    assert tubes() == int((rock != "SLATE").sum())
    assert slate not in colours("map") and slate not in colours("section")
    assert colours("map")  # the others stay
    assert not window.card.findChild(QCheckBox, "show_SLATE").isChecked()
    ctx.undo()
    settle(window)
    assert tubes() == len(rock)
    assert slate in colours("map")


def test_a_class_keeps_the_shape_of_its_markers_when_others_are_switched_off(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Emberlow holes")
    entry = ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    ctx.set_colour_by(entry.id, "Rock")
    ctx.restyle(entry.id, dataclasses.replace(ctx.style(entry.id), form="markers", shape_by="Rock"))
    item = ctx.item(entry.id)
    settle(window)
    rock = item.tables["lithology"]["Rock"].astype(str)  # type: ignore[union-attr]
    legend = ctx.legend("Rock", item)  # type: ignore[arg-type]

    def faces_of_each() -> dict[str, float]:
        """Faces of one marker by class, counted by the colours in the scene."""
        scene = window.centre.pane("scene")
        meshes = [p.GetMapper().GetInput() for p in scene.layers.graphics(entry.id) if p.IsA("vtkActor")]  # type: ignore[union-attr]
        shades = [vtk_to_numpy(m.GetCellData().GetScalars())[:, :3] for m in meshes if m.GetCellData().GetScalars()]
        all_shades = np.concatenate(shades)
        out = {}
        for name, count in rock.value_counts().items():
            rgb = class_colour(legend, name).getRgb()[:3]
            out[str(name)] = float((all_shades == rgb).all(axis=1).sum()) / count
        return out

    before = faces_of_each()
    assert len(set(before.values())) > 2
    first = min(before)
    box = window.card.findChild(QCheckBox, f"show_{first}")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    settle(window)
    assert faces_of_each() == {**before, first: 0.0}


def test_everything_is_cut_at_a_measured_plane_and_at_the_section(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    scene = scene_alone(window, "Sn shell 800 ppm")
    choose(scene.view, "From SW")
    settle(window)
    whole = coloured_share(widget_image(window, scene.canvas))
    low, high = np.array(ctx.store.find("Sn shell 800 ppm").bounds).reshape(3, 2).T  # type: ignore[union-attr]
    middle = 0.5 * (low + high)
    # A plane that dips 45 degrees to the east, through the middle.
    scene.measure.points = [middle + np.array(d) for d in ((0.0, 0.0, 0.0), (0.0, 50.0, 0.0), (50.0, 0.0, -50.0))]
    menu_path(scene.slab.menu(), "Cut at the measured plane, keep what lies below")
    settle(window)
    below = coloured_share(widget_image(window, scene.canvas))
    actors = [p for p in scene.layers.graphics() if p.IsA("vtkActor")]
    planes = actors[0].GetMapper().GetClippingPlanes()
    assert planes.GetNumberOfItems() == 1
    normal = np.array(planes.GetItem(0).GetNormal())
    assert normal / np.linalg.norm(normal) == pytest.approx(-np.array([1.0, 0.0, 1.0]) / np.sqrt(2.0))
    menu_path(scene.slab.menu(), "Cut at the measured plane, keep what lies above")
    settle(window)
    above = coloured_share(widget_image(window, scene.canvas))
    assert 0.1 * whole < below < 0.98 * whole
    assert 0.1 * whole < above < 0.98 * whole
    ctx.set_section(SectionPlane(middle[0] - 400, middle[1], middle[0] + 400, middle[1]))
    menu_path(scene.slab.menu(), "Cut at the section, keep what lies behind it")
    settle(window)
    kept = np.array(actors[0].GetMapper().GetClippingPlanes().GetItem(0).GetNormal())
    assert kept == pytest.approx([0.0, 1.0, 0.0], abs=1e-9)  # the section runs east: behind lies north
    menu_path(scene.slab.menu(), "No cut")
    settle(window)
    assert (
        actors[0].GetMapper().GetClippingPlanes() is None
        or not actors[0].GetMapper().GetClippingPlanes().GetNumberOfItems()
    )
    assert coloured_share(widget_image(window, scene.canvas)) == pytest.approx(whole, rel=0.02)


def test_a_picture_lies_on_a_surface_where_its_pixels_belong() -> None:
    """A turned picture on a tilted plane: texture places follow from the affine, what lies beside it stays plain."""
    a, d = 2.0 * np.cos(0.3), 2.0 * np.sin(0.3)
    picture = Picture(
        name="P", crs="", pixels=np.full((40, 60, 4), 255, dtype=np.uint8), affine=(a, d, 500100.0, d, -a, 7000200.0)
    )
    origin = np.array([500000.0, 7000000.0, 0.0])
    x, y = np.meshgrid(np.linspace(500050, 500300, 26), np.linspace(7000050, 7000300, 26))
    points = np.column_stack([x.ravel(), y.ravel(), 3900 + 0.2 * (x.ravel() - 500000)]) - origin
    k = np.arange(26 * 26).reshape(26, 26)
    faces = np.concatenate(
        [np.stack([k[:-1, :-1], k[:-1, 1:], k[1:, 1:]], -1).reshape(-1, 3),
         np.stack([k[:-1, :-1], k[1:, 1:], k[1:, :-1]], -1).reshape(-1, 3)]
    )  # fmt: skip
    skin, plain = draped(polydata(points, faces=faces), picture, origin, QColor("#888888"))
    assert skin.GetTexture() is not None and plain.GetTexture() is None  # type: ignore[attr-defined]
    mesh = skin.GetMapper().GetInput()  # type: ignore[attr-defined]
    uv = vtk_to_numpy(mesh.GetPointData().GetTCoords())
    at, index = parts(skin)
    used = np.unique(index)
    col, row = uv[used, 0] * 60, (1 - uv[used, 1]) * 40
    east, north = a * col + d * row + 500100.0, d * col - a * row + 7000200.0
    assert np.abs(east - at[used, 0] - origin[0]).max() < 0.05
    assert np.abs(north - at[used, 1] - origin[1]).max() < 0.05
    inside = len(index) // 3
    rest = len(parts(plain)[1]) // 3
    assert inside + rest == len(faces)
    assert inside * 50.0 == pytest.approx(60 * 40 * 4.0, rel=0.35)  # cells of 10 m, cut at their own edges


def test_surfaces_carry_a_picture_the_lit_one_first(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    shell, picture = (ctx.store.find(n).id for n in ("Sn shell 800 ppm", "Old geological map"))  # type: ignore[union-attr]
    pane = scene_alone(window, "Sn shell 800 ppm")
    ctx.select_item(shell)
    settle(window)
    pick(window, "form3d", "with a picture")
    settle(window)
    assert any(p.GetTexture() for p in pane.layers.graphics(shell))  # the only picture of the project
    # Of several the one that is lit.
    item = ctx.item(picture)
    assert isinstance(item, Picture)
    red = np.full((8, 8, 4), 255, dtype=np.uint8)
    red[..., 1:3] = 0
    other = ctx.store.put(
        dataclasses.replace(item, name="Red", pixels=red, affine=(500.0, 0, 502000.0, 0, -500.0, 5604000.0))
    )  # type: ignore[union-attr]
    settle(window)

    def shown() -> bool:
        textures = [p.GetTexture() for p in pane.layers.graphics(shell) if p.GetTexture()]
        pixels = vtk_to_numpy(textures[0].GetInput().GetPointData().GetScalars())
        return bool((pixels[:, :3] == [255, 0, 0]).all())

    ctx.set_lit(other)
    settle(window)
    assert shown()
    ctx.set_lit(other, False)
    ctx.set_lit(picture)
    settle(window)
    assert not shown()
    pick(window, "form3d", "solid")
    settle(window)
    assert not any(p.GetTexture() for p in pane.layers.graphics(shell))
