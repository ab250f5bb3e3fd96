"""Intercepts as an operation: a small set of holes worked by hand, wording, equivalents, thickness, what is refused, the CLI."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.cli import main
from innerlamp.core.compute.drilling.wording import Grade, Reported, grade_words, sentence
from innerlamp.core.errors import LampError
from innerlamp.core.items.holes import HoleSet

HOLES = "hole,x,y,z,depth\nA-1,402000,7502000,4000,60\nB-2,402100,7502000,4000,40\n"
SURVEYS = "hole,depth,azimuth,dip\nA-1,0,90,-60\nB-2,0,0,-90\n"
# 10-12 rich, 12-13 waste, 13-14 rich; 20-21 rich alone. B-2: nothing but one sample at the cut-off.
ASSAYS = (
    "hole,from,to,Cu_pct,Au_ppm\n"
    "A-1,9,10,0.1,0.1\nA-1,10,11,1.0,2.0\nA-1,11,12,3.0,1.0\nA-1,12,13,0.2,<0.1\nA-1,13,14,0.8,0.4\nA-1,14,15,0.1,\n"
    "A-1,20,21,0.6,0.2\nB-2,5,6,0.5,0.1\nB-2,6,7,0.1,0.1\n"
)


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    for name, text in (("collar", HOLES), ("survey", SURVEYS), ("assay", ASSAYS)):
        (tmp_path / f"{name}.csv").write_text(text)
    made = Project.create(tmp_path / "p.lamp", "EPSG:32719")
    files = {k: str(tmp_path / f"{k}.csv") for k in ("collar", "survey", "assay")}
    made.run("import-holes", collar=files["collar"], survey=files["survey"], assay=files["assay"], name="Holes")
    yield made
    made.close()


def rows_of(project: Project, **values: object) -> pd.DataFrame:
    made = project.run("intercepts", holes="Holes", **values)
    item = project[made["intercepts"]]
    assert isinstance(item, HoleSet)
    return item.tables["intercepts"]


def test_two_holes_by_hand(project: Project) -> None:
    rows = rows_of(
        project,
        attribute="Cu_pct",
        cutoff=0.5,
        waste_in_row=1.0,
        including="2",
        also="Au_ppm",
        name="All",
        uncertainty=5,
    )
    assert rows["hole"].astype(str).tolist() == ["A-1", "A-1", "A-1", "B-2"]
    assert rows["number"].tolist() == ["1", "1.1", "2", "3"]
    assert rows["is"].tolist() == ["intercept", "included", "intercept", "intercept"]
    assert rows["from_m"].tolist() == [10.0, 11.0, 20.0, 5.0]
    assert rows["Cu_pct"].tolist() == pytest.approx([1.25, 3.0, 0.6, 0.5])  # (1 + 3 + .2 + .8) / 4
    assert rows["grade x length"].tolist() == pytest.approx([5.0, 3.0, 0.6, 0.5])
    assert rows["waste_m"].tolist() == [1.0, 0.0, 0.0, 0.0]
    assert rows["Au_ppm"].iloc[0] == pytest.approx((2.0 + 1.0 + 0.05 + 0.4) / 4)  # half the limit
    assert rows["report"].iloc[0] == (
        "A-1: 4.0 m @ 1.25 % Cu, 0.86 ppm Au from 10.0 m, including 1.0 m @ 3.00 % Cu, 1.00 ppm Au from 11.0 m"
    )
    # The middle of 10 to 14 m down a hole 090/60: 12 cos 60 east, 12 sin 60 down.
    assert rows[["x", "y", "z"]].iloc[0].tolist() == pytest.approx([402006.0, 7502000.0, 4000 - 12 * np.sin(np.pi / 3)])
    item = project["All"]
    assert isinstance(item, HoleSet)
    assert item.attributes["Cu_pct"].quantity == "grade"
    assert len(item.collars) == 2


def test_true_thickness_equivalents_and_units(project: Project) -> None:
    rows = rows_of(project, attribute="Cu_pct", cutoff=0.9, report_in="ppm", dip=70, dip_direction=270, uncertainty=10)
    assert rows["Cu_ppm"].tolist() == pytest.approx([20000.0])
    assert rows["length_m"].tolist() == [2.0]
    thick = rows[["true thickness, least", "true thickness", "true thickness, most"]].iloc[0].tolist()
    assert thick == pytest.approx([2 * np.sin(np.radians(a)) for a in (40, 50, 60)])
    assert "(true thickness about 1.5 m)" in rows["report"].iloc[0]
    metals = "Au_ppm, 2000, oz, 90; Cu_pct, 9000, t, 80"
    rows = rows_of(project, metals=metals, cutoff=1.5, waste_in_row=1.0, name="Eq")
    # A percent of copper is 10 kg: 90 x .8; a gram of gold 2000 / 31.1034768 x .9.
    weight = 90 * 0.8 / (2000 / 31.1034768 * 0.9)
    au, cu = np.array([2.0, 1.0]), np.array([1.0, 3.0])
    assert rows["from_m"].tolist() == [10.0]
    assert rows["to_m"].tolist() == [12.0]
    assert rows["AuEq"].iloc[0] == pytest.approx(float(np.mean(au + weight * cu)))
    assert rows["Cu_pct"].iloc[0] == pytest.approx(2.0)
    item = project["Eq"]
    assert isinstance(item, HoleSet)
    assert f"{weight:.6g} x Cu_pct" in item.findings["what"].iloc[0]
    assert "recovery 80 %" in item.findings["what"].iloc[0]
    assert item.units["AuEq"] == "ppm"


def test_orientation_from_readings_and_from_a_surface(project: Project, tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text(
        "x,y,dip,dip direction\n402000,7502000,69,268\n402001,7502000,71,272\n402002,7502000,70,270\n"
    )
    project.run("import-points", file=str(tmp_path / "s.csv"), content="structures", name="Veins")
    by_readings = rows_of(project, attribute="Cu_pct", cutoff=0.9, body="Veins")["true thickness"].iloc[0]
    assert by_readings == pytest.approx(2 * np.sin(np.radians(50)), abs=0.01)
    # A plane of 70 degrees to the west as two triangles.
    down, north = np.tan(np.radians(70)) * 50, 200
    corners = [(0, -north, 0), (0, north, 0), (-50, north, -down), (-50, -north, -down)]
    text = "".join(f"v {402006 + a} {7502000 + b} {3990 + c}\n" for a, b, c in corners) + "f 1 2 3\nf 1 3 4\n"
    (tmp_path / "vein.obj").write_text(text)
    project.run("import-surface", file=str(tmp_path / "vein.obj"), name="Vein")
    by_surface = rows_of(project, attribute="Cu_pct", cutoff=0.9, body="Vein")["true thickness"].iloc[0]
    assert by_surface == pytest.approx(2 * np.sin(np.radians(50)), abs=1e-6)


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"attribute": "Cu_pct", "cutoff": 50.0}, "no intercept reaches the cut-off of 50 %.*highest grade is 3"),
        ({"cutoff": 1.0}, "no grade is given"),
        ({"attribute": "Ni_pct", "cutoff": 1.0}, "Ni_pct"),
        ({"attribute": "Cu_pct", "cutoff": 1.0, "including": "0.5"}, "not above the cut-off"),
        ({"attribute": "Cu_pct", "cutoff": 1.0, "including": "rich"}, "'rich' is not a cut-off"),
        ({"attribute": "Cu_pct", "cutoff": 1.0, "dip": 60}, "by half"),
        ({"attribute": "Cu_pct", "cutoff": 0.5, "report_in": "m"}, "no factor"),
        ({"cutoff": 1.0, "metals": "Cu_pct, 9000, ton, 80"}, "price for a 'ton'"),
        ({"cutoff": 1.0, "metals": "Cu_pct, -1, t, 80"}, "[Pp]rice"),
        ({"cutoff": 1.0, "metals": "Cu_pct, 1, t, 800"}, "[Rr]ecovery"),
    ],
)
def test_what_can_not_be_is_said(project: Project, values: dict[str, object], words: str) -> None:
    with pytest.raises(LampError, match=f"(?s){words}"):
        project.run("intercepts", holes="Holes", **values)
    assert [e.name for e in project.items] == ["Holes"]


def test_new_assays_make_intercepts_stale_and_the_command_line_says_the_same(
    project: Project, capsys: pytest.CaptureFixture[str]
) -> None:
    path = project.store.path
    project.close()
    assert main(["apply", str(path), "intercepts", "holes=Holes", "attribute=Cu_pct", "cutoff=0.5", "name=I"]) == 0
    assert "intercepts" in capsys.readouterr().out
    assert main(["apply", str(path), "intercepts", "holes=Holes", "attribute=Cu_pct", "cutoff=77"]) == 2
    assert "highest grade is 3" in capsys.readouterr().err


def test_wording_has_the_digits_of_reports() -> None:
    # The example in the usual wording (common practice, no source).
    inner = Reported("EMB-014", 148.2, 3.1, (Grade(2.1, "%", "Sn"),))
    whole = Reported("EMB-014", 143.0, 12.4, (Grade(0.83, "%", "Sn"),), (inner,))
    assert sentence(whole) == "EMB-014: 12.4 m @ 0.83 % Sn from 143.0 m, including 3.1 m @ 2.10 % Sn from 148.2 m"
    for value, words in (
        (12.345, "12.3"),
        (1234.5, "1234"),
        (5.0, "5.00"),
        (0.0123, "0.012"),
        (0.0, "0"),
        (0.5, "0.50"),
    ):
        assert grade_words(value) == words
    assert grade_words(float("nan")) == "not analysed"
