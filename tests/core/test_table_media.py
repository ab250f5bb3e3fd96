"""Tables from every kind of file: spreadsheets, databases, logs, text without delimiters; the same table, the same result."""

from __future__ import annotations

import sqlite3
import zipfile
from pathlib import Path

import lasio
import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.findings import Findings
from innerlamp.core.formats.tables import rawtable, tables_in
from innerlamp.core.formats.tables.las import read_log
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"
DRILLING = FILES / "drilling"
TABLES = {"collar": "collars", "survey": "downhole_surveys", "assay": "assays", "lithology": "geology_log"}


def run(operation: str, **params: object) -> object:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs({}, CRS), op.check(params), SILENT).values()))


def raw(name: str) -> pd.DataFrame:
    return pd.read_csv(DRILLING / f"{name}.csv", dtype=str, sep=None, engine="python", keep_default_na=False)


@pytest.fixture(scope="module")
def plain() -> HoleSet:
    made = run("import-holes", **{k: str(DRILLING / f"{v}.csv") for k, v in TABLES.items()})
    assert isinstance(made, HoleSet)
    return made


@pytest.fixture(scope="module")
def book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("book") / "all.xlsx"
    with pd.ExcelWriter(path, engine="xlsxwriter") as out:
        for name in TABLES.values():
            table = raw(name)
            for column in table:  # numbers are numbers in a spreadsheet, the odd ones stay text
                numbers = pd.to_numeric(table[column], errors="coerce")
                table[column] = [
                    n if np.isfinite(n) and t.strip() == t else t for n, t in zip(numbers, table[column], strict=True)
                ]
            table.to_excel(out, sheet_name=name, index=False)
    return path


