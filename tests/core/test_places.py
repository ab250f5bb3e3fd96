"""Places that went wrong on the way are named with what is likely the matter; every kind of table is held against the project."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pyproj
import pytest

from innerlamp.api import Project
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.importing.places_check import check_places
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

SOUTH = "EPSG:32719"  # UTM zone 19 south
AREA = (400_000.0, 404_000.0, 7_500_000.0, 7_505_000.0)


def _words(x: list[float], y: list[float], **more: object) -> list[str]:
    rng = np.random.default_rng(3)
    east = np.concatenate([rng.uniform(AREA[0], AREA[1], 40), x])
    north = np.concatenate([rng.uniform(AREA[2], AREA[3], 40), y])
    found = Findings()
    check_places(east, north, np.arange(2, 2 + len(east)), found, "f.csv", "samples", SOUTH, **more)  # type: ignore[arg-type]
    frame = found.frame()
    assert frame["line"].tolist() == list(range(42, 42 + len(x)))
    return [str(w) for w in frame["what"]]


# The zone beside it and degrees are turned by pyproj, a general-purpose library of projections.
NEXT = pyproj.Transformer.from_crs(SOUTH, "EPSG:32718", always_xy=True).transform(402_000.0, 7_502_000.0)
DEGREES = pyproj.Transformer.from_crs(SOUTH, "EPSG:4326", always_xy=True).transform(402_000.0, 7_502_000.0)


@pytest.mark.parametrize(
    ("x", "y", "words"),
    [
        (7_502_000.0, 402_000.0, "changed round"),
        (402_000.0, -7_502_000.0, "sign of the northing"),
        (-402_000.0, 7_502_000.0, "sign of the easting"),
        (40_200.0, 7_502_000.0, "easting lacks a digit"),
        (402_000.0, 75_020_000.0, "northing has a digit too many"),
        (402_000.0 / 0.3048, 7_502_000.0 / 0.3048, "in feet"),
        (NEXT[0], NEXT[1], "zone 18S (EPSG:32718)"),
        (DEGREES[0], DEGREES[1], "looks like degrees"),
        (DEGREES[1], DEGREES[0], "latitude first"),
        (402_000.0, 7_502_000.0 - 1e7, "from the equator"),
        (250_000.0, 6_000_000.0, "lies far from the rest"),
    ],
)
def test_one_change_that_brings_a_place_home_is_named(x: float, y: float, words: str) -> None:
    assert words in _words([x], [y])[0]


def test_a_dense_part_in_a_wide_survey_is_no_fault() -> None:
    rng = np.random.default_rng(1)
    dense, wide = rng.normal(0, 300, (400, 2)), rng.uniform(-6000, 6000, (80, 2))
    x, y = np.concatenate([dense, wide]).T + np.array([[402_000.0], [7_502_000.0]])
    found = Findings()
    check_places(x, y, np.arange(len(x)), found, "f", "samples", SOUTH)
    assert not len(found.frame())


def _csv(folder: Path, name: str, table: pd.DataFrame) -> str:
    table.to_csv(folder / name, index=False)
    return str(folder / name)


def test_a_table_far_from_the_project_is_told_at_its_import(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    here = pd.DataFrame(
        {"easting": rng.uniform(400e3, 404e3, 30), "northing": rng.uniform(7.5e6, 7.504e6, 30), "Cu_ppm": 10.0}
    )
    there = here.rename(columns={"easting": "northing", "northing": "easting"})[["easting", "northing", "Cu_ppm"]]
    with Project.create(tmp_path / "p.lamp", SOUTH) as project:
        first = project.run("import-points", file=_csv(tmp_path, "soils.csv", here))["points"]
        second = project.run("import-points", file=_csv(tmp_path, "rocks.csv", there))["points"]
        lines = project.run("import-lines", file=_csv(tmp_path, "mag.csv", there.assign(line=1, TMI=5.0)))["lines"]
        assert not len(project.store.load(first).findings)  # type: ignore[attr-defined]
        for item in (second, lines):
            words = " ".join(project.store.load(item).findings["what"])  # type: ignore[attr-defined]
            assert "km from the rest of the project" in words
            assert "changed round" in words


def test_the_row_is_named_before_a_huge_grid_is_asked_for(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    table = pd.DataFrame(
        {"easting": rng.uniform(400e3, 404e3, 60), "northing": rng.uniform(7.5e6, 7.504e6, 60), "Cu": 1.0}
    )
    table.loc[17, "northing"] = 750_000.0
    op = OPERATIONS["import-points"]
    item = op.run(Inputs({}, SOUTH), op.check({"file": _csv(tmp_path, "s.csv", table)}), SILENT)["points"]
    grid = OPERATIONS["grid-minimum-curvature"]
    with pytest.raises(InputError) as told:
        grid.run(Inputs({"samples": item}, SOUTH), grid.check({"attribute": "Cu", "cell": 5.0}), SILENT)
    assert "line 19 of its file" in str(told.value)
