"""An element is one thing, whatever its unit, heading, laboratory or method."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.elements import Measured, measured, ranked, sort_of
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"


# Headings as laboratories write them; 1 g/t is 1 ppm by definition of both. Common practice, no source.
@pytest.mark.parametrize(
    ("heading", "element", "method", "unit"),
    [
        ("Au (ppb)", "Au", "", "ppb"),
        ("Au_gpt", "Au", "", "g/t"),
        ("Au (g/t)", "Au", "", "g/t"),
        ("AU_FA_PPM", "Au", "FA", "ppm"),
        ("Au_ppm_FA", "Au", "FA", "ppm"),
        ("AUPPM", "Au", "", "ppm"),
        ("Oro [g/t]", "Au", "", "g/t"),
        ("Étain ppm", "Sn", "", "ppm"),
        ("Kupfer %", "Cu", "", "%"),
        ("Cu%", "Cu", "", "%"),
        ("Fe2O3_pct", "Fe2O3", "", "%"),
        ("Cu_sol_pct", "Cu sol", "", "%"),
    ],
)
def test_what_a_heading_measures(heading: str, element: str, method: str, unit: str) -> None:
    assert measured(heading) == Measured(element, method, unit)


@pytest.mark.parametrize("heading", ["AuEq_ppm", "Sample", "Auger", "Quartz %", "depth_m", "Insol_pct"])
def test_what_is_no_element(heading: str) -> None:
    assert measured(heading) is None


def test_methods_are_ranked_as_named_then_as_trusted() -> None:
    assert ranked(["ME-ICP61", "FA", "Au-GRA21", ""]) == ["", "Au-GRA21", "FA", "ME-ICP61"]
    assert ranked(["ICP", "FA", ""], ["icp"])[0] == "ICP"


def points(tmp_path: Path, text: str, **params: object) -> PointSet:
    (tmp_path / "s.csv").write_text("east,north," + text)
    op = OPERATIONS["import-points"]
    made = op.run(Inputs({}, CRS), op.check({"file": str(tmp_path / "s.csv"), **params}), SILENT)["points"]
    assert isinstance(made, PointSet)
    return made


def test_columns_of_one_element_in_two_units_fill_each_other(tmp_path: Path) -> None:
    made = points(tmp_path, "Au (ppb),Au_gpt\n0,0,500,\n1,0,700,0.7\n2,0,,1.2\n")
    assert made.table["Au (ppb)"].tolist() == [500.0, 700.0, 1200.0]
    assert not made.findings["what"].str.contains("disagree").any()


def test_of_two_methods_the_better_counts_and_both_are_kept(tmp_path: Path) -> None:
    text = "Au_AA_ppb,Au_FA_ppm\n0,0,500,0.55\n1,0,700,\n2,0,,1.2\n"
    made = points(tmp_path, text)
    assert made.table["Au_ppm"].tolist() == [0.55, 0.7, 1.2]
    assert made.table["Au method"].tolist() == ["FA", "AA", "FA"]
    assert made.table["Au_AA_ppb"].tolist()[:2] == [500.0, 700.0]
    words = made.findings["done"].str.cat(sep="; ")
    assert "2 from FA, 1 from AA" in words
    other = points(tmp_path, text, methods="AA")
    assert other.table["Au_ppm" if "Au_ppm" in other.table else "Au_ppb"].tolist()[0] in (0.5, 500.0)


@pytest.mark.parametrize(
    ("rule", "expected"),
    [
        ("another column or limit", [23_400.0, 10_000.0, 8000.0]),
        ("limit", [10_000.0, 10_000.0, 8000.0]),
        ("limit times factor", [12_000.0, 12_000.0, 8000.0]),
        ("missing", [23_400.0, np.nan, 8000.0]),
    ],
)
def test_above_the_limit_is_a_choice(tmp_path: Path, rule: str, expected: list[float]) -> None:
    made = points(tmp_path, "Cu_ppm,Cu_OG_pct\n0,0,>10000,2.34\n1,0,>10000,\n2,0,8000,\n", above_limit=rule)
    assert made.table["Cu_ppm"].to_numpy() == pytest.approx(np.array(expected), nan_ok=True)
    assert made.findings["what"].str.contains("is above the limit").sum() == 2


def test_a_negative_grade_is_a_code_a_limit_or_asked_about(tmp_path: Path) -> None:
    rows = "\n".join(f"{k},0,{v}" for k, v in enumerate([-0.005, 0.01, 0.02, 0.02, 0.03, -9, 0.02, -4.5, -4.5]))
    made = points(tmp_path, "Cu_pct\n" + rows + "\n")
    values = made.table["Cu_pct"].to_numpy()
    assert values[0] == pytest.approx(0.0025)
    assert np.isnan(values[[5, 7, 8]]).all()
    asked = made.findings[made.findings["done"].str.contains("negatives=")]
    assert asked["line"].tolist() == [9, 10]
    made = points(tmp_path, "Cu_pct\n" + rows + "\n", negatives="below detection")
    assert made.table["Cu_pct"].to_numpy()[7] == pytest.approx(2.25)


def test_added_holes_of_another_laboratory_go_into_the_element(tmp_path: Path) -> None:
    def holes(name: str, grade: str, values: str) -> dict[str, str]:
        (tmp_path / f"c{name}.csv").write_text(f"hole,east,north,rl,depth\n{name},0,0,0,9\n")
        (tmp_path / f"a{name}.csv").write_text(f"hole,from,to,{grade}\n{name},0,3,{values}\n")
        return {"collar": str(tmp_path / f"c{name}.csv"), "assay": str(tmp_path / f"a{name}.csv")}

    op, add = OPERATIONS["import-holes"], OPERATIONS["add-holes"]
    first = op.run(Inputs({}, CRS), op.check(holes("A", "Au (ppb)", "250")), SILENT)["holes"]
    second = add.run(Inputs({"holes": first}, CRS), add.check(holes("B", "Au_gpt", "0.7")), SILENT)["holes"]
    third = add.run(Inputs({"holes": second}, CRS), add.check(holes("C", "AU_FA_PPM", "1.5")), SILENT)["holes"]
    assert isinstance(third, HoleSet)
    table = third.tables["assay"]
    assert table["Au (ppb)"].tolist() == [250.0, 700.0, 1500.0]
    assert table["AU_FA_PPM"].tolist()[2] == 1.5
    assert third.units["Au (ppb)"] == "ppb"


@pytest.mark.parametrize(
    ("head", "units"),
    [
        ("Hole,From,To,Au\n,m,m,ppb\n", "ppb"),
        ("Informe 3,,,\n\nPozo,Profundidad,,Oro\n,Desde,Hasta,(ppb)\n,(m),(m),\n", "ppb"),
    ],
)
def test_headings_of_two_lines_and_rows_of_units(tmp_path: Path, head: str, units: str) -> None:
    (tmp_path / "c.csv").write_text("hole,east,north,rl,depth\nA,0,0,0,9\n")
    (tmp_path / "a.csv").write_text(head + "A,0,3,250\nA,3,6,<5\n")
    op = OPERATIONS["import-holes"]
    params = {"collar": str(tmp_path / "c.csv"), "assay": str(tmp_path / "a.csv")}
    made = op.run(Inputs({}, CRS), op.check(params), SILENT)["holes"]
    assert isinstance(made, HoleSet)
    table = made.tables["assay"]
    gold = next(c for c in table if str(c) in ("Au", "Oro", "(ppb) Oro", "(ppb)"))
    assert table[gold].tolist() == [250.0, 2.5]
    assert made.units[gold] == units


@pytest.mark.parametrize(("heading", "unit"), [("Elev (ft)", "auto"), ("Cota (pies)", "auto"), ("RL", "ft")])
def test_heights_in_feet_become_metres(tmp_path: Path, heading: str, unit: str) -> None:
    # The international foot is 0.3048 m (agreement of 1959).
    made = points(tmp_path, f"{heading},Cu_ppm\n0,0,10000,5\n1,0,11000,6\n", height_unit=unit)
    assert made.table["z"].tolist() == pytest.approx([3048.0, 3352.8])


@pytest.mark.parametrize(
    ("heading", "value", "told"),
    [
        ("Density (g/cm3)", 26.9, True),
        ("Bulk density", 0.2, True),
        ("Fracture density", 26.9, False),
        ("Total core recovery (%)", 112.0, True),
        ("Rec (%)", 101.0, True),
        ("Rec_No", 250.0, False),
        ("Densidad", 2.7, False),
        ("Cu_pct", 120.0, True),
    ],
)
def test_values_that_can_not_be_are_findings(tmp_path: Path, heading: str, value: float, told: bool) -> None:
    # Densities of rocks and ores: Telford et al. 1990, Applied Geophysics, tables 2.2 to 2.4.
    (tmp_path / "c.csv").write_text("hole,east,north,rl,depth\nA,0,0,0,9\n")
    (tmp_path / "t.csv").write_text(f"hole,from,to,{heading}\nA,0,3,{value}\n")
    op = OPERATIONS["import-holes"]
    params = {"collar": str(tmp_path / "c.csv"), "more": [str(tmp_path / "t.csv")]}
    made = op.run(Inputs({}, CRS), op.check(params), SILENT)["holes"]
    assert isinstance(made, HoleSet)
    assert made.findings["what"].str.contains(f"'{value:g}'", regex=False).any() == told


def test_a_ground_in_feet_is_called_so(tmp_path: Path) -> None:
    from innerlamp.core.items.fields import Grid

    rows = "".join(f"H{k},{100 * k},50,{4000 + k},9\n" for k in range(5))
    (tmp_path / "c.csv").write_text("hole,east,north,rl,depth\n" + rows)
    values = np.full((6, 12), 4000.0 / 0.3048)
    ground = Grid(
        name="G", crs=CRS, values=values, x0=-50.0, y0=-50.0, dx=50.0, dy=50.0, attribute="elevation", unit="m"
    )
    op = OPERATIONS["import-holes"]
    made = op.run(Inputs({"ground": ground}, CRS), op.check({"collar": str(tmp_path / "c.csv")}), SILENT)["holes"]
    assert made.findings["what"].str.contains("the ground surface is in feet").sum() == 1  # type: ignore[attr-defined]


def test_a_grid_in_feet_by_the_heights_of_its_system(tmp_path: Path) -> None:
    import rasterio
    from rasterio.transform import from_origin

    # NAVD88 height (ftUS) is EPSG:6360; a US survey foot is 1200/3937 m (by definition).
    place = from_origin(400_000.0, 7_500_000.0, 10.0, 10.0)
    system = rasterio.crs.CRS.from_user_input("EPSG:32719+6360")
    shape = {"width": 4, "height": 3, "count": 1, "dtype": "float64", "crs": system, "transform": place}
    with rasterio.open(tmp_path / "dem.tif", "w", driver="GTiff", **shape) as out:
        out.write(np.full((1, 3, 4), 3937.0))
    op = OPERATIONS["import-grid"]
    made = op.run(Inputs({}, CRS), op.check({"file": str(tmp_path / "dem.tif")}), SILENT)["grid"]
    assert np.asarray(made.values) == pytest.approx(1200.0)  # type: ignore[attr-defined]
    assert made.unit == "m"  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("method", "sort"),
    [
        ("SFA", "screened"),
        ("screen_fire", "screened"),
        ("malla", "screened"),
        ("tamisé_tamisage", "screened"),
        ("Siebanalyse", "screened"),
        ("SFA_plus", "part"),
        ("screen_-75um", "part"),
        ("rpt", "repeated"),
        ("Wiederholung", "repeated"),
        ("répétition", "repeated"),
        ("FA", ""),
        ("", ""),
    ],
)
def test_sorts_of_assays_are_known_by_their_names(method: str, sort: str) -> None:
    assert sort_of(method) == sort


def test_sieved_samples_come_first_and_repeats_last_unless_said_otherwise() -> None:
    given = ["", "FA", "rpt", "SFA_plus", "Siebanalyse"]
    assert ranked(given) == ["Siebanalyse", "", "FA", "rpt", "SFA_plus"]
    assert ranked(given, ["plain"])[:2] == ["", "Siebanalyse"]
    assert ranked(given, ["repeat", "FA"]) == ["rpt", "FA", "Siebanalyse", "", "SFA_plus"]


def test_a_screen_fire_assay_wins_over_the_fire_assay_whose_values_stay(tmp_path: Path) -> None:
    """Coarse gold: a pinch of pulp missed what the sieved kilogram holds. A repeat fills only what nothing else has."""
    text = "Au_ppm,Au_malla_ppm,Au_repeticion_ppm\n0,0,1.0,7.5,1.1\n1,0,0.4,,0.5\n2,0,,,0.3\n"
    table = points(tmp_path, text).table
    assert table["Au_ppm"].tolist() == [7.5, 0.4, 0.3]
    assert table["Au method"].tolist() == ["malla", "Au_ppm", "repeticion"]
    assert table["Au_original_ppm"].tolist()[:2] == [1.0, 0.4]
    plain = points(tmp_path, text, methods="plain").table
    assert plain["Au_ppm"].tolist() == [1.0, 0.4, 0.3]
    assert "Au_original_ppm" not in plain
    repeats = points(tmp_path, text, methods="repeat; plain").table
    assert repeats["Au_ppm"].tolist() == [1.1, 0.5, 0.3]
