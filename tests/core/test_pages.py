"""Pages without a window: arrangement, checks, templates; written by the command line and read back from PDF and GeoTIFF."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.formats.out.page_templates import read_template, template_text
from innerlamp.core.items.page import Element, Page, checked
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.mapping.pages import round_scale
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

from .test_grid_work import CRS, grid_of


def run(operation: str, inputs: dict[str, Any], **params: Any) -> Page:
    op = OPERATIONS[operation]
    made = op.run(Inputs(inputs, CRS), op.check(params), SILENT)["page"]
    assert isinstance(made, Page)
    return made


def page(**params: Any) -> Page:
    grid = grid_of(np.ones((300, 400)), "Ground", x0=500_000.0, y0=5_600_000.0)
    return run("make-page", {"around": grid}, **{"date": "2025-06-01", **params})


def test_scales_are_round_and_the_map_fits_its_frame() -> None:
    assert [round_scale(v) for v in (1.0, 980, 1001, 12_600, 21_000)] == [1.0, 1000.0, 1250.0, 15_000.0, 25_000.0]
    made = page(heading="Sheet")
    main = next(e for e in made.layout if e.kind == "map")
    assert (made.width, made.height, made.paper) == (420.0, 297.0, "A3 landscape")
    # The grid measures 4,000 by 3,000 m; ten times the scale in thousands is metres a centimetre.
    assert (main.w - 12) * main.scale / 1000 >= 4000 > (main.w - 12) * main.scale / 1000 / 1.5
    assert (main.easting, main.northing) == (501_995.0, 5_601_495.0)
    assert {e.kind for e in made.layout} == {"map", "legend", "north", "inset", "scale bar", "notes", "title"}
    for e in made.layout:
        assert e.x >= 0 and e.x + e.w <= made.width + 1e-6 and e.y >= 0 and e.y + e.h <= made.height + 1e-6


@pytest.mark.parametrize("paper", ["A4", "A2", "A0", "custom"])
@pytest.mark.parametrize("lying", ["landscape", "portrait"])
def test_elements_do_not_cover_each_other_on_any_paper(paper: str, lying: str) -> None:
    made = page(
        paper=paper, lying=lying, width=500.0, height=300.0, section="500100 5600100; 503000 5602000", beside="Ground"
    )
    boxes = [(e.x, e.y, e.x + e.w, e.y + e.h, e.kind) for e in made.layout if e.kind != "notes"]
    for k, a in enumerate(boxes):
        for b in boxes[k + 1 :]:
            apart = a[2] <= b[0] + 0.1 or b[2] <= a[0] + 0.1 or a[3] <= b[1] + 0.1 or b[3] <= a[1] + 0.1
            assert apart, (a, b)


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"section": "here"}, "two ends"),
        ({"section": "1 2; 1 2"}, "one place"),
        ({"date": "soon"}, "not a date"),
        ({"template": "none.json"}, "can't read the template"),
        ({"paper": "A9"}, "paper"),
    ],
)
def test_bad_wishes_are_told(params: dict[str, Any], words: str) -> None:
    with pytest.raises(InputError, match=words):
        page(**params)


def test_elements_are_checked() -> None:
    good = {"kind": "notes", "x": 1, "y": 2, "w": 30, "h": 10, "text": "Words"}
    assert checked([good])[0] == {**good, "x": 1.0, "y": 2.0, "w": 30.0, "h": 10.0}
    for bad, words in (
        ({**good, "kind": "song"}, "kind"),
        ({**good, "w": -1}, "w"),
        ({**good, "more": 1}, "more"),
        ({"kind": "map"}, "x"),
    ):
        with pytest.raises(InputError, match=f"element 2 of the page is wrong .{words}"):
            checked([good, bad])
    with pytest.raises(InputError, match="at most 1000"):
        checked([good] * 1001)
    with pytest.raises(InputError, match="must be JSON"):
        run("arrange-page", {"page": page()}, layout="{")
    assert len(run("arrange-page", {"page": page()}, layout=json.dumps([good])).elements) == 1


def test_templates_keep_the_arrangement_and_nothing_of_the_project(tmp_path: Path) -> None:
    made = page(heading="First", author="Someone", paper="A4")
    path = tmp_path / "a.page.json"
    path.write_text(template_text(made), encoding="utf-8")
    assert "Ground" not in json.dumps(
        [{k: v for k, v in e.items() if k != "text"} for e in json.loads(path.read_text())["elements"]]
    )
    again = page(template=str(path), heading="Second")
    assert [(e.kind, e.x, e.w) for e in again.layout] == [(e.kind, e.x, e.w) for e in made.layout]
    assert next(e.text for e in again.layout if e.kind == "title") == "Second"
    for text, words in (
        ("{}", "no page template"),
        ("[" * 100_000, "no page template"),
        ('{"format": "inner-lamp page template", "width": 1e9, "height": 5, "elements": []}', "can't be made"),
    ):
        path.write_text(text)
        with pytest.raises(InputError, match=words):
            read_template(path)


def test_a_page_is_read_back_from_pdf_with_its_size_scale_and_fonts(demo_path: Path, tmp_path: Path) -> None:
    """Size of the sheet and a distance of the ground on it, by pypdfium2, to 0.2 mm."""
    import os
    import subprocess
    import sys

    import pypdfium2

    copy = tmp_path / "copy.lamp"
    shutil.copytree(demo_path, copy)
    target = tmp_path / "sheet.pdf"
    hidden = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "QT_QPA_PLATFORM")}
    for file in (target, tmp_path / "sheet.tif", tmp_path / "sheet.svg"):
        done = subprocess.run(
            [sys.executable, "-m", "innerlamp", "export", str(copy), "Emberlow A3", str(file), "--dpi", "60"],
            env=hidden,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        assert done.returncode == 0, done.stderr
    document = pypdfium2.PdfDocument(target.read_bytes())
    sheet = document[0]
    wide, high = (v * 25.4 / 72.0 for v in sheet.get_size())
    assert (wide, high) == (pytest.approx(420.0, abs=0.2), pytest.approx(297.0, abs=0.2))
    text = sheet.get_textpage().get_text_bounded()
    bare = "".join(text.split())  # where glyphs stand close, the reader sees no blank between words
    for words in ("Emberlow prospect", "Scale 1:25", "EPSG:32629", "bedding, with dip", "Slate"):
        assert words.replace(" ", "") in bare, words
    assert b"/FontFile2" in target.read_bytes()
    # Coordinate labels 1,000 m apart are 40 mm apart at 1:25,000.
    finder = sheet.get_textpage()
    middles = []
    whole = finder.get_text_range()
    for label in (
        "503000",
        "504000",
    ):  # the reader may put breaks between digits: it takes the page for written downwards
        found = re.search(r"\D*".join(label), whole)
        assert found
        boxes = [finder.get_charbox(k) for k in range(*found.span()) if whole[k].isdigit()]
        middles.append(0.5 * (min(b[0] for b in boxes) + max(b[2] for b in boxes)) * 25.4 / 72.0)
    assert middles[1] - middles[0] == pytest.approx(40.0, abs=0.2)
    document.close()
    import rasterio

    with rasterio.open(tmp_path / "sheet.tif") as raster:
        assert raster.crs.to_epsg() == 32629
        pixel = 25_000 * 0.0254 / 60
        assert raster.res == (pytest.approx(pixel), pytest.approx(pixel))
        # The map's middle lies in the middle of its frame: 8 + 308 / 2 mm from the left of the sheet.
        bounds = (501_600.0 + 507_600.0) / 2
        column, _ = ~raster.transform * (bounds, 5_602_300.0)
        assert column / 60 * 25.4 == pytest.approx(8 + 308 / 2, abs=0.5)
    svg = (tmp_path / "sheet.svg").read_text()
    assert svg.startswith("<?xml") and "Emberlow prospect" in svg and svg.count("<path") > 400
    assert "clip" in svg


def test_what_a_page_holds_is_of_bounded_size() -> None:
    with pytest.raises(InputError, match="data"):
        checked([{"kind": "picture", "x": 0, "y": 0, "w": 10, "h": 10, "data": "A" * 7_000_000}])
    assert Element(kind="picture", x=0, y=0, w=10, h=10).data == ""


def test_a_page_whose_item_is_gone_is_written(tmp_path: Path) -> None:
    table = pd.DataFrame({"x": 430_000 + 100.0 * np.arange(5), "y": 7_410_000.0, "z": 4_012.0, "Au": np.arange(5.0)})
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        item = project.add(PointSet(name="Soils", crs="EPSG:32719", table=table, units={"Au": "ppm"}))
        page = next(iter(project.run("make-page", around=item).values()))
        project.store.remove([item])
        for ending in ("pdf", "svg"):
            assert project.export(page, tmp_path / f"sheet.{ending}")[0].stat().st_size > 1_000
