"""Importing: the demo's planted errors are found, odd tables are understood, nothing is lost silently."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.findings import Findings, report_by_hole
from innerlamp.core.formats.tables import columns, delimited, rawtable, tables_in
from innerlamp.core.formats.tables.dates import read_dates
from innerlamp.core.items.holes import HoleSet
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
        survey=str(folder / "downhole_surveys.csv"),
        assay=str(folder / "assays.csv"),
        lithology=str(folder / "geology_log.csv"),
    )
    assert isinstance(made, HoleSet)
    return made


def test_planted_errors_are_found_where_they_were_planted(holes: HoleSet) -> None:
    planted = [
        p
        for p in json.loads((FILES / "planted.json").read_text())["errors"]
        if p["file"] in {"collars.csv", "downhole_surveys.csv", "assays.csv", "geology_log.csv"}
    ]
    words = {
        "trailing space": "spaces around",
        "no assay rows": "no assay rows",
        "survey beyond end of hole": "beyond the end of hole",
        "overlapping interval": "overlaps",
        "reversed interval": "ends above its start",
        "not a number": "is not a number",
        "below detection": "below detection",
        "hole without collar": "no collar",
        "hole written differently": "no collar",
        "day-first date": "not in ISO form",
    }
    found = holes.findings
    for p in planted:
        hit = found[(found["file"] == p["file"]) & (found["line"] == p["line"]) & (found["hole"] == p["hole"])]
        assert hit["what"].str.contains(words[p["what"]]).any(), p
    # ... and nothing else but the note on the sign of dips.
    places = {(p["file"], p["line"]) for p in planted}
    rest = [r for r in found.itertuples() if (r.file, r.line) not in places]
    assert [r.what for r in rest] == [
        "hole 'EMB-015' has no collar and is written nearly like 'EMB015'",
        "most dips are positive",
    ]


def test_report_by_hole_counts_what_was_read_and_what_was_done(holes: HoleSet) -> None:
    report = report_by_hole(holes.collars, holes.surveys, holes.tables, holes.findings).set_index("hole")
    assert list(report.index[: len(holes.collars)]) == list(holes.collars["hole"])
    assert report["assay rows"].sum() == len(holes.tables["assay"])
    assert report["survey rows"].sum() == len(holes.surveys)
    for severity in ("mended", "left out", "look"):
        assert (
            report[severity].sum() == ((holes.findings["severity"] == severity) & (holes.findings["hole"] != "")).sum()
        )
    strangers = report[report["taken"] == "no"]
    assert strangers["found"].str.contains("no collar").all()
    assert set(strangers.index) == {"EMB044X", "EMB-015"}
    overlap = holes.findings[holes.findings["what"].str.startswith("overlaps")]["hole"].iloc[0]
    assert "overlaps" in report.loc[overlap, "found"]
    assert report.loc["EMB001", "found"] == "" or report.loc["EMB001", ["mended", "left out", "look"]].sum() > 0


def test_rows_in_are_rows_kept_or_reported(holes: HoleSet) -> None:
    for name, file, table in (
        ("assay", "assays.csv", holes.tables["assay"]),
        ("lithology", "geology_log.csv", holes.tables["lithology"]),
    ):
        rows = len(pd.read_csv(FILES / "drilling" / file))
        out = holes.findings[(holes.findings["table"] == name) & (holes.findings["severity"] == "left out")]
        assert len(table) + len(out) == rows
        assert set(table["line"]) | set(out["line"]) == set(range(2, rows + 2))


def test_places_lie_along_the_holes(holes: HoleSet) -> None:
    assay = holes.tables["assay"]
    length = np.linalg.norm(assay[["x1", "y1", "z1"]].to_numpy() - assay[["x0", "y0", "z0"]].to_numpy(), axis=1)
    assert length == pytest.approx((assay["to_m"] - assay["from_m"]).to_numpy(), rel=1e-3)
    collar = holes.collars.set_index("hole").loc["EMB007"]
    top = holes.tables["lithology"].query("hole == 'EMB007'").iloc[0]
    assert (top["x0"], top["y0"], top["z0"]) == pytest.approx((collar["x"], collar["y"], collar["z"]))
    assert holes.units["Sn_ppm"] == "ppm"
    assert holes.units["Cu_pct"] == "%"
    assert (holes.surveys["dip"] < 0).all()


@pytest.mark.parametrize(
    ("text", "delimiter", "header", "names"),
    [
        ("Hole ID;East;North\nA;1,5;2,5\nB;3,5;4,5\n", ";", 1, ("Hole ID", "East", "North")),
        ("Exported from a logger\n\nhole\tx\ty\nA\t1\t2\n", "\t", 3, ("hole", "x", "y")),
        ("\ufeffhole|x|x\nA|1|2\n", "|", 1, ("hole", "x", "x 2")),
        ('"hole, old",x\n"A, 1",2\n', ",", 1, ("hole, old", "x")),
    ],
)
def test_layouts(tmp_path: Path, text: str, delimiter: str, header: int, names: tuple[str, ...]) -> None:
    file = tmp_path / "t.csv"
    file.write_text(text, encoding="utf-8")
    found = delimited.look(file)
    assert (found.delimiter, found.header_line, found.columns) == (delimiter, header, names)
    raw = delimited.read(file, Findings())
    if delimiter == ";":
        values, odd = rawtable.numbers(raw.cells.column("East"), found.decimal_comma)
        assert values.tolist() == [1.5, 3.5]
        assert not odd.any()
    if delimiter == ",":
        assert raw.text("hole, old").tolist() == ["A, 1"]


def test_ragged_rows_are_left_out_with_their_line(tmp_path: Path) -> None:
    file = tmp_path / "t.csv"
    file.write_bytes(b"hole,x,y\nA,1,2\n\nB,3\nC,4,5,6\nD,7,8 \xb5\n")
    found = Findings()
    raw = delimited.read(file, found)
    assert raw.line.tolist() == [2, 6]
    assert found.frame()[["line", "what"]].to_numpy().tolist() == [
        [4, "2 cells where the heading has 3"],
        [5, "4 cells where the heading has 3"],
    ]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "empty"),
        (b"\x00\x01\x02" * 50, "not text"),
        (b"one\ntwo\n", "does not look like a table"),
        (b"1,2\n3,4\n", "no heading"),
    ],
)
def test_files_that_are_no_tables(tmp_path: Path, content: bytes, words: str) -> None:
    file = tmp_path / "bad.csv"
    file.write_bytes(content)
    with pytest.raises(InputError, match=words):
        delimited.look(file)
    with pytest.raises(InputError, match="no such file"):
        run("import-points", file=str(tmp_path / "none.csv"))


def test_headings_are_understood() -> None:
    assert columns.guess(["BHID", "From", "To", "Sn_ppm"], "interval") == {
        "hole": "BHID",
        "from_m": "From",
        "to_m": "To",
    }
    assert columns.guess(["HOLE_ID", "East (m)", "North (m)", "RL (m)", "EOH (m)"], "collar") == {
        "hole": "HOLE_ID",
        "x": "East (m)",
        "y": "North (m)",
        "z": "RL (m)",
        "depth_m": "EOH (m)",
    }
    assert columns.guess(["Hole", "Depth", "Azi grid", "Dip"], "survey")["azimuth"] == "Azi grid"
    assert columns.missing({}, "survey") == ["Hole ID", "Depth", "Azimuth", "Dip"]


def test_dates_are_told_apart_by_their_column() -> None:
    line = np.arange(2, 6)
    sure, unsure = Findings(), Findings()
    assert read_dates(["2023-04-03", "03/04/2023", "25/12/2023", "x"], line, sure, "f", "t") == [
        "2023-04-03",
        "2023-04-03",
        "2023-12-25",
        "",
    ]
    assert "not a date" in sure.frame()["what"].str.cat(sep=" ")
    assert read_dates(["03/04/2023"], line, unsure, "f", "t") == ["2023-04-03"]
    assert unsure.frame()["what"].str.contains("could be day or month first").any()


def within_quotes(file: Path) -> set[int]:
    """Lines that go on a record of the line before: a quoted value may hold line ends."""
    out: set[int] = set()
    with file.open(encoding="utf-8", newline="") as handle:
        reader, before = csv.reader(handle), 0
        for _ in reader:
            out |= set(range(before + 2, reader.line_num + 1))
            before = reader.line_num
    return out


@given(
    st.lists(
        st.lists(
            st.sampled_from(["A", "B ", "", "1", "-3", "2.5", "<0.5", "ND", "1e400", "nan", "é", '"', ";", "9,5"]),
            min_size=1,
            max_size=6,
        ),
        max_size=12,
    )
)
@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_no_table_breaks_the_reader_or_loses_rows(tmp_path: Path, rows: list[list[str]]) -> None:
    file = tmp_path / "fuzz.csv"
    body = "\n".join(",".join(r) for r in rows)
    file.write_text("hole,from,to,Sn_ppm\n" + body + "\n", encoding="utf-8")
    collar = tmp_path / "collar.csv"
    collar.write_text("hole,east,north,rl,depth\nA,1,2,3,50\nB,4,5,6,50\n", encoding="utf-8")
    try:
        made = run("import-holes", collar=str(collar), assay=str(file))
    except LampError as error:
        assert str(error)
        return
    assert isinstance(made, HoleSet)
    left = made.findings[(made.findings["table"] == "assay") & (made.findings["severity"] == "left out")]
    lines = {
        n
        for n, text in enumerate(file.read_text(encoding="utf-8").split("\n"), start=1)
        if n > 1 and text.strip(' ,\r"') != ""
    }
    lines -= within_quotes(file)
    lines -= set(range(tables_in.look(file).header_line + 1))  # words over numbers are a second line of the heading
    assert lines - set(made.tables["assay"]["line"]) - set(left["line"]) == set()