@pytest.fixture(scope="module")
def database(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("db") / "all.sqlite"
    with sqlite3.connect(path) as db:
        for name in TABLES.values():
            raw(name).to_sql(name, db, index=False)
        db.execute("CREATE VIEW deep AS SELECT * FROM collars")
    db.close()
    return path


def same(a: HoleSet, b: HoleSet) -> None:
    for name in ("collars", "surveys"):
        left, right = getattr(a, name), getattr(b, name)
        assert left["hole"].tolist() == right["hole"].tolist()
    for name, table in a.tables.items():
        other = b.tables[name]
        assert table["hole"].astype(str).tolist() == other["hole"].astype(str).tolist()
        for column in table.select_dtypes("number").columns.drop("line"):
            assert np.allclose(table[column], other[column], equal_nan=True), column
    words = lambda h: h.findings["what"].str.replace(r"line \d+", "", regex=True)  # noqa: E731
    count = lambda h: h.findings.groupby(["severity", words(h)]).size().to_dict()  # noqa: E731
    assert count(a) == count(b)


def test_a_workbook_gives_what_the_text_files_give(plain: HoleSet, book: Path) -> None:
    assert set(tables_in.parts(book)) == set(TABLES.values())
    made = run("import-holes", **{k: f"{book}#{v}" for k, v in TABLES.items()})
    assert isinstance(made, HoleSet)
    same(plain, made)
    assert made.findings["file"].str.startswith("all.xlsx").any()


def test_a_database_gives_what_the_text_files_give(plain: HoleSet, database: Path) -> None:
    assert set(tables_in.parts(database)) == {*TABLES.values(), "deep"}  # views too
    made = run("import-holes", **{k: f"{database}#{v}" for k, v in TABLES.items()})
    assert isinstance(made, HoleSet)
    same(plain, made)


def test_ods_is_read_like_xlsx(tmp_path: Path) -> None:
    table = pd.DataFrame({"Line": ["L1", "L1"], "East": [1.5, 2.5], "North": [3.0, 4.0], "code": ["a", "b"]})
    for engine, name in (("odf", "t.ods"), ("xlsxwriter", "t.xlsx")):
        path = tmp_path / name
        table.to_excel(path, engine=engine, index=False)
        made = run("import-points", file=str(path))
        assert isinstance(made, PointSet)
        assert made.table["x"].tolist() == [1.5, 2.5]
        assert made.table["code"].tolist() == ["a", "b"]


def test_lines_of_a_sheet_are_those_a_person_sees(tmp_path: Path) -> None:
    import xlsxwriter

    path = tmp_path / "t.xlsx"
    with xlsxwriter.Workbook(path) as book:
        sheet = book.add_worksheet("S")
        sheet.write(0, 1, "Exported by the laboratory")
        for k, name in enumerate(("Sample", "East", "North", "Au ppb")):
            sheet.write(3, 1 + k, name)
        for row, values in enumerate((("S1", 1, 2, 5), ("S2", 3, 4, "<1"), (), ("S3", "x", 6, 7)), start=4):
            for k, value in enumerate(values):
                sheet.write(row, 1 + k, value)
    made = run("import-points", file=str(path))
    assert isinstance(made, PointSet)
    assert made.table["file_line"].tolist() == [5, 6]
    assert dict(zip(made.findings["what"], made.findings["line"], strict=True)) == {
        "coordinates are not numbers": 8,
        "Au ppb '<1' is below detection": 6,
    }


def test_several_sheets_want_a_name_and_wrong_names_are_told(book: Path) -> None:
    with pytest.raises(InputError, match=r"has 4 tables. Name one: all.xlsx#collars"):
        tables_in.look(book)
    with pytest.raises(InputError, match=r"no part 'gold'. There are: collars"):
        tables_in.look(f"{book}#gold")
    with pytest.raises(InputError, match="no such file"):
        tables_in.look(f"{book}x#collars")


def test_text_in_columns_and_with_blanks(tmp_path: Path) -> None:
    spaces = tmp_path / "s.txt"
    spaces.write_text("HOLE  EAST   NORTH\nA  1.5  2.5\nB  3.5   4.5\nC 1\n")
    found = Findings()
    read = tables_in.read(spaces, found, "t")
    assert read.layout.words == "separated by spaces, heading in line 1, 3 columns"
    assert read.text("EAST").tolist() == ["1.5", "3.5"]
    assert found.frame()["line"].tolist() == [4]
    fixed = tmp_path / "f.txt"
    fixed.write_text(
        "HOLE   EAST    AU     ROCK\nA 1    1.5            slate\nB      2.5     0.3    very old slate\nC              0.1    granite\n"
    )
    read = tables_in.read(fixed, Findings(), "t")
    assert read.text("HOLE").tolist() == ["A 1", "B", "C"]
    assert read.text("ROCK").tolist() == ["slate", "very old slate", "granite"]
    values, odd = rawtable.numbers(read.cells.column("AU"))
    assert values == pytest.approx([np.nan, 0.3, 0.1], nan_ok=True)
    assert not odd.any()


LAS = """~Version
VERS. 2.0 :
WRAP. NO :
~Well
STRT.{unit} 10 :
STOP.{unit} 13 :
STEP.{unit} 1 :
NULL. -999.25 :
WELL. EMB007 : hole
~Curve
DEPT.{unit} : depth
GR.API : gamma
SUSC.1e-3 : susceptibility
~A
10 51 0.4
11 -999.25 0.5
12 53 0.6
13 54 -999.25
"""


@pytest.mark.parametrize(("unit", "times"), [("M", 1.0), ("F", 0.3048)])
def test_logs_come_in_by_depth_with_their_hole(tmp_path: Path, unit: str, times: float) -> None:
    path = tmp_path / "log.las"
    path.write_text(LAS.format(unit=unit))
    log = read_log(path)
    assert log.hole == "EMB007"
    assert log.depth == pytest.approx(np.arange(10, 14) * times)
    assert log.curves["GR"] == pytest.approx([51, np.nan, 53, 54], nan_ok=True)
    theirs = lasio.read(path)
    assert log.curves["SUSC"] == pytest.approx(theirs["SUSC"], nan_ok=True)
    made = run(
        "import-holes",
        collar=str(DRILLING / "collars.csv"),
        survey=str(DRILLING / "downhole_surveys.csv"),
        more=str(path),
    )
    assert isinstance(made, HoleSet)
    table = made.readings["logs"]
    assert table["depth_m"].tolist() == pytest.approx((np.arange(10, 14) * times).tolist())
    assert made.units["GR (API)"] == "API"
    collar = made.collars.set_index("hole").loc["EMB007"]
    down = np.linalg.norm(table[["x", "y", "z"]].to_numpy(float) - collar[["x", "y", "z"]].to_numpy(float), axis=1)
    assert down == pytest.approx(table["depth_m"].to_numpy(), rel=1e-3)


def test_a_log_by_time_or_without_readings_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "t.las"
    path.write_text(LAS.format(unit="S"))
    with pytest.raises(InputError, match="not by depth"):
        read_log(path)
    path.write_text("~Version\nVERS. 2.0 :\n~A\n")
    with pytest.raises(InputError):
        read_log(path)


def test_broken_and_hostile_files_are_refused_in_words(tmp_path: Path) -> None:
    for name, data in (
        ("a.xlsx", b"PK\x03\x04" + b"\0" * 200),
        ("b.sqlite", b"SQLite format 3\0" + b"x" * 4000),
        ("c.xls", b"\xd0\xcf\x11\xe0" + b"\0" * 600),
        ("d.mdb", b"\0\1\0\0Standard Jet DB\0" + b"\0" * 5000),
        ("e.las", b"~V\n\xff\xfe\x00"),
    ):
        path = tmp_path / name
        path.write_bytes(data)
        with pytest.raises(LampError):
            tables_in.look(path)
    bomb = tmp_path / "bomb.xlsx"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        info = zipfile.ZipInfo("xl/worksheets/sheet1.xml")
        archive.writestr(info, b"<x/>")
    data = bytearray(bomb.read_bytes())
    at = data.rfind(b"PK\x01\x02")
    data[at + 24 : at + 28] = (0xF0000000).to_bytes(4, "little")  # claims to unpack to 4 GB, twice that refused below
    bomb.write_bytes(data)
    with pytest.raises(LampError):
        tables_in.look(bomb)


@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@example(b"\x1c", b"")  # a sign that parts lines and is no blank
@given(
    st.binary(max_size=300),
    st.sampled_from([b"", b"PK\x03\x04", b"SQLite format 3\0", b"~Version\n", b"hole,x,y\n", b"a b c\n"]),
)
def test_no_bytes_bring_a_reader_down(tmp_path: Path, data: bytes, head: bytes) -> None:
    path = tmp_path / "any.dat"
    path.write_bytes(head + data)
    try:
        tables_in.read(path, Findings(), "t")
    except LampError as error:
        assert str(error).endswith(".")


def _log(
    folder: Path, name: str, hole: str, rows: str, curves: str = " GR.GAPI :\n MS.10-3SI :\n", unit: str = "M"
) -> str:
    head = f"~V\n VERS. 2.0 :\n WRAP. NO :\n~W\n STRT.{unit} 0 :\n NULL. -999.25 :\n WELL. {hole} :\n~C\n DEPT. :\n{curves}~A\n"
    (folder / name).write_text(head + rows)
    return str(folder / name)


def test_logs_of_several_holes_and_runs_are_one_table_with_the_units_of_their_curves(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text("hole,east,north,rl,depth\nA,0,0,0,90\nB,50,0,0,90\n")
    logs = [
        _log(tmp_path, "a1.las", "A", "1 10 5\n2 11 6\n"),
        _log(tmp_path, "a2.las", "A", "6 15 7\n7 16 -999.25\n"),
        _log(tmp_path, "b.las", "B", "10 7 20\n20 8 21\n", " MS.10-3SI :\n GR.GAPI :\n", "FT"),
    ]
    made = run("import-holes", collar=str(tmp_path / "c.csv"), more=logs)
    assert isinstance(made, HoleSet)
    assert list(made.readings) == ["logs"]
    table = made.readings["logs"]
    assert table["hole"].astype(str).tolist() == ["A"] * 4 + ["B"] * 2
    # Feet of the third file: 10 ft are 3.048 m (the international foot).
    assert table["depth_m"].tolist() == pytest.approx([1, 2, 6, 7, 3.048, 6.096])
    assert table["GR (GAPI)"].tolist() == [10, 11, 15, 16, 20, 21]
    assert np.isnan(table["MS (10-3SI)"].iloc[3])
    assert (made.units["GR (GAPI)"], made.units["MS (10-3SI)"]) == ("GAPI", "10-3SI")


@pytest.mark.parametrize(
    "rows", ["1.0,10,1\n2.0,,2\n3.0,12,3\n", "1.0 10 1\n2.0 11\n3.0 12 3\n", "1.0;10;1\n3.0;12;3\n"]
)
def test_a_log_that_has_to_be_cut_another_way_is_read(rows: str, tmp_path: Path) -> None:
    log = read_log(Path(_log(tmp_path, "x.las", "A", rows)))
    good = np.isin(log.depth, (1.0, 3.0))
    assert log.curves["GR"][good].tolist() == [10.0, 12.0]
    assert log.curves["MS"][good].tolist() == [1.0, 3.0]
    assert len(log.bad) + len(log.depth) == rows.count("\n")
