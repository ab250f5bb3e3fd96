"""How maps look: symbols by size and shape, labels with a cut-off, units with patterns in age order, structural signs."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QLineEdit, QPushButton, QToolButton

from innerlamp.app.mainwindow.cutoff_slider import CutoffSlider
from innerlamp.app.mainwindow.item_history import HistoryList
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.painters.kit.colours import bins
from innerlamp.app.painters.kit.flat import Labels
from innerlamp.app.painters.kit.unit_areas import UnitAreas
from innerlamp.app.painters.map.line_signs import SignedLines
from innerlamp.app.painters.map.point_marks import PointMarks
from innerlamp.app.painters.map.structure_signs import StructureSigns
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.signs import line_sign, pattern_for, plane_sign

from .conftest import colours_in, map_alone, pick, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton


def graphics(pane: MapPane, kind: type) -> list:
    return [g for g in pane.layers.graphics() if isinstance(g, kind)]


def test_rows_of_a_class_have_its_colour_and_those_of_none_are_grey() -> None:
    legend = Legend("code", classes={"granite": "#AA0000", "1": "#00AA00", "None": "#0000AA"})
    values = np.array(["granite", None, 1, np.nan, "schist", "granite", "None"], dtype=object)
    got = {colour.name(): mask.nonzero()[0].tolist() for colour, mask in bins(legend, values)}
    grey = "#969696"
    assert got == {"#aa0000": [0, 5], "#00aa00": [2], "#0000aa": [6], grey: [1, 3, 4]}


def test_samples_are_sized_shaped_and_labelled_from_the_card(demo_window: Window) -> None:
    window = demo_window
    pane = map_alone(window, "Soils")
    (plain,) = graphics(pane, PointMarks)
    assert len(np.unique(plain.sizes)) == 1 and len(plain.xy) == 3200
    pick(window, "sizeBy", "Sn ppm")
    settle(window)
    (sized,) = graphics(pane, PointMarks)
    table = window.ctx.item(window.ctx.selected).table  # type: ignore[union-attr]
    v = table["Sn ppm"].to_numpy()[sized.rows]
    some = (v > 5) & (v < np.nanpercentile(v, 99))
    # Areas grow with the value: the square of the diameter over it is the same for all.
    ratio = sized.sizes[some] ** 2 / v[some]
    assert ratio == pytest.approx(ratio[0], rel=1e-6)
    pick(window, "shapeBy", "Horizon")
    settle(window)
    assert len(set(graphics(pane, PointMarks)[0].symbols)) == table["Horizon"].nunique()
    pick(window, "labelBy", "Sn ppm")
    settle(window)
    (labels,) = graphics(pane, Labels)
    assert 0 < labels.shown < 1500  # thinned by space
    edit = window.card.findChild(QLineEdit, "labelFrom")
    type_into(edit, "60")
    QTest.keyClick(edit, Qt.Key.Key_Return)
    settle(window)
    (labels,) = graphics(pane, Labels)
    assert sum(bool(w) for w in labels.words) == int((table["Sn ppm"] >= 60).sum())


def test_units_have_patterns_and_an_age_order_that_the_card_changes(demo_window: Window) -> None:
    window = demo_window
    pane = map_alone(window, "Geological map")
    assert {g.pattern for g in graphics(pane, UnitAreas)} == {"blocks", "wedges", "dashes", "dots", "crosses"}
    assert {s for g in graphics(pane, SignedLines) for s in g.signs} == {"contact", "fault"}
    before = widget_image(window, pane.plot)
    pick(window, "pattern_Slate", "crosses")
    settle(window)
    after = widget_image(window, pane.plot)
    changed = sum(
        before.pixel(x, y) != after.pixel(x, y) for x in range(0, after.width(), 4) for y in range(0, after.height(), 4)
    )
    assert changed > 200
    assert "crosses" in {g.pattern for g in graphics(pane, UnitAreas)}
    legend = window.legends.shown[0]
    assert legend.ordered[0] == "Dolerite"
    QTest.mouseClick(window.card.findChild(QToolButton, "older_Dolerite"), LEFT)
    settle(window)
    assert [n for n in window.legends.shown[0].ordered if n not in ("fault", "contact")] == [
        "Gabbro",
        "Dolerite",
        "Graphitic slate",
        "Marble",
        "Quartz porphyry",
        "Quartzite",
        "Slate",
    ]
    window.ctx.undo()
    settle(window)
    assert window.legends.shown[0].ordered[0] == "Dolerite"


def test_structural_readings_have_the_signs_of_geological_maps_with_their_dips(demo_window: Window) -> None:
    window = demo_window
    pane = map_alone(window, "Structural readings")
    (signs,) = graphics(pane, StructureSigns)
    assert set(signs.marks) == {"tick", "filled wedge", "box", "bars"}
    assert wait_until(lambda: signs.shown > 100 and signs.numbers > 60, 5)  # drawn anew when the map rests
    assert {c.name() for c in signs.colours} == {window.ctx.theme.text.lower()}
    pick(window, "colourBy", "Feature")
    settle(window)
    assert len({c.name() for c in graphics(pane, StructureSigns)[0].colours}) == 4
    assert len(colours_in(widget_image(window, pane.plot), 2)) > 20


@pytest.mark.parametrize(
    ("text", "sign"),
    [
        ("Fault (inferred)", "fault, inferred"),
        ("THRUST", "thrust"),
        ("normal fault", "normal fault"),
        ("synclinal axis", "syncline"),
        ("Approximate contact", "contact, inferred"),
        ("dolerite dike", "dyke"),
        ("road", ""),
    ],
)
def test_kinds_of_lines_are_told_by_their_words(text: str, sign: str) -> None:
    assert line_sign(text) == sign
    assert plane_sign("S1 foliation") == "filled wedge" and plane_sign("overturned bedding") == "overturned"
    assert pattern_for("Granite") == "crosses" and pattern_for("X7") == "plain"


def test_the_cut_off_slider_hides_in_every_pane_and_is_one_change(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    holes = ctx.store.find("Emberlow holes").id  # type: ignore[union-attr]
    for other in list(ctx.lit):
        ctx.set_lit(other, other == holes)
    ctx.set_lit(holes)
    ctx.select_item(holes)
    settle(window)
    slider = window.card.findChild(CutoffSlider)
    assert slider is not None and slider.value is None
    assert slider.counts.sum() == len(ctx.item(holes).tables["assay"]["Sn_ppm"].dropna())  # type: ignore[union-attr]
    before = {kind: widget_image(window, window.centre.pane(kind)) for kind in ("map", "section", "scene")}  # type: ignore[arg-type]
    legend = ctx.legend("Sn_ppm", ctx.item(holes))  # type: ignore[arg-type]
    wide = slider.width()
    middle = QPoint(round(wide * 0.7), slider.height() // 2)
    QTest.mousePress(slider, LEFT, pos=QPoint(10, slider.height() // 2))
    for x in range(10, middle.x(), 6):
        QTest.mouseMove(slider, QPoint(x, middle.y()))
    QTest.mouseMove(slider, middle)
    assert ctx.legend("Sn_ppm", ctx.item(holes)) == legend  # type: ignore[arg-type]  # nothing yet: the hand still holds it
    QTest.mouseRelease(slider, LEFT, pos=middle)
    assert wait_until(lambda: ctx.legend("Sn_ppm", ctx.item(holes)).cutoff is not None, 5)  # type: ignore[arg-type]
    settle(window)
    cut = ctx.legend("Sn_ppm", ctx.item(holes)).cutoff  # type: ignore[arg-type]
    # On the logarithmic scale of the histogram 70 % of the way lies where it should.
    share = (0.7 * wide - 5) / (wide - 10)
    assert np.log10(cut) == pytest.approx(  # type: ignore[type-var]
        np.log10(legend.low) + share * np.log10(legend.high / legend.low), abs=0.05
    )
    assert window.card.findChild(QLineEdit, "legend_cutoff").text() == f"{cut:g}"
    for kind, picture in before.items():
        assert picture != widget_image(window, window.centre.pane(kind)), kind  # type: ignore[arg-type]
    window.ctx.undo()
    settle(window)
    assert ctx.legend("Sn_ppm", ctx.item(holes)).cutoff is None  # type: ignore[arg-type]
    # By keyboard: on with the arrow, off with Delete.
    window.card.findChild(CutoffSlider).setFocus()
    for _ in range(20):  # the card is made anew when the keys rest, and keeps the focus
        QTest.keyClick(window.card.findChild(CutoffSlider), Qt.Key.Key_Right)
    assert wait_until(lambda: ctx.legend("Sn_ppm", ctx.item(holes)).cutoff is not None, 5)  # type: ignore[arg-type]
    settle(window)
    slider = window.card.findChild(CutoffSlider)
    assert slider is not None
    assert slider.hasFocus()
    QTest.keyClick(slider, Qt.Key.Key_Delete)
    assert wait_until(lambda: ctx.legend("Sn_ppm", ctx.item(holes)).cutoff is None, 5)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    "name", ["Emberlow holes", "Soils", "Soil Sn", "Ground", "Geological map", "Sn shell 800 ppm", "Targets"]
)
def test_the_card_of_common_kinds_needs_no_scrolling(demo_window: Window, name: str) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find(name).id)  # type: ignore[union-attr]
    settle(window)
    card = window.card
    assert card.widget().sizeHint().height() <= card.viewport().height()
    assert card.widget().minimumSizeHint().width() <= card.viewport().width()
    labels = [w for w in card.findChildren(QLabel) if w.isVisible()]
    assert labels
    # Facts come first, then how it looks; the origin stands below, folded.
    origin = card.findChild(QPushButton, "origin")
    facts = card.findChild(QLabel, "facts")
    assert facts.mapTo(card, QPoint(0, 0)).y() < origin.mapTo(card, QPoint(0, 0)).y()
    assert card.findChild(HistoryList).isHidden() or not card.findChild(HistoryList).isVisible()
