"""Models of units by hand in the window: contact table, age order, veins, finite faults, lines on sections, holes to mend, shells."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from innerlamp.app.forms.contacts_preview import ContactsPreview
from innerlamp.app.forms.form import OperationForm
from innerlamp.app.forms.table_field import TableField
from innerlamp.app.mainwindow.item_history import HistoryList
from innerlamp.app.mainwindow.misses import MissList
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.fields import BlockModel, Surface

from .conftest import choose, drag, finish_jobs, light_only, run_form
from .unit_pictures import areas_image

LEFT = Qt.MouseButton.LeftButton
OUTLINE = ((503_100, 5_601_800), (504_100, 5_601_800), (504_100, 5_602_900), (503_100, 5_602_900))
UNITS = [
    {"unit": "Till", "kind": "overburden", "codes": "TILL"},
    {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN; GREIS"},
    {"unit": "Marble", "kind": "intrusive contact", "codes": "CARB; SKARN"},
    {"unit": "Slate", "kind": "background", "codes": "*"},
]
LINE = SectionPlane(503_450.0, 5_602_700.0, 503_790.0, 5_602_080.0)


def build_form(window: Window, units: list[dict[str, Any]] = UNITS, **values: Any) -> OperationForm:
    """The form, filled in for a quick model, and its contact table shown."""
    light_only(window, "Emberlow holes")
    form = window.steps.open_form("build-units")
    units_field = form.fields["units"]
    assert isinstance(units_field, TableField)
    assert wait_until(lambda: units_field.table.rowCount() > 5, 20)
    for name, value in (
        {"units": units, "cell": "50", "cell_z": "25", "step": "10", "outline": OUTLINE, "name": "Mine"} | values
    ).items():
        form.fields[name].set_value(value)
        form.fields[name].touched = True
    form._changed()
    preview = form.preview
    assert isinstance(preview, ContactsPreview)
    names = {u["unit"] for u in units}
    assert wait_until(
        lambda: preview.isVisibleTo(form) and {p[0] for p in preview.pairs.values()} <= names and bool(preview.pairs),
        20,
    )
    return form


def model_of(window: Window, name: str = "Mine") -> BlockModel:
    store = window.ctx.store
    assert store is not None
    model = store.load(store.find(name).id)
    assert isinstance(model, BlockModel)
    return model


def seen(window: Window, kind: str, name: str) -> np.ndarray:
    """The picture of a model of units in a pane: colours (ny, nx, 3)."""
    item = window.ctx.store.find(name).id  # type: ignore[union-attr]
    return areas_image(window.centre.pane(kind), item)


def show_model(window: Window, *names: str) -> None:
    window.ctx.set_section(LINE)
    light_only(window, *names)
    window.steps.close_form()
    assert settle(window)


def test_a_pair_is_given_to_another_surface_in_the_contact_table_and_the_age_order_says_who_cuts(
    demo_window: Window,
) -> None:
    window, store = demo_window, demo_window.ctx.store
    assert store is not None
    form = build_form(window)
    preview = form.preview
    assert isinstance(preview, ContactsPreview)
    place, pair = next((at, p) for at, p in preview.pairs.items() if p[:2] == ("Granite", "Slate"))
    assert pair[3] == "Granite" and preview.grid.item(*place).text() == str(pair[2])  # type: ignore[union-attr]
    cell = preview.grid.visualItemRect(preview.grid.item(*place)).center()
    QTest.mouseClick(preview.grid.viewport(), LEFT, pos=cell)
    assert preview.words.text() == "Granite and Slate feed" and preview.surface.currentText() == "Granite"
    preview.surface.setFocus()
    QTest.keyClick(preview.surface, Qt.Key.Key_End)  # none
    preview.surface.activated.emit(preview.surface.currentIndex())
    rows = form.fields["contacts"].value()
    assert rows == [{"one": "Granite", "other": "Slate", "surface": "none"}]
    assert wait_until(lambda: "Granite and Slate" in preview.left_out.text(), 20)
    assert preview.grid.item(*place).text() == f"({pair[2]})"  # type: ignore[union-attr]
    run_form(window)
    contacts = store.load(store.find("Contacts of Mine").id).table  # type: ignore[attr-defined]
    without = int((contacts["surface"] == "Granite").sum())
    # The run is opened again from the history, the row taken out: the same items get new versions.
    window.ctx.select_item(store.find("Mine").id)
    assert settle(window)
    window.card.findChild(HistoryList).open(0)
    again = window.steps.form
    assert again is not None and again.run_button.text() == "Change"
    field = again.fields["contacts"]
    assert isinstance(field, TableField) and field.value() == rows
    field.table.setCurrentCell(0, 0)
    QTest.keyClick(field.table, Qt.Key.Key_Delete, Qt.KeyboardModifier.ControlModifier)
    before = store.find("Mine").version
    QTest.mouseClick(again.run_button, LEFT)
    finish_jobs(window)
    assert store.find("Mine").version > before and sum(e.name == "Mine" for e in store.entries()) == 1
    contacts = store.load(store.find("Contacts of Mine").id).table  # type: ignore[attr-defined]
    assert int((contacts["surface"] == "Granite").sum()) == without + pair[2]
    # Marble is moved up the order: it takes what both claim, and the section shows it.
    show_model(window, "Mine")
    whole = seen(window, "section", "Mine")
    claimed = model_of(window).properties["unit"] == 1
    assert claimed.any()
    window.card.findChild(HistoryList).open(0)
    again = window.steps.form
    assert again is not None
    table = again.fields["units"]
    assert isinstance(table, TableField)
    table.table.setCurrentCell(2, 0)
    QTest.keyClick(table.table, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert [r["unit"] for r in table.value()] == ["Till", "Marble", "Granite", "Slate"]
    QTest.mouseClick(again.run_button, LEFT)
    finish_jobs(window)
    model = model_of(window)
    assert model.names["unit"] == ("Till", "Marble", "Granite", "Slate")
    # What is granite in the holes lies outside of marble now: as the younger one it is bounded by it.
    assert not np.array_equal(model.properties["unit"] == 2, claimed)
    show_model(window, "Mine")
    assert not np.array_equal(seen(window, "section", "Mine"), whole)


def test_a_vein_and_a_fault_that_dies_out_are_built_and_drawn(demo_window: Window) -> None:
    window = demo_window
    vein = {
        "unit": "Greisen",
        "kind": "vein",
        "codes": "GREIS",
        "dip": "80",
        "dip_direction": "152",
        "apart": "14",
        "beyond": "120",
    }
    units = [UNITS[0], vein, *UNITS[2:]]
    fault = {
        "fault": "East", "east": "504080", "north": "5602300", "elevation": "300", "dip": "68", "dip_direction": "80", "throw": "118",
        "length": "700", "height": "900", "cuts_from": "Greisen",
    }  # fmt: skip
    form = build_form(window, units, faults=[fault], cell="25", cell_z="15")
    said = run_form(window)
    assert "Greisen" in said and form.problem.isHidden()
    model = model_of(window)
    assert model.names["unit"][1] == "Greisen" and (model.properties["unit"] == 1).sum() > 100
    show_model(window, "Mine", "Throws of Mine")
    legend = window.ctx.legend("unit", model)
    wanted = pg.mkColor(legend.classes["Greisen"])
    rgba = seen(window, "section", "Mine").reshape(-1, 3)
    assert (rgba[:, :3] == [wanted.red(), wanted.green(), wanted.blue()]).all(axis=1).sum() > 20
    throws = window.ctx.store.load(window.ctx.store.find("Throws of Mine").id).table  # type: ignore[union-attr]
    # Half the length from tip to tip along strike, whole in the middle.
    assert throws["y"].between(5_602_300 - 351, 5_602_300 + 351).all() and 100 < throws["throw"].max() <= 118
    assert len(window.centre.pane("map").layers.graphics(window.ctx.store.find("Throws of Mine").id)) > 0  # type: ignore[attr-defined,union-attr]


def test_a_line_drawn_on_a_section_moves_the_surface_and_dragging_its_corner_moves_it_again(
    demo_window: Window,
) -> None:
    window, ctx = demo_window, demo_window.ctx
    store = ctx.store
    assert store is not None
    build_form(window, [UNITS[1], UNITS[3]])
    run_form(window)
    show_model(window, "Mine")
    window.centre.frames[1].show_kind("section")
    section = window.centre.pane("section")
    window.centre.frames[1].show_kind("section")
    settle(window)
    first = seen(window, "section", "Mine")
    QTest.keyClick(section.plot, Qt.Key.Key_D)  # type: ignore[attr-defined]
    tool = section.draw_tool  # type: ignore[attr-defined]
    tool.value.setCurrentText("Granite")
    (x0, x1), (z0, z1) = section.plot.viewRange()  # type: ignore[attr-defined]
    places = [(x0 + a * (x1 - x0), z0 + b * (z1 - z0)) for a, b in ((0.2, 0.62), (0.35, 0.64), (0.5, 0.62))]

    def spot(place: tuple[float, float]) -> QPoint:
        box = section.plot.getPlotItem().getViewBox()  # type: ignore[attr-defined]
        at = section.plot.mapFromScene(box.mapViewToScene(pg.Point(*place)))  # type: ignore[attr-defined]
        return QPoint(round(at.x()), round(at.y()))

    for place in places:
        QTest.mouseClick(section.plot.viewport(), LEFT, pos=spot(place))  # type: ignore[attr-defined]
        settle(window)
    QTest.keyClick(section.plot, Qt.Key.Key_Return)  # type: ignore[attr-defined]
    assert wait_until(lambda: any(e.name == "Interpretation" for e in store.entries()), 10)
    lines = store.load(store.find("Interpretation").id)
    assert lines.table["body"].tolist() == ["Granite"]  # type: ignore[attr-defined]
    window.card.findChild(HistoryList)
    ctx.select_item(store.find("Mine").id)
    settle(window)
    window.card.findChild(HistoryList).open(0)
    form = window.steps.form
    assert form is not None
    form.lists["lines"].choose([store.find("Interpretation").id])
    form._slot_changed()
    QTest.mouseClick(form.run_button, LEFT)
    finish_jobs(window)
    before = model_of(window).properties["unit"]
    show_model(window, "Mine", "Interpretation")
    second = seen(window, "section", "Mine")
    assert not np.array_equal(first, second)
    # A corner of the line is dragged: the drawing has a new version, and the model follows by itself.
    version = store.find("Mine").version
    if not tool.isVisible():
        QTest.keyClick(section.plot, Qt.Key.Key_D)  # type: ignore[attr-defined]
    choose(tool.mode, "corners")
    settle(window)
    drag(section.plot.viewport(), spot(places[1]), spot(places[1]) + QPoint(0, 45))  # type: ignore[attr-defined]
    assert wait_until(lambda: store.find("Mine").version > version and not any(j.active for j in ctx.jobs), 60)
    assert settle(window)
    assert not np.array_equal(model_of(window).properties["unit"], before)
    assert not np.array_equal(seen(window, "section", "Mine"), second)


def test_a_missed_hole_is_shown_from_its_list_and_honoured_in_one_step(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    store = ctx.store
    assert store is not None
    build_form(window, [UNITS[2], UNITS[3]], smoothing="400", tolerance="3")
    assert "a hole is passed by more than 3 m" in run_form(window)
    name = "Holes that Mine misses"
    ctx.select_item(store.find(name).id)
    assert settle(window)
    misses = window.card.findChild(MissList)
    row = misses.rows[0]
    QTest.mouseClick(misses.table.viewport(), LEFT, pos=misses.table.visualItemRect(misses.table.item(0, 0)).center())
    assert row.what in misses.words.text()
    assert ctx.cursor is not None and ctx.cursor.x == pytest.approx(row.x) and ctx.cursor.z == pytest.approx(row.z)
    version = store.find("Mine").version
    QTest.mouseClick(misses.buttons["Honour"], LEFT)
    finish_jobs(window)
    assert store.find("Mine").version > version
    after = store.load(store.find(name).id).table  # type: ignore[attr-defined]
    mine = after[(after["hole"] == row.hole) & (after["what"] == "misses its contact")]
    assert not len(mine)
    assert store.find("Mine").chain[0].params["mends"] == [{"hole": row.hole, "surface": "Marble", "what": "honour"}]


def test_nested_shells_are_built_from_the_form_and_drawn_one_in_the_other(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    store = ctx.store
    assert store is not None
    light_only(window, "Sn_ppm composites 6 m")
    form = window.steps.open_form("grade-shell")
    assert wait_until(lambda: bool(form.input("composites")) and bool(form.fields["attribute"].value()), 20)
    for name, value in (("cutoff", "600"), ("further", ("1500", "3000")), ("cell", "20"), ("name", "Tin")):
        form.fields[name].set_value(value)
        form.fields[name].touched = True
    said = run_form(window)
    assert "of those above left outside" in said
    shells = [store.load(store.find(f"Tin {c} ppm").id) for c in (600, 1500, 3000)]
    volumes = [s.volume_m3 for s in shells if isinstance(s, Surface)]
    assert len(volumes) == 3 and volumes[0] > volumes[1] > volumes[2] > 0
    show_model(window, *(f"Tin {c} ppm" for c in (600, 1500, 3000)))
    for kind in ("scene", "section", "map"):
        pane = next(p for p in window.centre.panes() if p.kind == kind)
        for c in (600, 1500, 3000):
            assert len(pane.layers.graphics(store.find(f"Tin {c} ppm").id)) > 0, (kind, c)  # type: ignore[attr-defined]


def test_a_coarse_model_is_drawn_while_the_fine_one_is_made_and_goes_when_it_is_stopped(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    form = build_form(window, cell="10", cell_z="8")
    QTest.mouseClick(form.run_button, LEFT)
    job = ctx.jobs[-1]

    def guest() -> str:
        return next((e.id for e in ctx.lit_entries() if e.name == "Mine, coarse"), "")

    assert wait_until(lambda: bool(guest()), 60) and job.active
    one = guest()
    pane = window.centre.pane("section")
    assert wait_until(lambda: len(pane.layers.graphics(one)) > 0, 30)  # type: ignore[attr-defined]
    assert not any(e.name.startswith("Mine") for e in ctx.store.entries())  # type: ignore[union-attr]
    ctx.session.desk.cancel(job)  # type: ignore[union-attr]
    assert wait_until(lambda: not job.active and not guest(), 30)
    assert settle(window) and not pane.layers.graphics(one)  # type: ignore[attr-defined]
