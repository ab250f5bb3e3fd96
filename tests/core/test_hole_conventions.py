"""Drillhole tables in other conventions: feet, magnetic azimuths, dips from vertical, no elevations, odd codes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import ppigrf
import pyproj
import pytest
from pytest import approx

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.operations.data.add_holes import merge
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"
X, Y = 650_000.0, 5_600_000.0  # east of the central meridian, so that grid and true north differ
COLLAR = f"hole,east,north,rl,depth\nA,{X},{Y},300,200\nB,{X + 100},{Y},310,200\n"
SURVEY = "hole,depth,azimuth,dip\nA,0,90,-60\nB,0,180,-70\n"


def ground(level: float = 300.0) -> Grid:
    values = np.full((41, 41), level)
    return Grid(
        name="g", crs=CRS, values=values, x0=X - 1000, y0=Y - 1000, dx=50.0, dy=50.0, attribute="elevation", unit="m"
    ).told_by_headings()


def load(folder: Path, dem: Grid | None = None, params: dict[str, object] | None = None, **texts: str) -> HoleSet:
    files = {}
    for name, text in {"collar": COLLAR, "survey": SURVEY, **texts}.items():
        if text:
            (folder / f"{name}.csv").write_text(text)
            files[name] = str(folder / f"{name}.csv")
    op = OPERATIONS["import-holes"]
    made = op.run(Inputs({"ground": dem} if dem else {}, CRS), op.check({**files, **(params or {})}), SILENT)["holes"]
    assert isinstance(made, HoleSet)
    return made


def whats(holes: HoleSet) -> str:
    return "\n".join(holes.findings["what"] + " → " + holes.findings["done"])


def test_feet_by_heading_or_by_choice(tmp_path: Path) -> None:
    assay = "hole,from_ft,to_ft,Au_ppm\nA,0,10,1.0\nA,10,20,2.0\n"
    made = load(tmp_path, assay=assay)
    assert made.tables["assay"]["to_m"].tolist() == approx([3.048, 6.096])
    assert "from_ft is in feet → multiplied by 0.3048" in whats(made)
    assert made.collars["depth_m"].tolist() == [200.0, 200.0]  # its heading names no feet
    made = load(tmp_path, params={"depth_unit": "ft"})
    assert made.collars["depth_m"].tolist() == approx([60.96, 60.96])


@pytest.mark.parametrize(("heading", "north"), [("Azi true", "auto"), ("azimuth", "true")])
def test_true_azimuths_lose_the_convergence(tmp_path: Path, heading: str, north: str) -> None:
    made = load(tmp_path, params={"north": north}, survey=SURVEY.replace("azimuth", heading))
    lon, lat = pyproj.Transformer.from_crs(CRS, "EPSG:4326", always_xy=True).transform(X + 50, Y)
    convergence = pyproj.Proj(CRS).get_factors(lon, lat).meridian_convergence
    assert convergence > 1.5
    assert made.surveys["azimuth"].tolist() == approx([90 - convergence, 180 - convergence], abs=1e-3)


def test_magnetic_azimuths_gain_the_declination_of_the_date(tmp_path: Path) -> None:
    survey = SURVEY.replace("azimuth", "Azi mag")
    with pytest.raises(InputError, match="the date is not known"):
        load(tmp_path, survey=survey)
    made = load(tmp_path, survey=survey, params={"date": "2024-06-01"})
    lon, lat = pyproj.Transformer.from_crs(CRS, "EPSG:4326", always_xy=True).transform(X + 50, Y)
    east, north, _ = ppigrf.igrf(lon, lat, 0.305, pd.Timestamp("2024-06-01").to_pydatetime())  # IGRF-14, IAGA 2024
    turn = (
        float(np.degrees(np.arctan2(east, north)).ravel()[0])
        - pyproj.Proj(CRS).get_factors(lon, lat).meridian_convergence
    )
    assert made.surveys["azimuth"].tolist() == approx([(90 + turn) % 360, (180 + turn) % 360], abs=0.01)
    assert "declination" in whats(made)
    dated = load(
        tmp_path, survey=survey, collar=COLLAR.replace("depth\n", "depth,date\n").replace(",200\n", ",200,2024-06-01\n")
    )
    assert dated.surveys["azimuth"].tolist() == approx(made.surveys["azimuth"].tolist())


def test_dips_from_vertical(tmp_path: Path) -> None:
    made = load(tmp_path, survey="hole,depth,azimuth,incl\nA,0,90,30\nB,0,0,0\n", params={"dips": "from vertical"})
    assert made.surveys["dip"].tolist() == [-60.0, -90.0]


def test_azimuth_and_dip_of_the_collar_serve_as_survey(tmp_path: Path) -> None:
    collar = f"hole,east,north,rl,depth,azimuth,dip\nA,{X},{Y},300,100,90,-45\nB,{X},{Y + 50},300,100,,\n"
    made = load(tmp_path, collar=collar, survey="")
    end = made.stations[made.stations["hole"] == "A"].iloc[-1]
    assert (end["x"] - X, end["z"]) == approx((100 / np.sqrt(2), 300 - 100 / np.sqrt(2)))
    below = made.stations[made.stations["hole"] == "B"].iloc[-1]
    assert (below["x"], below["z"]) == approx((X, 200.0))  # no survey means vertical, and says so
    assert "azimuth and dip of the collar taken" in whats(made)
    assert "hole has no survey → taken as vertical" in whats(made)


def test_elevations_come_from_the_ground_where_there_are_none(tmp_path: Path) -> None:
    collar = f"hole,east,north,depth\nA,{X},{Y},100\nB,{X + 9000},{Y},100\n"
    with pytest.raises(InputError, match="no column for Elevation"):
        load(tmp_path, collar=collar, survey="")
    made = load(tmp_path, ground(287.5), collar=collar, survey="")
    assert made.collars["z"].tolist() == [287.5]  # B lies off the ground surface
    assert "taken from the ground surface: 287.5 m" in whats(made)
    assert made.findings.query("severity == 'left out'")["hole"].tolist() == ["B"]


def test_collars_off_the_ground_or_far_away_are_pointed_out(tmp_path: Path) -> None:
    collar = f"hole,east,north,rl,depth\nA,{X},{Y},300,9\nB,{X},{Y},325,9\nC,{Y},{X},300,9\nD,{X + 80_000},{Y},300,9\n"
    made = load(tmp_path, ground(), collar=collar, survey="")
    found = made.findings[made.findings["severity"] == "look"].set_index("hole")["what"]
    assert found["B"] if isinstance(found["B"], str) else "collar is 25.0 m above" in " ".join(found["B"])
    text = whats(made)
    assert "collar is 25.0 m above the ground surface" in text
    assert "looks as if easting and northing were changed round" in text
    assert "another zone or system?" in text
    assert len(made.collars) == 4  # all kept: a person decides


def test_kinks_are_reported_and_small_wobbles_are_not(tmp_path: Path) -> None:
    survey = "hole,depth,azimuth,dip\nA,0,90,-60\nA,30,90,-59\nA,60,120,-59\nA,60.5,120.9,-59\nB,0,0,-60\n"
    made = load(tmp_path, survey=survey)
    bends = made.findings[made.findings["what"].str.contains("bends")]
    assert len(bends) == 1
    # The angle between 090/-59 and 120/-59 is 2 asin(cos 59 sin 15) = 15.32 degrees.
    assert "bends by 15.3° per 30 m from 30 to 60 m" in bends["what"].iloc[0]
    assert len(load(tmp_path, survey=survey, params={"bend": 16.0}).findings.query("what.str.contains('bends')")) == 0


@pytest.mark.parametrize(
    ("rule", "expected"),
    [
        ("half of limit", [0.25, 0.25, 0.25]),
        ("limit", [0.5, 0.5, 0.5]),
        ("zero", [0.0, 0.0, 0.0]),
        ("missing", [np.nan] * 3),
    ],
)
def test_every_way_of_saying_below_detection(tmp_path: Path, rule: str, expected: list[float]) -> None:
    assay = "hole,from,to,Au_ppm\nA,0,1,<0.5\nA,1,2,-0.5\nA,2,3,ND\nA,3,4,7\nA,4,5,9\nA,5,6,8\n"
    made = load(tmp_path, assay=assay, params={"below_detection": rule})
    assert made.tables["assay"]["Au_ppm"].tolist()[:3] == approx(expected, nan_ok=True)
    mended = made.findings[made.findings["table"] == "assay"].query("severity == 'mended'")
    assert mended["line"].tolist() == [2, 3, 4]  # each with the original in its words
    assert all(code in " ".join(mended["what"]) for code in ("<0.5", "-0.5", "ND"))


def test_negative_numbers_that_are_no_grades_stay(tmp_path: Path) -> None:
    made = load(tmp_path, assay="hole,from,to,TMI_nT,Au_ppm\nA,0,1,-40,1\nA,1,2,-50,2\n")
    assert made.tables["assay"]["TMI_nT"].tolist() == [-40.0, -50.0]


def test_one_element_in_two_units_is_joined_with_the_factor_said(tmp_path: Path) -> None:
    assay = "hole,from,to,Cu_ppm,Cu_pct\nA,0,1,500,\nA,1,2,,1.2\nA,2,3,800,0.08\nA,3,4,900,0.5\nA,4,5,100,\n"
    made = load(tmp_path, assay=assay)
    assert made.tables["assay"]["Cu_ppm"].tolist() == approx([500, 12_000, 800, 900, 100])
    assert made.tables["assay"]["Cu_pct"].tolist() == approx([np.nan, 1.2, 0.08, 0.5, np.nan], nan_ok=True)
    assert "taken from Cu_pct × 10000" in whats(made)
    assert made.findings[made.findings["what"].str.contains("disagree")]["line"].tolist() == [5]


def test_any_number_of_tables_intervals_and_readings(tmp_path: Path) -> None:
    (tmp_path / "recovery.csv").write_text("hole,from,to,recovery_pct\nA,0,3,97\nB,0,3,99\n")
    (tmp_path / "structures.csv").write_text(
        "hole,depth,alpha,beta,kind\nA,12.5,40,120,vein\nA,300,10,20,joint\nZ,1,1,1,x\n"
    )
    made = load(tmp_path, params={"more": f"{tmp_path}/recovery.csv; {tmp_path}/structures.csv"})
    assert list(made.tables) == ["recovery"]
    assert list(made.readings) == ["structures"]
    table = made.readings["structures"]
    assert table[["depth_m", "alpha"]].to_numpy().tolist() == [[12.5, 40.0], [300.0, 10.0]]
    assert table["z"].iloc[0] == approx(300 - 12.5 * np.sin(np.radians(60)))
    assert {"alpha", "recovery_pct", "kind"} <= set(made.attributes)
    assert "reading beyond the end of hole" in whats(made)
    assert "hole has no collar" in whats(made)
    assert made.facts["structures"] == "2 readings"


def imported(tmp_path: Path, assay: str, **params: object) -> HoleSet:
    (tmp_path / "c.csv").write_text("hole;east;north;rl;depth\nA;500000;7000000;4000;50\n")
    (tmp_path / "a.csv").write_text(assay)
    op = OPERATIONS["import-holes"]
    made = op.run(
        Inputs({}, "EPSG:32719"),
        op.check({"collar": str(tmp_path / "c.csv"), "assay": str(tmp_path / "a.csv"), **params}),
        SILENT,
    )["holes"]
    assert isinstance(made, HoleSet)
    return made


def test_values_below_detection_and_above_the_limit_with_a_decimal_comma(tmp_path: Path) -> None:
    rows = [
        "hole;from;to;Au (ppb);Cu_pct",
        "A;0;1;<0,5;1,25",
        "A;1;2;12,5;>10,5",
        "A;2;3;3,5;0,75",
        "A;3;4;> 10 000;2,5",
    ]
    made = imported(tmp_path, "\n".join(rows) + "\n")
    table = made.tables["assay"]
    assert table["Au (ppb)"].tolist() == [0.25, 12.5, 3.5, 10000.0]
    assert table["Cu_pct"].tolist() == [1.25, 10.5, 0.75, 2.5]  # the richest samples stay
    assert made.units["Au (ppb)"] == "ppb"
    assert made.findings["what"].str.contains("above the limit").sum() == 2


def test_codes_for_no_value_are_never_half_a_detection_limit(tmp_path: Path) -> None:
    grades = ["0.05", "-9", "0.12", "-0.005", "-999", "0.08", "-99", "0.02", "-1e32", "0.04"]
    rows = ["hole;from;to;Cu_pct;susc"] + [
        f"A;{k};{k + 1};{v};{100 + k if k != 4 else -999.25}" for k, v in enumerate(grades)
    ]
    made = imported(tmp_path, "\n".join(rows) + "\n")
    copper = made.tables["assay"]["Cu_pct"].to_numpy()
    assert np.isnan(copper[[1, 4, 6, 8]]).all()  # 4.5 % copper in barren rock
    assert copper[3] == 0.0025  # a small negative number is a detection limit
    assert np.isnan(made.tables["assay"]["susc"].to_numpy()[4])
    assert made.findings["what"].str.contains("stands for no value").sum() == 5


def test_true_negative_values_stay(tmp_path: Path) -> None:
    rows = ["hole;from;to;TMI_nT"] + [f"A;{k};{k + 1};{v}" for k, v in enumerate([-99.0, -120.5, 40.0, -9.0, 210.0])]
    made = imported(tmp_path, "\n".join(rows) + "\n")
    assert made.tables["assay"]["TMI_nT"].tolist() == [-99.0, -120.5, 40.0, -9.0, 210.0]


def test_an_element_is_one_thing_whatever_its_unit(tmp_path: Path) -> None:
    old = imported(tmp_path, "hole;from;to;Au (ppb)\nA;0;1;250\n")
    new = imported(tmp_path, "hole;from;to;Au_gpt\nA;0;1;0.7\n")
    joined = merge(old, new, "add", {})
    assert joined.tables["assay"]["Au (ppb)"].tolist() == [700.0]
    assert "Au_gpt" not in joined.tables["assay"]
    assert joined.findings["done"].str.contains("× 1000").any()
    within = imported(tmp_path, "hole;from;to;Au (ppb);Au_gpt\nA;0;1;;0.7\nA;1;2;300;\nA;2;3;100;\n")
    assert within.tables["assay"]["Au (ppb)"].tolist() == [700.0, 300.0, 100.0]
