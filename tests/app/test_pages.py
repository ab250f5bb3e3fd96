"""Pages in the window: a page is made of what is lit, its elements are dragged and typed at, and it is written."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.sheets.page_pane import PagePane
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.page import Page

from .conftest import coloured_share, finish_jobs, run_form, type_into, widget_image

LEFT = Qt.MouseButton.LeftButton


def opened(window: Window, name: str = "Emberlow A3") -> PagePane:
    store = window.ctx.store
    assert store is not None
    if name:
        window.ctx.select_item(store.find(name).id)
    window.centre.frames[0].show_kind("page")
    window.centre.toggle_fill(0)
    assert settle(window)
    pane = window.centre.pane("page")
    assert isinstance(pane, PagePane)
    return pane


def stored(window: Window, name: str = "Emberlow A3") -> Page:
    assert window.ctx.store is not None
    page = window.ctx.store.load(window.ctx.store.find(name).id)
    assert isinstance(page, Page)
    return page


def number_of(page: Page, kind: str) -> int:
    return next(k for k, e in enumerate(page.layout) if e.kind == kind)


def finished(window: Window) -> None:
    assert wait_until(lambda: not any(j.active for j in window.ctx.jobs), 30)
    assert settle(window)


def test_a_page_shows_its_map_and_its_elements_are_moved_resized_and_undone(demo_window: Window) -> None:
    window = demo_window
    pane = opened(window)
    page = stored(window)
    number = number_of(page, "map")
    rect = pane.sheet.rect_of(page.layout[number])
    image = widget_image(window, pane.sheet).copy(rect.toRect())
    assert coloured_share(image) > 0.03  # the geology, in its colours
    title = number_of(page, "title")
    before = page.layout[title]
    start = pane.sheet.rect_of(before).center().toPoint()
    scale = pane.sheet.scale()
    QTest.mousePress(pane.sheet, LEFT, pos=start)
    QTest.mouseMove(pane.sheet, start + QPoint(0, round(-20 * scale)))
    QTest.mouseRelease(pane.sheet, LEFT, pos=start + QPoint(0, round(-20 * scale)))
    assert pane.about.text() == "title"
    finished(window)
    after = stored(window).layout[title]
    assert after.y == pytest.approx(before.y - 20, abs=1.0) and after.x == pytest.approx(before.x, abs=0.6)
    corner = pane.sheet.handles(after)["nw"].toPoint()
    QTest.mousePress(pane.sheet, LEFT, pos=corner)
    QTest.mouseMove(pane.sheet, corner + QPoint(round(10 * scale), 0))
    QTest.mouseRelease(pane.sheet, LEFT, pos=corner + QPoint(round(10 * scale), 0))
    finished(window)
    assert stored(window).layout[title].w == pytest.approx(after.w - 10, abs=1.0)
    QTest.keyClick(pane.sheet, Qt.Key.Key_Down)
    finished(window)
    assert stored(window).layout[title].y == pytest.approx(after.y + 1.0)
    QTest.keyClick(pane.sheet, Qt.Key.Key_Delete)
    finished(window)
    assert "title" not in {e.kind for e in stored(window).layout}
    for _ in range(4):
        window.ctx.undo()
    assert stored(window).layout[title] == before


def test_scale_and_words_are_typed_and_the_ground_is_moved_under_a_map(demo_window: Window) -> None:
    window = demo_window
    pane = opened(window)
    page = stored(window)
    number = number_of(page, "map")
    pane.choose(number)
    type_into(pane.edits["scale"], "20000")
    QTest.keyClick(pane.edits["scale"], Qt.Key.Key_Return)
    finished(window)
    assert stored(window).layout[number].scale == 20_000
    middle = pane.sheet.rect_of(stored(window).layout[number]).center().toPoint()
    step = QPoint(round(25 * pane.sheet.scale()), 0)
    QTest.mousePress(pane.sheet, LEFT, Qt.KeyboardModifier.ShiftModifier, middle)
    QTest.mouseMove(pane.sheet, middle + step)
    QTest.mouseRelease(pane.sheet, LEFT, Qt.KeyboardModifier.ShiftModifier, middle + step)
    finished(window)
    moved = stored(window).layout[number]
    assert moved.easting == pytest.approx(page.layout[number].easting - 500.0, abs=25.0)
    notes = number_of(page, "notes")
    pane.choose(notes)
    type_into(pane.edits["text"], "First line\\nsecond")
    QTest.keyClick(pane.edits["text"], Qt.Key.Key_Return)
    finished(window)
    assert stored(window).layout[notes].text == "First line\nsecond"
    said: list[str] = []
    window.ctx.said.connect(lambda text, _: said.append(text))
    pane.choose(number)
    type_into(pane.edits["scale"], "large")
    QTest.keyClick(pane.edits["scale"], Qt.Key.Key_Return)
    assert any("'large' is not a number" in text for text in said)


def test_a_page_is_made_of_what_is_lit_and_written(demo_window: Window, tmp_path: Path) -> None:
    import pypdfium2

    window = demo_window
    pane = opened(window, "")
    store = window.ctx.store
    assert store is not None
    for item in list(window.ctx.lit):
        window.ctx.set_lit(item, False)
    for name in ("Ground", "Soils"):
        window.ctx.set_lit(store.find(name).id)
    QTest.mouseClick(pane.new, LEFT)
    form = window.steps.form
    assert form is not None and form.operation.name == "make-page"
    assert tuple(form.values()["lit"]) == ("Ground", "Soils")
    form.fields["heading"].set_value("Soils only")
    words = run_form(window)
    assert "map at 1:" in words
    assert pane.which.currentText() == "Soils only"
    pane.export_to(tmp_path / "made.pdf")
    finish_jobs(window)
    text = pypdfium2.PdfDocument((tmp_path / "made.pdf").read_bytes())[0].get_textpage().get_text_bounded()
    assert "Soils only" in text and "Sn (ppm)" in text
    pane.export_to(tmp_path / "no" / "made.pdf")
    finish_jobs(window)
    assert "no such folder" in window.strip.last.text()
    assert sorted(p.name for p in tmp_path.iterdir() if p.suffix == ".pdf") == ["made.pdf"]


def test_a_log_is_added_at_true_scale(demo_window: Window, tmp_path: Path) -> None:
    import pypdfium2

    window = demo_window
    store = window.ctx.store
    assert store is not None
    pane = opened(window)
    window.ctx.set_lit(store.find("Emberlow holes").id)
    settle(window)
    pane.add("log")
    finished(window)
    pane.choose(len(stored(window).elements) - 1)
    for name, text in (("text", "EMB010"), ("scale", "5000")):
        type_into(pane.edits[name], text)
        QTest.keyClick(pane.edits[name], Qt.Key.Key_Return)
        finished(window)
    log = stored(window).layout[-1]
    assert (log.kind, log.text, log.scale) == ("log", "EMB010", 5000.0)
    pane.export_to(tmp_path / "log.pdf")
    finish_jobs(window)
    text = pypdfium2.PdfDocument((tmp_path / "log.pdf").read_bytes())[0].get_textpage().get_text_bounded()
    text = "".join(text.split())  # the reader finds spaces or not, by its own rules
    assert "EMB010," in text and "Rock" in text and "W(ppm)" in text
    type_into(pane.edits["text"], "NO1")
    QTest.keyClick(pane.edits["text"], Qt.Key.Key_Return)
    finished(window)
    assert "no hole 'NO1'" in " ".join(label for label in [window.strip.last.text()])
    pane.export_to(tmp_path / "again.pdf")
    finish_jobs(window)
    said = [window.strip.log.item(k).text() for k in range(window.strip.log.count())]
    assert any("without log: " in words and "no hole 'NO1'" in words for words in said)


def test_north_is_that_of_the_place_and_the_day() -> None:
    """Against ppigrf and pyproj directly: east of the central meridian true north lies to the west of grid north."""
    from datetime import datetime

    import ppigrf
    import pyproj

    from innerlamp.app.pages.furniture import north_angles
    from innerlamp.core.items.page import Element

    frame = Element(kind="map", x=0, y=0, w=100, h=100, easting=700_000.0, northing=5_600_000.0, scale=1000)
    true, magnetic = north_angles("EPSG:32629", frame, "2025-01-01")
    lon, lat = pyproj.Transformer.from_crs(32629, 4326, always_xy=True).transform(700_000.0, 5_600_000.0)
    turn = pyproj.Proj(32629).get_factors(lon, lat).meridian_convergence
    assert true == pytest.approx(-turn, abs=1e-6) and true < -1.5
    east, north, _ = ppigrf.igrf(lon, lat, 0.0, datetime(2025, 1, 1))
    declination = ppigrf.ppigrf.np.degrees(ppigrf.ppigrf.np.arctan2(east, north)).item()
    assert magnetic == pytest.approx(declination - turn, abs=1e-6)
