"""Each check of drillhole tables on a small table: what is kept, what is reported, with which line."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from innerlamp.core.compute.drilling import checks
from innerlamp.core.findings import Findings
from innerlamp.core.importing import angles

FILE = "t.csv"


def collars(**columns: list[object]) -> pd.DataFrame:
    base = {"hole": ["A", "B"], "x": [0.0, 10.0], "y": [0.0, 10.0], "z": [100.0, 101.0], "depth_m": [50.0, 80.0]}
    table = pd.DataFrame({**base, **columns})
    return table.assign(line=np.arange(2, 2 + len(table)))


def surveys(rows: list[tuple[str, float, float, float]]) -> pd.DataFrame:
    table = pd.DataFrame(rows, columns=["hole", "depth_m", "azimuth", "dip"])
    return table.assign(line=np.arange(2, 2 + len(table)))


def intervals(rows: list[tuple[str, float, float]]) -> pd.DataFrame:
    table = pd.DataFrame(rows, columns=["hole", "from_m", "to_m"])
    return table.assign(line=np.arange(2, 2 + len(table)))


def only(found: Findings) -> tuple[str, str, int, str]:
    frame = found.frame()
    assert len(frame) == 1, frame
    row = frame.iloc[0]
    return str(row["severity"]), str(row["what"]), int(row["line"]), str(row["hole"])


@pytest.mark.parametrize(
    ("columns", "kept", "severity", "what"),
    [
        ({"hole": ["A", " B "]}, ["A", "B"], "mended", "spaces around"),
        ({"hole": ["A", None]}, ["A"], "left out", "no hole ID"),
        ({"hole": ["A", "A"]}, ["A"], "left out", "a second time"),
        ({"x": [0.0, np.nan]}, ["A"], "left out", "easting is not a number"),
        ({"z": [0.0, np.inf]}, ["A"], "left out", "elevation is not a number"),
        ({"depth_m": [50.0, -80.0]}, ["A", "B"], "mended", "is negative"),
    ],
)
def test_collars(columns: dict[str, list[object]], kept: list[str], severity: str, what: str) -> None:
    found = Findings()
    table = checks.check_collars(collars(**columns), found, FILE)
    assert table["hole"].tolist() == kept
    told, words, line, _ = only(found)
    assert (told, line) == (severity, 3)
    assert what in words
    assert (table["depth_m"] >= 0).all()


@pytest.mark.parametrize("other", ["DH-001", "dh1", "DH 1", "Dh_01"])
def test_ids_that_differ_by_case_spaces_or_zeros_are_pointed_out_but_kept(other: str) -> None:
    found = Findings()
    table = checks.check_collars(collars(hole=["DH1", other]), found, FILE)
    assert len(table) == 2
    assert found.frame()["severity"].tolist() == ["look", "look"]


@pytest.mark.parametrize(
    ("rows", "kept", "severity", "what"),
    [
        ([("C", 0, 0, -60)], 0, "left out", "no collar"),
        ([("A", np.nan, 0, -60)], 0, "left out", "depth is not a number"),
        ([("A", -1, 0, -60)], 0, "left out", "depth is negative"),
        ([("A", 0, 0, -91)], 0, "left out", "steeper than 90"),
        ([("A", 50.5, 0, -60)], 0, "left out", "beyond the end of hole"),
        ([("A", 0, 365, -60)], 1, "mended", "azimuth outside"),
        ([("A", 0, -10, -60)], 1, "mended", "azimuth outside"),
        ([("A", 10, 0, -60), ("A", 10, 5, -60)], 1, "left out", "second survey reading"),
        ([("A", 20, 0, -60), ("A", 10, 5, -60)], 2, "mended", "not in order"),
    ],
)
def test_surveys(rows: list[tuple[str, float, float, float]], kept: int, severity: str, what: str) -> None:
    found = Findings()
    table = checks.check_surveys(surveys(rows), collars(), found, FILE)
    assert len(table) == kept
    told, words, line, _ = only(found)
    assert (told, line) == (severity, 1 + len(rows))
    assert what in words
    assert table["azimuth"].between(0, 360).all()
    assert table["depth_m"].is_monotonic_increasing


# Conventions of the trade: drillers write dips positive or negative down, gyro sheets angles from the vertical (zenith).
# Common practice, no source.
@pytest.mark.parametrize(
    ("heading", "dips", "convention", "out"),
    [
        ("Dip", [60.0, 70.0], "auto", [-60.0, -70.0]),
        ("Dip", [-60.0, -70.0], "auto", [-60.0, -70.0]),
        ("Dip", [60.0, 70.0], "negative down", [60.0, 70.0]),
        ("Dip", [60.0, -5.0], "positive down", [-60.0, 5.0]),
        ("Inclination from vertical", [30.0, 20.0], "auto", [-60.0, -70.0]),
        ("Inclinación desde la vertical (°)", [30.0, 20.0], "auto", [-60.0, -70.0]),
        ("Zénith", [0.0, 90.0], "auto", [-90.0, 0.0]),
        ("Neigung zur Vertikalen", [30.0, 20.0], "auto", [-60.0, -70.0]),
        ("Kaltevuus pystysuorasta", [30.0, 20.0], "auto", [-60.0, -70.0]),
        ("Plunge", [60.0, 70.0], "auto", [-60.0, -70.0]),
        ("Inclinaison depuis l'horizontale", [60.0, 70.0], "auto", [-60.0, -70.0]),
        ("Inclination", [30.0, 20.0], "auto", [-60.0, -70.0]),
    ],
)
def test_dips_end_up_negative_down(heading: str, dips: list[float], convention: angles.Dips, out: list[float]) -> None:
    found = Findings()
    table = surveys([("A", 10.0 * k, 0.0, d) for k, d in enumerate(dips)])
    assert angles.negative_down(table, convention, heading, found, FILE)["dip"].tolist() == out
    asked = found.frame().query("severity == 'look'")
    assert len(asked) == (heading == "Inclination")
    assert asked["done"].str.contains("dips='positive down'").all()


def test_in_doubt_the_dips_of_the_collars_decide() -> None:
    known = pd.Series({"A": -25.0})
    for heading, expected in (("Inclination", -30.0), ("Dip", -30.0)):
        found = Findings()
        table = angles.negative_down(surveys([("A", 0.0, 0.0, 30.0)]), "auto", heading, found, FILE, known)
        assert table["dip"].tolist() == [expected]
        assert not len(found.frame().query("severity == 'look'"))


def test_an_impossible_angle_from_the_vertical_is_left_out_and_an_upward_hole_kept() -> None:
    found = Findings()
    rows = [("A", 0.0, 0.0, 30.0), ("A", 10.0, 0.0, 128.5), ("A", 20.0, 0.0, 31.0), ("B", 0.0, 0.0, 100.0)]
    table = angles.negative_down(surveys(rows), "auto", "Zenith", found, FILE)
    assert table["dip"].tolist() == [-60.0, -59.0, 10.0]
    left = found.frame().query("severity == 'left out'")
    assert left["line"].tolist() == [3]
    assert "128.5°" in left["what"].iloc[0]


@pytest.mark.parametrize(
    ("rows", "kept", "severity", "what"),
    [
        ([("C", 0, 1)], 0, "left out", "no collar"),
        ([("A", np.nan, 1)], 0, "left out", "from is not a number"),
        ([("A", 0, np.inf)], 0, "left out", "to is not a number"),
        ([("A", -1, 1)], 0, "left out", "above the collar"),
        ([("A", 3, 3)], 0, "left out", "no length"),
        ([("A", 5, 3)], 0, "left out", "ends above its start"),
        ([("A", 0, 2), ("A", 1, 3)], 2, "mended", "overlaps 0–2 m (line 2)"),
        ([("A", 0, 2), ("A", 1, 2)], 1, "left out", "overlaps 0–2 m (line 2)"),
        ([("A", 0, 2), ("A", 0, 2)], 1, "left out", "overlaps 0–2 m (line 2)"),
        ([("B", 0, 2), ("A", 48, 51)], 2, "look", "beyond the end of hole"),
    ],
)
def test_intervals(rows: list[tuple[str, float, float]], kept: int, severity: str, what: str) -> None:
    found = Findings()
    table = checks.check_intervals(intervals(rows), collars(), found, FILE, "assay")
    assert len(table) == kept
    told, words, line, hole = only(found)
    assert (told, line, hole) == (severity, 1 + len(rows), rows[-1][0])
    assert what in words


def test_one_long_interval_does_not_hide_the_next_overlap() -> None:
    found = Findings()
    rows = [("A", 0.0, 10.0), ("A", 2.0, 4.0), ("A", 5.0, 6.0), ("A", 10.0, 12.0)]
    table = checks.check_intervals(intervals(rows), collars(), found, FILE, "assay")
    assert table["from_m"].tolist() == [0.0, 10.0]
    assert found.frame()["line"].tolist() == [3, 4]


def test_holes_without_rows_are_named() -> None:
    found = Findings()
    checks.check_coverage(intervals([("A", 0, 1)]), collars(), found, FILE, "assay")
    assert only(found) == ("look", "hole has no assay rows", 0, "B")


NUMBER = st.one_of(st.floats(-5, 90), st.just(np.nan), st.just(np.inf))
HOLE = st.sampled_from(["A", "B", " A", "C", "", None])


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(HOLE, NUMBER, NUMBER), max_size=25))
def test_no_interval_is_lost_and_none_overlaps(rows: list[tuple[str, float, float]]) -> None:
    found = Findings()
    table = checks.check_intervals(intervals(rows), collars(), found, FILE, "assay")
    out = found.frame().query("severity == 'left out'")
    assert sorted([*table["line"], *out["line"]]) == list(range(2, 2 + len(rows)))
    for _, rows_of in table.groupby("hole"):
        ordered = rows_of.sort_values("from_m")
        assert (ordered["to_m"] > ordered["from_m"]).all()
        assert (ordered["from_m"].to_numpy()[1:] >= ordered["to_m"].to_numpy()[:-1] - 1e-3).all()


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(HOLE, NUMBER, st.floats(-400, 800), st.floats(-120, 120)), max_size=25))
def test_no_survey_is_lost_and_each_depth_stands_once(rows: list[tuple[str, float, float, float]]) -> None:
    found = Findings()
    table = checks.check_surveys(surveys(rows), collars(), found, FILE)
    out = found.frame().query("severity == 'left out'")
    assert sorted([*table["line"], *out["line"]]) == list(range(2, 2 + len(rows)))
    assert not table.duplicated(["hole", "depth_m"]).any()
