"""Resistivity surveys: factors and depths against published values, and everything that files of readings come with."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.geometry.lines import line_names
from innerlamp.core.compute.resistivity import arrays
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.formats.tables import columns
from innerlamp.core.items.electrodes import ElectrodeSurvey
from innerlamp.core.items.fields import Grid
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"
LINE = np.column_stack([np.arange(40.0) * 10.0, np.zeros(40), np.zeros(40)])


def run(ground: Grid | None = None, **params: object) -> ElectrodeSurvey:
    op = OPERATIONS["import-resistivity"]
    made = op.run(Inputs({"ground": ground} if ground else {}, CRS), op.check(params), SILENT)["survey"]
    assert isinstance(made, ElectrodeSurvey)
    return made


def readings(folder: Path, rows: list[tuple[float, ...]], name: str = "line 1.csv", head: str = "a,b,m,n,rhoa") -> str:
    path = folder / name
    path.write_text(head + "\n" + "\n".join(",".join(map(str, r)) for r in rows) + "\n")
    return str(path)


@pytest.mark.parametrize(
    ("abmn", "factor"),
    # Keller & Frischknecht 1966 and any textbook: Wenner 2 pi a; dipole-dipole pi n (n+1)(n+2) a;
    # Schlumberger pi (L^2 - l^2) / (2 l); pole-pole 2 pi a; pole-dipole 2 pi n (n+1) a.
    [
        ((0, 3, 1, 2), 2 * np.pi * 10),
        ((1, 0, 4, 5), np.pi * 3 * 4 * 5 * 10),
        ((0, 7, 3, 4), np.pi * (35.0**2 - 5.0**2) / 10.0),
        ((0, -1, 2, -1), 2 * np.pi * 20),
        ((0, -1, 3, 4), 2 * np.pi * 3 * 4 * 10),
    ],
)
def test_geometric_factors_of_named_arrays(abmn: tuple[int, ...], factor: float) -> None:
    assert arrays.geometric_factor(LINE, np.array([abmn]))[0] == pytest.approx(factor, rel=1e-12)


@pytest.mark.parametrize(
    ("abmn", "depth"),
    # Edwards 1977 table 1 and Barker 1989: median depths in units of a: Wenner 0.519, pole-pole 0.867,
    # dipole-dipole n=1 0.416, n=2 0.697, n=6 1.730, pole-dipole n=1 0.519, n=3 1.318.
    [
        ((0, 3, 1, 2), 5.19),
        ((0, -1, 1, -1), 8.67),
        ((1, 0, 2, 3), 4.16),
        ((1, 0, 3, 4), 6.97),
        ((1, 0, 7, 8), 17.30),
        ((0, -1, 1, 2), 5.19),
        ((0, -1, 3, 4), 13.18),
    ],
)
def test_median_depths_are_those_of_the_tables(abmn: tuple[int, ...], depth: float) -> None:
    assert arrays.median_depth(LINE, np.array([abmn]))[0] == pytest.approx(depth, abs=0.011)


def test_an_array_that_sees_no_voltage_has_no_factor() -> None:
    square = np.array([[0.0, 0, 0], [2, 0, 0], [1, 1, 0], [1, -1, 0]])
    assert np.isinf(arrays.geometric_factor(square, np.array([[0, 1, 2, 3]]))).all()
    assert np.isnan(arrays.median_depth(square, np.array([[0, 1, 2, 3]]))).all()
    assert np.isnan(arrays.geometric_factor(square, np.array([[0, 1, 0, 3]]))).all()


def test_reciprocals_and_repeats_know_their_sign() -> None:
    abmn = np.array([[1, 0, 2, 3], [2, 3, 1, 0], [3, 2, 1, 0], [1, 0, 3, 2], [0, 4, 8, 9]])
    number, sign = arrays.same_array(abmn)
    assert number[0] == number[3] != number[1] == number[2]
    assert sign[0] == -sign[3]
    assert sign[1] == -sign[2]
    other, polarity = arrays.reciprocals(abmn)
    assert (other >= 0).tolist() == [True, True, True, True, False]
    assert polarity[1] == -polarity[2]


def test_the_lines_of_the_prospect_come_in_together() -> None:
    folder = FILES / "geophysics"
    made = run(
        readings=[str(folder / f"resistivity_line_{k}.csv") for k in (1, 2, 3, 4, 5, 6)],
        electrodes=[str(folder / f"resistivity_line_{k}_electrodes.csv") for k in (6, 4, 3, 2, 1, 5)],
    )
    assert made.facts["Lines"] == "6"
    assert made.facts["Readings"] == "4,128"
    raw = pd.read_csv(folder / "resistivity_line_3.csv")
    mine = made.table[made.table["line"] == "3"]
    assert mine["apparent_resistivity"].to_numpy() == pytest.approx(raw["rhoa_ohmm"].to_numpy())
    assert mine["error"].to_numpy() == pytest.approx(raw["err_pct"].to_numpy())
    assert (mine["resistance"] * mine["factor_m"]).to_numpy() == pytest.approx(raw["rhoa_ohmm"].to_numpy())
    places = pd.read_csv(folder / "resistivity_line_3_electrodes.csv")
    here = made.electrodes[made.electrodes["line"] == "3"]
    assert here["x"].to_numpy() == pytest.approx(places["x"].to_numpy())
    # The one that was planted, and reciprocals that noise holds apart.
    rest = made.findings[~made.findings["what"].str.contains("reciprocal")]
    assert list(zip(rest["file"], rest["line"], strict=True)) == [("resistivity_line_2.csv", 202)]
    assert (made.findings["severity"] != "left out").sum() < 60


def test_fillers_dummies_and_unknown_electrodes_are_left_out_with_their_line(tmp_path: Path) -> None:
    file = readings(
        tmp_path,
        [
            (1, 2, 3, 4, 100),
            (1, 1, 3, 4, 90),
            (2, 3, 4, 5, -9999),
            (2, 3, 4, 5, "x"),
            (3, 4, 5, 99, 80),
            (3, 4, 5, 6, 0),
            (4, 5, 6, 7, -12),
        ],
    )
    electrodes = readings(
        tmp_path, [(k, 10 * k, 0, 5) for k in range(1, 9)], "line 1 electrodes.csv", "electrode,x,y,z"
    )
    made = run(readings=file, electrodes=electrodes)
    assert len(made.table) == 2
    out = made.findings[made.findings["severity"] == "left out"].set_index("line")["what"]
    assert out[3] == "one electrode stands twice: a filler, not a reading"
    assert out[4] == "value stands for no reading"
    assert out[5] == "reading or electrode is not a number"
    assert out[6] == "there is no such electrode"
    assert out[7] == "value is zero"
    assert (made.findings["what"] == "apparent resistivity is not positive").sum() == 1


def test_repeats_are_averaged_and_reciprocals_compared(tmp_path: Path) -> None:
    rows = [(1, 2, 4, 5, 0.50), (1, 2, 4, 5, 0.54), (2, 1, 4, 5, -0.52), (4, 5, 1, 2, 0.65), (1, 4, 2, 3, 0.9)]
    file = readings(tmp_path, rows, head="A,B,M,N,Resistance")
    made = run(readings=file, spacing=10.0)
    first = made.table.iloc[0]
    assert (len(made.table), first["stacked"]) == (3, 3)
    assert first["resistance"] == pytest.approx(0.52)
    assert first["error"] == pytest.approx(100 * np.std([0.5, 0.54, 0.52], ddof=1) / 0.52)
    # |0.52 - 0.65| over their mean.
    assert first["reciprocal_error"] == pytest.approx(100 * 0.13 / 0.585)
    assert made.findings["what"].str.contains("reading and its reciprocal differ by 22 %").sum() == 2
    kept = run(readings=file, spacing=10.0, repeats="keep all")
    assert len(kept.table) == 5


def test_voltage_and_current_give_resistance_and_parts_of_one_become_percent(tmp_path: Path) -> None:
    made = run(readings=readings(tmp_path, [(1, 4, 2, 3, 50.0, 100.0, 0.02)], head="a,b,m,n,Voltage,Current,Error"))
    assert made.table["resistance"].tolist() == [0.5]
    assert made.table["apparent_resistivity"].iloc[0] == pytest.approx(0.5 * 2 * np.pi * 10)
    assert made.table["error"].tolist() == [2.0]


def test_lines_without_coordinates_are_laid_out_in_natural_order(tmp_path: Path) -> None:
    files = ";".join(readings(tmp_path, [(1, 4, 2, 3, 100), (2, 5, 3, 4, 90)], f"ert_L{k}.csv") for k in (10, 9, 2))
    made = run(readings=files, spacing=5.0, line_spacing=40.0, east=1000.0, north=2000.0, azimuth=90.0)
    starts = made.electrodes.groupby("line", sort=False).first()
    assert list(starts.index) == ["2", "9", "10"]
    assert starts["x"].tolist() == [1000.0] * 3
    assert starts["y"].tolist() == pytest.approx([2000.0, 1960.0, 1920.0])
    assert made.electrodes["x"].max() == pytest.approx(1020.0)
    assert made.findings["what"].str.contains("no table of electrodes").sum() == 3


def test_a_reversed_line_keeps_its_places_and_turns_its_numbers(tmp_path: Path) -> None:
    file = readings(tmp_path, [(1, 2, 3, 4, 100)])
    electrodes = readings(
        tmp_path, [(k, 10 * k, 100, 0) for k in range(1, 11)], "line 1 electrodes.csv", "electrode,x,y,z"
    )
    there, back = run(readings=file, electrodes=electrodes), run(readings=file, electrodes=electrodes, reverse="1")
    assert there.table["x"].iloc[0] == pytest.approx(25.0)
    assert back.table["x"].iloc[0] == pytest.approx(85.0)
    assert sorted(there.electrodes["x"]) == sorted(back.electrodes["x"])
    with pytest.raises(InputError, match="no line '7' to reverse"):
        run(readings=file, electrodes=electrodes, reverse="7")


def test_distances_along_the_line_and_elevations_from_the_ground(tmp_path: Path) -> None:
    file = readings(tmp_path, [(0, 30, 10, 20, 100), (10, 40, 20, 30, 95)])
    electrodes = readings(
        tmp_path, [(d, 1000 + d, 2000) for d in range(0, 60, 10)], "line 1 electrodes.csv", "distance,x,y"
    )
    slope = np.tile(np.arange(0.0, 40.0), (5, 1))
    ground = Grid(
        name="g", crs=CRS, values=slope, x0=900.0, y0=1900.0, dx=10.0, dy=50.0, attribute="elevation", unit="m"
    ).told_by_headings()
    made = run(ground, readings=file, electrodes=electrodes)
    assert made.table[["a", "b", "m", "n"]].iloc[0].tolist() == [1, 4, 2, 3]
    assert made.electrodes["z"].tolist() == pytest.approx([10.0, 11, 12, 13, 14, 15])
    assert made.findings["done"].str.contains("taken from the ground surface").any()


def test_all_lines_in_one_file_and_electrodes_at_infinity(tmp_path: Path) -> None:
    file = readings(tmp_path, [("A1", 1, 0, 2, 3, 50), ("A2", 1, 0, 3, 4, 60)], head="Line,a,b,m,n,rhoa")
    made = run(readings=file)
    assert made.table["line"].tolist() == ["A1", "A2"]
    assert made.table["b"].tolist() == [0, 0]
    assert made.table["factor_m"].iloc[0] == pytest.approx(2 * np.pi * 1 * 2 * 10)


@pytest.mark.parametrize(
    ("stems", "names"),
    [
        (["resistivity_line_1", "resistivity_line_2", "resistivity_line_1_electrodes"], ["1", "2", "1"]),
        (["ERT-L07", "ERT-L12"], ["07", "12"]),
        (["north", "south"], ["north", "south"]),
        (["survey_line_4"], ["4"]),
        (["readings"], ["readings"]),
    ],
)
def test_lines_are_named_by_what_tells_their_files_apart(stems: list[str], names: list[str]) -> None:
    assert line_names(stems) == names


def test_what_can_not_be_a_survey_is_said(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="no column for resistance or apparent resistivity"):
        run(readings=readings(tmp_path, [(1, 2, 3, 4, 5)], head="a,b,m,n,other"))
    with pytest.raises(InputError, match="hold no reading"):
        run(readings=readings(tmp_path, [(1, 2, 3, 4, -999)]))
    with pytest.raises(InputError, match="no column for Voltage n"):
        run(readings=readings(tmp_path, [(1, 2, 3, 5)], head="a,b,m,rhoa"))


def test_buried_electrodes_have_images_above_the_ground() -> None:
    """The potential of a current in a half-space: its own and that of its mirror (Telford et al. 1990, ch. 8), written out here."""
    rng = np.random.default_rng(1)
    xyz = np.column_stack([rng.uniform(0, 50, 6), rng.uniform(0, 50, 6), -np.array([0.0, 0.0, 5.0, 12.0, 20.0, 33.0])])
    depth = -xyz[:, 2]
    abmn = np.array([[0, 1, 2, 3], [2, 4, 3, 5], [0, 5, 1, 4], [3, -1, 4, 5]])

    def potential(i: int, j: int) -> float:
        if i < 0 or j < 0:
            return 0.0
        mirror = xyz[i] * np.array([1.0, 1.0, -1.0])
        return (1 / np.linalg.norm(xyz[i] - xyz[j]) + 1 / np.linalg.norm(mirror - xyz[j])) / (4 * np.pi)

    voltage = [potential(a, m) - potential(b, m) - potential(a, n) + potential(b, n) for a, b, m, n in abmn]
    assert arrays.geometric_factor(xyz, abmn, depth) == pytest.approx(1.0 / np.array(voltage))
    raised = xyz + np.array([0.0, 0.0, 4100.0])  # heights do not matter, depths do
    assert arrays.geometric_factor(raised, abmn, depth) == pytest.approx(1.0 / np.array(voltage))
    flat = xyz * np.array([1.0, 1.0, 0.0])
    assert arrays.geometric_factor(flat, abmn, np.zeros(6)) == pytest.approx(arrays.geometric_factor(flat, abmn))


@pytest.mark.parametrize(
    ("headings", "taken"),
    [
        ("Tx1,Tx2,Rx1,Rx2,n,a,V,I", ("Tx1", "Tx2", "Rx1", "Rx2")),
        ("C1,C2,P1,P2,n,V (mV),I (mA)", ("C1", "C2", "P1", "P2")),
        ("A(m),B(m),M(m),N(m),V,In", ("A(m)", "B(m)", "M(m)", "N(m)")),
        ("Electrode A,Electrode B,Electrode M,Electrode N,Rho", tuple(f"Electrode {c}" for c in "ABMN")),
        ("xA,xB,xM,xN,R", ("xA", "xB", "xM", "xN")),
    ],
)
def test_electrodes_are_known_by_the_names_of_instruments(headings: str, taken: tuple[str, ...]) -> None:
    # Names of current and potential electrodes in use: A B M N, C1 C2 P1 P2, Tx Rx (common practice, no source).
    known = columns.guess(headings.split(","), "resistivity")
    assert tuple(known[r] for r in "abmn") == taken


def test_chargeability_windows_and_units_of_voltage_and_current_are_kept(tmp_path: Path) -> None:
    rows = [
        "1;2;3;4;7;12,5;500;25,1;3,0;30,1;20,5",
        "1;2;3;4;7;-12,5;500;25,1;3,0;30,1;20,5",
        "2;3;4;5;7;10;500;11;1;12;9",
    ]
    head = "C1;C2;P1;P2;n;Vp (mV);I (A);Cargabilidad (mV/V);M dev;M1 (mV/V);M2 (mV/V)"
    file = tmp_path / "linea.csv"
    file.write_text(head + "\n" + "\n".join([*rows, "3;4;5;6;7;0;500;0;0;0;0"]) + "\n", encoding="utf-8")
    made = run(readings=str(file), positions="electrode numbers", spacing=10.0)
    assert len(made.table) == 2
    # Dipole-dipole with n = 1: k = 2 pi / (1/20 - 1/10 - 1/30 + 1/20) = -2 pi 30; 12.5 mV at 500 A is 25 µohm.
    first = made.table.iloc[0]
    assert abs(first["resistance"]) == pytest.approx(12.5e-3 / 500.0)
    assert first["stacked"] == 2
    assert first["chargeability"] == pytest.approx(25.1)
    assert first["chargeability_error"] == pytest.approx(3.0)
    assert (first["M1 (mV/V)"], first["M2 (mV/V)"]) == (30.1, 20.5)
    assert made.attributes["chargeability"].unit == "mV/V"
    words = made.findings["what"].str.cat(sep="; ")
    assert "opposite sign" in words
    assert "value is zero" in words
