"""Evidence and ranking: curves, shares, peaks, and a small prospect ranked by hand."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.targets import evidence as ev
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid
from innerlamp.core.items.points import TargetSet
from innerlamp.core.operations.targets.ranking import OPERATION
from innerlamp.core.progress import SILENT

CRS = "EPSG:32629"


def grid(values: np.ndarray, attribute: str = "Sn", cell: float = 100.0) -> Grid:
    return Grid(
        name=attribute, crs=CRS, values=values.astype(float), x0=0.0, y0=0.0, dx=cell, dy=cell, attribute=attribute
    )


def rank(params: dict[str, object], **items: object) -> tuple[TargetSet, Grid]:
    made = OPERATION.run(Inputs(items, CRS), OPERATION.check(params), SILENT)  # type: ignore[arg-type]
    targets, score = made["targets"], made["score"]
    assert isinstance(targets, TargetSet)
    assert isinstance(score, Grid)
    return targets, score


@pytest.mark.parametrize(
    ("value", "more", "expected"),
    [
        (5.0, True, 0.0),
        (10.0, True, 0.0),
        (15.0, True, 0.5),
        (20.0, True, 1.0),
        (99.0, True, 1.0),
        (10.0, False, 1.0),
        (12.5, False, 0.75),
        (30.0, False, 0.0),
        (np.nan, True, 0.0),
        (np.nan, False, 0.0),
        (np.inf, True, 0.0),
    ],
)
def test_ramp_is_a_linear_membership(value: float, more: bool, expected: float) -> None:
    # Bonham-Carter 1994, fuzzy membership by a straight line; what is missing gives no evidence.
    assert ev.ramp(np.array([value]), 10.0, 20.0, more)[0] == pytest.approx(expected)


def test_shares_add_to_the_score_which_stays_within_0_and_1() -> None:
    rng = np.random.default_rng(0)
    worth = [rng.uniform(0, 1, 50) for _ in range(4)]
    score, shares = ev.combine(worth, [1.0, 2.0, 0.5, 3.0])
    assert np.sum(shares, axis=0) == pytest.approx(score)
    assert score.min() >= 0
    assert score.max() <= 1
    # By hand: 0.2 and 0.8 with weights 1 and 3 give 0.65, of which 0.05 and 0.6.
    score, shares = ev.combine([np.array([0.2]), np.array([0.8])], [1.0, 3.0])
    assert (score[0], shares[0][0], shares[1][0]) == pytest.approx((0.65, 0.05, 0.6))


def test_peaks_are_best_first_and_keep_their_distance() -> None:
    x = np.array([0.0, 10.0, 100.0, 105.0, 300.0, 301.0])
    y = np.zeros(6)
    score = np.array([0.5, 0.9, 0.8, 0.7, 0.0, np.nan])
    assert ev.pick_peaks(x, y, score, 50.0, 10).tolist() == [1, 2]
    assert ev.pick_peaks(x, y, score, 1.0, 3).tolist() == [1, 2, 3]
    assert ev.pick_peaks(x, y, np.zeros(6), 1.0, 3).tolist() == []


def test_peaks_of_many_places_are_never_too_near() -> None:
    rng = np.random.default_rng(1)
    x, y, score = rng.uniform(0, 1000, (3, 3000))
    best = ev.pick_peaks(x, y, score, 120.0, 40)
    apart = np.hypot(x[best][:, None] - x[best], y[best][:, None] - y[best])
    assert apart[~np.eye(len(best), dtype=bool)].min() >= 120.0
    assert (np.diff(score[best]) <= 0).all()
    # Whatever was not taken lies near something better, or came after the count was full.
    if len(best) < 40:
        near = np.hypot(x[:, None] - x[best], y[:, None] - y[best]).min(axis=1)
        assert near.max() < 120.0


def test_column_maximum_looks_only_between_two_depths() -> None:
    values = np.array([[[1.0, 9.0, 5.0, 7.0]]])  # bottom to top
    mesh = TensorMesh.even((0.0, 0.0, -400.0), (10.0, 10.0, 100.0), (1, 1, 4))
    assert ev.column_maximum(values, mesh, 0.0, 400.0)[0, 0] == 9.0
    assert ev.column_maximum(values, mesh, 0.0, 200.0)[0, 0] == 7.0
    assert ev.column_maximum(values, mesh, 100.0, 200.0)[0, 0] == 5.0
    assert np.isnan(ev.column_maximum(values, mesh, 500.0, 600.0)[0, 0])
    assert np.isnan(ev.column_maximum(np.full((1, 1, 4), np.nan), mesh, 0.0, 400.0)[0, 0])


def test_distance_to_is_the_distance_to_the_nearest() -> None:
    rng = np.random.default_rng(2)
    a, b = rng.uniform(0, 100, (40, 3)), rng.uniform(0, 100, (60, 3))
    brute = np.linalg.norm(b[:, None] - a, axis=2).min(axis=1)
    assert ev.distance_to(a, b) == pytest.approx(brute)
    assert np.isinf(ev.distance_to(np.empty((0, 2)), b[:, :2])).all()


def test_one_evidence_ranks_by_itself_and_ground_gives_elevation() -> None:
    soil = np.zeros((9, 9))
    soil[6, 2], soil[2, 6] = 80.0, 100.0
    ground = grid(np.full((9, 9), 321.0), "elevation")
    targets, score = rank(
        {"spacing": 100.0, "soil_low": 10.0, "soil_high": 100.0, "separation": 150.0, "count": 5},
        soil=grid(soil),
        ground=ground,
    )
    table = targets.table
    assert table[["x", "y"]].to_numpy().tolist() == [[600.0, 200.0], [200.0, 600.0]]
    assert table["score"].to_numpy() == pytest.approx([1.0, 70.0 / 90.0])
    assert table["Sn value"].tolist() == [100.0, 80.0]
    assert (table["z"] == 321.0).all()
    assert float(np.nanmax(score.values)) == 1.0
    assert targets.evidence["largest share"].tolist() == [1.0]


def test_model_and_soil_are_weighed() -> None:
    soil = grid(np.tile(np.linspace(0, 80, 9), (9, 1)))  # rises to the east
    box = np.full((9, 9, 4), 0.0)
    box[0, :, 1] = 0.05  # the model is rich in the west, at 250 m depth
    model = BlockModel(
        name="k",
        crs=CRS,
        mesh=TensorMesh.even((-50.0, -50.0, -400.0), (100.0, 100.0, 100.0), (9, 9, 4)),
        properties={"susceptibility": box},
        units={"susceptibility": "SI"},
    )
    common = {"spacing": 100.0, "soil_high": 80.0, "depth_high": 0.05, "soil_low": 0.0, "count": 1}
    east, _ = rank({**common, "soil_weight": 3.0}, soil=soil, model=model)
    west, _ = rank({**common, "depth_weight": 3.0}, soil=soil, model=model)
    assert east.table["x"].iloc[0] == 800.0
    assert east.table["score"].iloc[0] == pytest.approx(0.75)
    assert west.table["x"].iloc[0] == 0.0
    assert west.table["susceptibility at depth share"].iloc[0] == pytest.approx(0.75)
    shallow, _ = rank({**common, "depth_weight": 3.0, "deep": 120.0}, soil=soil, model=model)
    assert shallow.table["x"].iloc[0] == 800.0  # the rich cells are deeper than is looked


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({}, "no evidence was given"),
        ({"soil_weight": 0.0}, "no evidence was given"),
        ({"soil_low": 9.0, "soil_high": 3.0}, "not above its lower end"),
        ({"soil_low": 900.0, "soil_high": 990.0}, "no place scores above 0"),
        ({"spacing": 0.05}, "places are too many"),
    ],
)
def test_what_can_not_be_ranked_says_why(params: dict[str, object], words: str) -> None:
    items = {"soil": grid(np.arange(81.0).reshape(9, 9))} if params else {}
    with pytest.raises(InputError, match=words):
        rank(params, **items)


def test_shares_of_the_demo_explain_every_score(demo_path: object) -> None:
    from innerlamp.api import Project

    with Project.open(demo_path, write=False) as project:  # type: ignore[arg-type]
        targets = project["Targets"]
        assert isinstance(targets, TargetSet)
        shares = targets.table[[c for c in targets.table.columns if c.endswith("share")]]
        assert isinstance(shares, pd.DataFrame)
        assert shares.sum(axis=1).to_numpy() == pytest.approx(targets.table["score"].to_numpy())
        assert (shares.to_numpy() <= targets.evidence["largest share"].to_numpy() + 1e-12).all()
