"""Precision by grade, bias, carry-over, certified values, and batches that fail: what becomes of their samples."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from innerlamp.core.compute.statistics import precision
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.importing import batches, control_charts
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

from .test_hole_sources import _closed, brought, folder

__all__ = ["_closed", "folder"]  # fixtures
COLLARS = "HoleID,Easting,Northing,RL,Depth\nRC1,500000,7000000,4100,300\n"
HEAD = "HoleID,From,To,Sample,Sample type,Standard,Lote,Au_ppm,Cu_pct"


def test_the_median_of_differences_is_that_of_the_normal_distribution() -> None:
    assert pytest.approx(np.sqrt(2.0) * stats.norm.ppf(0.75), rel=1e-9) == precision._MEDIAN


def test_scatter_that_grows_with_the_grade_is_found() -> None:
    """Results drawn with s(c) = 0.05 + 0.06 c: the line is found, and what follows from it by algebra."""
    rng = np.random.default_rng(8)
    grade = np.exp(rng.uniform(np.log(0.5), np.log(60.0), 6_000))
    first, second = (grade + (0.05 + 0.06 * grade) * rng.normal(size=len(grade)) for _ in range(2))
    found = precision.precision_by_grade(first, second)
    assert found is not None
    assert found.floor == pytest.approx(0.05, rel=0.12)
    assert found.slope == pytest.approx(0.06, rel=0.06)
    assert found.percent(10.0) == pytest.approx(200 * (found.floor / 10.0 + found.slope))
    assert found.percent(found.practical_limit) == pytest.approx(100.0)
    assert precision.precision_by_grade(first[:49], second[:49]) is None
    # Equal pairs have no scatter, and none below zero comes of any.
    same = precision.precision_by_grade(first, first)
    assert same is not None and (same.floor, same.slope) == (0.0, 0.0)
    # The unit does not matter.
    other = precision.precision_by_grade(first * 1e4, second * 1e4)
    assert other is not None and other.slope == pytest.approx(found.slope, rel=1e-6)


def test_bias_and_shares_of_pairs() -> None:
    first = np.array([1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0, np.nan])
    shift, chance = precision.bias_of_pairs(first, 1.1 * first)
    assert shift == pytest.approx(200 * 0.1 / 2.1)
    assert chance == pytest.approx(2 / 2**7)  # all seven on one side: exact signed-rank test
    assert precision.bias_of_pairs(first, first) == (0.0, 1.0)
    assert precision.share_within(np.array([5.0, 10.0, 11.0, np.nan]), 10.0) == pytest.approx(2 / 3)
    assert np.isnan(precision.share_within(np.array([np.nan]), 10.0))


def test_blanks_that_follow_the_sample_before_them() -> None:
    rng = np.random.default_rng(1)
    before = rng.lognormal(1.0, 1.0, 60)
    clean = precision.carry_over(rng.uniform(0, 0.01, 60), before)
    assert clean.chance > 0.05
    dirty = precision.carry_over(0.005 + 0.003 * before + rng.normal(0, 1e-4, 60), before)
    assert dirty.percent == pytest.approx(0.3, rel=0.1) and dirty.chance < 1e-6
    assert precision.carry_over(np.zeros(20), before[:20]).chance == 1.0


def _prospect(folder: Path, bad: float = 3.5, blank: str = "<0.01") -> HoleSet:
    """Two batches of a laboratory: the second one's standard comes back as `bad` where 2.9 ± 0.05 is certified."""
    rows, at, number = [], 0, 100
    for lot, standard in (("L1", (2.91, 2.88)), ("L2", (2.9, bad))):
        for value in standard:
            for _ in range(4):
                rows.append(f"RC1,{at},{at + 1},M{number},ORIG,,{lot},{0.1 * at + 0.1:.2f},0.2")
                at, number = at + 1, number + 1
            rows.append(f",,,M{number},STD,ox77,{lot},{value},0.31")
            rows.append(f",,,M{number + 1},BLANCO,,{lot},{blank if lot == 'L2' else '<0.01'},<0.01")
            number += 2
    holes, _ = brought(folder, collar=COLLARS, assay=HEAD + "\n" + "\n".join(rows) + "\n")
    return holes


def judge(holes: HoleSet, **params: object) -> HoleSet:
    op = OPERATIONS["judge-assays"]
    made = op.run(Inputs({"holes": holes}, holes.crs), op.check(params), SILENT)["holes"]
    assert isinstance(made, HoleSet)
    return made


CERTIFIED = "OX77,Au,2.9,0.05"


