"""Standards, blanks and duplicates that stand among the assays never become grades of holes."""

from __future__ import annotations

from pathlib import Path

import pytest

from innerlamp.core.importing import control_charts, offers
from innerlamp.core.importing.control_samples import kind_of

from .test_hole_sources import _closed, brought, folder

__all__ = ["_closed", "folder"]  # fixtures
COLLARS = "HoleID,Easting,Northing,RL,Depth\nRC1,500000,7000000,4100,300\n"
HEAD = "HoleID,From,To,Sample,Sample type,Standard,Duplicate of,Au_ppm,Cu_pct\n"
ROWS = [
    "RC1,0,1,A100X,ORIG,,,0.5,0.1",
    "RC1,1,2,A101X,ORIG,,,1.5,0.2",
    "RC1,1,2,A102X,DUP,,A101X,1.4,0.2",  # with the depths of its original
    ",,,A103X,STD,OX77,,2.9,<0.01",  # without any place
    "RC1,2,3,A104X,BLANK,,,0.004,<0.01",  # with depths of its own, as some write them
    "RC1,2,3,A105X,ORIG,,,9.0,0.4",
    "RC1,3,4,A106X,DUP,,,9.5,0.4",  # before its original, told by its depths
    "RC1,3,4,A107X,ORIG,,,9.6,0.4",
    ",,,A108X,Field duplicate,,,9.7,0.4",  # after its original, told by nothing else
]


@pytest.mark.parametrize(
    ("word", "kind"),
    [
        ("STD", "standard"), ("CRM OREAS 62", "standard"), ("Estándar", "standard"), ("Étalon", "standard"),
        ("Padrão", "standard"), ("Referenzmaterial", "standard"), ("Blanco", "blank"), ("BL", "blank"),
        ("Blindprobe", "blank"), ("Duplicado", "duplicate"), ("Doublon", "duplicate"), ("Dubblett", "duplicate"),
        ("Rinnakkaisnäyte", "duplicate"), ("FD", "duplicate"), ("BLS", ""), ("ORIG", ""), ("Core", ""), ("", ""),
    ],
)  # fmt: skip
def test_kinds_are_told_in_the_languages_of_the_imports(word: str, kind: str) -> None:
    assert kind_of(word) == kind


def test_controls_go_to_the_controls_and_grades_stay_what_they_were(folder: Path) -> None:
    holes, _ = brought(folder, collar=COLLARS, assay=HEAD + "\n".join(ROWS) + "\n")
    assert offers.offers_of(folder / "assay.csv")[0].kind == "assay"
    table = holes.tables["assay"]
    assert table["Au_ppm"].tolist() == [0.5, 1.5, 9.0, 9.6]
    controls = holes.controls.set_index("sample")
    assert controls["type"].tolist() == ["duplicate", "standard", "blank", "duplicate", "duplicate"]
    assert controls["original"].tolist() == ["A101X", "", "", "A107X", "A107X"]
    assert controls.loc["A103X", "standard"] == "OX77" and controls.loc["A103X", "Cu_pct"] == 0.005
    pairs = control_charts.duplicate_pairs(holes, "Au_ppm")
    assert pairs[["first", "second"]].to_numpy().tolist() == [[1.5, 1.4], [9.6, 9.5], [9.6, 9.7]]
    assert control_charts.standards(holes) == ["OX77"]
    told = holes.findings[holes.findings["what"].str.startswith("control samples among")]
    assert told["what"].tolist() == ["control samples among the assays: 1 standards, 1 blanks, 3 duplicates"]
    assert not holes.findings["what"].str.contains("overlap|no collar").any()


def test_a_column_that_names_the_standard_tells_them_too(folder: Path) -> None:
    rows = ["RC1,0,1,A1,,0.5", "RC1,1,2,A2,,0.6", ",,,A3,OX77,2.9", ",,,A4,BLANK,0.004", "RC1,2,3,A5,,0.7"]
    holes, _ = brought(folder, collar=COLLARS, assay="HoleID,From,To,Sample,CRM,Au_ppm\n" + "\n".join(rows) + "\n")
    assert holes.tables["assay"]["Au_ppm"].tolist() == [0.5, 0.6, 0.7]
    assert holes.controls["type"].tolist() == ["standard", "blank"]


def test_controls_of_several_laboratories_come_in_the_units_of_the_assays(folder: Path) -> None:
    first = "HoleID,From,To,Sample,Type,Au_ppm\nRC1,0,1,A1,ORIG,0.5\n,,,A2,STD,2.9\n"
    second = "HoleID,From,To,Sample,Type,Au ppb\nRC1,1,2,B1,ORIG,700\n,,,B2,STD,2950\n"
    holes, _ = brought(folder, collar=COLLARS, assay_a=first, assay_b=second)
    assert holes.tables["assay"]["Au_ppm"].tolist() == [0.5, 0.7]
    assert holes.controls["Au_ppm"].tolist() == [2.9, 2.95]
    assert holes.controls["type"].tolist() == ["standard", "standard"]


def test_a_table_of_rock_types_has_no_controls(folder: Path) -> None:
    rows = ["RC1,0,1,BLS,0.5", "RC1,1,2,BSC,0.6", "RC1,2,3,GRD,0.7"]
    holes, _ = brought(folder, collar=COLLARS, assay="HoleID,From,To,Type,Au_ppm\n" + "\n".join(rows) + "\n")
    assert len(holes.tables["assay"]) == 3 and not len(holes.controls)


@pytest.mark.parametrize("order", [("a", "b"), ("b", "a")])
def test_a_column_of_several_files_has_one_name_whichever_comes_first(folder: Path, order: tuple[str, str]) -> None:
    first = "HoleID,From,To,Sample,Gold ppb,Cu pct\nRC1,0,1,A1,500,0.1\n"
    second = "HoleID,From,To,Sample,Au (g/t),Cu pct\nRC1,1,2,B1,0.7,0.2\nRC1,2,3,B2,0.8,0.3\n"
    names = dict(zip(order, (first, second), strict=True))
    holes, _ = brought(folder, collar=COLLARS, **{f"assay_{k}": text for k, text in names.items()})
    table = holes.tables["assay"].sort_values("from_m")
    assert {"Au_gpt", "Cu pct"} <= set(table.columns) and holes.units["Au_gpt"] in ("g/t", "ppm")
    assert table["Au_gpt"].tolist() == pytest.approx([0.5, 0.7, 0.8])
