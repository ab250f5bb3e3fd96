"""Pages of sections and logs as they come out: sheets are turned, drawn true to scale, written as one PDF."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pypdfium2
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from innerlamp.app.mainwindow.window import Window
from innerlamp.app.pages.above import panel_rects
from innerlamp.app.pages.frames import section_rect
from innerlamp.app.pages.paper import MM
from innerlamp.app.pages.writing import pdf_bytes, picture_of, write_page
from innerlamp.app.painters.kit.views import SectionView
from innerlamp.app.painters.section.upper import profile, profile_range, strip_holes
from innerlamp.app.session.legends import LegendBook
from innerlamp.app.start.waiting import settle
from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.errors import InputError
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.page import Element
from innerlamp.core.items.section_look import Beside, SectionLook, beside_from
from innerlamp.core.project.store import Store

from .conftest import choose, light_only, run_form, type_into
from .test_pages import finished, opened, stored

DOTS = 150.0


def words_of(pdf: bytes) -> list[str]:
    document = pypdfium2.PdfDocument(pdf)
    try:
        found = []
        for k in range(len(document)):
            page = document[k]
            text = page.get_textpage()
            found.append(text.get_text_bounded())
            text.close()
            page.close()
        return found
    finally:
        document.close()


def test_a_log_of_twelve_tracks_goes_over_sheets_and_is_true_to_scale(demo_window: Window, tmp_path: Path) -> None:
    window = demo_window
    pane = opened(window, "Log of EMB014")
    page = stored(window, "Log of EMB014")
    assert page.sheets == 4
    assert pane.turning.isVisible()
    first = pane.grab().toImage()
    choose(pane.turning, "2 of 4")
    settle(window)
    assert pane.sheet_number == 1
    assert pane.grab().toImage() != first
    QTest.keyClick(pane.sheet, Qt.Key.Key_PageDown)
    assert pane.turning.currentText() == "3 of 4"
    # An element that is added stands on the sheet that is shown.
    pane.add("notes")
    finished(window)
    assert stored(window, "Log of EMB014").layout[-1].sheet == 2
    assert pane.sheet_number == 2
    pdf, problems = pdf_bytes(window.ctx, page)
    assert problems == []
    sheets = words_of(pdf)
    assert len(sheets) == 4
    for k, words in enumerate(sheets):
        assert f"Sheet {k + 1} of 4" in words
        assert f"{90 * k} to {min(90 * (k + 1), 303)} m" in words
    # The first change of rock stands at its depth on paper: a millimetre is half a metre.
    holes = window.ctx.item(window.ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    assert isinstance(holes, HoleSet)
    log = holes.tables["lithology"]
    till = log[log["hole"].astype(str) == "EMB014"].iloc[0]
    element = next(e for e in page.layout if e.kind == "log")
    picture = picture_of(pdf, DOTS).astype(int)
    column = int((element.x + 34 / 96 * 25.4 + 1.0) / 25.4 * DOTS)
    strip = picture[:, column]
    top = int((element.y + 58 / 96 * 25.4) / 25.4 * DOTS)
    wanted = top + till["to_m"] / 0.5 / 25.4 * DOTS
    # Till is yellowish, clay under it green: the boundary is where red falls below green.
    greenish = np.flatnonzero(strip[top : top + 200, 1] - strip[top : top + 200, 0] > 60) + top
    assert greenish[0] == pytest.approx(wanted, abs=4)
    # Many sheets are one PDF, and no picture.
    with pytest.raises(InputError, match="4 sheets"):
        write_page(window.ctx, page, tmp_path / "log.png")
    write_page(window.ctx, page, tmp_path / "log.pdf")
    assert (tmp_path / "log.pdf").stat().st_size > 20_000


def test_sections_of_a_page_show_their_holes_and_stand_on_the_plan(demo_window: Window) -> None:
    window = demo_window
    page = stored(window, "Sections across the veins")
    sections = [e for e in page.layout if e.kind == "section"]
    assert len(sections) == 6
    pdf, problems = pdf_bytes(window.ctx, page)
    assert problems == []
    (words,) = words_of(pdf)
    for name in ("Section 1–1′", "Section 6–6′", "EMB014", "EMB020", "Sections across the veins", "GREIS"):
        assert name in words
    # The ground's line lies at its elevation, and nothing above it, near both ends where no hole stands.
    picture = picture_of(pdf, DOTS).astype(int)
    for element in sections[:2]:
        assert element.line is not None and element.elevation is not None
        plane = SectionPlane.along(element.line)
        for along in (0.04 * plane.length, 0.15 * plane.length):
            x, y = plane.to_map(np.array([along]))
            z = window.ctx.ground_at(float(x[0]), float(y[0]))
            across = element.x + 14 + (element.w - 24) / 2 + (along - plane.length / 2) * 1000.0 / element.scale
            down = element.y + 6 + (element.h - 13) / 2 - (z - element.elevation) * 1000.0 / element.scale
            row, column = int(down / 25.4 * DOTS), int(across / 25.4 * DOTS)
            assert picture[row - 3 : row + 4, column - 1 : column + 2].min() < 110  # ink
            assert picture[row - 16 : row - 6, column - 1 : column + 2].min() > 200


def test_fence_and_long_section_of_the_demo_come_out_whole(demo_window: Window) -> None:
    window = demo_window
    for name, told in (
        ("Fence from the veins to the skarn", ("fence of 3 pieces", "EMB019", "EMB033")),
        ("Long section of the main vein", ("EMB016: 25.8 m @ 0.381 %", "short", "grade x thickness")),
    ):
        page = stored(window, name)
        pdf, problems = pdf_bytes(window.ctx, page)
        assert problems == []
        (words,) = words_of(pdf)
        for each in told:
            assert each in words, (name, each)
        element: Element = next(e for e in page.layout if e.kind == "section")
        picture = picture_of(pdf, 60.0).astype(int)
        left, top, right, bottom = (
            int(v / 25.4 * 60)
            for v in (element.x + 15, element.y + 7, element.x + element.w - 11, element.y + element.h - 8)
        )
        inside = picture[top:bottom, left:right]
        coloured = (inside.max(axis=2) - inside.min(axis=2) > 60).mean()
        assert coloured > (0.2 if name.startswith("Long") else 0.003)


def test_panels_above_a_section_of_a_page_follow_its_distances(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    page = stored(window, "Fence from the veins to the skarn")
    element: Element = next(e for e in page.layout if e.kind == "section")
    assert element.above > 20 and element.line is not None
    pdf, problems = pdf_bytes(ctx, page)
    assert problems == []
    (words,) = words_of(pdf)
    assert "Magnetics at the pole: " in words and "+45 m" in words and "-45 m" in words
    picture = picture_of(pdf, DOTS).astype(int)
    rects = dict(panel_rects(element, section_rect(element)))
    plane = SectionPlane.along(element.line)
    grid = ctx.item(ctx.store.find("Magnetics at the pole").id)  # type: ignore[union-attr]
    assert isinstance(grid, Grid)
    view = SectionView(plane, element.corridor)
    along, values = profile(view, grid)
    low, high = profile_range(values)
    rect = rects["Magnetics at the pole"]
    m = element.scale / 1000.0 / MM
    west = plane.length / 2 - rect.width() * m / 2
    dots = DOTS / 96.0

    def ink(x: float, y: float) -> int:
        row, column = round(y * dots), round(x * dots)
        return int(picture[row - 2 : row + 3, column - 2 : column + 3].min())

    # The curve passes where the grid has its values, and nowhere near its mirror image.
    tried = 0
    for k in range(20, len(along) - 20, 25):
        x = rect.left() + (along[k] - west) / m
        y = rect.bottom() - (values[k] - low) / (high - low) * rect.height()
        mirror = rect.top() + rect.bottom() - y
        if abs(y - mirror) > 12 and rect.left() + 140 < x < rect.right() - 3 and rect.top() + 14 < mirror:
            tried += 1
            assert ink(x, y) < 140
            assert ink(x, mirror) > 200
    assert tried > 1
    # In the plan above a collar stands where it lies: its ring has ink around and white in it.
    holes = ctx.item(ctx.store.find("Emberlow holes").id)  # type: ignore[union-attr]
    assert isinstance(holes, HoleSet)
    found = strip_holes(holes, view)
    assert len(found.names) > 3
    strip = rects[""]
    up = 3.0 * element.corridor / strip.height()
    for (a, o), name in zip(found.collars.tolist(), found.names, strict=True):
        assert ink(strip.left() + (a - west) / m, strip.center().y() - o / up) < 150, name
    # Three corridors at the scale of the page: behind and in front are as far as they are on paper.
    assert up == pytest.approx(m, rel=0.2)


def test_the_form_of_section_pages_takes_what_the_section_pane_shows(demo_window: Window) -> None:
    window, ctx = demo_window, demo_window.ctx
    light_only(window, "Ground", "Emberlow holes")
    ctx.set_section(SectionPlane(503800.0, 5602100.0, 504500.0, 5602300.0))
    ctx.set_corridor(35.0)
    look = SectionLook((Beside("bars", "Sn_ppm", "left", 3.0, 20.0),), ("Magnetics at the pole",), True, True)
    ctx.set_section_look(look)
    window.steps.open_form("section-pages")
    form = window.steps.form
    assert form is not None
    QTest.mouseClick(form.findChild(QPushButton, "takeSection"), Qt.MouseButton.LeftButton)
    type_into(form.fields["name"].edit, "As seen")
    run_form(window)
    (element,) = (e for e in stored(window, "As seen").layout if e.kind == "section")
    assert element.line == (503800.0, 5602100.0, 504500.0, 5602300.0)
    assert (element.corridor, element.strip, element.depths) == (35.0, True, True)
    assert element.panels == ("Magnetics at the pole",)
    assert beside_from(element.beside) == look.beside
    assert set(element.lit) == {"Ground", "Emberlow holes"}


def test_the_legend_of_a_grade_is_the_same_whichever_item_is_drawn_first(demo_path: Path) -> None:
    with Store.open(demo_path, write=False) as store:
        names = ("Sn shell 800 ppm", "Emberlow holes", "Sn_ppm composites 6 m", "Sn intercepts")
        items = [store.load(store.find(n).id) for n in names]
        holes = items[1]
        assert isinstance(holes, HoleSet)
        low, high = np.nanpercentile(holes.tables["assay"]["Sn_ppm"].to_numpy(float), [5, 95])
        found = []
        for first in items:
            book = LegendBook(store)
            if "Sn_ppm" in first.attributes:
                book.legend("Sn_ppm", first)
            found.append(book.legend("Sn_ppm", holes))
        assert all(legend == found[0] for legend in found)
        assert found[0].low <= low and found[0].high >= high
