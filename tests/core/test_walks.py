"""Walk-throughs: what a stop must be, making and arranging them, keeping them in a project."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from innerlamp.api import Project
from innerlamp.cli import main
from innerlamp.core.comparing.differences import difference
from innerlamp.core.errors import LampError
from innerlamp.core.items.walk import MOST_STOPS, Walk, checked_stops

CAMERA = [402000.0, 7500000.0, 5000.0, 402500.0, 7501000.0, 4000.0, 0.0, 0.0, 1.0, 30.0]


def test_a_walk_is_made_arranged_kept_and_compared(tmp_path: Path) -> None:
    stops = [{"name": "One", "lit": ["Ground"], "caption": "von Süden"}, {"name": "Two", "camera": CAMERA}]
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        made = project.run("make-walk", stops=stops, name="Round")
        walk = project[made["walk"]]
        assert isinstance(walk, Walk)
        assert walk.facts == {"Views": "2"}
        assert [s.name for s in walk.views] == ["One", "Two"]
        assert walk.views[0].caption == "von Süden"
        assert walk.views[1].camera == tuple(CAMERA)
        project.run("arrange-walk", walk="Round", stops=[stops[1]])
        after = project["Round"]
        assert isinstance(after, Walk)
        assert [s.name for s in after.views] == ["Two"]
        assert any(c.what == "Views" for c in difference(walk, after))
    with Project.open(tmp_path / "p.lamp") as project:
        (written,) = project.export("Round", tmp_path / "views.json")
        made = project.run("make-walk", stops=written.read_text(encoding="utf-8"), name="Again")
        assert project[made["walk"]].stops == after.stops  # type: ignore[attr-defined]
        again = project["Round"]
        assert isinstance(again, Walk) and again.stops == after.stops


@pytest.mark.parametrize(
    ("stops", "words"),
    [
        ([], "1 to 100"),
        ([{"name": "x"}] * (MOST_STOPS + 1), "1 to 100"),
        ("nothing", "1 to 100"),
        ([{"name": ""}], "view 1"),
        ([{"name": "a"}, {"name": "b", "camera": [1.0, 2.0]}], "view 2.*ten numbers"),
        ([{"name": "a", "camera": [*CAMERA[:3], *CAMERA[:3], *CAMERA[6:]]}], "ten numbers"),
        ([{"name": "a", "camera": [*CAMERA[:9], 200.0]}], "angle of view"),
        ([{"name": "a", "exaggeration": 0}], "exaggeration"),
        ([{"name": "a", "colour": "red"}], "colour"),
        ([{"name": "a", "caption": "x" * 3000}], "caption"),
    ],
)
def test_what_is_no_view_is_refused_with_its_number(stops: Any, words: str) -> None:
    with pytest.raises(LampError, match=words):
        checked_stops(stops)


def test_the_command_line_makes_one_and_says_what_is_wrong(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = str(tmp_path / "p.lamp")
    Project.create(path, "EPSG:32719").close()
    assert main(["apply", path, "make-walk", 'stops=[{"name": "A", "looking": [90, 10]}]']) == 0
    assert main(["apply", path, "make-walk", "stops=[{]"]) == 2
    assert "JSON" in capsys.readouterr().err
    assert main(["apply", path, "make-walk", 'stops=[{"name": "A", "looking": "east"}]']) == 2
    assert "view 1" in capsys.readouterr().err
