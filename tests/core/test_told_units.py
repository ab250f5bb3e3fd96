"""Ounces and pennyweights of all tons, units in columns and cells, and elements without any."""

from __future__ import annotations

from pathlib import Path

import pytest

from innerlamp.core.units import factor, unit_in_heading

from .test_hole_sources import _closed, brought, folder

__all__ = ["_closed", "folder"]  # fixtures
COLLARS = "HoleID,Easting,Northing,RL,Depth\nRC1,500000,7000000,4100,300\n"


@pytest.mark.parametrize(
    ("unit", "grams"),
    [
        # One troy ounce 31.1034768 g, one short ton 907.18474 kg, one long ton 1016.0469088 kg (NIST Handbook 44, app. C).
        ("oz/t", 34.285714), ("oz/st", 34.285714), ("oz/lt", 30.612245), ("oz/tonne", 31.1034768),
        ("dwt/t", 1.7142857), ("dwt/st", 1.7142857), ("dwt/lt", 1.5306122), ("dwt/tonne", 1.5551738),
    ],
)  # fmt: skip
def test_ounces_and_pennyweights_of_each_ton(unit: str, grams: float) -> None:
    assert factor(unit, "g/t") == pytest.approx(grams, rel=1e-6)


@pytest.mark.parametrize(
    ("heading", "unit"),
    [
        ("Au_opt", "oz/t"), ("Au (oz/ton)", "oz/t"), ("Au oz per ton", "oz/t"), ("Au_oz_ton", "oz/t"), ("Au oz/st", "oz/st"),
        ("Au (oz/short ton)", "oz/st"), ("Au_opst", "oz/st"), ("Au oz/tonne", "oz/tonne"), ("Au (oz/mt)", "oz/tonne"),
        ("Au [oz/TM]", "oz/tonne"), ("Au (oz/long ton)", "oz/lt"), ("Au_dwt", "dwt/t"), ("Au (dwt/ton)", "dwt/t"),
        ("Au dwt/lt", "dwt/lt"), ("Gold pennyweights", "dwt/t"), ("Au_ppm", "ppm"), ("Depth ft", "ft"),
    ],
)  # fmt: skip
def test_units_of_ounces_in_headings(heading: str, unit: str) -> None:
    assert unit_in_heading(heading) == unit


def test_a_ton_that_may_be_any_is_asked_about_and_one_that_is_named_is_not(folder: Path) -> None:
    holes, _ = brought(
        folder, collar=COLLARS, assay="HoleID,From,To,Au_opt,Ag oz/tonne\nRC1,0,1,0.1,2\nRC1,1,2,0.2,3\n"
    )
    assert holes.units["Au_opt"] == "oz/t" and holes.attributes["Au_opt"].quantity == "grade"
    asked = holes.findings[holes.findings["what"].str.contains("short, long or metric")]
    assert asked["severity"].tolist() == ["look"] and asked["what"].str.startswith("Au_opt").all()


def test_two_laboratories_in_ounces_and_grams_are_one_column(folder: Path) -> None:
    holes, _ = brought(
        folder,
        collar=COLLARS,
        assay_a="HoleID,From,To,Au_gpt\nRC1,0,1,3.5\n",
        assay_b="HoleID,From,To,Au oz/st\nRC1,1,2,0.1\n",
    )
    assert holes.tables["assay"]["Au_gpt"].tolist() == pytest.approx([3.5, 3.4285714])


def test_units_in_a_column_of_their_own_hold_row_by_row(folder: Path) -> None:
    rows = [
        "RC1,0,1,1.5,ppm,0.5",
        "RC1,1,2,700,ppb,0.6",
        "RC1,2,3,<50,ppb,0.7",
        "RC1,3,4,2.5,ppm,0.1",
        "RC1,4,5,9,?,0.1",
    ]
    holes, _ = brought(folder, collar=COLLARS, assay="HoleID,From,To,Au,Au unit,Cu_pct\n" + "\n".join(rows) + "\n")
    table = holes.tables["assay"]
    assert holes.units["Au"] == "ppm"
    assert table["Au"].tolist()[:4] == pytest.approx([1.5, 0.7, 0.025, 2.5])
    assert table["Au"].isna().tolist() == [False, False, False, False, True]
    assert holes.findings["what"].str.contains("'9' has no unit that is known").any()


@pytest.mark.parametrize("heading", ["Units", "Unidad", "Einheit", "UoM", "Enhet"])
def test_one_column_of_units_holds_for_all_elements_without_one(folder: Path, heading: str) -> None:
    rows = [f"RC1,{k},{k + 1},{k},{2 * k},ppb" for k in range(1, 6)]
    holes, _ = brought(folder, collar=COLLARS, assay=f"HoleID,From,To,Au,Ag,{heading}\n" + "\n".join(rows) + "\n")
    assert holes.units["Au"] == holes.units["Ag"] == "ppb"


def test_units_in_cells_are_brought_to_one(folder: Path) -> None:
    rows = ["RC1,0,1,1.5 g/t", "RC1,1,2,350 ppb", "RC1,2,3,<0.01 g/t", "RC1,3,4,0.1 oz/st", "RC1,4,5,2.0"]
    holes, _ = brought(folder, collar=COLLARS, assay="HoleID,From,To,Au\n" + "\n".join(rows) + "\n")
    values = holes.tables["assay"]["Au"].tolist()
    assert holes.units["Au"] == "g/t" and values[:4] == pytest.approx([1.5, 0.35, 0.005, 3.4285714])
    assert values[4] != values[4]  # no unit beside it, and none to take
    assert holes.findings["what"].str.contains("'2.0' has no unit").any()


def test_an_element_without_a_unit_is_the_gravest_finding(folder: Path) -> None:
    holes, _ = brought(
        folder, collar=COLLARS, assay="HoleID,From,To,Au,Cu_ppm,Width\nRC1,0,1,1,5,0.4\nRC1,1,2,2,6,0.5\n"
    )
    assert holes.findings["what"].iloc[0] == "Au names an element and no unit"
    assert holes.findings["severity"].iloc[0] == "left out" and holes.units["Au"] == ""
    assert not holes.findings["what"].str.contains("Width names|Cu_ppm names").any()
