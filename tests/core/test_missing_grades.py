"""Missing grades count as what is said of each in its own unit; dust is no sample; small grades keep their digits."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from innerlamp.core.compute.drilling.wording import grade_words
from innerlamp.core.errors import InputError
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet

from .test_hole_sources import _closed, brought, folder

__all__ = ["_closed", "folder"]  # fixtures
COLLARS = "HoleID,Easting,Northing,RL,Depth,Azimuth,Dip\nRC1,500000,7000000,4100,10,0,90\n"
ASSAYS = "HoleID,From,To,Au_ppm,Cu_pct\nRC1,0,2,1,0.5\nRC1,2,4,,\nRC1,5.000000001,8,2,0.25\n"


@pytest.mark.parametrize(
    ("given", "gold", "copper"),
    [
        ({}, [1.0, 2.0], [0.5, 0.25]),
        ({"missing": 0.0}, [0.4, 1.2], [0.2, 0.15]),  # nothing is nothing in every unit
        ({"missing": 0.005}, [0.403, 1.202], [0.5, 0.25]),  # ppm of gold: copper stays missing
        ({"missing_of": ["Cu_pct=0.01"]}, [1.0, 2.0], [0.206, 0.154]),
        ({"missing": 0.0, "missing_of": ["Cu_pct=0.01"]}, [0.4, 1.2], [0.206, 0.154]),
    ],
)
def test_missing_grades_count_as_what_is_said_of_each(
    folder: Path, given: dict[str, object], gold: list[float], copper: list[float]
) -> None:
    _, project = brought(folder, collar=COLLARS, assay=ASSAYS)
    item = next(e.id for e in project.items if e.kind == "holes")
    made = project.run("composite", holes=item, attribute="Au_ppm", also=["Cu_pct"], length=5.0, least=0.0, **given)
    points = project.store.load(made["composites"])
    assert isinstance(points, PointSet)
    assert points.table["Au_ppm"].tolist() == pytest.approx(gold, abs=1e-6)
    assert points.table["Cu_pct"].tolist() == pytest.approx(copper, abs=1e-6)


def test_what_names_no_grade_is_refused(folder: Path) -> None:
    _, project = brought(folder, collar=COLLARS, assay=ASSAYS)
    item = next(e.id for e in project.items if e.kind == "holes")
    for words in ("Zn_ppm=1", "Cu_pct=much", "0.1"):
        with pytest.raises(InputError, match="missing grade counts as"):
            project.run("composite", holes=item, attribute="Au_ppm", also=["Cu_pct"], missing_of=[words])


def test_a_composite_that_holds_dust_only_has_no_grade(folder: Path) -> None:
    """Between 4 and 5 m nothing was sampled but the billionth of a metre that rounding leaves."""
    rows = "RC1,0,4.000000001,9\nRC1,4.999999999,10,1\n"
    _, project = brought(folder, collar=COLLARS, assay="HoleID,From,To,Au_ppm\n" + rows)
    item = next(e.id for e in project.items if e.kind == "holes")
    made = project.run("composite", holes=item, attribute="Au_ppm", length=1.0, least=0.0)
    points = project.store.load(made["composites"])
    assert isinstance(points, PointSet)
    assert 4.0 not in points.table["from_m"].tolist() and len(points.table) == 9
    assert np.isfinite(points.table["Au_ppm"]).all()


@pytest.mark.parametrize(
    ("grade", "words"),
    [(0.00049, "0.00049"), (0.0000123, "0.0000123"), (0.0005, "0.001"), (0.0, "0"), (0.83, "0.83"), (12.43, "12.4")],
)
def test_small_grades_keep_their_digits(grade: float, words: str) -> None:
    assert grade_words(grade) == words


def test_core_of_a_hole_straight_up_has_no_bottom_line_either(folder: Path) -> None:
    logged = "HoleID,Depth,Alpha,Beta\nRC1,2,40,100\nRC1,4,50,200\n"
    _, project = brought(folder, collar=COLLARS, logged=logged)
    files = {"collar": str(folder / "collar.csv"), "more": [str(folder / "logged.csv")]}
    item = project.run("import-holes", **files, dips="negative down")["holes"]
    holes = project.store.load(item)
    assert isinstance(holes, HoleSet) and holes.stations["tz"].iloc[0] == pytest.approx(1.0)
    with pytest.raises(InputError) as refused:
        project.run("orient-core", holes=item)
    assert "vertical" in str(refused.value) or "no plane" in str(refused.value), refused.value
