"""Composites against a case worked by hand with exact fractions, benches against geometry, and the rules for what is left."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.api import Project
from innerlamp.core.compute.drilling.cells import bench_cells, divided, rock_runs
from innerlamp.core.compute.drilling.desurvey import desurvey, locate
from innerlamp.core.compute.drilling.weighted import means_over
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.items.points import PointSet

START = np.array([0.0, 1.3, 3.0, 4.2, 7.0, 8.5])
STOP = np.array([1.3, 3.0, 4.2, 6.0, 8.5, 10.7])
GRADE = np.array([0.2, 1.5, 8.7, 0.6, 3.1, 0.4])
HOLE = np.zeros(6, dtype=np.int64)
ONE = np.zeros(1, dtype=np.int64)


def composite(length: float, grade: np.ndarray = GRADE) -> tuple[np.ndarray, ...]:
    hole, start, stop, _ = divided(ONE, np.zeros(1), np.array([10.7]), length)
    mean, sampled = means_over(hole, start, stop, HOLE, START, STOP, grade)
    return hole, start, stop, mean, sampled


def test_two_metre_composites_honour_the_gap() -> None:
    # By hand: 0.655, 5.1, 1.41, 3.1 (1 m sampled of 6-8), 1.075, 0.4 (0.7 m); metal 19.86 over 9.7 m.
    hole, start, stop, grade, sampled = composite(2.0)
    assert grade == pytest.approx([0.655, 5.1, 1.41, 3.1, 1.075, 0.4], abs=1e-12)
    assert sampled == pytest.approx([2, 2, 2, 1, 2, 0.7], abs=1e-9)
    assert start == pytest.approx([0, 2, 4, 6, 8, 10])
    assert stop == pytest.approx([2, 4, 6, 8, 10, 10.7])  # no composite reaches beyond its hole
    assert float(grade @ sampled) == pytest.approx(19.86)
    assert set(hole) == {0}


def test_metal_is_kept_for_any_length_and_holes_stay_apart() -> None:
    rng = np.random.default_rng(3)
    hole = np.repeat(np.arange(5), 40)
    edges = np.concatenate([np.cumsum(rng.uniform(0.3, 3.0, 41)) for _ in range(5)]).reshape(5, 41)
    start, stop = edges[:, :-1].ravel(), edges[:, 1:].ravel()
    grade = rng.lognormal(0, 1.5, 200)
    for length in (0.7, 1.0, 5.0, 1000.0):
        for rule in ("keep", "join to the one above", "spread evenly"):
            h, a, b, _ = divided(np.arange(5), np.zeros(5), edges[:, -1], length, rule)  # type: ignore[arg-type]
            g, s = means_over(h, a, b, hole, start, stop, grade)
            for k in range(5):
                metal = float((grade * (stop - start))[hole == k].sum())
                assert float(np.nansum((g * s)[h == k])) == pytest.approx(metal)


def test_unsampled_intervals_add_nothing() -> None:
    missing = np.where(np.arange(6) == 2, np.nan, GRADE)
    _, _, _, grade, sampled = composite(2.0, missing)
    assert sampled[1] == pytest.approx(1.0)
    assert grade[1] == pytest.approx(1.5)
    for length in (0.0, -1.0, float("nan")):
        with pytest.raises(InputError, match="length must be positive"):
            composite(length)
    with pytest.raises(InputError, match="composites"):
        composite(1e-9)


@pytest.mark.parametrize(
    ("rule", "stops"),
    [
        ("keep", [3.0, 6.0, 9.0, 10.0]),
        ("join to the one above", [3.0, 6.0, 10.0]),
        ("leave out", [3.0, 6.0, 9.0]),
        ("spread evenly", [10 / 3, 20 / 3, 10.0]),
    ],
)
def test_what_is_left_over(rule: str, stops: list[float]) -> None:
    _, start, stop, run = divided(ONE, np.zeros(1), np.array([10.0]), 3.0, rule)  # type: ignore[arg-type]
    assert stop == pytest.approx(stops)
    assert start == pytest.approx([0.0, *stops[:-1]])
    assert set(run) == {0}
    short = divided(ONE, np.array([4.0]), np.array([5.0]), 3.0, rule)[2]  # type: ignore[arg-type]
    assert short.tolist() == ([] if rule == "leave out" else [5.0])
    exact = divided(ONE, np.zeros(1), np.array([9.0]), 3.0, rule)[2]  # type: ignore[arg-type]
    assert exact == pytest.approx([3.0, 6.0, 9.0])


@given(st.floats(0.1, 50.0), st.floats(0.05, 60.0))
def test_pieces_never_overlap_nor_leave_a_hole_in_a_run(run: float, length: float) -> None:
    for rule in ("keep", "join to the one above", "spread evenly"):
        _, start, stop, _ = divided(ONE, np.zeros(1), np.array([run]), length, rule)  # type: ignore[arg-type]
        assert start[0] == 0.0
        assert stop[-1] == pytest.approx(run)
        assert start[1:] == pytest.approx(stop[:-1])
        assert (stop > start).all()


def test_runs_of_a_rock_join_what_touches_and_break_at_contacts_and_gaps() -> None:
    hole = np.array([0, 0, 0, 0, 1])
    start, stop = np.array([0.0, 2.0, 5.0, 9.0, 0.0]), np.array([2.0, 5.0, 8.0, 12.0, 4.0])
    rock = np.array(["SLATE", "SLATE", "GRAN", "GRAN", ""], dtype=object)
    h, a, b, c = rock_runs(hole, start, stop, rock)
    assert list(zip(h, a, b, c, strict=True)) == [(0, 0, 5, "SLATE"), (0, 5, 8, "GRAN"), (0, 9, 12, "GRAN")]


def test_benches_by_geometry() -> None:
    # A hole 060 down from 4003 m: benches of 10 m begin and end each 10 / sin 60 m along it.
    path = desurvey(
        np.array([[0.0, 0.0, 4003.0]]), np.array([30.0]), ONE, np.zeros(1), np.array([90.0]), np.array([-60.0])
    )
    _, start, stop, foot = bench_cells(path, np.array([30.0]), 10.0)
    along = 1 / np.sin(np.radians(60))
    assert start == pytest.approx([0.0, 3 * along, 13 * along, 23 * along], abs=1e-6)
    assert stop == pytest.approx([3 * along, 13 * along, 23 * along, 30.0], abs=1e-6)
    assert foot.tolist() == [4000.0, 3990.0, 3980.0, 3970.0]
    shifted = bench_cells(path, np.array([30.0]), 10.0, level=3.0)
    assert shifted[3].tolist() == [3993.0, 3983.0, 3973.0]
    # One that turns upwards comes back into the bench above: each part is one, and all its depth is in one of them.
    depth = np.array([0.0, 40.0, 80.0])
    bent = desurvey(
        np.array([[0.0, 0.0, 0.0]]),
        np.array([120.0]),
        np.zeros(3, np.int64),
        depth,
        np.full(3, 90.0),
        np.array([-40.0, 0.0, 40.0]),
    )
    _, start, stop, foot = bench_cells(bent, np.array([120.0]), 5.0)
    assert start[1:] == pytest.approx(stop[:-1])
    z = locate(bent, np.zeros(len(start), np.int64), 0.5 * (start + stop))[:, 2]
    assert ((z >= foot) & (z <= foot + 5.0)).all()
    assert (foot == -5.0).sum() == 2
    with pytest.raises(InputError, match="bench height"):
        bench_cells(path, np.array([30.0]), 0.0)


def test_the_operation_by_rock_bench_top_cut_and_missing_values(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text("hole,x,y,z,depth\nA,402000,7502000,4000,12\n")
    (tmp_path / "a.csv").write_text("hole,from,to,Cu_pct,Au_ppm\nA,0,2,1,5\nA,2,4,9,\nA,6,8,2,1\nA,8,10,,1\n")
    (tmp_path / "l.csv").write_text("hole,from,to,Rock\nA,0,3,SLATE\nA,3,5,SLATE\nA,5,12,GRAN\n")
    files = {"collar": "c", "assay": "a", "lithology": "l"}
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        project.run("import-holes", name="H", **{k: str(tmp_path / f"{v}.csv") for k, v in files.items()})

        def made(**values: object) -> PointSet:
            item = project[project.run("composite", holes="H", attribute="Cu_pct", **values)["composites"]]
            assert isinstance(item, PointSet)
            return item

        rock = made(by="rock", code="Rock", whole=True, least=0.0, also="Au_ppm").table
        # SLATE 0-5 m: 2 m of 1 and 2 m of 9; GRAN 5-12 m: 2 m of 2.
        assert rock["Rock"].tolist() == ["SLATE", "GRAN"]
        assert rock["Cu_pct"].tolist() == pytest.approx([5.0, 2.0])
        assert rock["sampled_m"].tolist() == pytest.approx([4.0, 2.0])
        assert rock["Au_ppm"].tolist() == pytest.approx([5.0, 1.0])
        cut = made(by="rock", code="Rock", length=2.0, top_cut=3.0).table
        assert cut["from_m"].tolist() == [0.0, 2.0, 5.0, 7.0]
        assert cut["Cu_pct"].tolist() == pytest.approx([1.0, 3.0, 2.0, 2.0])
        # Of 4 m each: 1 and 9; nothing and 2; nothing. What is missing counts as 0.1.
        zero = made(length=4.0, missing=0.1).table
        assert zero["Cu_pct"].tolist() == pytest.approx([5.0, (2 * 2 + 2 * 0.1) / 4, 0.1])
        bench = made(by="bench", length=5.0, least=0.0)
        assert bench.table["bench"].tolist() == [3995.0, 3990.0]
        assert bench.name == "Cu_pct composites 5 m benches"
        for values, words in (
            ({"by": "rock"}, "no rock column"),
            ({"by": "rock", "code": "Facies"}, "Facies"),
            ({"length": 1e-7}, "composites"),
            ({"length": 100.0, "least": 1.0}, "Lower the least"),
        ):
            with pytest.raises(LampError, match=words):
                made(**values)
