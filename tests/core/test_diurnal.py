"""The daily variation: joined by time, taken off, and what the base record does not cover is said."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from pytest import approx

from innerlamp.core.compute.potential.diurnal import diurnal, seconds_of
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.points import SurveyLines
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"


def test_times_are_read_with_their_dates() -> None:
    made = seconds_of(["1970-01-02", "", "1970-01-01", "1970-01-01"], ["01:00:30.5", "2:03", "noon", "23:59:59,25"])
    assert made == approx([86400 + 3630.5, 7380.0, np.nan, 86399.25], nan_ok=True)


def test_variation_by_hand() -> None:
    base_time, base = np.array([0.0, 100.0, 200.0, 2000.0]), np.array([48_500.0, 48_510.0, 48_500.0, 48_500.0])
    variation, datum = diurnal(np.array([50.0, 100.0, 150.0, 1000.0, -5.0, np.nan]), base_time, base)
    assert datum == 48_500.0  # the median
    assert variation == approx([5.0, 10.0, 5.0, np.nan, np.nan, np.nan], nan_ok=True)  # the gap of 1800 s is too long
    bridged, _ = diurnal(np.array([1000.0]), base_time, base, datum=48_490.0, longest_gap=5000.0)
    assert bridged == approx([10.0])
    with pytest.raises(InputError, match="fewer than two"):
        diurnal(np.zeros(3), np.array([1.0]), np.array([2.0]))


def load() -> SurveyLines:
    op = OPERATIONS["import-lines"]
    made = op.run(Inputs({}, CRS), op.check({"file": str(FILES / "geophysics" / "airborne_magnetics.csv")}), SILENT)[
        "lines"
    ]
    assert isinstance(made, SurveyLines)
    return made


def correct(lines: SurveyLines, **params: object) -> SurveyLines:
    op = OPERATIONS["diurnal-correction"]
    values = {"attribute": "RAW_TMI_nT", "base": str(FILES / "geophysics" / "magnetic_base_station.csv"), **params}
    made = op.run(Inputs({"lines": lines}, CRS), op.check(values), SILENT)["lines"]
    assert isinstance(made, SurveyLines)
    return made


def test_corrected_readings_of_the_demo_follow_its_anomaly_more_closely() -> None:
    lines = load()
    made = correct(lines)
    assert "RAW_TMI_nT" in made.table.columns  # raw beside corrected
    table = made.table
    known = np.isfinite(table["RAW_TMI_nT corrected"])
    assert known.mean() > 0.95

    def spread(column: str) -> float:
        rest = (table[column] - table["TMI_ANOM_nT"])[known]
        return float((rest - rest.median()).abs().median())

    assert spread("RAW_TMI_nT corrected") < 0.5 * spread("RAW_TMI_nT")
    assert made.units["RAW_TMI_nT corrected"] == "nT"


def test_what_the_base_does_not_cover_is_said(tmp_path) -> None:  # type: ignore[no-untyped-def]
    lines = load()
    text = (FILES / "geophysics" / "magnetic_base_station.csv").read_text().splitlines()
    (tmp_path / "half.csv").write_text("\n".join(text[: len(text) // 3]) + "\n")
    made = correct(lines, base=str(tmp_path / "half.csv"))
    lost = made.findings[made.findings["what"].str.contains("gap of the base record|before or after the base record")]
    assert len(lost) == int(
        np.isnan(made.table["RAW_TMI_nT corrected"]).sum() - np.isnan(made.table["RAW_TMI_nT"]).sum()
    )
    assert lost["line"].min() > 1
    (tmp_path / "other.csv").write_text("Date,Time,Base_nT\n2020-01-01,07:00:00,48500\n2020-01-01,07:01:00,48501\n")
    with pytest.raises(InputError, match="no reading falls within the base record"):
        correct(lines, base=str(tmp_path / "other.csv"))
    (tmp_path / "none.csv").write_text("a,b\n1,2\n")
    with pytest.raises(InputError, match="needs a column of times"):
        correct(lines, base=str(tmp_path / "none.csv"))


BASE = "Time,Base_nT\n"


def _flown(*readings: tuple[str, str, float]) -> SurveyLines:
    """Readings of (date, time, nT) along one line, made here."""
    table = pd.DataFrame(readings, columns=["date", "time", "RAW"]).assign(
        line="1", x=range(len(readings)), y=0.0, z=0.0
    )
    table["file_line"] = np.arange(2, 2 + len(table))
    return SurveyLines(name="L", crs=CRS, table=table, units={"RAW": "nT"}, date="2024-05-16")


def test_a_base_record_without_dates_over_nights_with_zeros_and_a_remark(tmp_path: Path) -> None:
    rows = [f"{h % 24:02d}:{m:02d}:00,{48_500 + (h - 22) * 60 + m}" for h in range(22, 27) for m in range(0, 60, 5)]
    rows[10] = rows[10].split(",")[0] + ",0"
    file = tmp_path / "base.csv"
    file.write_text("Base station Cerro Uno; operator: nobody\n" + BASE + "\n".join(rows) + "\n")
    lines = _flown(
        ("2024-05-16", "22:10:00", 48_900.0),
        ("2024-05-17", "00:30:00", 48_900.0),
        ("2024-05-17", "02:30:00", 48_900.0),
        ("2024-05-18", "00:30:00", 48_900.0),
    )
    made = correct(lines, attribute="RAW", base=str(file), datum=48_500.0)
    # At 22:10 the base has gone up by 10 nT, at 00:30 by 150, at 02:30 by 270; the last night it did not record.
    assert made.table["RAW corrected"].tolist()[:3] == [48_890.0, 48_750.0, 48_630.0]
    assert np.isnan(made.table["RAW corrected"].iloc[3])
    words = made.findings.assign(text=made.findings["what"] + " → " + made.findings["done"])["text"].str.cat(sep="; ")
    assert "laid from 2024-05-16 on" in words
    assert "base reading is 0: a gap" in words
    assert "before or after the base record" in words


def test_readings_without_dates_find_their_place_in_one_night_and_not_in_several(tmp_path: Path) -> None:
    file = tmp_path / "base.csv"
    file.write_text(BASE + "23:00:00,100\n23:30:00,110\n00:10:00,120\n01:00:00,130\n")
    lines = _flown(("", "23:15:00", 500.0), ("", "00:35:00", 500.0))
    made = correct(lines, attribute="RAW", base=str(file), datum=100.0, gap=3600.0)
    assert made.table["RAW corrected"].tolist() == [495.0, 475.0]
    file.write_text(BASE + "23:00:00,100\n01:00:00,130\n23:00:00,100\n01:00:00,130\n")
    with pytest.raises(InputError, match="several nights"):
        correct(lines, attribute="RAW", base=str(file), gap=9000.0)
