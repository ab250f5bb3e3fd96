"""True contacts in the window: what is drawn of a vein, a planar contact and a closed body, by its pixels."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QRectF
from vtkmodules.vtkFiltersCore import vtkCleanPolyData, vtkFeatureEdges

from innerlamp.api import Project
from innerlamp.app.base import settings
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.base.under_pointer import words_at
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.geology.bodies.model import LEVEL, Contact, Frame, Piece, UnitModel, sampled_over
from innerlamp.core.compute.geology.bodies.solids import solids
from innerlamp.core.compute.geology.bodies.stored import bodies_apart, taken_apart
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel

from .conftest import light_only
from .unit_pictures import areas_image, areas_in

LOW, HIGH = np.array([700_000.0, 7_000_000.0, 3_600.0]), np.array([700_600.0, 7_000_500.0, 4_000.0])  # south, high up
DIP = 60.0
MIDDLE = 0.5 * (LOW + HIGH)


def blocks() -> BlockModel:
    """A vein of 3 m that dips 60° to the east over a dipping contact, under air from 3,950 m up; in blocks of 25 m."""
    d = np.radians(DIP)
    frame = Frame(MIDDLE, np.array([[0.0, 1.0, 0.0], [np.cos(d), 0.0, -np.sin(d)], [np.sin(d), 0.0, np.cos(d)]]))
    level = sampled_over(lambda q: np.zeros(len(q)), [-900.0, -900.0], [900.0, 900.0], 50.0)
    thick = sampled_over(lambda q: np.full(len(q), 1.5), [-900.0, -900.0], [900.0, 900.0], 50.0)
    top = sampled_over(lambda q: np.full(len(q), 3_950.0), LOW[:2], HIGH[:2], 50.0)
    e = np.radians(20.0)
    bed = Frame(MIDDLE, np.array([[0.0, 1.0, 0.0], [np.cos(e), 0.0, -np.sin(e)], [np.sin(e), 0.0, np.cos(e)]]))
    contacts = (
        Contact("", top, 1.0, frame=LEVEL),
        Contact("Veta", level, -1.0, 0.0, frame, thick),
        Contact("Veta", level, 1.0, 0.0, frame, thick),
        Contact("Caliza", level, 1.0, frame=bed),
    )
    pieces = (Piece(-1, (0,)), Piece(0, (1, 2)), Piece(1, (3,)))
    model = UnitModel(("Veta", "Caliza", "Pizarra"), contacts, pieces, LOW, HIGH)
    mesh = TensorMesh.even(tuple(LOW), (25.0, 25.0, 25.0), (24, 20, 16))
    at = model.unit_at(mesh.centres()).astype(float).reshape(mesh.shape)
    numbers = np.where(at >= 0, at, np.nan)
    rules, arrays = taken_apart(model, numbers)
    return BlockModel(
        name="Modelo", crs="EPSG:32719", mesh=mesh, properties={"unit": numbers}, units={"unit": ""},
        names={"unit": model.units}, contacts=arrays | bodies_apart(solids(model, 40.0)), rules=rules,
    )  # fmt: skip


@pytest.fixture
def shown(window: Window, tmp_path: Path) -> Window:
    path = tmp_path / "Sur.lamp"
    with Project.create(path, "EPSG:32719") as project:
        project.add(blocks())
    settings.trust(path)
    assert window.open_path(path)
    assert settle(window)
    light_only(window, "Modelo")
    window.ctx.set_section(SectionPlane(LOW[0], MIDDLE[1], HIGH[0], MIDDLE[1]))
    assert settle(window)
    return window


def item_of(window: Window) -> str:
    store = window.ctx.store
    assert store is not None
    return store.find("Modelo").id


def coloured(window: Window, image: np.ndarray, unit: str) -> np.ndarray:
    store = window.ctx.store
    assert store is not None
    model = store.load(item_of(window))
    colour = window.ctx.legend("unit", model).classes[unit].lstrip("#")
    return np.asarray((image == [int(colour[k : k + 2], 16) for k in (0, 2, 4)]).all(axis=2))


def test_a_vein_of_three_metres_is_continuous_on_the_section_and_as_wide_as_it_is(shown: Window) -> None:
    pane = shown.centre.pane("section")
    # At 1:5,000 and 96 pixels to the inch a pixel is 1.3 m.
    box = QRectF(150.0, 3_620.0, 300.0, 320.0)
    image = areas_image(pane, item_of(shown), box, 230, 245)
    vein = coloured(shown, image, "Veta")
    assert vein.any(axis=1).all()  # in every row of the picture
    wide = vein.sum(axis=1) * 300.0 / 230.0
    assert wide.mean() == pytest.approx(3.0 / np.sin(np.radians(DIP)), rel=0.08)
    assert len(areas_in(pane, item_of(shown))) == 3


def test_a_planar_contact_has_no_stairs(shown: Window) -> None:
    box = QRectF(20.0, 3_650.0, 200.0, 300.0)
    image = areas_image(shown.centre.pane("section"), item_of(shown), box, 800, 1_200)
    over = coloured(shown, image, "Caliza")
    lowest = over.shape[0] - over[::-1].argmax(axis=0)
    columns = np.arange(over.shape[1])
    line = np.polyfit(columns, lowest, 1)
    assert np.abs(lowest - np.polyval(line, columns)).max() <= 1.5  # pixels of a quarter of a metre
    assert line[0] == pytest.approx(np.tan(np.radians(20.0)), rel=0.01)


def test_the_pointer_tells_the_unit_that_is_drawn_not_that_of_the_cell() -> None:
    model = blocks()
    for off, unit in ((0.0, "Veta"), (1.2, "Veta"), (-2.5, "Pizarra"), (12.0, "Caliza")):
        words = words_at(model, "unit", MIDDLE + off * np.array([np.sin(np.radians(DIP)), 0.0, 0.5]))
        assert words == f"Modelo\nunit {unit}"
    plain = dataclasses.replace(model, rules="", contacts={})
    assert words_at(plain, "unit", MIDDLE + 60.0).startswith("Modelo\nunit ")


def test_units_on_the_map_and_bodies_in_3d_are_those_of_the_contacts(shown: Window) -> None:
    item = item_of(shown)
    image = areas_image(shown.centre.pane("map"), item, None, 600, 500)
    vein = coloured(shown, image, "Veta")
    assert vein.any(axis=1).all() and vein.sum(axis=1).mean() == pytest.approx(3.0 / np.sin(np.radians(DIP)), rel=0.15)
    scene = shown.centre.pane("scene")
    actors = scene.layers.graphics(item)  # type: ignore[attr-defined]
    assert len(actors) == 2  # the vein and the limestone, the background would hide both
    for each in actors:
        joined = vtkCleanPolyData()  # corners are there twice where faces meet at an edge
        joined.SetInputData(each.GetMapper().GetInput())
        edges = vtkFeatureEdges()
        edges.SetInputConnection(joined.GetOutputPort())
        edges.FeatureEdgesOff()
        edges.ManifoldEdgesOff()
        edges.NonManifoldEdgesOff()
        edges.BoundaryEdgesOn()
        edges.Update()
        assert edges.GetOutput().GetNumberOfLines() == 0  # closed, up to the ground and the sides of the model
