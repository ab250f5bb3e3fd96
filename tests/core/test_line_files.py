"""Lines below headers, dummies, day numbers of spreadsheets, block models by the names of other programs."""

from __future__ import annotations

import datetime
from pathlib import Path

import numpy as np
import pytest

from innerlamp.api import Project
from innerlamp.core.findings import Findings
from innerlamp.core.formats.tables import dates
from innerlamp.core.importing import offers
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import SurveyLines
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"
ROWS = [[f"{500000 + 10 * k} {7000000 + 50 * j} {45000 + k + 100 * j}.5" for k in range(4)] for j in range(3)]
NAMES = ["10010", "10020", "10030"]


def written(header: str, above: str = "", sign: str = " ") -> str:
    lines = [above] if above else []
    for name, rows in zip(NAMES, ROWS, strict=True):
        lines += [header.format(name), *(r.replace(" ", sign) for r in rows)]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize(
    "text",
    [
        written("Line {}", "/ X Y TMI_nT"),
        written("LINE {}", "/\n/ magnetics of the north\n/ ------\n/ X Y TMI_nT"),
        written("line:{}", "X Y TMI_nT"),
        written("Línea {}", "# X Y TMI_nT"),
        written("Ligne {}", "! X Y TMI_nT"),
        written("Linja {}", "X,Y,TMI_nT", ","),
        written("  Line   {}", "// X\tY\tTMI_nT", "\t"),
        "/ X Y TMI_nT\n" + written("Line {}").replace("45101.5", "*").replace("500020 7000000", "500020   7000000"),
    ],
)
def test_lines_below_headers_come_in_with_their_names(text: str, tmp_path: Path) -> None:
    (tmp_path / "a.xyz").write_text(text, encoding="utf-8")
    (offer,) = offers.offers_of(tmp_path / "a.xyz")
    assert offer.kind == "lines" and offer.roles["line"] == "Line"
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        (made,) = project.bring([tmp_path / "a.xyz"])
        survey = project.store.load(made)
    assert isinstance(survey, SurveyLines)
    assert survey.table.groupby("line").size().to_dict() == dict.fromkeys(NAMES, 4)
    values = survey.table["TMI_nT"].to_numpy()
    lost = np.isnan(values)
    assert lost.sum() == ("*" in text)
    wanted = np.array([float(r.split()[2]) for rows in ROWS for r in rows])
    assert values[~lost] == pytest.approx(wanted[~lost]) and survey.units["TMI_nT"] == "nT"


def test_lines_without_names_of_columns_tie_lines_and_odd_rows(tmp_path: Path) -> None:
    text = "1 2 3\n" + written("Line {}") + "Tie 900\n500000 7000000 45000\n500000 7000050\n500000 7000100 45002\n"
    (tmp_path / "a.xyz").write_text(text)
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        (made,) = project.bring([tmp_path / "a.xyz"])
        survey = project.store.load(made)
    assert isinstance(survey, SurveyLines)
    assert survey.table.groupby("line").size().to_dict() == dict.fromkeys(NAMES, 4) | {"T900": 2}
    told = survey.findings[survey.findings["what"].str.startswith("row has another number")]
    assert told["line"].tolist() == [1, 19]


def test_a_table_that_speaks_of_lines_is_none_of_these(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(
        "Line,X,Y,Mag\n10,500000,7000000,45000\n10,500010,7000000,45001\n10,500020,7000000,45001\n"
    )
    assert offers.offers_of(tmp_path / "a.csv")[0].layout.medium == "text"  # type: ignore[union-attr]


def test_day_numbers_of_a_spreadsheet_are_dates() -> None:
    """ISO/IEC 29500-1, 18.17.4.1: serial 1 is 1 January 1900, with a day too many in February: from March on 1899-12-30 is 0."""
    found = Findings()
    days = [datetime.date(1985, 3, 1), datetime.date(2024, 2, 29), datetime.date(2000, 1, 1)]
    cells = [str((d - datetime.date(1899, 12, 30)).days) for d in days]
    assert cells[1] == "45351"  # as spreadsheets have it
    assert dates.read_dates([*cells, ""], np.arange(4), found, "f", "t") == [*(d.isoformat() for d in days), ""]
    assert len(found.frame()) == 1
    mixed = dates.read_dates(["45351", "2024-05-01"], np.arange(2), Findings(), "f", "t")
    assert mixed == ["", "2024-05-01"]  # a number among dates is none


@pytest.mark.parametrize(
    "names", ["XC,YC,ZC,XINC,YINC,ZINC", "XCENTRE,YCENTRE,ZCENTRE,DX,DY,DZ", "MidX,MidY,MidZ,DimX,DimY,DimZ"]
)
def test_block_models_by_the_names_of_other_programs(names: str, tmp_path: Path) -> None:
    rows = [
        f"{5005 + 10 * i},{7010 + 20 * j},{102.5 + 5 * k},10,20,5,{i + j + k}"
        for i in range(4)
        for j in range(3)
        for k in range(2)
    ]
    (tmp_path / "m.csv").write_text(f"{names},AU_PPM\n" + "\n".join(rows) + "\n")
    assert offers.offers_of(tmp_path / "m.csv")[0].kind == "cells"
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        (made,) = project.bring([tmp_path / "m.csv"])
        model = project.store.load(made)
    assert isinstance(model, BlockModel)
    assert model.mesh.shape == (4, 3, 2) and list(model.properties) == ["AU_PPM"]
    assert model.mesh.bounds == pytest.approx((5000, 5040, 7000, 7060, 100, 110))


def test_electrodes_by_line_distance_and_place_are_electrodes(tmp_path: Path) -> None:
    rows = [f"L{n},{5 * k},{500000 + 5 * k},{7000000 + 50 * n},100" for n in range(3) for k in range(20)]
    (tmp_path / "topo.csv").write_text("Line,Distance,Easting,Northing,Elevation\n" + "\n".join(rows) + "\n")
    assert offers.offers_of(tmp_path / "topo.csv")[0].kind == "electrodes"
    (tmp_path / "mag.csv").write_text("Line,Distance,Easting,Northing,TMI_nT\n" + "\n".join(rows) + "\n")
    assert offers.offers_of(tmp_path / "mag.csv")[0].kind == "lines"


@pytest.mark.parametrize(
    ("heading", "value", "words"),
    [
        ("Reading_mGal", 3120.4, "readings of a meter"), ("Gravity (mGal)", 978_432.1, "gravity at the stations"),
        ("Gravity (µGal)", 978_432_100.0, "gravity at the stations"), ("Bouguer_mGal", -112.3, ""),
    ],
)  # fmt: skip
def test_gravity_as_it_was_read_is_called_so(heading: str, value: float, words: str, tmp_path: Path) -> None:
    rows = [f"S{k},{500000 + 100 * k},7000000,4000,{value + k}" for k in range(12)]
    (tmp_path / "g.csv").write_text(
        f"Station,Easting,Northing,Elevation,{heading}\n" + "\n".join(rows) + "\n", encoding="utf-8"
    )
    Store.create(tmp_path / "p.lamp", CRS).close()
    with Project.open(tmp_path / "p.lamp") as project:
        made = project.run("import-points", file=str(tmp_path / "g.csv"), content="stations")["points"]
        told = project.store.load(made).findings["what"]  # type: ignore[attr-defined]
    assert told.str.contains(words).any() if words else not told.str.contains("looks like").any()
