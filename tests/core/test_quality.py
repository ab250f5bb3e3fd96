"""Control samples, structural conventions, dates and times, placing of pictures: against worked examples."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from innerlamp.core.compute.geometry.placing import fit_places
from innerlamp.core.compute.statistics import quality
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.tables.dates import ambiguous, clock_of, read_dates
from innerlamp.core.importing import control_charts
from innerlamp.core.importing.control_samples import kind_of
from innerlamp.core.importing.structures import dip_direction, read_bearing
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"


def run(operation: str, **params: object) -> object:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs({}, CRS), op.check(params), SILENT).values()))


@pytest.fixture(scope="module")
def holes() -> HoleSet:
    folder = FILES / "drilling"
    made = run(
        "import-holes",
        collar=str(folder / "collars.csv"),
        assay=str(folder / "assays.csv"),
        controls=str(folder / "control_samples.csv"),
    )
    assert isinstance(made, HoleSet)
    return made


def test_faults_of_the_laboratory_are_found_as_planted_and_no_others(holes: HoleSet) -> None:
    planted = [
        p
        for p in json.loads((FILES / "planted.json").read_text())["errors"]
        if p["file"] == "control_samples.csv" and p["what"] != "below detection"
    ]
    found = control_charts.judged(holes, "Sn_ppm")
    words = {
        "standard outside three deviations": "beyond three",
        "blank above its limit": "blank",
        "duplicate apart": "duplicate",
        "standard drifts": "drifts upward",
    }
    for p in planted:
        hit = found[found["line"] == p["line"]]
        assert hit["what"].str.contains(words[p["what"]]).any(), p
    rest = found[~found["line"].isin([p["line"] for p in planted])]
    # A drift of one standard may also carry two results in a row beyond two deviations: nothing else.
    assert rest["what"].str.contains("HIGH-2").all()


def test_standard_rules_on_a_worked_case() -> None:
    # Westgard rules 1-3s and 2-2s by hand: mean 100, deviation 10.
    values = np.array([101.0, 95, 131, 99, 121, 122, 78, 79, 100, 79, 121])
    check = quality.check_standard(values, 100.0, 10.0)
    assert np.flatnonzero(check.outside).tolist() == [2]
    assert np.flatnonzero(check.biased).tolist() == [5, 7]
    assert check.bias_percent == pytest.approx(values.mean() - 100)


def test_drift_is_that_of_theil_and_kendall() -> None:
    rng = np.random.default_rng(1)
    values = 50 + 0.2 * np.arange(30) + rng.normal(0, 1, 30)
    check = quality.check_standard(values, 50.0, 1.0)
    assert check.drift == pytest.approx(stats.theilslopes(values - 50.0).slope)
    assert (check.tau, check.chance) == pytest.approx(tuple(stats.kendalltau(np.arange(30), values)))
    assert quality.check_standard(np.array([1.0, 2.0, 3.0])).chance == 1.0


def test_pairs_by_hand() -> None:
    # |10 - 12| / 22 = 9.09 %; the coefficient of variation of one pair is sqrt(2) times that (Abzalov 2008).
    half, spread = quality.check_duplicates(np.array([10.0, 5.0, 0.0]), np.array([12.0, np.nan, 0.0]))
    assert half[0] == pytest.approx(100 * 2 / 22)
    assert np.isnan(half[1:]).all()
    assert spread == pytest.approx(np.sqrt(2) * 100 * 2 / 22)
    level, high = quality.check_blanks(np.array([1.0, 26.0, np.nan]), 5.0)
    assert (level, high.tolist()) == (25.0, [False, True, False])


@pytest.mark.parametrize(
    ("text", "kind"),
    [("STD", "standard"), ("CRM 12", "standard"), ("Blank", "blank"), ("FIELD DUP", "duplicate"), ("umpire", "")],
)
def test_kinds_of_control_samples(text: str, kind: str) -> None:
    assert kind_of(text) == kind


def test_duplicates_find_their_originals_among_the_assays(holes: HoleSet) -> None:
    pairs = control_charts.duplicate_pairs(holes, "Sn_ppm")
    assert pairs["first"].notna().all()
    assert len(pairs) == 48
    assert control_charts.standards(holes) == ["HIGH-2", "LOW-1"]


# ---- structures


@pytest.mark.parametrize(
    ("text", "bearing"),
    [("035", 35), ("N35E", 35), ("S 10 W", 190), ("N80W", 280), ("S45E", 135), ("N95E", np.nan), ("x", np.nan)],
)
def test_bearings_of_a_quadrant_compass(text: str, bearing: float) -> None:
    assert read_bearing(text) == pytest.approx(bearing, nan_ok=True)


def test_the_letter_tells_the_side_of_the_dip() -> None:
    # Strike 020: dips to 110 (E) or 290 (W); a letter along the strike tells nothing.
    found = dip_direction(np.array([20.0, 20.0, 200.0, 0.0, 45.0]), ["E", "NW", "SE", "N", ""])
    assert found == pytest.approx([110, 290, 110, np.nan, np.nan], nan_ok=True)


@pytest.mark.parametrize(
    ("heading", "cells", "convention", "expected"),
    [
        ("Dip direction", ("40", "130"), "auto", (40, 130)),
        ("Strike", ("40", "40"), "auto", (40, 130)),
        ("Strike", ("40", "40"), "strike by left-hand rule", (40, 310)),
        ("Strike", ("40W", "N20E"), "auto", (40, 290)),
        ("DipDir", ("-30", "100"), "auto", (30, 280)),
    ],
)
def test_planes_by_convention(
    tmp_path: Path, heading: str, cells: tuple[str, str], convention: str, expected: tuple[float, float]
) -> None:
    (tmp_path / "s.csv").write_text(
        f"Easting,Northing,Dip,{heading},Feature\n1,2,{cells[0]},{cells[1]},vein\n1,2,12,30,joint\n"
    )
    made = run("import-points", file=str(tmp_path / "s.csv"), content="structures", planes=convention)
    assert isinstance(made, PointSet)
    row = made.table.iloc[0]
    assert (row["dip"], row["dip direction"]) == pytest.approx(expected)
    assert made.units["dip"] == "°"


def test_readings_that_are_no_planes_are_reported(tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text("Easting,Northing,Dip,Dip direction\n1,2,95,10\n1,2,40,north\n1,2,30,20\n")
    made = run("import-points", file=str(tmp_path / "s.csv"), content="structures")
    assert isinstance(made, PointSet)
    assert len(made.table) == 3
    assert made.findings.query("line == 2")["what"].str.contains("dip '95' is not an angle").any()
    assert made.findings.query("line == 3")["what"].str.contains("'north' is not a bearing").any()


def test_repeated_gravity_stations_tell_their_spread(tmp_path: Path) -> None:
    (tmp_path / "g.csv").write_text("Easting,Northing,Gravity_mGal\n1,2,980.10\n5,6,981\n1,2,980.13\n")
    made = run("import-points", file=str(tmp_path / "g.csv"), content="stations")
    assert isinstance(made, PointSet)
    assert made.findings["done"].str.contains("largest difference Gravity_mGal 0.03").any()


# ---- dates, times, lines


@pytest.mark.parametrize(
    ("text", "order", "iso"),
    [
        ("2023-04-03", "auto", "2023-04-03"),
        ("20230403", "auto", "2023-04-03"),
        ("3-Apr-2023", "auto", "2023-04-03"),
        ("03 April 23", "auto", "2023-04-03"),
        ("03/04/2023", "month first", "2023-03-04"),
        ("03/04/23", "day first", "2023-04-03"),
        ("2023-04-03T10:00:00Z", "auto", "2023-04-03"),
        ("03/04/2023 10:00", "day first", "2023-04-03"),
        ("31/04/2023", "auto", ""),
    ],
)
def test_dates_in_every_order(text: str, order: str, iso: str) -> None:
    assert read_dates([text], np.array([2]), Findings(), "f", "t", order=order) == [iso]  # type: ignore[arg-type]


def test_only_columns_that_nothing_settles_are_ambiguous() -> None:
    assert ambiguous(["03/04/2023", "05/06/2023", "07/07/2023", None]) == ["03/04/2023", "05/06/2023"]
    assert ambiguous(["03/04/2023", "25/06/2023"]) == []
    assert ambiguous(["2023-04-03", ""]) == []


@pytest.mark.parametrize(
    ("text", "clock"),
    [
        ("9:05", "09:05:00"),
        ("09:05:01,5", "09:05:01.5"),
        ("2024-05-16T09:05:01", "09:05:01"),
        ("9:05 PM", "21:05:00"),
        ("12:30 am", "00:30:00"),
        ("090501", "09:05:01"),
        ("25:00", ""),
        ("noon", ""),
        (None, ""),
    ],
)
def test_clock_times(text: object, clock: str) -> None:
    assert clock_of(text) == clock


def test_one_file_a_line_is_named_by_the_file(tmp_path: Path) -> None:
    for k in (2, 10):
        (tmp_path / f"mag_line_{k}.csv").write_text(
            f"Fid,X,Y,Z,Date,Time,nT\n1,{k},0,9,03/04/2024,09:00,5\n2,{k},1,9,03/04/2024,09:01,6\n2,{k},2,9,03/04/2024,x,7\n"
        )
    files = {"file": str(tmp_path / "mag_line_2.csv"), "more": str(tmp_path / "mag_line_10.csv")}
    made = run("import-lines", **files, day_order="month first")
    assert isinstance(made, SurveyLines)
    assert made.table["line"].tolist() == ["2"] * 3 + ["10"] * 3
    assert (made.date, made.table["time"].tolist()[:3]) == ("2024-03-04", ["09:00:00", "09:01:00", ""])
    assert made.findings["what"].str.contains("fiducial stands twice").sum() == 2
    assert made.findings["what"].str.contains("'x' is not a time").sum() == 2
    asked = run("import-lines", **files)
    assert isinstance(asked, SurveyLines)
    assert asked.findings["what"].str.contains("could be day or month first").any()


# ---- placing


def test_places_are_found_exactly_and_residuals_are_those_of_the_normal_equations() -> None:
    rng = np.random.default_rng(3)
    pixels = rng.uniform(0, 800, (6, 2))
    exact = np.column_stack([2 * pixels[:, 0] + 0.1 * pixels[:, 1] + 500, 0.1 * pixels[:, 0] - 2 * pixels[:, 1] + 900])
    for kind in ("affine", "similarity"):
        values, residual = fit_places(pixels, exact, kind)  # type: ignore[arg-type]
        assert values == pytest.approx([2, 0.1, 500, 0.1, -2, 900])
        assert residual == pytest.approx(np.zeros(6), abs=1e-9)
    noisy = exact + rng.normal(0, 3, exact.shape)
    values, residual = fit_places(pixels, noisy)
    design = np.column_stack([pixels, np.ones(6)])
    coefficients = np.linalg.solve(design.T @ design, design.T @ noisy)
    assert residual == pytest.approx(np.linalg.norm(design @ coefficients - noisy, axis=1))
    three = fit_places(pixels[:3], noisy[:3])[1]
    assert three == pytest.approx(np.zeros(3), abs=1e-8)
    with pytest.raises(InputError, match="too few"):
        fit_places(pixels[:2], exact[:2])
    with pytest.raises(InputError, match="on one line"):
        fit_places(np.array([[0.0, 0], [1, 1], [2, 2]]), exact[:3])
    assert len(pd.unique(residual)) == 6
