"""A model of units in the window: the proposed age order, what is drawn in every pane, units switched off, the scorecard in logs."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QCheckBox, QComboBox

from innerlamp.app.forms.table_field import TableField
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.unit_areas import UnitAreas
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.items.fields import BlockModel

from .conftest import light_only, run_form

LEFT = Qt.MouseButton.LeftButton
SIZES = {"cell": "40", "cell_z": "20", "step": "10"}


def test_units_are_built_from_the_form_drawn_everywhere_and_switched_off(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    store = ctx.store
    assert store is not None
    light_only(window, "Emberlow holes")
    ctx.set_section(SectionPlane(503_450.0, 5_602_700.0, 503_790.0, 5_602_080.0))
    form = window.steps.open_form("build-units")
    table = form.fields["units"]
    assert isinstance(table, TableField)
    assert wait_until(lambda: table.table.rowCount() > 5, 20)  # an order is proposed from the logged codes
    rows = table.value()
    assert (rows[0]["unit"], rows[0]["kind"], rows[0]["codes"]) == ("TILL", "overburden", "TILL")
    assert rows[-1]["kind"] == "background" and str(form.fields["layers"].value()) == "follow the ground"
    assert isinstance(table.table.cellWidget(0, 1), QComboBox)  # kinds are chosen
    simple = [
        {"unit": "Till", "kind": "overburden", "codes": "TILL"},
        {"unit": "Granite", "kind": "intrusive contact", "codes": "GRAN; GREIS; CLAY"},
        {"unit": "Slate", "kind": "background", "codes": "*"},
    ]
    # What is said below is of the proposal, not of the empty table before it, and of the part that was drilled.
    assert wait_until(lambda: form.cost.text() != "", 20)
    assert settle(window)
    assert "background" not in form.cost.text()
    assert len(form.fields["outline"].value()) == 4
    assert ctx.area is not None
    assert np.ptp([x for x, _ in ctx.area.corners]) < 3_000
    table.set_value(simple)
    for name, value in SIZES.items():
        form.fields[name].set_value(value)
    form.fields["outline"].set_value(
        ((503_000, 5_601_700), (504_400, 5_601_700), (504_400, 5_603_000), (503_000, 5_603_000))
    )
    form._changed()
    assert wait_until(
        lambda: any(pair[1] == "Slate" for pair in form.preview.pairs.values()) and ctx.sketch is not None,  # type: ignore[union-attr]
        20,
    )
    said = run_form(window)
    assert "volumes: Till" in said and "of the metres in holes agree" in said
    entry = store.find("Units of Emberlow holes")
    model = store.load(entry.id)
    assert isinstance(model, BlockModel) and model.names["unit"] == ("Till", "Granite", "Slate")
    light_only(window, entry.name)
    window.steps.close_form()
    assert settle(window)

    def colours(kind: str) -> set[tuple[int, ...]]:
        pane = window.centre.pane(kind)
        areas = [g for g in pane.layers.graphics(entry.id) if isinstance(g, UnitAreas)]  # type: ignore[attr-defined]
        return {(a.colour.red(), a.colour.green(), a.colour.blue()) for a in areas}

    scene = next(p for p in window.centre.panes() if p.kind == "scene")

    def faces() -> int:
        return sum(g.GetMapper().GetInput().GetNumberOfPolys() for g in scene.layers.graphics(entry.id))  # type: ignore[attr-defined]

    legend = ctx.legend("unit", model)
    assert set(legend.classes) == {"Till", "Granite", "Slate"}
    assert len(colours("section")) == 3 and len(colours("map")) == 1  # till lies on all of it
    whole = faces()
    assert whole > 100
    box = next(
        b for b in window.card.findChildren(QCheckBox) if "Granite" in (b.text() + b.accessibleName() + b.toolTip())
    )
    QTest.mouseClick(box, LEFT)
    assert wait_until(lambda: settle(window) and len(colours("section")) == 2, 10)
    assert faces() < whole
    till = next(
        b for b in window.card.findChildren(QCheckBox) if "Till" in (b.text() + b.accessibleName() + b.toolTip())
    )
    before = colours("map")
    QTest.mouseClick(till, LEFT)  # the map shows what comes out below it
    assert wait_until(lambda: settle(window) and bool(colours("map")) and not colours("map") & before, 10)
    score = window.steps.open_form("score-model")
    assert wait_until(lambda: bool(score.input("model")), 10)
    score.slots["model"].setCurrentIndex(score.slots["model"].findData(entry.id))
    score._slot_changed()
    said = run_form(window)
    assert "m agree" in said and "worst hole" in said
    holes = store.load(store.find("Scorecard of Units of Emberlow holes").id)
    assert set(holes.tables) == {"logged", "modelled"}  # type: ignore[attr-defined]
