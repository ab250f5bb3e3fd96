"""The prospect from elsewhere comes in by the form, with what is in doubt asked."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest

from innerlamp.api import Project
from innerlamp.app.forms.intake_form import FILE, IS
from innerlamp.app.mainwindow.window import Window
from innerlamp.app.panes.section.section_pane import SectionPane
from innerlamp.app.panes.tables.checks_pane import ChecksPane
from innerlamp.app.start.headless import draw_page
from innerlamp.app.start.waiting import settle, wait_until
from innerlamp.core.items.attributes import is_ground
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.page import Element, Page
from innerlamp.core.items.points import PointSet
from tests.tarquel.facts import facts
from tests.tarquel.make import CRS, E0, N0, PLACE

from .conftest import choose, coloured_share, type_into
from .test_bringing_in import bring_in, cells, drop

LEFT = Qt.MouseButton.LeftButton


def test_it_comes_in_by_the_form_with_every_fact_right(window: Window, tmp_path: Path) -> None:
    window.ctx.create(tmp_path / "new.lamp", CRS)
    settle(window)
    form = drop(window, PLACE)
    kinds = dict(zip(cells(form, FILE), cells(form, IS), strict=True))
    assert kinds["recuperacion.csv"] == "recovery and RQD"
    assert kinds["rapautuminen.csv"] == "weathering log"
    assert kinds["base.txt"] == "base-station record"
    bring_in(window, form)
    assert form.problem.text() == "5 items brought in."
    assert window.ctx.store is not None
    assert [name for name, holds in facts(Project(window.ctx.store)) if not holds] == []
    # What came in can be read: one colour of each kind is lit, and a section goes through the holes.
    assert settle(window)
    lit = [e for e in window.ctx.entries() if e.lit]
    colours = [e.kind for e in lit if not is_ground(e.attributes)]
    assert "holes" in colours
    assert len(colours) == len(set(colours))
    assert window.ctx.section is not None
    section = window.centre.pane("section")
    assert isinstance(section, SectionPane)
    assert next(e.id for e in lit if e.kind == "holes") in section.layers.items()
    QTest.mouseClick(form.checks_button, LEFT)
    settle(window)
    pane = window.centre.pane("checks")
    assert isinstance(pane, ChecksPane)
    assert pane.model is not None
    what = pane.model.table["what"].astype(str)
    assert "values below detection in Ag" in set(what)
    assert "1 left out" in pane.count.text()


def test_doubtful_dips_and_negative_grades_are_asked_about(window: Window, tmp_path: Path) -> None:
    window.ctx.create(tmp_path / "new.lamp", CRS)
    settle(window)
    folder = tmp_path / "raw"
    folder.mkdir()
    (folder / "collars.csv").write_text("Hole,East,North,RL,Depth\nA,402000,7502000,4100,50\n")
    (folder / "surveys.csv").write_text("Hole,Depth,Azimuth,Inclination\nA,0,90,30\nA,25,90,31\n")
    grades = "\n".join(f"A,{k},{k + 1},{v}" for k, v in enumerate([0.1, 0.2, -4.5, 0.3, -4.5, 0.2, 0.1]))
    (folder / "assays.csv").write_text(f"Hole,From,To,Cu_pct\n{grades}\n")
    form = drop(window, folder)
    assert wait_until(lambda: form.rows.isRowVisible(form.dips) and form.rows.isRowVisible(form.negatives), 10)
    assert "Cu_pct '-4.5' says" in form.negatives_words.text()
    QTest.mouseClick(form.run_button, LEFT)
    assert "choose how dips are measured" in form.problem.text()
    assert not form.queue.busy
    choose(form.dips, "positive down")
    QTest.mouseClick(form.run_button, LEFT)
    assert "may be below detection or no value" in form.problem.text()
    choose(form.negatives, "missing")
    bring_in(window, form)
    holes = next(window.ctx.item(e.id) for e in window.ctx.entries() if e.kind == "holes")
    assert isinstance(holes, HoleSet)
    assert holes.surveys["dip"].tolist() == [-30.0, -31.0]
    assert holes.tables["assay"]["Cu_pct"].isna().tolist() == [False, False, True, False, True, False, False]


def test_what_is_above_the_limit_and_the_better_method_are_chosen_in_the_form(window: Window, tmp_path: Path) -> None:
    window.ctx.create(tmp_path / "new.lamp", CRS)
    settle(window)
    (tmp_path / "rocks.csv").write_text(
        "east,north,Cu_ppm,Au_FA_ppm,Au_AA_ppb\n402000,7502000,>10000,1,2000\n402100,7502000,5,,3000\n"
    )
    form = drop(window, tmp_path / "rocks.csv")
    assert wait_until(lambda: form.rows.isRowVisible(form.methods), 10)
    assert form.methods.placeholderText() == "FA; AA"
    assert not form.rows.isRowVisible(form.factor)
    choose(form.above, "limit times factor")
    assert form.rows.isRowVisible(form.factor)
    type_into(form.factor, "1.5")
    type_into(form.methods, "AA")
    bring_in(window, form)
    rocks = next(window.ctx.item(e.id) for e in window.ctx.entries() if e.kind == "points")
    assert isinstance(rocks, PointSet)
    assert rocks.table["Cu_ppm"].tolist() == [15_000.0, 5.0]
    assert rocks.table["Au method"].tolist() == ["AA", "AA"]


def test_a_section_on_a_page_shows_what_is_lit_at_four_kilometres_without_a_ground(
    qapp: object, tmp_path: Path
) -> None:
    with Project.create(tmp_path / "t.lamp", CRS) as project:
        project.bring([PLACE / "sondajes", PLACE / "leyes"])
        section = Element(
            kind="section",
            x=10,
            y=10,
            w=180,
            h=120,
            lit=("Drillholes",),
            scale=6000,
            line=(E0 - 50, N0 + 20, E0 + 900, N0 + 20),
            corridor=200.0,
        )
        page = Page(name="Page", crs=CRS, width=200, height=150, elements=(section.model_dump(),))
        assert draw_page(project.store, page, tmp_path / "page.png", 96.0) == []
    image = QImage(str(tmp_path / "page.png"))
    assert coloured_share(image) > 0.002  # the bars of the holes, in the colours of their grades
