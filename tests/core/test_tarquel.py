"""A prospect from elsewhere comes in by the command line and by Python with every fact right (`tests.tarquel`)."""

from __future__ import annotations

import filecmp
from pathlib import Path

import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.cli import main
from tests.tarquel import make
from tests.tarquel.facts import corrected, facts
from tests.tarquel.make import CRS, PLACE


def test_its_files_are_what_the_generator_makes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(make, "PLACE", tmp_path / "tarquel")
    make.make()
    names = [str(p.relative_to(PLACE)) for p in PLACE.rglob("*") if p.is_file()]
    # Pictures and workbooks hold versions of the libraries that wrote them; their contents are among the facts.
    plain = [n for n in names if not n.endswith((".tif", ".xlsx"))]
    assert filecmp.cmpfiles(PLACE, tmp_path / "tarquel", plain, shallow=False)[0] == plain
    assert (tmp_path / "tarquel_truth.json").read_text() == (PLACE.parent / "tarquel_truth.json").read_text()


def test_it_comes_in_by_python_with_every_fact_right(tmp_path: Path) -> None:
    with Project.create(tmp_path / "t.lamp", CRS) as project:
        made = project.bring([PLACE])
        assert not project.problems
        told = facts(project)
        assert len(told) > 100
        assert [name for name, holds in told if not holds] == []
        lines = next(i for i in made if project.store.entry(i).kind == "lines")
        assert [name for name, holds in corrected(project, lines) if not holds] == []


def test_it_comes_in_by_command_and_its_findings_are_printed(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    place = tmp_path / "t.lamp"
    assert main(["new", str(place), CRS]) == 0
    assert main(["bring", str(place), str(PLACE)]) == 0
    with Project.open(place, write=False) as project:
        assert [name for name, holds in facts(project) if not holds] == []
    capsys.readouterr()
    assert main(["findings", str(place)]) == 0
    printed = capsys.readouterr().out
    assert "100  values below detection in Ag → taken as …  (leyes_lab_norte.csv" in printed
    holes = printed.split("Drillholes: ")[1].splitlines()[1:]
    holes = holes[: next(k for k, line in enumerate(holes) if not line.startswith("  "))]
    order = [line.split()[0] for line in holes]
    assert order == sorted(order, key=["left", "look", "mended", "note"].index)
    assert main(["findings", str(place), "Drillholes", "--out", str(tmp_path / "f.csv")]) == 0
    table = pd.read_csv(tmp_path / "f.csv")
    assert (table["what"] == "Ag '<0,5' is below detection").sum() == 100
    assert main(["findings", str(place), "Nothing"]) == 2


def test_what_is_above_the_limit_and_which_method_counts_are_choices(tmp_path: Path) -> None:
    place = tmp_path / "t.lamp"
    assert main(["new", str(place), CRS]) == 0
    words = [
        "bring",
        str(place),
        str(PLACE / "sondajes"),
        str(PLACE / "leyes"),
        "--above",
        "limit",
        "--methods",
        "AA; FA",
    ]
    assert main([*words, "--below", "zero"]) == 0
    with Project.open(place, write=False) as project:
        table = project["Drillholes"].tables["assay"]  # type: ignore[attr-defined]
        hole = table["hole"].astype(str)
        assert table["Cu_ppm"][hole < "TQ-007"].max() == pytest.approx(10_000.0)
        assert set(table["Au method"][hole == "TQ-012"]) == {"AA"}
        assert (table["Ag_gpt"][hole == "TQ-001"] == 0).all()


def test_comparing_says_what_changed_from_the_first_to_the_second(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    with Project.create(tmp_path / "t.lamp", CRS) as project:
        project.bring([PLACE / "suelos"])
        soils = project.items[0].id
        project.store.dated_copy(soils)
        project.run("correct", item=soils, rows=[1, 2], action="leave out row", why="not ours")
        names = [e.name for e in project.items]
    old, new = next(n for n in names if "·" in n), next(n for n in names if "·" not in n)
    assert main(["compare", str(tmp_path / "t.lamp"), old, new]) == 0
    there = capsys.readouterr().out
    assert main(["compare", str(tmp_path / "t.lamp"), new, old]) == 0
    back = capsys.readouterr().out
    assert "60 → 58" in there
    assert "58 → 60" in back
