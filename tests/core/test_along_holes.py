"""Holes as lines and points, contact profiles and the trend of high grades as operations: worked by hand."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.drilling.contacts import distances_to_contacts, profile
from innerlamp.core.compute.drilling.desurvey import direction
from innerlamp.core.errors import LampError
from innerlamp.core.items.features import Features
from innerlamp.core.items.points import PointSet

COLLARS = "hole,x,y,z,depth\nA,402000,7502000,4000,25\nB,402100,7502000,4000,12\n"
SURVEYS = "hole,depth,azimuth,dip\nA,0,90,-60\nB,0,0,-90\n"
ROCKS = "hole,from,to,Rock\nA,0,10,SLATE\nA,10,18,GRAN\nA,18,25,SLATE\nB,0,6,GRAN\nB,6,12,SLATE\n"
ASSAYS = "hole,from,to,Cu_pct\n" + "".join(
    f"{h},{k},{k + 1},{v}\n"
    for h, values in (("A", [1] * 10 + [5] * 8 + [2] * 7), ("B", [7] * 6 + [1] * 6))
    for k, v in enumerate(values)
)


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    files = {"collar": COLLARS, "survey": SURVEYS, "lithology": ROCKS, "assay": ASSAYS}
    for name, text in files.items():
        (tmp_path / f"{name}.csv").write_text(text)
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as made:
        made.run("import-holes", name="H", **{k: str(tmp_path / f"{k}.csv") for k in files})
        yield made


def test_lines_and_points_of_holes(project: Project) -> None:
    lines = project[project.run("holes-as-lines", holes="H", step=10.0)["lines"]]
    assert isinstance(lines, Features)
    assert lines.table["hole"].tolist() == ["A", "B"]
    end = lines.vertices[lines.starts[1] - 1]
    assert end.tolist() == pytest.approx([402012.5, 7502000.0, 4000 - 25 * np.sin(np.radians(60))])
    assert np.diff(lines.starts).tolist() == [4, 3]  # 0, 10, 20, 25 and 0, 10, 12 m
    points = project[project.run("holes-as-points", holes="H", depths="A 20; B 5.5")["points"]]
    assert isinstance(points, PointSet)
    assert points.table["x"].tolist() == pytest.approx([402010.0, 402100.0])
    assert points.table["z"].tolist() == pytest.approx([4000 - 20 * np.sin(np.radians(60)), 3994.5])
    assert points.table["azimuth"].iloc[0] == pytest.approx(90.0)
    assert points.table["inclination"].tolist() == pytest.approx([-60.0, -90.0])
    for values, words in (
        ({"depths": "A 26"}, "A ends at 25 m"),
        ({"depths": "C 2"}, "no hole 'C'"),
        ({"depths": "deep"}, "not a hole and a depth"),
        ({"step": 1e-7}, "Take a longer step"),
    ):
        with pytest.raises(LampError, match=words):
            project.run("holes-as-points", holes="H", **values)


def test_distances_have_the_sign_of_the_side() -> None:
    hole, middle = np.array([0, 0, 0, 1]), np.array([5.0, 12.0, 17.0, 3.0])
    # In hole 0 the first rock lies above the contact at 10 m and below that at 18 m.
    found = distances_to_contacts(hole, middle, np.array([0, 0]), np.array([10.0, 18.0]), np.array([True, False]))
    assert found[:3].tolist() == [-5.0, 2.0, 1.0]
    assert np.isnan(found[3])
    middles, mean, error, count = profile(
        np.array([-2.0, -1.0, 3.0]), np.array([1.0, 3.0, 9.0]), np.array([3.0, 1.0, 1.0]), 5.0
    )
    assert middles.tolist() == [-2.5, 2.5]
    assert mean.tolist() == [1.5, 9.0]
    assert error[0] == pytest.approx(np.sqrt((3 * 0.25 + 2.25) / 4))
    assert np.isnan(error[1])
    assert count.tolist() == [2, 1]


def test_a_contact_profile_by_hand(project: Project) -> None:
    item = project[
        project.run(
            "contact-profile", holes="H", attribute="Cu_pct", code="Rock", first="SLATE", second="GRAN", width=4.0
        )["profile"]
    ]
    assert isinstance(item, PointSet)
    t = item.table
    assert len(t) == 25 + 12
    assert (t.loc[t["distance"] < 0, "Cu_pct"] <= 2).all()
    assert (t.loc[t["distance"] > 0, "Cu_pct"] >= 5).all()
    nearest = t[(t["distance"] > 0) & (t["distance"] < 4)]
    # Within 4 m: 8 m of 5 in hole A from both contacts, 4 m of 7 in B.
    assert nearest["mean of class"].iloc[0] == pytest.approx((8 * 5 + 4 * 7) / 12)
    assert any("+0 to +4 m: 5.667 %" in w for w in item.findings["what"])
    for values, words in (
        ({"first": "SLATE", "second": "GABB"}, "no interval is logged as 'GABB'"),
        ({"first": "GRAN", "second": "GRAN"}, "touch in no hole"),
        ({"first": "SLATE", "second": "GRAN", "reach": 0.1}, "Lengthen the reach"),
    ):
        with pytest.raises(LampError, match=words):
            project.run("contact-profile", holes="H", attribute="Cu_pct", code="Rock", **values)


def test_the_trend_of_a_shoot_and_its_open_ends(project: Project, tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    axis = direction(np.array([45.0]), np.array([-30.0]))[0]
    across = np.cross(axis, direction(np.array([315.0]), np.array([0.0]))[0])
    t, u = rng.uniform(-150, 150, 400), rng.uniform(-120, 120, 400)
    places = (
        np.array([402000.0, 7502000.0, 3800.0]) + t[:, None] * axis + u[:, None] * across + rng.normal(0, 4, (400, 3))
    )
    grade = np.where((np.abs(u) < 30) & (t > -60), 3.0, 0.1)
    rows = "\n".join(f"{x:.2f},{y:.2f},{z:.2f},{g}" for (x, y, z), g in zip(places, grade, strict=True))
    (tmp_path / "s.csv").write_text("x,y,z,Cu_pct\n" + rows + "\n")
    project.run("import-points", file=str(tmp_path / "s.csv"), name="S")
    made = project.run("grade-trend", samples="S", attribute="Cu_pct", cutoff=1.0, beyond=50.0)
    lines, ends = project[made["axis"]], project[made["open"]]
    assert isinstance(lines, Features)
    assert isinstance(ends, PointSet)
    row = lines.table.iloc[1]
    assert (row["plunge"], row["trend"]) == pytest.approx((30.0, 45.0), abs=6.0)
    assert row["confidence"] < 12.0
    assert row["length_m"] == pytest.approx(210.0, abs=25.0)
    assert lines.table["length_m"].iloc[0] == pytest.approx(row["length_m"] + 100.0)
    found = dict(zip(ends.table["direction"], ends.table["is"], strict=True))
    # Up the axis and across it poor samples lie beyond; down the axis none do.
    assert found == {
        "down the axis": "open",
        "up the axis": "tested",
        "one way across": "tested",
        "the other way across": "tested",
    }
    with pytest.raises(LampError, match="too few"):
        project.run("grade-trend", samples="S", attribute="Cu_pct", cutoff=9.0)
