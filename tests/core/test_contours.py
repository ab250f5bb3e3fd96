"""Contours: against closed forms, in levels people expect, and as features that can be exported."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from innerlamp.core.compute.gridding import contouring as ct
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.formats.table import export
from innerlamp.core.items.features import Features, part_vertices
from innerlamp.core.items.fields import Grid
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"
X, Y = 503000.0 + 5.0 * np.arange(161), 5_602_000.0 + 5.0 * np.arange(141)
GX, GY = np.meshgrid(X, Y)
CENTRE = (503400.0, 5_602_350.0)


def grid_of(values: np.ndarray, attribute: str = "g", unit: str = "mGal") -> Grid:
    return Grid(
        name="G", crs=CRS, values=values, x0=X[0], y0=Y[0], dx=5.0, dy=5.0, attribute=attribute, unit=unit
    ).told_by_headings()


def draw(grid: Grid, **params: object) -> Features:
    op = OPERATIONS["contours"]
    made = op.run(Inputs({"grid": grid}, CRS), op.check(params), SILENT)["contours"]
    assert isinstance(made, Features)
    return made


def test_contours_of_a_cone_are_circles() -> None:
    cone = np.hypot(GX - CENTRE[0], GY - CENTRE[1])
    for line in ct.contours(cone, X, Y, np.array([50.0, 200.0])):
        radius = np.hypot(*(line.xy - CENTRE).T)
        assert radius == pytest.approx(line.level, abs=0.15)
        assert line.closed
        area = 0.5 * abs(
            np.dot(line.xy[:-1, 0] - CENTRE[0], line.xy[1:, 1] - CENTRE[1])
            - np.dot(line.xy[1:, 0] - CENTRE[0], line.xy[:-1, 1] - CENTRE[1])
        )
        assert area == pytest.approx(np.pi * line.level**2, rel=4e-3)


def test_the_lines_are_those_of_contourpy() -> None:
    import contourpy

    rng = np.random.default_rng(1)
    values = rng.normal(size=(40, 50)).cumsum(axis=0).cumsum(axis=1)
    values[10:14, 20:25] = np.nan
    x, y = np.arange(50.0), np.arange(40.0)
    theirs = contourpy.contour_generator(x, y, np.ma.masked_invalid(values)).lines(2.0)
    mine = ct.contours(values, x, y, np.array([2.0]))
    assert len(mine) == len(theirs)
    assert sorted(len(c.xy) for c in mine) == sorted(len(t) for t in theirs)
    assert sum(np.hypot(*np.diff(c.xy, axis=0).T).sum() for c in mine) == pytest.approx(
        sum(np.hypot(*np.diff(t, axis=0).T).sum() for t in theirs)
    )


def test_highs_and_lows_are_told_apart_and_only_the_innermost_marked() -> None:
    hill = 100 * np.exp(-((GX - 503250) ** 2 + (GY - CENTRE[1]) ** 2) / 80**2)
    hole = -100 * np.exp(-((GX - 503560) ** 2 + (GY - CENTRE[1]) ** 2) / 80**2)
    found = ct.contours(hill + hole, X, Y, np.arange(-90.0, 91.0, 20.0))
    marked = {c.level: c.round for c in found if c.round}
    assert marked == {90.0: "high", -90.0: "low"}


@pytest.mark.parametrize(("span", "interval"), [(1.0, 0.05), (97.0, 5.0), (3300.0, 200.0), (0.0012, 0.0001)])
def test_proposed_intervals_are_round(span: float, interval: float) -> None:
    assert ct.propose_interval(np.linspace(0, span, 1001)) == pytest.approx(interval)


def test_levels_are_multiples_whatever_the_values_start_with() -> None:
    assert ct.even_levels(np.array([3.2, 11.9]), 2.0).tolist() == [4, 6, 8, 10]
    assert ct.even_levels(np.array([-0.3, 0.3]), 0.1) == pytest.approx([-0.3, -0.2, -0.1, 0, 0.1, 0.2, 0.3])
    assert ct.log_levels(np.array([0.7, 120.0, np.nan, -4])).tolist() == pytest.approx([1, 2, 5, 10, 20, 50, 100])


def test_contours_are_features_with_their_level(tmp_path: Path) -> None:
    made = draw(grid_of(np.hypot(GX - CENTRE[0], GY - CENTRE[1])), interval=20.0, major=5)
    assert made.units == {"g": "mGal"}
    weight = made.table.groupby("g")["weight"].first()
    assert weight[100.0] == weight[200.0] == "major"
    assert weight[120.0] == "minor"
    part = int(np.flatnonzero(made.table["g"] == 100.0)[0])
    assert np.hypot(*(part_vertices(made, part)[:, :2] - CENTRE).T) == pytest.approx(100.0, abs=0.2)
    import pyogrio

    export(made, tmp_path / "c.gpkg")
    theirs = pyogrio.raw.read(tmp_path / "c.gpkg")
    assert sorted(theirs[3][list(theirs[0]["fields"]).index("g")]) == sorted(made.table["g"])
    ground = draw(grid_of(np.hypot(GX - CENTRE[0], GY - CENTRE[1]), "elevation", "m"), levels="given", given="30; 60,5")
    assert set(ground.vertices[:, 2]) == {30.0, 60.5}
    logs = draw(grid_of(10.0 ** (np.hypot(GX - CENTRE[0], GY - CENTRE[1]) / 150)), levels="logarithmic")
    weight = logs.table.groupby("g")["weight"].first()
    assert weight.loc[[2.0, 10.0, 100.0]].tolist() == ["minor", "major", "major"]


@pytest.mark.parametrize(
    ("values", "params", "words"),
    [
        (np.full((9, 9), np.nan), {}, "the grid has no values"),
        (np.ones((9, 9)), {}, "nothing to contour"),
        (np.arange(81.0).reshape(9, 9), {"interval": 1e-4}, "gives .* levels"),
        (np.arange(81.0).reshape(9, 9), {"interval": 900.0, "levels": "given", "given": ""}, "there is no level"),
        (np.arange(81.0).reshape(9, 9), {"levels": "given", "given": "a"}, "not a list of numbers"),
        (-np.ones((9, 9)), {"levels": "logarithmic"}, "no value above 0"),
        (np.arange(81.0).reshape(9, 9), {"shortest": 1e6}, "no contour is that long"),
    ],
)
def test_grids_without_contours_are_said(values: np.ndarray, params: dict[str, object], words: str) -> None:
    with pytest.raises(InputError, match=words):
        draw(grid_of(values), **params)
