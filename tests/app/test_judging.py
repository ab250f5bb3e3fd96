"""Batches of the laboratory in the window: listed, lit in all panes, left out, charted and on a page."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest

from innerlamp.api import Project
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.charts.chart_pane import ChartPane
from innerlamp.app.panes.map.map_pane import MapPane
from innerlamp.app.panes.sheets.page_pane import PagePane
from innerlamp.app.panes.tables.checks_pane import ChecksPane
from innerlamp.app.panes.tables.table_pane import TablePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.holes import HoleSet

from .conftest import run_form, widget_image

LEFT = Qt.MouseButton.LeftButton
HEAD = "HoleID,From,To,Sample,Sample type,Standard,Parent,Lote,Au_ppm,Cu_pct"


def prospect(folder: Path) -> Path:
    """A project in the south at 4,000 m with six batches; the standard of L4 fails, and each batch has ten duplicates."""
    rng = np.random.default_rng(5)
    rows, number, at = [], 1000, {"RC1": 0, "RC2": 0}
    for batch in range(6):
        for k in range(20):
            hole = "RC1" if batch % 2 else "RC2"
            grade = float(np.exp(rng.normal(0, 1)))
            rows.append(f"{hole},{at[hole]},{at[hole] + 2},S{number},ORIG,,,L{batch},{grade:.3f},{grade / 10:.3f}")
            if k % 2:
                twice = grade * (1 + 0.05 * rng.normal())
                rows.append(f",,,D{number},DUP,,S{number},L{batch},{twice:.3f},{twice / 10:.3f}")
            at[hole], number = at[hole] + 2, number + 1
        for k in range(2):
            gold = 3.6 if batch == 4 and k else 2.9 + 0.04 * rng.normal()
            rows.append(f",,,C{number}{k},STD,OX77,,L{batch},{gold:.3f},0.311")
        rows.append(f",,,B{number},BLANK,,,L{batch},<0.01,<0.001")
    files = folder / "files"
    files.mkdir()
    collars = "RC1,500000,7000000,4100,300,0,-60\nRC2,500050,7000020,4105,300,0,-90\n"
    (files / "collar.csv").write_text("HoleID,Easting,Northing,RL,Depth,Azimuth,Dip\n" + collars, encoding="utf-8")
    (files / "assay.csv").write_text(HEAD + "\n" + "\n".join(rows) + "\n", encoding="utf-8")
    with Project.create(folder / "Sur.lamp", "EPSG:32719") as project:
        project.bring([files])
    return folder / "Sur.lamp"


def test_batches_are_lit_judged_left_out_and_on_a_page(window: Window, tmp_path: Path) -> None:
    ctx = window.ctx
    assert window.open_path(prospect(tmp_path))
    settle(window)
    (entry,) = [e for e in ctx.entries() if e.kind == "holes"]
    ctx.select_item(entry.id)
    window.centre.show_view("checks", "Batches")
    settle(window)
    pane = window.centre.pane("checks")
    assert isinstance(pane, ChecksPane)
    assert wait_until(lambda: pane.model is not None and pane.what.currentText() == "Batches", 20)
    assert pane.count.text() == "1 of 6 batches fail"
    assert pane.model is not None and pane.model.table["batch"].iloc[0] == "L4"
    # The samples of that batch, in all panes.
    QTest.mouseClick(pane.buttons["samples"], LEFT)
    settle(window)
    holes = ctx.item(entry.id)
    assert isinstance(holes, HoleSet)
    wanted = np.flatnonzero(holes.tables["assay"]["Lote"] == "L4")
    assert (ctx.selection.table, ctx.selection.rows) == ("assay", tuple(wanted.tolist()))
    window.centre.show_view("table", "")
    settle(window)
    table = window.centre.pane("table")
    assert isinstance(table, TablePane) and table.model is not None
    row = int(np.flatnonzero(np.asarray(table.model.order) == wanted[0])[0])
    table.view.scrollTo(table.model.index(row, 0))
    settle(window)
    box = table.view.visualRect(table.model.index(row, 0))
    image = widget_image(window, table.view.viewport())
    lit = QColor(ctx.theme.lit_soft).name()
    assert any(image.pixelColor(x, box.center().y()).name() == lit for x in range(box.left(), box.right()))
    # Judged with a certified value, and left out: the grades of gold are gone, those of copper stay.
    window.centre.show_view("checks", "Batches")
    settle(window)
    pane.view.selectRow(0)
    QTest.mouseClick(pane.buttons["judge"], LEFT)
    form = window.steps.form
    assert form is not None and form.values()["attributes"] == ["Au_ppm"]
    form.fields["certified"].set_value([{"standard": "OX77", "element": "Au", "value": 2.9, "deviation": 0.05}])
    form.fields["failed"].set_value("left out")
    run_form(window)
    made = ctx.item(entry.id)
    assert isinstance(made, HoleSet)
    after = made.tables["assay"]
    assert np.isnan(after["Au_ppm"].to_numpy()[wanted]).all() and after["Au_ppm"].notna().sum() == 100
    assert after["Cu_pct"].notna().all()
    assert set(after["Batch check"][wanted]) == {"failed"} and (after["Batch check"] == "failed").sum() == 20
    # The chart of the standard and that of precision say what came of it.
    window.centre.show_view("chart", "Control")
    settle(window)
    chart = window.centre.pane("chart")
    assert isinstance(chart, ChartPane)
    assert [chart.of.itemText(k) for k in range(chart.of.count())] == [
        "OX77", "blanks", "duplicates", "precision by grade", "batches",
    ]  # fmt: skip
    for group, words in (
        ("OX77", "12 results: bias"),
        ("precision by grade", "50 pairs: s ="),
        ("batches", "6 batches, 1 fail"),
    ):
        chart.of.setCurrentText(group)
        chart.redraw()
        settle(window)
        assert chart.words.text().startswith(words)
    # The page: charts with ink in each, a red cross where the standard failed.
    window.steps.open_form("control-pages")
    settle(window)
    run_form(window)
    page = next(e for e in ctx.entries() if e.kind == "page")
    ctx.select_item(page.id)
    window.centre.show_view("page", "")
    settle(window)
    sheet = window.centre.pane("page")
    assert isinstance(sheet, PagePane) and sheet.page is not None
    kinds = [e["text"] for e in sheet.page.elements if e["kind"] == "chart" and e["fields"]["attribute"] == "Au_ppm"]
    assert kinds == ["OX77", "blanks", "duplicates", "precision by grade", "batches"]
    image = widget_image(window, sheet)
    red = [
        (x, y)
        for x in range(0, image.width())
        for y in range(0, image.height())
        if (c := image.pixelColor(x, y)).red() > c.green() + 70 and c.red() > c.blue() + 70 and c.green() < 140
    ]
    assert red


def test_the_cursor_is_told_in_a_grid_that_the_project_knows_by_name(window: Window, tmp_path: Path) -> None:
    """By hand: the mine grid lies 1,000 m west and 2,000 m south of the project's last digits, and its heights 4,000 m lower."""
    ctx = window.ctx
    points = "Mine grid: 1000 2000 0 = 501000 7002000 4000; 1500 2100 0 = 501500 7002100 4000"
    (tmp_path / "collar.csv").write_text("HoleID,East,North,RL,Depth\nA,1200,2300,150,100\n", encoding="utf-8")
    with Project.create(tmp_path / "Sur.lamp", "EPSG:32719") as project:
        project.run("import-holes", collar=str(tmp_path / "collar.csv"), coordinates=points)
    assert window.open_path(tmp_path / "Sur.lamp")
    settle(window)
    strip = window.strip
    assert strip.grid.isVisible() and [strip.grid.itemText(k) for k in range(2)] == ["project", "Mine grid"]
    ctx.point_at(501_200.0, 7_002_300.0, 4_150.0, "")
    told = lambda: strip.cursor_words.text().replace("\u2009", "")  # noqa: E731
    assert wait_until(lambda: told() == "E 501200.0  N 7002300.0  4150.0 m", 5)
    strip.grid.setFocus()
    QTest.keyClick(strip.grid, Qt.Key.Key_Down)
    assert wait_until(lambda: told() == "E 1200.0  N 2300.0  150.0 m", 5)
    # Its lines stand on the map: not one of the project's own choice, and gone with it.
    pane = window.centre.pane("map")
    assert isinstance(pane, MapPane)
    pane.plot.setRange(xRange=(501_000, 501_400), yRange=(7_002_100, 7_002_500), padding=0)
    settle(window)
    with_lines = widget_image(window, pane.plot)
    QTest.keyClick(strip.grid, Qt.Key.Key_Up)
    settle(window)
    without = widget_image(window, pane.plot)
    scene = pane.plot.getViewBox()
    for x in (501_200.0, 501_203.0):  # local east 1,200 is a line of the grid, 1,203 is none
        spot = pane.plot.mapFromScene(scene.mapViewToScene(QPointF(x, 7_002_333.0)))
        row = [
            with_lines.pixelColor(spot.x() + k, spot.y()) != without.pixelColor(spot.x() + k, spot.y())
            for k in (-1, 0, 1)
        ]
        assert any(row) == (x == 501_200.0)
    QTest.keyClick(strip.grid, Qt.Key.Key_Down)
    ctx.close_project()
    assert not strip.grid.isVisible()
    assert window.open_path(tmp_path / "Sur.lamp")  # it is remembered with the project
    settle(window)
    ctx.point_at(501_200.0, 7_002_300.0, 4_150.0, "")
    assert wait_until(lambda: told() == "E 1200.0  N 2300.0  150.0 m", 5)
