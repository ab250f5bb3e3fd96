"""Pages of sections and logs: where they run, true scales, sheets, and what is refused."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.geometry.planes import SectionPlane
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.base import Item
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.page import Element, Page
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32719"


def run(operation: str, inputs: dict[str, Item], **params: Any) -> Page:
    op = OPERATIONS[operation]
    page = op.run(Inputs(inputs, CRS), op.check(params), SILENT)["page"]
    assert isinstance(page, Page)
    return page


@pytest.fixture(scope="module")
def holes() -> Item:
    op = OPERATIONS["import-holes"]
    names = {"collar": "collars", "survey": "downhole_surveys", "assay": "assays", "lithology": "geology_log"}
    files = {k: str(FILES / "drilling" / f"{v}.csv") for k, v in names.items()}
    return op.run(Inputs({}, "EPSG:32629"), op.check(files), SILENT)["holes"]


def points() -> PointSet:
    x, y = np.meshgrid(np.arange(402000.0, 402500.0, 100.0), np.arange(7502000.0, 7502400.0, 100.0))
    table = pd.DataFrame({"x": x.ravel(), "y": y.ravel(), "z": 4000.0 + 0.1 * (x.ravel() - 402000.0)})
    return PointSet(name="Stakes", crs=CRS, table=table)


def sections(page: Page) -> list[Element]:
    return [e for e in page.layout if e.kind == "section"]


def planes(page: Page) -> list[SectionPlane]:
    return [SectionPlane.along(e.line) for e in sections(page) if e.line is not None]


def test_a_series_by_azimuth_spacing_and_number_is_centred_and_parallel() -> None:
    page = run("section-pages", {"around": points()}, azimuth=90.0, number=4, spacing=100.0, corridor=30.0)
    made = planes(page)
    assert [p.azimuth for p in made] == pytest.approx([90.0] * 4)
    # Looking north from the front, that is the south, to the back.
    assert [p.y0 for p in made] == pytest.approx([7502000.0, 7502100.0, 7502200.0, 7502300.0])
    assert all(p.x0 < 402000.0 and p.x1 > 402400.0 for p in made)
    assert [e.text for e in sections(page)] == ["1", "2", "3", "4"]
    # With number 0 as many as cover it: 300 m by twice the corridor.
    page = run("section-pages", {"around": points()}, azimuth=0.0, number=0, corridor=50.0)
    assert len(planes(page)) == 4
    assert [p.x0 for p in planes(page)] == pytest.approx([402350.0, 402250.0, 402150.0, 402050.0])


def test_a_line_leads_a_series_and_a_fence_stays_a_fence() -> None:
    page = run("section-pages", {"around": points()}, line="402000 7502000; 402400 7502000", number=3, spacing=70.0)
    assert [p.y0 for p in planes(page)] == pytest.approx([7502000.0, 7502070.0, 7502140.0])
    bent = "402000 7502000; 402200 7502200; 402400 7502000"
    page = run("section-pages", {"around": points()}, line=bent, side="behind", exaggeration=2.0)
    (only,) = sections(page)
    assert only.line == (402000, 7502000, 402200, 7502200, 402400, 7502000)
    assert (only.side, only.exaggeration, only.text) == ("behind", 2.0, "")


@pytest.mark.parametrize(("paper", "lying"), [("A4", "portrait"), ("A3", "landscape"), ("A1", "landscape")])
def test_everything_fits_its_sheet_at_one_true_scale(paper: str, lying: str) -> None:
    page = run(
        "section-pages", {"around": points()}, number=9, spacing=40.0, corridor=20.0, paper=paper, lying=lying,
        lowest=3900.0, highest=4100.0,
    )  # fmt: skip
    scales = {e.scale for e in sections(page)}
    assert len(scales) == 1
    (scale,) = scales
    assert str(int(scale)).rstrip("0") in {"1", "125", "15", "2", "25", "3", "4", "5", "75"}
    assert sum(len([e for e in page.on_sheet(k) if e.kind == "section"]) for k in range(page.sheets)) == 9
    for k in range(page.sheets):
        kinds = [e.kind for e in page.on_sheet(k)]
        assert {"map", "legend", "title"} <= set(kinds)
        frames = [e for e in page.on_sheet(k) if e.kind != "notes"]
        for e in frames:
            assert e.x >= 0 and e.y >= 0
            assert e.x + e.w <= page.width + 0.11 and e.y + e.h <= page.height + 0.11
        for a in frames:
            for b in frames:
                apart = (
                    a.x + a.w <= b.x + 0.2 or b.x + b.w <= a.x + 0.2 or a.y + a.h <= b.y + 0.2 or b.y + b.h <= a.y + 0.2
                )
                assert a is b or apart, (a.kind, b.kind)
        # The plan shows all of the sections of its sheet.
        plan = next(e for e in page.on_sheet(k) if e.kind == "map")
        for plane in (SectionPlane.along(e.line) for e in page.on_sheet(k) if e.kind == "section" and e.line):
            for x, y in plane.places.tolist():
                assert abs(x - plan.easting) * 1000 / plan.scale < plan.w / 2 - 5
                assert abs(y - plan.northing) * 1000 / plan.scale < plan.h / 2 - 5
    for e in sections(page):
        assert e.line is not None
        assert SectionPlane.along(e.line).length * 1000 / scale <= e.w - 24.0 + 0.1
        assert 200.0 * 1000 / scale <= e.h - 13.0 + 0.1
        assert e.elevation == 4000.0


def test_a_sheet_of_blocks_is_seen_along_itself() -> None:
    mesh = TensorMesh.even((1000.0, 2000.0, 0.0), (10.0, 20.0, 5.0), (1, 30, 12), 62.0)
    model = BlockModel(name="Long", crs=CRS, mesh=mesh, properties={"v": np.ones((1, 30, 12))})
    (plane,) = planes(run("section-pages", {"around": model}))
    assert plane.azimuth == pytest.approx(62.0)
    assert plane.length == pytest.approx(600.0)
    centre = mesh.centres().mean(axis=0)
    assert plane.places.mean(axis=0) == pytest.approx(centre[:2])


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"line": "1 2"}, "two ends"),
        ({"line": "1 2; 1 2"}, "one place"),
        ({"number": 0, "corridor": 0.1}, "too many|sheets"),
        ({"scale": 10.0}, "smaller scale"),
        ({"lowest": 10.0, "highest": 5.0}, "must lie above"),
        ({"colours": ["Holes by rock"]}, "coloured by what"),
        ({"beside": ["Sn_ppm"]}, "stands beside"),
        ({"beside": ["Sn_ppm bars above"]}, "stands beside"),
        ({"beside": ["Sn_ppm bars right 4 0"]}, "widths from 1"),
        ({"panels": ["a", "b", "c", "d", "e"]}, "at most 4 profiles"),
        ({"date": "yesterday"}, "date|yesterday"),
    ],
)
def test_sections_that_can_not_be_laid_out_are_refused(values: dict[str, Any], words: str) -> None:
    with pytest.raises(LampError, match=words):
        run("section-pages", {"around": points()}, **values)


def test_panels_above_sections_take_their_room_and_columns_are_typed() -> None:
    asked = {"number": 4, "spacing": 40.0, "corridor": 60.0, "lowest": 3900.0, "highest": 4100.0}
    bare = run("section-pages", {"around": points()}, **asked)
    page = run(
        "section-pages", {"around": points()}, **asked, strip=True, panels=["Gravity", "Magnetics"], depths=True,
        beside=["Sn ppm in core bars left 3 25", "Rock intervals"],
    )  # fmt: skip
    for e in sections(page):
        assert (e.panels, e.strip, e.depths) == (("Gravity", "Magnetics"), True, True)
        assert [(b["attribute"], b["way"], b["hand"], b["offset"], b["width"]) for b in e.beside] == [
            ("Sn ppm in core", "bars", "left", 3.0, 25.0),
            ("Rock", "intervals", "right", 4.0, 30.0),
        ]
        # The plan is true to scale where that is of use: three corridors high.
        assert e.strip_height == pytest.approx(min(max(180.0 * 1000 / e.scale, 12.0), 30.0))
        assert e.above == pytest.approx(32.0 + e.strip_height)
        assert 200.0 * 1000 / e.scale <= e.h - 13.0 - e.above + 0.1
        assert e.y + e.h <= page.height + 0.1
    assert sections(page)[0].scale >= sections(bare)[0].scale
    # An element that is too low for its panels keeps its ground.
    low = sections(page)[0].model_copy(update={"h": 40.0})
    assert low.above == 0.0


def test_logs_break_at_round_depths_and_go_on_to_the_end(holes: Item) -> None:
    page = run("log-pages", {"holes": holes}, of=["EMB014", "EMB001"], scale=500.0)
    depths = dict(zip(holes.collars["hole"].astype(str), holes.collars["depth_m"], strict=True))  # type: ignore[attr-defined]
    for name in ("EMB014", "EMB001"):
        parts = [e for e in page.layout if e.kind == "log" and e.text == name]
        assert parts[0].depth == 0.0
        assert [e.depth for e in parts[1:]] == [e.depth_to for e in parts[:-1]]
        assert all(e.depth % 10.0 == 0.0 for e in parts)
        assert parts[-1].depth_to == pytest.approx(depths[name])
        assert len({e.sheet for e in parts}) == len(parts)
        for e in parts:
            assert e.y + e.h < page.height - 80.0  # above legend and title
            assert (e.depth_to - e.depth) * 1000.0 / 500.0 <= e.h - 16.4
    side = run("log-pages", {"holes": holes}, of=["EMB014", "EMB001"], beside=2)
    assert side.sheets == 1  # the scale is chosen so that the longest fits
    a, b = (e for e in side.layout if e.kind == "log")
    assert a.x + a.w < b.x and a.scale == b.scale


def test_tracks_are_asked_for_by_column_or_by_kind(holes: Item) -> None:
    page = run("log-pages", {"holes": holes}, tracks="Rock; curve: Sn_ppm, W_ppm; Cu_pct; notes: Remark")
    first = next(e for e in page.layout if e.kind == "log")
    assert [t["kind"] for t in first.tracks] == ["rock", "curve", "bars", "notes"]
    assert list(first.tracks[1]["attributes"]) == ["Sn_ppm", "W_ppm"]
    again = run("log-pages", {"holes": holes}, tracks=list(first.tracks))
    assert next(e for e in again.layout if e.kind == "log").tracks == first.tracks
    for values, words in (
        ({"tracks": "Gold"}, "no column 'Gold'"),
        ({"tracks": "rock: Sn_ppm"}, "can't be drawn"),
        ({"tracks": "planes"}, "oriented core"),
        ({"of": ["X9"]}, "no hole 'X9'"),
        ({"of": ["EMB014"], "scale": 0.5}, "more than 200 sheets"),
    ):
        with pytest.raises(LampError, match=words):
            run("log-pages", {"holes": holes}, **values)
