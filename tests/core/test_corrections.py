"""Corrections over imported tables: on record, lifted again, made again on new files; merging and grouping."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.drilling import checks
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.findings import Findings
from innerlamp.core.items.base import Item
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet, SurveyLines
from innerlamp.core.operations.data import merge_holes
from innerlamp.core.operations.data.grouping import codes_of, unit_of
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"


def run(operation: str, inputs: dict[str, Item] | None = None, **params: object) -> Item:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs(inputs or {}, CRS), op.check(params), SILENT).values()))


def drill(folder: Path, phase: str = "drilling") -> dict[str, str]:
    files = {"collar": "collars", "survey": "downhole_surveys", "assay": "assays", "lithology": "geology_log"}
    return {slot: str(FILES / phase / f"{name}.csv") for slot, name in files.items()}


@pytest.fixture(scope="module")
def holes() -> HoleSet:
    made = run("import-holes", **drill(FILES))
    assert isinstance(made, HoleSet)
    return made


def same_tables(a: Item, b: Item) -> None:
    assert isinstance(a, HoleSet)
    assert isinstance(b, HoleSet)
    for name, table in a.tables.items():
        other = b.tables[name]
        pd.testing.assert_frame_equal(table, other[table.columns], check_dtype=False, check_categorical=False)
    pd.testing.assert_frame_equal(a.surveys, b.surveys, check_dtype=False)
    assert a.stations[["x", "y", "z"]].to_numpy() == pytest.approx(b.stations[["x", "y", "z"]].to_numpy())


def test_a_corrected_value_is_on_record_and_comes_back_when_lifted(holes: HoleSet) -> None:
    made = run(
        "correct",
        {"item": holes},
        table="assay",
        where="hole = 'EMB002' and from_m = 11",
        column="Sn_ppm",
        value="12,5",
        why="laboratory reissued the batch",
        who="M",
    )
    assert isinstance(made, HoleSet)
    log = made.corrections.iloc[0]
    hit = (holes.tables["assay"]["hole"] == "EMB002") & (holes.tables["assay"]["from_m"] == 11)
    before = holes.tables["assay"].loc[hit, "Sn_ppm"].iloc[0]
    assert made.tables["assay"].loc[hit, "Sn_ppm"].tolist() == [12.5]
    assert (log["hole"], log["from_m"], log["column"], log["old"], log["new"]) == (
        "EMB002",
        11.0,
        "Sn_ppm",
        str(before),
        "12.5",
    )
    assert (log["who"], log["why"], log["lifted"]) == ("M", "laboratory reissued the batch", "")
    assert log["when"].startswith("20")
    assert made.facts["Corrections"] == "1"
    back = run("lift-corrections", {"item": made}, numbers="1", who="N")
    same_tables(holes, back)
    assert back.corrections["lifted"].iloc[0].endswith("by N")  # type: ignore[attr-defined]
    with pytest.raises(InputError, match="lifted already"):
        run("lift-corrections", {"item": back}, numbers="1")


def test_rows_left_out_come_back_in_their_place(holes: HoleSet) -> None:
    made = run(
        "correct",
        {"item": holes},
        table="assay",
        where="hole = 'EMB003' and Sn_ppm > 20",
        action="leave out row",
        why="swapped bags",
    )
    assert isinstance(made, HoleSet)
    gone = len(holes.tables["assay"]) - len(made.tables["assay"])
    assert gone == len(made.corrections) > 3
    same_tables(holes, run("lift-corrections", {"item": made}))


def test_a_corrected_collar_and_survey_move_the_path(holes: HoleSet) -> None:
    moved = run(
        "correct",
        {"item": holes},
        table="collar",
        where="hole = 'EMB005'",
        column="x",
        value="503000",
        why="surveyed again",
    )
    assert isinstance(moved, HoleSet)
    a = holes.tables["assay"].query("hole == 'EMB005'")
    b = moved.tables["assay"].query("hole == 'EMB005'")
    shift = 503000 - holes.collars.set_index("hole").at["EMB005", "x"]
    assert (b["x"] - a["x"]).to_numpy() == pytest.approx(shift)
    turned = run(
        "correct",
        {"item": moved},
        table="survey",
        where="hole = 'EMB005'",
        column="azimuth",
        value="10",
        why="magnetic rods",
    )
    assert isinstance(turned, HoleSet)
    assert np.abs(turned.tables["assay"].query("hole == 'EMB005'")["y"].to_numpy() - b["y"].to_numpy()).max() > 1.0
    same_tables(holes, run("lift-corrections", {"item": turned}))


def test_of_two_changes_of_one_cell_the_later_is_lifted_first(holes: HoleSet) -> None:
    place = {"table": "assay", "where": "hole = 'EMB002' and from_m = 11", "column": "Sn_ppm", "why": "w"}
    twice = run("correct", {"item": run("correct", {"item": holes}, value="1", **place)}, value="2", **place)
    with pytest.raises(InputError, match="moved on"):
        run("lift-corrections", {"item": twice}, numbers="1")
    same_tables(holes, run("lift-corrections", {"item": twice}, numbers="all"))


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"why": " "}, "needs a reason"),
        ({"column": "nothing"}, "no column 'nothing'"),
        ({"column": "x"}, "can't be corrected"),
        ({"column": "hole"}, "can't be corrected"),
        ({"value": "many"}, "'many' is not a number"),
        ({"where": "hole = 'none'"}, "no row is meant"),
        ({"table": "nowhere"}, "no table 'nowhere'"),
        ({"column": "to_m", "value": "1"}, "end above its start"),
        ({"where": "", "rows": [10**6]}, "no row 1000000"),
        ({"table": "collar", "where": "depth_m > 0", "action": "leave out row"}, "can't be left out by its collar"),
    ],
)
def test_what_can_not_be_corrected_is_said_and_changes_nothing(holes: HoleSet, change: dict, words: str) -> None:
    given = {"table": "assay", "where": "hole = 'EMB002' and from_m = 11", "column": "Sn_ppm", "value": "5", "why": "w"}
    with pytest.raises(InputError, match=words):
        run("correct", {"item": holes}, **{**given, **change})


def test_corrections_are_made_again_when_the_table_comes_in_anew(holes: HoleSet, tmp_path: Path) -> None:
    fixed = run(
        "correct",
        {"item": holes},
        table="assay",
        where="hole = 'EMB002' and from_m = 11",
        column="Sn_ppm",
        value="77",
        why="w",
    )
    fixed = run(
        "correct",
        {"item": fixed},
        table="assay",
        where="hole = 'EMB002' and from_m > 90",
        action="leave out row",
        why="lost core",
    )
    fixed = run(
        "correct", {"item": fixed}, table="assay", where="hole = 'EMB004'", column="Cu_pct", value="0.5", why="w"
    )
    assert isinstance(fixed, HoleSet)
    text = pd.read_csv(FILES / "drilling" / "assays.csv", dtype=str)
    text.loc[text["BHID"] == "EMB004", "Cu_pct"] = "0.7"
    text.to_csv(tmp_path / "assays.csv", index=False)
    files = {**drill(FILES), "assay": str(tmp_path / "assays.csv")}
    again = run("add-holes", {"holes": fixed}, mode="replace", **files)
    assert isinstance(again, HoleSet)
    table = again.tables["assay"]
    assert table[(table["hole"] == "EMB002") & (table["from_m"] == 11)]["Sn_ppm"].tolist() == [77]
    assert not len(table[(table["hole"] == "EMB002") & (table["from_m"] > 90)])
    assert set(table[table["hole"] == "EMB004"]["Cu_pct"]) == {0.7}
    assert again.findings["what"].str.contains("no longer fits: the value is 0.7").any()
    assert (again.corrections["lifted"] == "the file moved on").sum() == (text["BHID"] == "EMB004").sum()


def test_spikes_are_taken_out_and_put_back() -> None:
    lines = run("import-lines", file=str(FILES / "geophysics" / "airborne_magnetics.csv"))
    assert isinstance(lines, SurveyLines)
    attribute = next(c for c in lines.attributes if "RAW" in c.upper())
    made = run("exclude-spikes", {"lines": lines}, attribute=attribute, half_width="5", limit=8.0)
    assert isinstance(made, SurveyLines)
    rows = np.flatnonzero(made.table[attribute].isna() & lines.table[attribute].notna())
    assert len(rows) == len(made.corrections) > 5
    assert made.corrections["why"].iloc[0] == "spike: away from its neighbours, limit 8"
    back = run("lift-corrections", {"item": made})
    assert isinstance(back, SurveyLines)
    pd.testing.assert_frame_equal(back.table, lines.table)


def test_samples_are_corrected_by_their_line_of_the_file() -> None:
    soils = run("import-points", file=str(FILES / "geochemistry" / "soils_emberlow.csv"))
    assert isinstance(soils, PointSet)
    made = run("correct", {"item": soils}, rows=[4, 9], action="empty value", column="Sn ppm", why="contaminated")
    assert isinstance(made, PointSet)
    assert made.table["Sn ppm"].iloc[[4, 9]].isna().all()
    assert made.corrections["file_line"].tolist() == soils.table["file_line"].iloc[[4, 9]].tolist()
    out = run("correct", {"item": made}, rows=[4], action="leave out row", why="no sample")
    pd.testing.assert_frame_equal(run("lift-corrections", {"item": out}).table, soils.table)  # type: ignore[attr-defined]


# ---- holes written in two ways


@pytest.mark.parametrize("other", ["emb-007", "EMB 7", "Emb_0007", "EMB.007"])
def test_ids_that_differ_only_in_writing_are_alike(other: str) -> None:
    ids = checks.folded(pd.Series(["EMB007", other, "EMB070", "EMB7A"]))
    assert ids[0] == ids[1]
    assert len({ids[0], ids[2], ids[3]}) == 3


def test_rows_of_a_hole_written_differently_are_kept_aside_and_merged_on_request(holes: HoleSet) -> None:
    assert merge_holes.proposals(holes).to_dict("records") == [
        {"hole": "EMB-015", "like": "EMB015", "table": "lithology", "rows": 1}
    ]
    assert set(holes.strays["lithology"]["hole"]) == {"EMB044X", "EMB-015"}
    made = run("merge-holes", {"holes": holes})
    assert isinstance(made, HoleSet)
    before, after = (h.tables["lithology"].query("hole == 'EMB015'") for h in (holes, made))
    assert len(after) == len(before) + 1
    assert after["from_m"].is_monotonic_increasing
    assert after["x0"].notna().all()
    assert set(made.strays["lithology"]["hole"]) == {"EMB044X"}
    assert made.findings["what"].str.contains("hole 'EMB-015' is 'EMB015'").any()
    assert not len(merge_holes.proposals(made))


def test_two_collars_of_one_hole_become_one(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text("Hole,E,N,RL,Depth\nA01,0,0,100,50\nA1,0,1,100,50\nA02,50,0,100,50\n")
    (tmp_path / "a.csv").write_text("Hole,From,To,Cu_pct\nA01,0,10,1\nA1,10,20,2\nA1,5,9,3\nA02,0,10,4\n")
    holes = run("import-holes", collar=str(tmp_path / "c.csv"), assay=str(tmp_path / "a.csv"))
    made = run("merge-holes", {"holes": holes}, same={"A1": "A01"})
    assert isinstance(made, HoleSet)
    assert made.collars["hole"].tolist() == ["A01", "A02"]
    assert made.tables["assay"][["hole", "from_m"]].astype({"hole": str}).values.tolist() == [
        ["A01", 0.0],
        ["A01", 10.0],
        ["A02", 0.0],
    ]
    assert made.findings["what"].str.startswith("overlaps 0–10 m").any()
    for same, words in (
        ({"A1": "B"}, "no hole 'B'"),
        ({"B": "A01"}, "'B' can't be merged"),
        ({"A1": "A02", "A02": "A01"}, "itself to be merged"),
    ):
        with pytest.raises(InputError, match=words):
            run("merge-holes", {"holes": holes}, same=same)


def test_rows_kept_aside_are_taken_when_their_collar_comes(holes: HoleSet, tmp_path: Path) -> None:
    (tmp_path / "late.csv").write_text("Hole,E,N,RL,EOH\nEMB044X,503300,5602200,360,120\n")
    made = run("add-holes", {"holes": holes}, collar=str(tmp_path / "late.csv"))
    assert isinstance(made, HoleSet)
    assert len(made.tables["lithology"].query("hole == 'EMB044X'")) == 1
    assert made.findings["done"].str.contains("its rows kept aside are taken").any()


def test_gaps_are_listed_one_by_one() -> None:
    collars = pd.DataFrame({"hole": ["A", "B", "C"], "depth_m": [10.0, 5.0, 4.0]})
    table = pd.DataFrame({"hole": ["A", "A", "B"], "from_m": [1.0, 4.0, 0.0], "to_m": [3.0, 10.0, 5.0]})
    found = checks.gaps(table, collars)
    assert found.values.tolist() == [["A", 0.0, 1.0, 1.0], ["A", 3.0, 4.0, 1.0], ["C", 0.0, 4.0, 4.0]]


# ---- grouping


@pytest.mark.parametrize(
    ("code", "unit"),
    [("SLATE", "Slate"), ("slb", "Slates b"), (" SLX ", "Slates"), ("QZ1", "Quartz"), ("GRAN", ""), ("QZ12", "")],
)
def test_a_code_in_full_goes_before_patterns_and_long_patterns_before_short(code: str, unit: str) -> None:
    rules = {"SL*": "Slates", "SLATE": "Slate", "SLB*": "Slates b", "QZ?": "Quartz"}
    assert unit_of(code, rules) == unit


def test_groups_hold_for_later_holes_and_list_what_has_no_unit(holes: HoleSet) -> None:
    rules = {
        "SL*": "Cover rocks",
        "CARB": "Cover rocks",
        "TILL": "Loose",
        "CLAY": "Loose",
        "GR*": "Granitic",
        "SKARN": "Skarn",
        "QTZT": "Cover rocks",
        "GABB": "Basic",
        "DOLR": "Basic",
    }
    made = run("group-codes", {"holes": holes}, attribute="Rock", rules=rules, name="Unit")
    assert isinstance(made, HoleSet)
    log = made.tables["lithology"]
    assert set(log["Unit"].dropna()) == {"Cover rocks", "Loose", "Granitic", "Skarn", "Basic"}
    assert (log["Unit"].isna() == (log["Rock"] == "PORPH")).all()
    assert made.findings["what"].str.contains("code 'PORPH' belongs to no unit").sum() == 1
    joined = run("add-holes", {"holes": made}, **drill(FILES, "drilling_second_phase"))
    assert isinstance(joined, HoleSet)
    log = joined.tables["lithology"]
    assert len(log) > len(holes.tables["lithology"])
    assert (log["Unit"].isna() == (log["Rock"] == "PORPH")).all()
    assert codes_of(joined, "Rock")["metres"].is_monotonic_decreasing
    with pytest.raises(InputError, match="no rule"):
        run("group-codes", {"holes": holes}, attribute="Rock", rules={})
    with pytest.raises(InputError, match="can't be the name"):
        run("group-codes", {"holes": holes}, attribute="Rock", rules=rules, name="Remark")


def test_findings_of_the_second_phase_are_only_of_the_second_phase(holes: HoleSet) -> None:
    joined = run("add-holes", {"holes": holes}, **drill(FILES, "drilling_second_phase"))
    assert isinstance(joined, HoleSet)
    assert len(Findings().frame()) == 0
    assert len(joined.collars) == 60
    first = set(holes.findings["what"])
    new = joined.findings[~joined.findings["what"].isin(first)]
    assert set(new["hole"]) <= {*joined.collars["hole"][40:], ""}
