"""A boundary of a log moves as two corrections that are one change, and lift to what was imported."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from innerlamp.api import Project
from innerlamp.core.errors import LampError
from innerlamp.core.items.holes import HoleSet

LOG = "hole,from,to,rock\nA,0,10,TILL\nA,10,25.5,SLATE\nA,25.5,40,GRAN\nB,0,12,TILL\nB,14,30,SLATE\n"


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    (tmp_path / "collar.csv").write_text("hole,x,y,z,depth\nA,402000,7502000,4000,40\nB,402100,7502000,4000,30\n")
    (tmp_path / "survey.csv").write_text("hole,depth,azimuth,dip\nA,0,90,-60\nB,0,0,-90\n")
    (tmp_path / "log.csv").write_text(LOG)
    made = Project.create(tmp_path / "p.lamp", "EPSG:32719")
    files = {"collar": "collar", "survey": "survey", "lithology": "log"}
    made.run("import-holes", **{k: str(tmp_path / f"{v}.csv") for k, v in files.items()}, name="Holes")
    yield made
    made.close()


def log_of(project: Project) -> list[tuple[str, float, float]]:
    item = project["Holes"]
    assert isinstance(item, HoleSet)
    t = item.tables["lithology"]
    return list(zip(t["hole"].astype(str), t["from_m"].tolist(), t["to_m"].tolist(), strict=True))


def move(project: Project, **values: object) -> None:
    project.run("move-boundary", holes="Holes", **{"table": "lithology", "why": "seen again", **values})


def test_both_intervals_meet_at_the_new_depth_and_places_follow(project: Project) -> None:
    before = log_of(project)
    move(project, hole="A", depth=25.5, to_depth=27.25)
    assert log_of(project)[1:3] == [("A", 10.0, 27.25), ("A", 27.25, 40.0)]
    item = project["Holes"]
    assert isinstance(item, HoleSet)
    # 60 degrees down towards the east: half of the depth east.
    assert item.tables["lithology"]["x1"].iloc[1] == pytest.approx(402000.0 + 27.25 / 2)
    layer = item.corrections
    assert layer["column"].tolist() == ["to_m", "from_m"]
    assert set(layer["why"]) == {"seen again"}
    project.run("lift-corrections", item="Holes")
    assert log_of(project) == before


def test_an_end_beside_a_gap_moves_alone(project: Project) -> None:
    move(project, hole="B", depth=12.0, to_depth=13.0)
    assert log_of(project)[3:] == [("B", 0.0, 13.0), ("B", 14.0, 30.0)]
    move(project, hole="B", depth=14.0, to_depth=13.0)
    assert log_of(project)[3:] == [("B", 0.0, 13.0), ("B", 13.0, 30.0)]


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"hole": "A", "depth": 11.0, "to_depth": 12.0}, "no interval of A"),
        ({"hole": "C", "depth": 10.0, "to_depth": 12.0}, "no interval of C"),
        ({"hole": "A", "depth": 10.0, "to_depth": 25.5}, "between 0 and 25.5 m"),
        ({"hole": "A", "depth": 10.0, "to_depth": 0.0}, "can't move"),
        ({"hole": "A", "depth": 10.0, "to_depth": 11.0, "table": "collar"}, "no intervals"),
        ({"hole": "A", "depth": 10.0, "to_depth": 11.0, "table": "assay"}, "assay"),
        ({"hole": "A", "depth": 10.0, "to_depth": 11.0, "why": " "}, "reason|why"),
    ],
)
def test_what_can_not_move_is_said_and_nothing_changes(project: Project, values: dict[str, object], words: str) -> None:
    before = log_of(project)
    with pytest.raises(LampError, match=words):
        move(project, **values)
    assert log_of(project) == before