def test_a_batch_that_fails_is_marked_and_the_rest_stays(folder: Path) -> None:
    holes = _prospect(folder)
    made = judge(holes, certified=CERTIFIED)
    table = made.tables["assay"]
    assert table["Batch check"].tolist() == ["passed"] * 8 + ["failed"] * 8
    assert table["Au_ppm"].tolist() == holes.tables["assay"]["Au_ppm"].tolist()
    said = made.findings[made.findings["table"] == "controls"]["what"].tolist()
    assert any(
        "batch L2 fails for Au_ppm: standard ox77 3.5, beyond three deviations of 2.9 (8 samples)" in w for w in said
    )
    rows, check = control_charts.standard_rows(made, "ox77", "Au_ppm")
    assert check.given and (check.accepted, check.deviation) == (2.9, 0.05) and len(rows) == 4
    assert made.attributes["Batch check"].is_code
    # Once more says it once.
    again = judge(made, certified=CERTIFIED)
    assert again.findings["what"].tolist() == made.findings["what"].tolist()


def test_grades_of_a_failed_batch_are_left_out_by_element(folder: Path) -> None:
    made = judge(_prospect(folder), certified=CERTIFIED, failed="left out")
    table = made.tables["assay"]
    assert np.isnan(table["Au_ppm"].to_numpy()[8:]).all() and np.isfinite(table["Au_ppm"].to_numpy()[:8]).all()
    assert np.isfinite(table["Cu_pct"].to_numpy()).all()  # copper did not fail


def test_a_blank_above_its_level_fails_its_batch(folder: Path) -> None:
    made = judge(_prospect(folder, bad=2.92, blank="0.3"), certified=CERTIFIED)
    assert made.tables["assay"]["Batch check"].tolist() == ["passed"] * 8 + ["failed"] * 8
    assert made.findings["what"].str.contains("blank 0.3, above").any()


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("standard,element,value,deviation,unit\nOX77,Au,2900,50,ppb\nOTHER,Au,1,1,ppm\n", (2.9, 0.05)),
        ("Estándar;Elemento;Valor;Unidad\nOX77;Au;0,084586;oz/t\n", (2.9, None)),
    ],
)
def test_certified_values_come_from_a_list_of_ones_own_in_any_unit(
    folder: Path, tmp_path: Path, text: str, wanted: tuple[float, float | None]
) -> None:
    holes = _prospect(folder)
    file = tmp_path / "list.csv"
    file.write_text(text, encoding="utf-8")
    made = judge(holes, certificates=str(file))
    _, check = control_charts.standard_rows(made, "ox77", "Au_ppm")
    assert check.given and check.accepted == pytest.approx(wanted[0], rel=1e-4)
    if wanted[1] is not None:
        assert check.deviation == pytest.approx(wanted[1])


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"certified": "OX78,Au,2.9,0.05"}, "no control sample is of the standard 'OX78'"),
        ({"certified": "OX77,Ag,2.9,0.05"}, "no control sample has a grade of 'Ag'"),
        ({"certified": "OX77,Au,2.9,0.05,mGal"}, "is in 'mGal'"),
        ({"attributes": ["Pb_ppm"]}, "no grades 'Pb_ppm'"),
        ({"batch": "Turno"}, "no table of intervals has a column 'Turno'"),
    ],
)
def test_what_does_not_fit_is_said(folder: Path, params: dict[str, object], words: str) -> None:
    with pytest.raises(InputError, match=words):
        judge(_prospect(folder), **params)


def test_a_set_without_controls(folder: Path) -> None:
    plain, _ = brought(folder, collar=COLLARS, assay="HoleID,From,To,Au_ppm\nRC1,0,1,0.5\n")
    with pytest.raises(InputError, match="no control samples"):
        judge(plain)


def test_assays_that_name_no_batch_are_not_marked(folder: Path) -> None:
    rows = "RC1,0,1,A1,ORIG,,0.5\n,,,A2,STD,OX77,2.9\n"
    made = judge(brought(folder, collar=COLLARS, assay=f"HoleID,From,To,Sample,Type,Standard,Au_ppm\n{rows}")[0])
    assert batches.CHECK not in made.tables["assay"].columns


def test_blanks_know_the_sample_of_the_number_before_theirs(folder: Path) -> None:
    holes = judge(_prospect(folder), certified=CERTIFIED)
    blanks, before = batches.grades_before_blanks(holes, "Au_ppm")
    # The standard stands before each blank.
    assert before.tolist() == [2.91, 2.88, 2.9, 3.5] and len(blanks) == 4
    told = batches.by_batch(holes, "ox77", "Au_ppm")
    assert told["batch"].tolist() == ["L1", "L2"] and told["score"].tolist() == pytest.approx([-0.1, 6.0])


def _two_laboratories(folder: Path) -> HoleSet:
    """Both laboratories call a batch 17 and had the standard OX77; the second finds a tenth less by its weaker digestion."""
    head = "HoleID,From,To,Muestra,Tipo muestra,Patron,Lote,Laboratorio,Au_FA_ppm,Au_AR_ppm"
    rows = []
    for n, (lab, fire, wet) in enumerate((("Norte", 2.9, 2.61), ("Sur", 2.5, 2.6))):
        for k in range(6):
            at = 10 * n + k
            rows.append(f"RC1,{at},{at + 1},M{at},ORIG,,17,{lab},1.0,0.9")
            rows.append(f",,,S{at},STD,OX77,17,{lab},{fire + 0.01 * (k % 3)},{wet + 0.01 * (k % 2)}")
    holes, _ = brought(folder, collar=COLLARS, assay="\n".join([head, *rows]) + "\n")
    return holes


