"""Bringing files in through the form, and their checks: driven with mouse and keyboard, read off the screen."""

from __future__ import annotations

import json
import shutil
import threading
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit

from innerlamp.app.base import background
from innerlamp.app.forms.intake_form import FILE, IS, NOTE, IntakeForm
from innerlamp.app.forms.layout_preview import LayoutPreview
from innerlamp.app.forms.looks import STOPPED
from innerlamp.app.forms.rules_preview import RulesPreview
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.charts.chart_pane import ChartPane
from innerlamp.app.panes.tables.checks_pane import ChecksPane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.importing import intake, offers
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.picture import Picture
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo import papers
from innerlamp.demo.build import FILES

from ..core.test_limits import offers_but_never_of_a_slow_one
from .conftest import choose, run_form, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def empty_window(window: Window, tmp_path: Path) -> Window:
    window.ctx.create(tmp_path / "new.lamp", "EPSG:32629")
    settle(window)
    return window


def drop(window: Window, *paths: Path) -> IntakeForm:
    """Drop files on the window, and wait until they are looked at."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
    event = QDropEvent(QPointF(200, 200), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    (window.steps.intake or window).dropEvent(event)
    form = window.steps.intake
    assert form is not None
    assert wait_until(lambda: not form.looking and form.list.rowCount() > 0, 120)
    settle(window)
    return form


def cells(form: IntakeForm, column: int) -> list[str]:
    if column == IS:
        return [form.list.cellWidget(r, IS).currentText() for r in range(form.list.rowCount())]  # type: ignore[union-attr]
    return [form.list.item(r, column).text() for r in range(form.list.rowCount())]  # type: ignore[union-attr]


def select_file(form: IntakeForm, name: str) -> int:
    row = cells(form, FILE).index(name)
    at = form.list.visualItemRect(form.list.item(row, FILE)).center()
    form.list.scrollToItem(form.list.item(row, FILE))
    at = form.list.visualItemRect(form.list.item(row, FILE)).center()
    QTest.mouseClick(form.list.viewport(), LEFT, pos=at)
    assert wait_until(lambda: form.preview.offer is not None and not form.preview.odd.text().startswith("Looking"), 10)
    return row


def bring_in(window: Window, form: IntakeForm, seconds: float = 90.0) -> None:
    QTest.mouseClick(form.run_button, LEFT)
    assert form.queue.busy, form.problem.text()
    assert wait_until(lambda: not form.queue.busy, seconds)
    settle(window)


def test_looking_at_files_shows_how_far_it_is_and_can_be_stopped(
    empty_window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(offers, "offers_of", offers_but_never_of_a_slow_one)
    window = empty_window
    for name in ("slow one", "slow two"):
        (tmp_path / f"{name}.csv").write_text("anything\n", encoding="utf-8")
    collars = tmp_path / "collars.csv"
    collars.write_text("Hole,East,North,RL,Depth\n" + "A1,402000,7502000,3900,100\n" * 3, encoding="utf-8")
    QTest.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    form = window.steps.intake
    assert form is not None
    assert form.stop_looking.isHidden()
    form.take([collars, tmp_path / "slow one.csv", tmp_path / "slow two.csv"])
    assert form.problem.text().startswith("Looking at ")
    assert wait_until(lambda: "slow one.csv" in form.problem.text() and "1 of 3 files done" in form.problem.text(), 60)
    assert wait_until(lambda: " s, 1 of 3" in form.problem.text(), 20)  # it takes long: its time is told
    QTest.mouseClick(form.run_button, LEFT)
    assert "still being looked at" in form.problem.text()
    form.stop_looking.setFocus()
    QTest.keyClick(form.stop_looking, Qt.Key.Key_Space)
    assert wait_until(lambda: not form.looking, 20)
    assert form.stop_looking.isHidden()
    kinds = dict(zip(cells(form, FILE), cells(form, IS), strict=True))
    assert kinds == {
        "collars.csv": "hole collars",
        "slow one.csv": "not known: leave out",
        "slow two.csv": "not known: leave out",
    }
    form.list.setFocus()
    QTest.keyClick(form.list, Qt.Key.Key_End, Qt.KeyboardModifier.ControlModifier)
    assert "Looking at it was stopped; add it again" in form.preview.words.text()
    monkeypatch.undo()
    form.take([tmp_path / "slow one.csv"])  # added again it is looked at as any other
    assert wait_until(lambda: not form.looking, 60)
    assert cells(form, FILE).count("slow one.csv") == 1
    assert not any(o.why == STOPPED for o in form.offers if "slow one" in o.ref)


def test_what_comes_for_a_form_that_was_left_meanwhile_is_dropped(
    empty_window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever is raised in the event loop fails the test: the answer came for labels that were no more."""
    window, go, asked = empty_window, threading.Event(), threading.Event()
    real = intake.questions

    def slow(found: list[offers.Offer]) -> intake.Questions:
        asked.set()
        go.wait(60)
        return real(found)

    monkeypatch.setattr(intake, "questions", slow)
    collars = tmp_path / "collars.csv"
    collars.write_text("Hole,East,North,RL,Depth\n" + "A1,402000,7502000,3900,100\n" * 3, encoding="utf-8")
    QTest.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    form = window.steps.intake
    assert form is not None
    form.take([collars])
    assert wait_until(asked.is_set, 60)
    QTest.keyClick(form, Qt.Key.Key_Escape)
    assert window.steps.intake is None
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    go.set()
    background.wait(10)
    wait_until(lambda: False, 0.3)  # what was posted is delivered
    assert settle(window)


