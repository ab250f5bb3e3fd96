"""Exports harm nobody: no formulas out of texts, no file written over that was not named, nothing left of a failed one."""

from __future__ import annotations

import csv
import zipfile
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp import cli
from innerlamp.core.errors import InputError
from innerlamp.core.formats.out.tables_out import file_part, guarded
from innerlamp.core.formats.table import export
from innerlamp.core.items.features import LINE, POINT, Features, one_each
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.picture import Picture
from innerlamp.core.items.points import PointSet
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
FORMULA = '=HYPERLINK("http://127.0.0.1/?"&A1,"click")'


def points() -> PointSet:
    table = pd.DataFrame(
        {
            "x": [1.0, 2.0, 3.0], "y": [1.0, 2.0, 3.0], "z": [0.0, 0.0, 0.0], "v": [-1.5, 2.0, np.nan],
            "note": [FORMULA, "+1 more", "plain"], "=cmd()": ["@SUM(A1)", "-", None],
        }
    )  # fmt: skip
    return PointSet(name="P", crs=CRS, table=table)


def test_texts_like_formulas_stay_texts_in_a_workbook_and_addresses_no_links(tmp_path: Path) -> None:
    export(points(), tmp_path / "a.xlsx")
    with zipfile.ZipFile(tmp_path / "a.xlsx") as book:
        sheet = book.read("xl/worksheets/sheet1.xml").decode()
        strings = book.read("xl/sharedStrings.xml").decode()
        assert "<f>" not in sheet and not any("rels" in n and "sheet" in n for n in book.namelist())
        assert "HYPERLINK" in strings and "@SUM" in strings


def test_csv_is_guarded_by_choice_and_numbers_stay_numbers(tmp_path: Path) -> None:
    export(points(), tmp_path / "plain.csv")
    export(points(), tmp_path / "safe.csv", guard=True)
    plain, safe = (
        list(csv.reader((tmp_path / n).read_text(encoding="utf-8").splitlines())) for n in ("plain.csv", "safe.csv")
    )
    assert plain[1][4] == FORMULA and plain[1][3] == "-1.5"
    assert safe[0][5] == "'=cmd()" and safe[1][4] == f"'{FORMULA}" and safe[2][4] == "'+1 more"
    assert safe[1][3] == "-1.5" and safe[3][4] == "plain"
    assert guarded(points().table)["'=cmd()"].tolist()[:2] == ["'@SUM(A1)", "'-"]
    export(points(), tmp_path / "again.csv")  # the choice holds for one export
    assert (tmp_path / "again.csv").read_text(encoding="utf-8") == (tmp_path / "plain.csv").read_text(encoding="utf-8")


def holes(demo_path: Path) -> HoleSet:
    with Store.open(demo_path, write=False) as store:
        item = store.load(store.find("Emberlow holes").id)
    assert isinstance(item, HoleSet)
    return item


def test_further_files_of_an_export_write_over_nothing(tmp_path: Path, demo_path: Path) -> None:
    mine = tmp_path / "drilling_assay.csv"
    mine.write_text("my own", encoding="utf-8")
    with pytest.raises(InputError, match=r"would write over drilling_assay\.csv"):
        export(holes(demo_path), tmp_path / "drilling.csv")
    assert mine.read_text(encoding="utf-8") == "my own"
    assert [p.name for p in tmp_path.iterdir()] == ["drilling_assay.csv"]
    mine.unlink()
    assert len(export(holes(demo_path), tmp_path / "drilling.csv")) > 4


def features() -> Features:
    shapes = [(POINT, np.array([[1.0, 2.0]])), (LINE, np.array([[1.0, 2.0], [4.0, 5.0]]))]
    table = pd.DataFrame({"a": ["x", "y"]})
    made = one_each([v for _, v in shapes], LINE)
    made["part_types"] = np.array([k for k, _ in shapes], dtype=np.int8)
    return Features(name="F", crs=CRS, table=table, **made)


@pytest.mark.parametrize("name", ["with blank", "Ärchæan µ", "set [1] (old)", "a.b.c", "100 %"])
def test_names_with_blanks_accents_and_brackets_give_visible_files(tmp_path: Path, name: str) -> None:
    picture = Picture(
        name="p", crs=CRS, pixels=np.full((4, 5, 4), 200, dtype=np.uint8), affine=(1.0, 0.0, 0.0, 0.0, -1.0, 4.0)
    )
    for item, ending in (
        (points(), ".csv"),
        (points(), ".xlsx"),
        (points(), ".gpkg"),
        (features(), ".shp"),
        (picture, ".png"),
    ):
        folder = tmp_path / ending[1:]
        folder.mkdir(exist_ok=True)
        files = export(item, folder / f"{name}{ending}")
        there = {p.name for p in folder.iterdir()}
        assert {f.name for f in files} == there and there
        assert all(n.startswith(name) and not n.startswith(".") for n in there)
        if len(files) == 1 or ending == ".png":
            assert export(item, folder / f"{name}{ending}")  # once more over what it wrote itself
        else:
            with pytest.raises(InputError, match="would write over"):
                export(item, folder / f"{name}{ending}")


def test_names_of_tables_lead_nowhere() -> None:
    assert file_part("../../etc/passwd") == "_.._etc_passwd"
    assert file_part("a/b\\c:d\n") == "a_b_c_d_"
    assert file_part("..") == "table"


def test_a_failed_export_leaves_nothing_and_says_so(
    tmp_path: Path, demo_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    out = tmp_path / "out"
    out.mkdir()
    real = Path.replace
    done = []

    def full(self: Path, target: Path) -> Path:
        if len(done) == 2:
            raise OSError(28, "No space left on device")
        done.append(target)
        return real(self, target)

    monkeypatch.setattr(Path, "replace", full)
    assert cli.main(["export", str(demo_path), "Emberlow holes", str(out / "a.csv")]) == 2
    assert "No space left" in capsys.readouterr().err
    assert list(out.iterdir()) == []


def test_bring_ends_with_2_when_nothing_was_taken(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with Store.create(tmp_path / "a.lamp", CRS):
        pass
    (tmp_path / "readme.txt").write_text("nothing of use\n", encoding="utf-8")
    assert cli.main(["bring", str(tmp_path / "a.lamp"), str(tmp_path / "readme.txt")]) == 2
    assert "nothing was brought in" in capsys.readouterr().err
