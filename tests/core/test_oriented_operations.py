"""Oriented core as operations: a hole worked by hand, other conventions, what gives no plane, sets, planes to other holes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from innerlamp.api import Project
from innerlamp.core.errors import LampError
from innerlamp.core.items.points import PointSet

COLLARS = "hole,x,y,z,depth\nA,402000,7502000,4000,100\nB,402020,7502000,4000,100\nV,402100,7502000,4000,50\n"
SURVEYS = "hole,depth,azimuth,dip\nA,0,90,-60\nB,0,90,-60\nV,0,0,-90\n"
# Alpha 50 and beta 0 of a hole 090/60 is the plane 70 -> 270 (reference case); from the top line beta is 180.
CORE = (
    "Hole,Depth,Type,Alpha,Beta,Gamma,Reference line,Orientation quality\n"
    "A,20,vein,50,0,0,bottom,1\nA,30,vein,50,180,,top,1\nA,40,bedding,90,,,bottom,2\nA,50,joint,95,10,,bottom,1\n"
    "A,60,joint,40,,,bottom,1\nA,70,joint,40,400,,bottom,1\nV,20,vein,40,20,,bottom,1\nA,80,joint,-,20,,bottom,1\n"
    "B,60,vein,50,2,,bottom,3\n"
)


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    for name, text in (("c", COLLARS), ("s", SURVEYS), ("core", CORE)):
        (tmp_path / f"{name}.csv").write_text(text)
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as made:
        files = {
            "collar": str(tmp_path / "c.csv"),
            "survey": str(tmp_path / "s.csv"),
            "more": [str(tmp_path / "core.csv")],
        }
        made.run("import-holes", name="H", **files)
        yield made


def of(project: Project, operation: str, slot: str, **values: object) -> PointSet:
    item = project[project.run(operation, **values)[slot]]
    assert isinstance(item, PointSet)
    return item


def test_a_hole_by_hand_and_why_other_readings_give_no_plane(project: Project) -> None:
    item = of(project, "orient-core", "structures", holes="H")
    t = item.table
    assert t["hole"].tolist() == ["A", "A", "A", "B"]
    assert t["dip"].tolist() == pytest.approx([70.0, 70.0, 30.0, 70.0], abs=0.2)
    assert t["dip direction"].tolist() == pytest.approx([270.0, 270.0, 270.0, 270.0], abs=3)
    assert t["dip direction"].iloc[1] == pytest.approx(270.0)  # from the top line
    assert (t["plunge"].iloc[0], t["trend"].iloc[0]) == pytest.approx((70.0, 270.0))  # gamma 0: down the dip here
    assert t[["x", "z"]].iloc[0].tolist() == pytest.approx([402010.0, 4000 - 20 * np.sin(np.radians(60))])
    assert item.content == "structures"
    why = dict(zip(item.findings["line"], item.findings["what"], strict=True))
    assert "angle 95 to the core is not from 0 to 90" in why[5]
    assert "alpha only" in why[6]
    assert "beta 400" in why[7]
    assert "vertical" in why[8]
    assert "no alpha" in why[9]
    assert len(of(project, "orient-core", "structures", holes="H", worst=2).table) == 3


def test_other_conventions(project: Project, tmp_path: Path) -> None:
    (tmp_path / "image.csv").write_text("Hole,Depth,Apparent dip,Apparent azimuth\nA,20,40,180\n")
    (tmp_path / "cross.csv").write_text("Hole,Depth,Angle,Beta\nA,20,40,0\n")
    for name in ("image", "cross"):
        project.run(
            "import-holes",
            name=name,
            collar=str(tmp_path / "c.csv"),
            survey=str(tmp_path / "s.csv"),
            more=[str(tmp_path / f"{name}.csv")],
        )
    image = of(
        project,
        "orient-core",
        "structures",
        holes="image",
        convention="image log: dip and azimuth from the high side",
        alpha="Apparent dip",
        beta="Apparent azimuth",
    ).table
    cross = of(
        project,
        "orient-core",
        "structures",
        holes="cross",
        convention="dip from the core's cross-section",
        alpha="Angle",
    ).table
    for t in (image, cross):
        assert (t["dip"].iloc[0], t["dip direction"].iloc[0]) == pytest.approx((70.0, 270.0))
    for values, words in (
        ({"holes": "cross"}, "no table of readings has alpha"),
        ({"holes": "H", "alpha": "Alfa"}, "no column 'Alfa'"),
        ({"holes": "H", "table": "geology"}, "geology"),
    ):
        with pytest.raises(LampError, match=words):
            project.run("orient-core", **values)
    (tmp_path / "only.csv").write_text("Hole,Depth,Alpha\nA,20,40\nA,30,50\n")
    project.run(
        "import-holes",
        name="only",
        collar=str(tmp_path / "c.csv"),
        survey=str(tmp_path / "s.csv"),
        more=[str(tmp_path / "only.csv")],
    )
    with pytest.raises(LampError, match="no plane can be worked out: alpha only"):
        project.run("orient-core", holes="only")


def test_planes_are_carried_to_other_holes_and_held_against_what_was_logged(project: Project) -> None:
    readings = project.run("orient-core", holes="H", name="Core")["structures"]
    t = of(project, "predict-piercings", "piercings", readings=readings, holes="H", reach=120.0, near=15.0).table
    assert set(t["hole"]) <= {"A", "B", "V"}
    # From B at 60 m the plane 70 -> 270 goes down westwards; 20 m to the west hole A meets it by the law of sines.
    row = t[(t["from hole"] == "B") & (t["hole"] == "A")].iloc[0]
    offset = 20.0 * np.sin(np.radians(70)) / np.sin(np.radians(50))
    assert row["depth_m"] == pytest.approx(60.0 + offset, abs=1.5)
    assert row["least depth"] < row["depth_m"] < row["most depth"]
    assert row["logged depth"] in (20.0, 30.0)
    assert row["is"] == "not found"
    with pytest.raises(LampError, match="Lengthen the reach"):
        project.run("predict-piercings", readings=readings, holes="H", reach=1.0)


def test_the_demo_s_sets_are_those_of_its_truth(demo_path: Path) -> None:
    from innerlamp.demo import truth

    with Project.open(demo_path, write=False) as project:
        means = project["Oriented core by set, means"]
        assert isinstance(means, PointSet)
        by = means.table.set_index("set")
        sets = project["Oriented core by set"]
        assert isinstance(sets, PointSet)
        veins = sets.table[sets.table["type"] == "vein"]["set"].mode()[0]
        assert by.at[veins, "dip"] == pytest.approx(truth.VEIN_DIP, abs=3.0)
        assert by.at[veins, "dip direction"] == pytest.approx(truth.VEIN_STRIKE + 90.0, abs=3.0)
        assert (sets.table.groupby("type")["set"].nunique() == 1).all()


def test_sets_by_type_and_what_can_not_be(project: Project) -> None:
    project.run("orient-core", holes="H", name="Core")
    made = project.run("structural-sets", readings="Core", kind="vein", count=1, name="Veins")
    item = project[made["sets"]]
    assert isinstance(item, PointSet)
    assert item.table["set"].tolist() == ["vein 1", "vein 1", "", "vein 1"]
    mean = project[made["means"]]
    assert isinstance(mean, PointSet)
    assert mean.table["readings"].tolist() == [3]
    assert mean.table["dip"].iloc[0] == pytest.approx(70.0, abs=0.3)
    for values, words in (({"kind": "dyke"}, "no reading is of type 'dyke'"), ({"count": 9}, "can't make 9 sets")):
        with pytest.raises(LampError, match=words):
            project.run("structural-sets", readings="Core", **values)
