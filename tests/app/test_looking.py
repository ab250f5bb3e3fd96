"""Looking at data: conditions and named selections, charts and brushing, line profiles, the difference card."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QPushButton

from innerlamp.app.mainwindow.difference import DifferenceCard
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.charts.chart_pane import ChartPane
from innerlamp.app.panes.charts.profile_pane import ProfilePane
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.tables.table_pane import TablePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.compute.drilling.logged import logged_at
from innerlamp.core.compute.geometry.lines import distance_along, natural
from innerlamp.core.compute.statistics.spikes import isolated
from innerlamp.core.items.attributes import plain_number
from innerlamp.core.items.holes import HoleSet
from innerlamp.demo.build import FILES

from .conftest import choose, coloured_share, run_form, type_into, widget_image
from .test_sitting import fill, open_step

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier


def find(window: Window, name: str) -> str:
    assert window.ctx.store is not None
    return window.ctx.store.find(name).id


def drag(view, start: QPoint, stop: QPoint) -> None:  # type: ignore[no-untyped-def]
    QTest.mousePress(view, LEFT, NONE, start)
    for k in range(1, 8):
        QTest.mouseMove(view, start + (stop - start) * k / 7)
        wait_until(lambda: False, 0.02)
    QTest.mouseRelease(view, LEFT, NONE, stop)


def table_of(window: Window) -> TablePane:
    table = window.centre.pane("table")
    assert isinstance(table, TablePane)
    return table


# ---- conditions


def test_a_condition_shows_its_rows_and_selects_them_everywhere(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    table, map_pane = table_of(window), window.centre.pane("map")
    assert isinstance(map_pane, MapPane)
    ctx.select_item(find(window, "Emberlow holes"))
    settle(window)
    assay = ctx.item(ctx.selected).tables["assay"]  # type: ignore[union-attr]
    type_into(table.filter, "Sn_ppm > 2000 and W_ppm < 400")
    QTest.keyClick(table.filter, Qt.Key.Key_Return)
    wanted = np.flatnonzero((assay["Sn_ppm"] > 2000) & (assay["W_ppm"] < 400))
    assert table.model is not None
    assert table.model.rowCount() == len(wanted)
    assert table.count.text() == f"{len(wanted):,} of {len(assay):,} rows"
    table.view.sortByColumn(list(table.model.table.columns).index("Sn_ppm"), Qt.SortOrder.DescendingOrder)
    first = int(table.model.order[0])
    assert assay["Sn_ppm"].iloc[first] == assay["Sn_ppm"].iloc[wanted].max()
    QTest.mouseClick(table.take, LEFT)
    assert ctx.selection.rows == tuple(wanted)
    assert len(map_pane._marked.getData()[0]) == len(wanted)
    table.keep_condition("rich and clean")
    type_into(table.filter, "gold > 1")
    QTest.keyClick(table.filter, Qt.Key.Key_Return)
    assert "there is no column 'gold'" in window.strip.last.text()
    assert table.model.rowCount() == len(wanted)  # nothing was lost
    table.filter.clear()
    assert table.model.rowCount() == len(assay)
    choose(table.named, "rich and clean")
    table.named.activated.emit(table.named.currentIndex())
    assert table.filter.text() == "Sn_ppm > 2000 and W_ppm < 400"
    assert table.model.rowCount() == len(wanted)


def test_headings_tell_the_facts_of_a_column(demo_window: Window) -> None:
    window = demo_window
    window.ctx.select_item(find(window, "Soils"))
    settle(window)
    table = table_of(window)
    assert table.model is not None
    column = list(table.model.table.columns).index("Sn ppm")
    tip = str(table.model.headerData(column, Qt.Orientation.Horizontal, Qt.ItemDataRole.ToolTipRole))
    values = window.ctx.item(window.ctx.selected).table["Sn ppm"]  # type: ignore[union-attr]
    assert f"known: {values.notna().sum()}" in tip
    assert f"50 %: {values.median():.4g}" in tip


def test_a_computed_column_is_a_new_version_and_can_be_undone(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    open_step(window, 1, "compute-column")
    fill(window, item="Emberlow holes", name="SnW", expression="Sn_ppm + W_ppm * 0.5", unit="ppm")
    run_form(window)
    holes = ctx.item(find(window, "Emberlow holes"))
    assert isinstance(holes, HoleSet)
    assay = holes.tables["assay"]
    assert assay["SnW"].to_numpy() == pytest.approx((assay["Sn_ppm"] + assay["W_ppm"] * 0.5).to_numpy(), nan_ok=True)
    assert wait_until(lambda: "stale" not in ctx.freshness().values(), 120)  # what hangs from the holes is made again
    assert ctx.store is not None
    source = ctx.store.entry(find(window, "Emberlow holes"))
    assert (source.id, source.version) in ctx.store.entry(find(window, "Sn_ppm composites 6 m")).needs
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert "SnW" not in ctx.entry(find(window, "Emberlow holes")).attributes  # type: ignore[union-attr]
    assert ctx.freshness()[find(window, "Sn_ppm composites 6 m")] == "fresh"


# ---- charts


def chart(window: Window, kind: str, item: str = "Emberlow holes") -> ChartPane:
    window.ctx.select_item(find(window, item))
    window.centre.frames[2].show_kind("chart")
    settle(window)
    pane = window.centre.frames[2].pane
    assert isinstance(pane, ChartPane)
    choose(pane.what, kind)
    pane.what.activated.emit(0)
    settle(window)
    return pane


def test_brushing_a_histogram_selects_in_the_table_and_on_the_map(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane, map_pane = chart(window, "Histogram"), window.centre.pane("map")
    assert isinstance(map_pane, MapPane)
    assert pane.across.currentText() == "Sn_ppm"
    assert pane.log.isChecked()  # its legend is logarithmic
    assert coloured_share(widget_image(window, pane.plot)) > 0.05
    at = [pane.plot.mapFromScene(pane.view.mapViewToScene(QPointF(x, 20.0))) for x in (3.3, 4.4)]
    drag(pane.plot.viewport(), at[0], QPoint(at[1].x(), at[1].y() - 40))
    assay = ctx.item(ctx.selected).tables["assay"]  # type: ignore[union-attr]
    rows = np.array(ctx.selection.rows)
    assert ctx.selection.table == "assay"
    assert len(rows) == pytest.approx(int(((assay["Sn_ppm"] > 10**3.3) & (assay["Sn_ppm"] < 10**4.4)).sum()), rel=0.08)
    assert assay["Sn_ppm"].iloc[rows].min() == pytest.approx(10**3.3, rel=0.05)
    assert len(map_pane._marked.getData()[0]) == len(rows)
    settle(window)
    assert pane._data is not None
    assert pane._data.chosen.sum() == len(rows)


def test_scatter_says_the_same_as_pandas(demo_window: Window) -> None:
    pane = chart(demo_window, "Scatter")
    choose(pane.upward, "W_ppm")
    pane.upward.activated.emit(0)
    settle(demo_window)
    assay = demo_window.ctx.item(demo_window.ctx.selected).tables["assay"][["Sn_ppm", "W_ppm"]]  # type: ignore[union-attr]
    logs = np.log10(assay.where(assay > 0))
    assert f"r {logs.corr().iloc[0, 1]:.2f}, by rank {assay.corr('spearman').iloc[0, 1]:.2f}" in pane.words.text()


def test_boxes_take_the_rock_that_was_logged(demo_window: Window) -> None:
    pane = chart(demo_window, "Boxes")
    choose(pane.by, "Rock")
    pane.by.activated.emit(0)
    settle(demo_window)
    assert pane.words.text().startswith("12 classes")
    holes = demo_window.ctx.item(demo_window.ctx.selected)
    assert isinstance(holes, HoleSet)
    assay, log = holes.tables["assay"], holes.tables["lithology"]
    rocks = logged_at(assay, log, "Rock")
    for row in (0, 1500, 4000):
        middle = 0.5 * (assay["from_m"].iloc[row] + assay["to_m"].iloc[row])
        hit = log[(log["hole"] == assay["hole"].iloc[row]) & (log["from_m"] <= middle) & (log["to_m"] > middle)]
        assert rocks[row] == (hit["Rock"].iloc[0] if len(hit) else "")


@pytest.mark.parametrize("kind", ["Probability", "Correlation", "By rank"])
def test_other_charts_draw_something(demo_window: Window, kind: str) -> None:
    pane = chart(demo_window, kind, "Soils")
    assert len(pane.plot.getPlotItem().items) > 2
    assert "," in pane.words.text()
    assert coloured_share(widget_image(demo_window, pane.plot)) > 0.005


def test_charts_of_items_without_numbers_say_so(demo_window: Window) -> None:
    pane = chart(demo_window, "Histogram")
    demo_window.ctx.select_item(find(demo_window, "Ground"))
    settle(demo_window)
    assert pane.hint.isVisible()
    assert not pane.plot.isVisible()


# ---- profiles


def profiles(window: Window) -> ProfilePane:
    window.ctx.select_item(find(window, "Airborne magnetics"))
    window.centre.frames[2].show_kind("profile")
    assert settle(window)
    pane = window.centre.frames[2].pane
    assert isinstance(pane, ProfilePane)
    return pane


def test_one_key_goes_to_the_next_line_and_three_lie_above_each_other(demo_window: Window) -> None:
    pane = profiles(demo_window)
    assert pane.line.count() == 86
    first = pane.shown_lines()
    QTest.keyClick(pane.stack, Qt.Key.Key_PageUp)
    settle(demo_window)
    assert pane.line.currentIndex() == 1
    assert pane.shown_lines() != first
    pane.three.click()
    settle(demo_window)
    assert len(pane.plots) == 3
    ranges = [plot.viewRange()[1] for _, plot, _ in pane.plots]
    assert ranges[0] == ranges[1] == ranges[2]  # one scale
    pane.common.click()
    settle(demo_window)
    assert len({tuple(plot.viewRange()[1]) for _, plot, _ in pane.plots}) > 1
    QTest.keyClick(pane.stack, Qt.Key.Key_PageDown)
    QTest.keyClick(pane.stack, Qt.Key.Key_PageDown)
    settle(demo_window)
    assert pane.line.currentIndex() == 0


def test_spikes_are_those_of_the_filter_with_the_window_shown(demo_window: Window) -> None:
    pane = profiles(demo_window)
    table = demo_window.ctx.item(demo_window.ctx.selected).table  # type: ignore[union-attr]
    choose(pane.first, "RAW_TMI_nT")
    pane.first.activated.emit(0)
    pane.spikes.click()
    type_into(pane.limit, "4")
    QTest.keyClick(pane.limit, Qt.Key.Key_Return)
    settle(demo_window)
    line = pane.shown_lines()[0]
    rows = np.flatnonzero(table["line"].to_numpy() == line)
    expected = rows[isolated(table["RAW_TMI_nT"].to_numpy(float)[rows], 5, 4.0)[0]]
    assert pane.found[line].tolist() == expected.tolist()
    assert f"{len(expected)} spikes at ± 5 readings, limit 4" in pane.words.text()


def test_the_reading_under_the_mouse_is_lit_on_the_map(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    pane, map_pane = profiles(window), window.centre.pane("map")
    assert isinstance(map_pane, MapPane)
    line, plot, along = pane.plots[0]
    middle = len(along) // 2
    at = pane.stack.mapFromScene(
        plot.vb.mapViewToScene(QPointF(float(along[middle]), float(np.mean(plot.viewRange()[1]))))
    )
    QTest.mouseMove(pane.stack.viewport(), at)
    assert wait_until(lambda: ctx.cursor.source == "profile", 5)
    table = ctx.item(ctx.selected).table  # type: ignore[union-attr]
    rows = table[table["line"] == line]
    away = np.hypot(rows["x"] - ctx.cursor.x, rows["y"] - ctx.cursor.y)
    assert away.min() == 0.0
    assert map_pane._cross[1].value() == pytest.approx(ctx.cursor.x)
    QTest.mouseClick(pane.stack.viewport(), LEFT, NONE, at)
    settle(window)
    assert ctx.selection.item == find(window, "Airborne magnetics")
    assert table["line"].iloc[ctx.selection.rows[0]] == line


def test_lines_run_to_the_east_or_north_whichever_way_they_were_flown() -> None:
    x = np.linspace(1000, 0, 11)
    assert distance_along(x, x * 0.1) == pytest.approx(np.linspace(np.hypot(1000, 100), 0, 11))
    assert distance_along(np.zeros(5), np.arange(5.0)) == pytest.approx(np.arange(5.0))
    assert distance_along(np.zeros(1), np.zeros(1)).tolist() == [0.0]
    assert sorted(["L10", "L9", "L100", "T2"], key=natural) == ["L9", "L10", "L100", "T2"]
    assert [plain_number(v) for v in (1000.0, 2.5, 1e-5)] == ["1\u2009000", "2.5", "1e-05"]


# ---- more data


def test_the_second_phase_comes_in_through_the_form_and_the_card_says_what_moved(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    folder: Path = FILES / "drilling_second_phase"
    shell = find(window, "Sn shell 800 ppm")
    before = ctx.store.load(shell).volume_m3  # type: ignore[union-attr]
    open_step(window, 1, "add-holes")
    fill(
        window,
        holes="Emberlow holes",
        collar=str(folder / "collars.csv"),
        survey=str(folder / "downhole_surveys.csv"),
        assay=str(folder / "assays.csv"),
        lithology=str(folder / "geology_log.csv"),
    )
    preview = window.steps.form.preview  # type: ignore[union-attr]
    assert wait_until(lambda: preview.counts.text() == "Holes: 0 changed, 0 gone, 20 new, 40 unchanged", 20)  # type: ignore[union-attr]
    assert preview.holes.item(0, 1).text() == "new"  # type: ignore[union-attr]
    run_form(window)
    said = [window.strip.log.item(k).text() for k in range(window.strip.log.count())]
    assert any("20 new, 0 changed, 0 gone, 40 unchanged" in text for text in said)
    assert wait_until(lambda: set(ctx.freshness().values()) <= {"source", "fresh"}, 90)
    ctx.select_item(shell)
    settle(window)
    card = window.card.findChild(DifferenceCard)
    assert card is not None
    assert wait_until(lambda: len(card.rows) >= 5, 20)
    rows = {what: (a, b) for what, a, b in card.rows}
    assert rows["Volume"][0] == f"{before / 1e6:,.6g} million m³"
    assert float(rows["Volume"][1].split()[0]) > before / 1e6
    link = next(b for b in card.findChildren(QPushButton) if b.text() == "Moved: farthest")
    QTest.mouseClick(link, LEFT)
    assert np.isfinite(ctx.cursor.z)
    # The A/B switch lights the version before, then the present one again.
    QTest.mouseClick(card.switch, LEFT)
    settle(window)
    copy = next(e for e in ctx.entries() if e.dated)
    assert copy.id in ctx.lit
    assert shell not in ctx.lit
    card = window.card.findChild(DifferenceCard)
    assert card is not None
    assert card.findChild(QComboBox, "compareWith").currentText().startswith("dated copy")  # type: ignore[union-attr]
    QTest.mouseClick(card.switch, LEFT)
    assert shell in ctx.lit
    assert copy.id not in ctx.lit
