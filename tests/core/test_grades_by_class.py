"""Grades and correlations by class: against pandas, numpy's weighted mean and scipy's correlations, and on the demo."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from innerlamp.api import Project
from innerlamp.core.compute.statistics.by_class import grades_by_class
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import LampError
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS


@pytest.mark.parametrize("by_rank", [False, True])
def test_classes_are_as_pandas_numpy_and_scipy_find_them(by_rank: bool) -> None:
    rng = np.random.default_rng(3)
    n = 400
    codes = rng.choice(np.array(["A", "B", "C", ""], dtype=object), n)
    tin = np.exp(rng.normal(0, 1, n))
    values = {"Sn": tin, "W": 0.5 * tin + rng.normal(0, 0.5, n), "As": rng.normal(5, 1, n)}
    values["W"][rng.random(n) < 0.2] = np.nan
    length = rng.uniform(0.3, 3.0, n)
    facts = {f.name: f for f in grades_by_class(codes, values, length, by_rank)}
    assert set(facts) == {"A", "B", "C"}
    frame = pd.DataFrame({**values, "code": codes, "length": length})
    for name, mine in frame[frame["code"] != ""].groupby("code"):
        f = facts[str(name)]
        assert (f.samples, f.metres) == (len(mine), pytest.approx(mine["length"].sum()))
        for column in values:
            known = mine.dropna(subset=[column])
            assert f.known[column] == len(known)
            assert f.mean[column] == pytest.approx(np.average(known[column], weights=known["length"]))
            assert f.median[column] == pytest.approx(known[column].median())
            assert f.high[column] == pytest.approx(known[column].quantile(0.9))
        for (a, b), (r, count) in f.pairs.items():
            both = mine.dropna(subset=[a, b])
            wanted = (stats.spearmanr if by_rank else stats.pearsonr)(both[a], both[b])[0]
            assert (count, r) == (len(both), pytest.approx(wanted))
    metres = [f.metres for f in grades_by_class(codes, values, length)]
    assert metres == sorted(metres, reverse=True)


def run(holes: HoleSet, **params: object) -> PointSet:
    op = OPERATIONS["grades-by-class"]
    made = op.run(Inputs({"holes": holes}, holes.crs), op.check(params), SILENT)["classes"]
    assert isinstance(made, PointSet)
    return made


@pytest.fixture(scope="module")
def holes(demo_path: object) -> HoleSet:
    with Project.open(demo_path, write=False) as project:  # type: ignore[arg-type]
        item = project.store.load(project.store.find("Emberlow holes").id)
    assert isinstance(item, HoleSet)
    return item


def test_rocks_alteration_and_holes_of_the_demo(holes: HoleSet) -> None:
    rocks = run(holes, attributes="Sn_ppm; W_ppm", code="Rock").table.set_index("Rock")
    # Greisen carries the tin of this prospect, and tin goes with tungsten.
    assert rocks["Sn_ppm mean"].idxmax() == "GREIS"
    assert rocks.loc["GREIS", "Sn_ppm mean"] > 3 * rocks.loc["SLATE", "Sn_ppm mean"]
    assert rocks.loc["GREIS", "Sn_ppm with W_ppm"] > 0.5
    assert rocks["samples"].sum() <= len(holes.tables["assay"])
    alteration = run(holes, attributes="Sn_ppm", code="Alteration").table.set_index("Alteration")
    assert alteration["Sn_ppm mean"].idxmax() == "greisen"
    assert "not logged" in alteration.index
    assert alteration["metres"].sum() == pytest.approx(
        (holes.tables["assay"]["to_m"] - holes.tables["assay"]["from_m"]).sum(), rel=0.02
    )
    by_hole = run(holes, attributes="Sn_ppm; As_ppm", least=1)
    assert by_hole.table["hole"].nunique() == holes.tables["assay"]["hole"].nunique()
    assert by_hole.units["Sn_ppm mean"] == "ppm"
    assert np.isfinite(by_hole.table[["x", "y", "z"]].to_numpy()).all()


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"attributes": "Gold"}, "not a grade"),
        ({"attributes": "Sn_ppm; Rock"}, "no grade of the table"),
        ({"attributes": "Sn_ppm", "code": "Colour"}, "not logged"),
        ({"attributes": "Sn_ppm", "code": "Rock", "least": 100_000}, "no class has"),
        ({"attributes": ""}, "1 to 12"),
    ],
)
def test_what_can_not_be_worked_out_is_refused(holes: HoleSet, values: dict[str, object], words: str) -> None:
    with pytest.raises(LampError, match=words):
        run(holes, **values)