def test_a_list_of_ones_own_tells_methods_and_laboratories_apart(folder: Path, tmp_path: Path) -> None:
    holes = _two_laboratories(folder)
    assert control_charts.standards(holes) == ["OX77, Norte", "OX77, Sur"]
    assert set(batches.rows_by_batch(holes)["assay"]) == {"17, Norte", "17, Sur"}
    mine = tmp_path / "mine.csv"
    mine.write_text(
        "Patron;Elemento;Valor;Desviacion;Unidad;Metodo;Laboratorio\n"
        "OX77;Au;2,9;0,03;g/t;FA;\nOX77;Au;2610;30;ppb;AR;\nOX77;Au;9,9;0,03;g/t;FA;Elsewhere\n"
    )
    made = judge(holes, certificates=str(mine), attributes=["Au_FA_ppm", "Au_AR_ppm"])
    table = batches.judged_batches(made, ["Au_FA_ppm", "Au_AR_ppm"])
    state = {(r.batch, r.attribute): r.state for r in table.itertuples()}
    assert state == {
        ("17, Norte", "Au_FA_ppm"): "passed",
        ("17, Sur", "Au_FA_ppm"): "failed",
        ("17, Norte", "Au_AR_ppm"): "passed",
        ("17, Sur", "Au_AR_ppm"): "passed",
    }
    assert made.tables["assay"]["Batch check"].tolist() == ["passed"] * 6 + ["failed"] * 6
    # A value of one laboratory alone goes before that of all: its own certificate, 2.5, makes the second pass.
    own = [*("OX77,Au,2.9,0.03,g/t,FA", "OX77,Au,2.51,0.03,g/t,FA,sur")]
    made = judge(holes, certified="; ".join(own), attributes=["Au_FA_ppm"])
    assert set(made.tables["assay"]["Batch check"]) == {"passed"}
    with pytest.raises(InputError, match=r"no control sample is of the laboratory 'Este'.*Norte, Sur"):
        judge(holes, certified="OX77,Au,2.9,0.03,g/t,FA,Este")
    with pytest.raises(InputError, match="no control sample has a grade of 'Au' by 'ICP'"):
        judge(holes, certified="OX77,Au,2.9,0.03,g/t,ICP")
    # As one, where that is asked for.
    rows, _ = control_charts.standard_rows(holes, "OX77", "Au_FA_ppm")
    assert len(rows) == 12


def test_files_without_a_laboratory_are_their_own(folder: Path) -> None:
    """Controls among the assays of several files stand with the batch and laboratory of their own file's assays."""
    part = "HoleID,From,To,Sample,Type,Standard,Au_ppm\nRC1,{a},{b},M{a},ORIG,,1\n,,,S{a},STD,OX77,{v}\n"
    (folder / "norte.csv").write_text(part.format(a=0, b=1, v=2.9))
    (folder / "sur.csv").write_text(part.format(a=1, b=2, v=3.9))
    (folder / "collar.csv").write_text(COLLARS)
    op = OPERATIONS["import-holes"]
    params = {"collar": folder / "collar.csv", "assay": folder / "norte.csv", "assays": folder / "sur.csv"}
    checked = op.check({k: str(v) for k, v in params.items()})
    holes = op.run(Inputs({}, "EPSG:32719"), checked, SILENT)["holes"]
    assert isinstance(holes, HoleSet)
    made = judge(holes, certified="OX77,Au,2.9,0.05")
    assert made.tables["assay"]["Batch check"].tolist() == ["passed", "failed"]


def test_samples_and_batches_that_are_plain_numbers_are_found(folder: Path) -> None:
    """A column of whole numbers must not be compared as 1001.0 with the 1001 of the control samples."""
    rows = [f"RC1,{k},{k + 1},{1001 + 3 * k},ORIG,,,17,{1.0 + k}" for k in range(4)]
    rows += [f",,,{1002 + 3 * k},DUP,,{1001 + 3 * k},17,{1.1 + k}" for k in range(4)]
    rows += [f",,,{1003 + 3 * k},BLANK,,,17,0.01" for k in range(4)]
    head = "HoleID,From,To,Muestra,Tipo muestra,Patron,Original,Lote,Au_ppm"
    holes, _ = brought(folder, collar=COLLARS, assay="\n".join([head, *rows]) + "\n")
    pairs = control_charts.duplicate_pairs(holes, "Au_ppm")
    assert pairs["first"].tolist() == [1.0, 2.0, 3.0, 4.0] and pairs["second"].tolist() == [1.1, 2.1, 3.1, 4.1]
    _, before = batches.grades_before_blanks(holes, "Au_ppm")
    assert before.tolist() == [1.1, 2.1, 3.1, 4.1]
    assert batches.rows_by_batch(holes)["assay"]["17"].tolist() == [0, 1, 2, 3]
    assert batches.judged_batches(holes, ["Au_ppm"])["samples"].tolist() == [4]