def test_the_raw_prospect_comes_in_through_the_form_with_its_errors_listed(
    empty_window: Window, tmp_path: Path
) -> None:
    window = empty_window
    QTest.keyClick(window, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    folder = tmp_path / "raw"
    for name in ("drilling", "geochemistry", "geophysics", "geology", "terrain"):
        shutil.copytree(FILES / name, folder / name)
    form = drop(window, folder)
    kinds = dict(zip(cells(form, FILE), cells(form, IS), strict=True))
    assert kinds["collars.csv"] == "hole collars"
    assert kinds["assays.csv"] == "assays"
    assert kinds["control_samples.csv"] == "control samples"
    assert kinds["resistivity_line_2_electrodes.csv"] == "electrodes"
    assert kinds["dem_20m.asc"] == "ground surface (DEM)"
    assert kinds["magnetic_base_station.csv"] == "base-station record"
    select_file(form, "assays.csv")
    heads = [form.preview.table.horizontalHeaderItem(c).text() for c in range(8)]  # type: ignore[union-attr]
    assert heads[:5] == ["BHID\nHole ID", "From\nFrom", "To\nTo", "Sample\nvalue", "Sn_ppm\nppm"]
    assert form.preview.table.item(0, 0).text() == "EMB001"  # type: ignore[union-attr]
    assert "is below detection: become half of limit" in form.preview.odd.text()
    # The scanned map has no place yet: the form says so and starts nothing.
    QTest.mouseClick(form.run_button, LEFT)
    assert "pick three points on it, or leave it out" in form.problem.text()
    assert not form.queue.busy
    row = select_file(form, "scanned_map.png")
    choose(form.list.cellWidget(row, IS), "not known: leave out")  # type: ignore[arg-type]
    bring_in(window, form)
    assert form.problem.text() == "13 items brought in."
    assert set(cells(form, NOTE)) == {"✓", "–"}
    holes = window.ctx.item(next(e.id for e in window.ctx.entries() if e.kind == "holes"))
    assert isinstance(holes, HoleSet)
    assert len(holes.collars) == 40
    # What the checks list is what the generator planted: none missed, none invented.
    QTest.mouseClick(form.checks_button, LEFT)
    settle(window)
    checks = window.centre.pane("checks")
    assert isinstance(checks, ChecksPane)
    assert wait_until(lambda: checks.model is not None, 10)
    assert checks.model is not None
    # First they stand by kind, the gravest first; Return on one lists the rows behind it.
    kinds = checks.model.table
    assert kinds["severity"].iloc[0] == "left out"
    row = int(np.flatnonzero(kinds["what"] == "values below detection in Sn_ppm")[0])
    count = int(kinds["count"].iloc[row])
    checks.view.selectRow(row)
    QTest.keyClick(checks.view, Qt.Key.Key_Return)
    assert wait_until(lambda: checks.what.currentText() == "Findings", 10)
    rows = checks.model.table
    assert len(rows) >= count > 200
    assert rows["what"].str.fullmatch(r"Sn_ppm '.*' is below detection").all()
    choose(checks.kind_box, "all kinds")
    shown = checks.model.table
    planted = [
        p
        for p in json.loads((FILES / "planted.json").read_text())["errors"]
        if p["file"] in ("collars.csv", "downhole_surveys.csv", "assays.csv", "geology_log.csv")
        or (p["file"], p["what"]) == ("control_samples.csv", "below detection")
    ]
    listed = {(f, int(n)) for f, n in zip(shown["file"], shown["line"], strict=True)}
    assert listed - {("", 0), ("downhole_surveys.csv", 0)} == {(p["file"], p["line"]) for p in planted}


def test_the_second_phase_is_shown_before_it_is_added_and_the_difference_is_right(demo_window: Window) -> None:
    window = demo_window
    form = drop(window, FILES / "drilling_second_phase")
    choose(form.holes_to, "add to Emberlow holes")
    form.holes_to.activated.emit(form.holes_to.currentIndex())
    assert wait_until(lambda: form.batch.counts.text().startswith("Holes:"), 30), form.batch.counts.text()
    assert form.batch.counts.text() == "Holes: 0 changed, 0 gone, 20 new, 40 unchanged"
    before = window.ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    bring_in(window, form)
    after = window.ctx.store.find("Emberlow holes")  # type: ignore[union-attr]
    assert after.id == before.id
    assert after.facts["Holes"] == "60"
    assert wait_until(lambda: isinstance(window.ctx.difference(before.version, after.version), list), 20)
    changes = {c.what: (c.before, c.after) for c in window.ctx.difference(before.version, after.version)}  # type: ignore[union-attr]
    metres = pd.read_csv(FILES / "drilling_second_phase" / "collars.csv")["EOH (m)"].sum()
    assert changes["Holes"] == ("40", "60")
    drilled = next(v for k, v in changes.items() if k.startswith("Drilled") or k.startswith("Metres"))
    assert float(drilled[1].replace(",", "").split()[0]) - float(
        drilled[0].replace(",", "").split()[0]
    ) == pytest.approx(metres, abs=1.5)


def test_columns_are_corrected_kept_under_a_name_and_offered_again(empty_window: Window, tmp_path: Path) -> None:
    window = empty_window
    for name in ("batch_a", "batch_b"):
        (tmp_path / f"{name}.csv").write_text("Place A,Place B,Where,Sn ppm\n503000,5602000,x,<2\n503100,5602000,y,7\n")
    form = drop(window, tmp_path / "batch_a.csv")
    assert cells(form, IS) == ["not known: leave out"]
    choose(form.list.cellWidget(0, IS), "samples")  # type: ignore[arg-type]
    form.list.cellWidget(0, IS).activated.emit(0)  # type: ignore[union-attr]
    assert cells(form, NOTE) == ["?"]
    QTest.mouseClick(form.run_button, LEFT)
    assert form.problem.text().startswith("batch_a.csv: no column for Easting, Northing")
    for role, column in (("x", "Place A"), ("y", "Place B")):
        choose(form.preview.combos[role], column)
        settle(window)
    assert cells(form, NOTE) == [""]
    type_into(form.preview.name, "Laboratory A")
    QTest.keyClick(form.preview.name, Qt.Key.Key_Return)
    assert "Kept as 'Laboratory A'" in window.strip.last.text()
    form = drop(window, tmp_path / "batch_b.csv")
    assert cells(form, IS) == ["samples", "samples"]
    select_file(form, "batch_b.csv")
    assert "saved mapping 'Laboratory A'" in form.preview.words.text()
    bring_in(window, form)
    assert [e.name for e in window.ctx.entries()] == ["Batch a", "Batch b"]
    item = window.ctx.item(window.ctx.entries()[1].id)
    assert item.table["Sn ppm"].tolist() == [1.0, 7.0]  # type: ignore[union-attr]


def test_dates_that_could_be_either_are_asked_about(empty_window: Window, tmp_path: Path) -> None:
    window = empty_window
    (tmp_path / "mag.csv").write_text(
        "Line,X,Y,Z,Date,Mag_nT\n" + "".join(f"1,{k},0,90,03/04/2024,{48000 + k}\n" for k in range(9))
    )
    form = drop(window, tmp_path / "mag.csv")
    assert wait_until(form.order.isVisible, 10)
    assert form.order_words.text() == "Dates like 03/04/2024 are"
    QTest.mouseClick(form.run_button, LEFT)
    assert "could be day or month first: choose which" in form.problem.text()
    choose(form.order, "month first")
    bring_in(window, form)
    assert window.ctx.item(window.ctx.entries()[0].id).date == "2024-03-04"  # type: ignore[union-attr]


def test_a_bad_file_among_good_ones_stops_nothing(empty_window: Window, tmp_path: Path) -> None:
    window = empty_window
    shutil.copy(FILES / "geology" / "old_workings.csv", tmp_path)
    (tmp_path / "broken.geojson").write_text("{not json")
    (tmp_path / "twisted.vti").write_text("<VTKFile type='ImageData'><ImageData><Piece/></ImageData></VTKFile>")
    form = drop(window, tmp_path / "old_workings.csv", tmp_path / "broken.geojson", tmp_path / "twisted.vti")
    bring_in(window, form)
    notes = dict(zip(cells(form, FILE), cells(form, NOTE), strict=True))
    assert notes == {"old_workings.csv": "✓", "broken.geojson": "–", "twisted.vti": "✗"}
    assert "can't be read as a VTK file" in form.problem.text()
    assert [e.kind for e in window.ctx.entries()] == ["points"]


def test_a_scanned_map_is_placed_by_clicks_on_it_and_on_the_map(demo_window: Window) -> None:
    window = demo_window
    form = drop(window, FILES / "geology" / "scanned_map.png")
    select_file(form, "scanned_map.png")
    picks = form.preview.picks
    assert wait_until(lambda: not picks.view.image.isNull(), 10)
    for number, (col, row, x, y) in enumerate(papers.picked_points()[:4]):
        at = picks.view.to_widget(col, row)
        QTest.mouseClick(picks.view, LEFT, pos=QPoint(round(at.x()), round(at.y())))
        assert picks.table.rowCount() == number + 1
        if number == 0:
            window.ctx.clicked.emit(x, y, "map")  # as the map tells a click of the mouse
        else:
            picks.table.item(number, 1).setText(f"{x:.1f}")  # type: ignore[union-attr]
            picks.table.item(number, 2).setText(f"{y:.1f}")  # type: ignore[union-attr]
    assert picks.residual.text().startswith("Residual ")
    assert all(picks.table.item(r, 3).text() for r in range(4))  # type: ignore[union-attr]
    bring_in(window, form)
    entry = window.ctx.entry(form.queue.items[0])
    assert entry is not None
    item = window.ctx.item(entry.id)
    assert isinstance(item, Picture)
    # A pixel of the small picture is some 15 m.
    assert item.corners[0] == pytest.approx([502070, 5603790], abs=60)
    assert entry.facts["Placed by"].startswith("4 points")


# ---- checks, corrections, grouping, charts


def open_checks(window: Window, name: str, what: str = "Findings") -> ChecksPane:
    window.ctx.select_item(window.ctx.store.find(name).id)  # type: ignore[union-attr]
    window.centre.show_view("checks", what)
    settle(window)
    pane = window.centre.pane("checks")
    assert isinstance(pane, ChecksPane)
    assert wait_until(lambda: pane.model is not None, 10)
    return pane


def test_a_finding_is_gone_to_corrected_and_lifted_again(demo_window: Window, tmp_path: Path) -> None:
    window = demo_window
    pane = open_checks(window, "Emberlow holes")
    choose(pane.grave, "look")
    pane._again()
    assert pane.model is not None
    row = next(k for k, w in enumerate(pane.model.table["what"]) if "insuff." in w)
    pane.view.scrollTo(pane.model.index(row, 1))
    QTest.mouseClick(pane.view.viewport(), LEFT, pos=pane.view.visualRect(pane.model.index(row, 1)).center())
    settle(window)
    selection = window.ctx.selection
    assert selection.table == "assay"
    holes = window.ctx.item(window.ctx.selected)
    assert isinstance(holes, HoleSet)
    place = holes.tables["assay"].iloc[selection.rows[0]]
    assert place["hole"] == "EMB021"
    assert np.isnan(place["Sn_ppm"])
    assert (window.ctx.cursor.x, window.ctx.cursor.z) == pytest.approx((place["x"], place["z"]))
    QTest.mouseClick(pane.buttons["correct"], LEFT)
    form = window.steps.form
    assert form is not None
    assert form.values()["column"] == "Sn_ppm"
    assert form.values()["table"] == "assay"
    edit = form.fields["value"].findChild(QLineEdit)
    assert edit is not None
    type_into(edit, "320")
    run_form(window)
    holes = window.ctx.item(window.ctx.selected)
    assert isinstance(holes, HoleSet)
    assert holes.tables["assay"].iloc[selection.rows[0]]["Sn_ppm"] == 320
    pane = open_checks(window, "Emberlow holes", "Corrections")
    assert pane.count.text() == "1 hold, 0 lifted"
    pane.export(tmp_path / "list.csv")
    assert pd.read_csv(tmp_path / "list.csv")["new"].tolist() == [320.0]
    pane.view.selectRow(0)
    jobs = len(window.ctx.jobs)
    QTest.mouseClick(pane.buttons["lift"], LEFT)
    assert wait_until(lambda: len(window.ctx.jobs) > jobs and not window.ctx.jobs[-1].active, 180)
    settle(window)
    assert wait_until(lambda: pane.count.text() == "0 hold, 1 lifted", 10)
    holes = window.ctx.item(window.ctx.selected)
    assert isinstance(holes, HoleSet)
    assert np.isnan(holes.tables["assay"].iloc[selection.rows[0]]["Sn_ppm"])


def test_gaps_and_control_samples_are_listed(demo_window: Window) -> None:
    window = demo_window
    pane = open_checks(window, "Emberlow holes", "Gaps")
    assert pane.model is not None
    assert pane.model.rowCount() > 100
    assert "gaps" in pane.count.text()
    pane.view.selectRow(3)
    pane.go()
    gap = pane.model.table.iloc[3]
    holes = window.ctx.item(window.ctx.selected)
    assert isinstance(holes, HoleSet)
    path = holes.stations[holes.stations["hole"] == gap["hole"]]
    assert window.ctx.cursor.z == pytest.approx(np.interp(gap["from_m"], path["depth_m"], path["z"]))
    pane.what.setCurrentText("Control samples")
    pane._again()
    assert pane.model.table["what"].str.contains("drifts upward").sum() == 1
    QTest.mouseClick(pane.buttons["chart"], LEFT)
    settle(window)
    chart = window.centre.pane("chart")
    assert isinstance(chart, ChartPane)
    assert chart.what.currentText() == "Control"
    assert chart.words.text().startswith("24 results: bias")
    chart.of.setCurrentText("duplicates")
    chart.redraw()
    settle(window)
    assert "48 pairs" in chart.words.text()


def test_holes_are_merged_only_with_a_tick(demo_window: Window) -> None:
    window = demo_window
    pane = open_checks(window, "Emberlow holes", "Same hole?")
    QTest.mouseClick(pane.buttons["merge"], LEFT)
    form = window.steps.form
    assert form is not None
    settle(window)
    table = form.preview.table  # type: ignore[union-attr]
    assert [table.item(0, c).text() for c in range(3)] == ["EMB-015", "EMB015", "lithology, 1 rows"]
    assert not form.run_button.isEnabled()
    table.item(0, 0).setCheckState(Qt.CheckState.Checked)
    assert form.run_button.isEnabled()
    run_form(window)
    pane = open_checks(window, "Emberlow holes", "Same hole?")
    assert pane.count.text() == "no hole is written in two ways"


def test_codes_are_grouped_by_typed_rules(demo_window: Window) -> None:
    window = demo_window
    window.steps.open_form("group-codes")
    form = window.steps.form
    assert form is not None
    box = form.fields["attribute"].findChild(QComboBox)
    assert box is not None
    assert "Sn_ppm" not in [box.itemText(k) for k in range(box.count())]
    choose(box, "Rock")
    box.activated.emit(box.currentIndex())
    settle(window)
    preview = form.preview
    assert isinstance(preview, RulesPreview)
    assert wait_until(lambda: preview.codes.rowCount() == 12, 10)
    preview.rules.item(0, 0).setText("*L*")  # type: ignore[union-attr]
    preview.rules.item(0, 1).setText("Layered")  # type: ignore[union-attr]
    assert preview.rules.rowCount() == 2
    assert wait_until(lambda: "Layered" in {preview.codes.item(r, 2).text() for r in range(12)}, 5)  # type: ignore[union-attr]
    units = {preview.codes.item(r, 0).text(): preview.codes.item(r, 2).text() for r in range(12)}  # type: ignore[union-attr]
    assert units["SLATE"] == units["TILL"] == "Layered"
    assert units["GRAN"] == "none"
    assert "of the metres have no unit yet" in preview.words.text()
    run_form(window)
    assert "Unit" in window.ctx.store.find("Emberlow holes").attributes  # type: ignore[union-attr]


def test_a_click_on_the_layout_turns_a_line_round(demo_window: Window) -> None:
    window = demo_window
    form = window.steps.open_form("import-resistivity")
    form.fields["readings"].set_value([str(FILES / "geophysics" / f"resistivity_line_{k}.csv") for k in (1, 2)])
    form.fields["electrodes"].set_value(
        [str(FILES / "geophysics" / f"resistivity_line_{k}_electrodes.csv") for k in (1, 2)]
    )
    preview = form.preview
    assert isinstance(preview, LayoutPreview)
    assert wait_until(lambda: preview.isVisible() and len(preview.view.electrodes) == 96, 10)
    first = preview.view.lines()["2"][0]
    middle = preview.view.lines()["2"][24]
    QTest.mouseClick(preview.view, LEFT, pos=QPoint(round(middle[0]), round(middle[1])))
    assert form.values()["reverse"] == ["2"]
    assert wait_until(lambda: preview.view.reversed == {"2"}, 10)
    last = preview.view.lines()["2"][-1]
    assert last == pytest.approx(first, abs=1)
    image = widget_image(window, preview.view)
    assert any(
        image.pixelColor(round(middle[0]) + dx, round(middle[1]) + dy).name() == window.ctx.theme.lit.lower()
        for dx in range(-3, 4)
        for dy in range(-3, 4)
    )


def test_class_breaks_colour_all_panes_and_values_are_drawn_down_a_hole(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    window.centre.show_view("chart", "Histogram")
    settle(window)
    chart = window.centre.pane("chart")
    assert isinstance(chart, ChartPane)
    type_into(chart.breaks, "20; 200; 800")
    QTest.keyClick(chart.breaks, Qt.Key.Key_Return)
    settle(window)
    holes = window.ctx.item(window.ctx.selected)
    assert isinstance(holes, HoleSet)
    legend = window.ctx.legend("Sn_ppm", holes)
    assert (legend.scale, legend.breaks) == ("classes", (20.0, 200.0, 800.0))
    values = holes.tables["assay"]["Sn_ppm"].dropna().to_numpy()
    counts = np.histogram(values, [-np.inf, 20, 200, 800, np.inf])[0]
    assert chart.words.text().endswith("in classes " + " · ".join(f"{c:,}" for c in counts))
    type_into(chart.breaks, "a; b")
    QTest.keyClick(chart.breaks, Qt.Key.Key_Return)
    assert "is not a list of numbers" in window.strip.last.text()
    window.centre.show_view("chart", "Along")
    settle(window)
    chart.of.setCurrentText("EMB007")
    chart.redraw()
    settle(window)
    rows = holes.tables["assay"].query("hole == 'EMB007'")
    assert chart.words.text() == f"{len(rows)} values of EMB007"
    # Picking an interval of another hole elsewhere shows that hole here.
    other = int(np.flatnonzero(holes.tables["assay"]["hole"] == "EMB011")[4])
    from innerlamp.app.context.context import Selection

    window.ctx.select_rows(Selection(window.ctx.selected, "assay", (other,)))
    settle(window)
    assert chart.of.currentText() == "EMB011"


def test_every_import_of_the_table_can_be_reached_from_the_steps(demo_window: Window) -> None:
    window = demo_window
    window.steps.show_area("Data")
    assert {n for n, op in OPERATIONS.items() if op.area == "Data"} | {"bring-in"} == set(window.steps.step_buttons)
