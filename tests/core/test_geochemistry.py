"""Geochemistry of samples: thresholds, anomalies, levelling and components, against hand-worked cases and numpy, scipy."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from innerlamp.core.compute.statistics import geochemistry as gc
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.features import RING, Features
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo import truth
from innerlamp.demo.build import FILES

CRS = "EPSG:32629"
RNG = np.random.default_rng(11)


def run(operation: str, inputs: dict, **params: object) -> object:
    op = OPERATIONS[operation]
    return next(iter(op.run(Inputs(inputs, CRS), op.check(params), SILENT).values()))


@pytest.fixture(scope="module")
def soils() -> PointSet:
    made = run("import-points", {}, file=str(FILES / "geochemistry" / "soils_emberlow.csv"))
    assert isinstance(made, PointSet)
    return made


def test_thresholds_of_a_lognormal_population() -> None:
    values = np.exp(RNG.normal(2.0, 0.5, 4000))
    assert gc.threshold_of_logs(values, 2.0) == pytest.approx(np.exp(3.0), rel=0.03)
    by_hand = gc.threshold_of_logs(np.array([1.0, 10.0, 100.0, 0.0, np.nan]), 1.0)
    assert by_hand == pytest.approx(100.0)  # logs 0, 1, 2: mean 1, deviation 1
    with pytest.raises(InputError, match="fewer than three"):
        gc.threshold_of_logs(np.array([1.0, -2.0]), 2.0)


def test_the_break_between_two_populations_is_found() -> None:
    # Sinclair 1974: background and one tenth of anomalous values ten times as high.
    values = np.exp(np.concatenate([RNG.normal(1.0, 0.4, 1800), RNG.normal(3.6, 0.3, 200)]))
    found = gc.threshold_by_break(values)
    assert np.exp(1.4) < found < np.exp(3.3)
    wrong = (values[:1800] > found).mean() + (values[1800:] <= found).mean()
    assert wrong < 0.2
    with pytest.raises(InputError, match="twenty"):
        gc.threshold_by_break(values[:15])


def test_groups_are_those_that_are_linked() -> None:
    x = np.array([0.0, 40, 80, 500, 540, 2000])
    y = np.zeros(6)
    groups = gc.groups_over(x, y, np.array([True, True, True, True, True, True]), 50.0)
    assert [g.rows.tolist() for g in groups] == [[0, 1, 2], [3, 4]]
    radius = 27.5
    # Two discs 40 m apart: their union is two discs less the lens between (plane geometry).
    lens = 2 * radius**2 * np.arccos(20 / radius) - 20 * np.sqrt(4 * radius**2 - 1600)
    assert groups[1].area == pytest.approx(2 * np.pi * radius**2 - lens, rel=0.02)
    assert gc.groups_over(x, y, np.zeros(6, dtype=bool), 50.0) == []


def test_levelling_takes_the_background_of_each_unit_out() -> None:
    unit = np.array(["slate"] * 300 + ["marble"] * 300 + ["dyke"] * 2, dtype=object)
    values = np.exp(np.concatenate([RNG.normal(3.0, 0.4, 300), RNG.normal(1.0, 0.2, 300), [2.0, 2.0]]))
    score = gc.levelled(values, unit)
    for rows in (slice(0, 300), slice(300, 600)):
        assert np.median(score[rows]) == pytest.approx(0.0, abs=1e-9)
        logs = np.log(values[rows])
        assert score[rows] == pytest.approx(
            (logs - np.median(logs)) / stats.median_abs_deviation(logs, scale="normal"), rel=1e-4
        )
    every = np.log(values)
    assert score[600] == pytest.approx(
        (2.0 - np.median(every)) / (1.4826 * np.median(np.abs(every - np.median(every))))
    )
    assert np.isnan(gc.levelled(np.array([-1.0, 2.0]), np.array(["a", "a"], dtype=object))[0])


def test_components_are_those_of_the_correlation_matrix() -> None:
    base = RNG.normal(size=(400, 2))
    table = np.exp(
        np.column_stack([base[:, 0], base[:, 0] + 0.1 * RNG.normal(size=400), base[:, 1], 0.3 * RNG.normal(size=400)])
    )
    table[5, 2] = np.nan
    made = gc.principal_components(table)
    logs = np.log(table[np.isfinite(table).all(axis=1)])
    ratios = logs - logs.mean(axis=1, keepdims=True)
    values = np.linalg.eigvalsh(np.corrcoef(ratios, rowvar=False))[::-1]
    assert made.explained == pytest.approx(np.maximum(values, 0) / values.sum(), abs=1e-9)
    assert np.isnan(made.scores[5]).all()
    whole = np.isfinite(made.scores[:, 0])
    # A loading is the correlation of a variable with a component.
    assert np.corrcoef(ratios[:, 0], made.scores[whole, 0])[0, 1] == pytest.approx(made.loadings[0, 0], abs=1e-9)
    assert np.corrcoef(made.scores[whole, 0], made.scores[whole, 1])[0, 1] == pytest.approx(0, abs=1e-9)
    for bad, words in ((table[:, :1], "two columns"), (table[:3], "too few"), (np.ones((30, 3)), "does not vary")):
        with pytest.raises(InputError, match=words):
            gc.principal_components(bad, logs=False)


def test_the_tin_anomaly_of_the_prospect_lies_where_the_ice_took_it(soils: PointSet) -> None:
    made = run("anomalies", {"samples": soils}, attribute="Sn ppm", by="percentile", percentile=99.0)
    assert isinstance(made, Features)
    first = made.vertices[made.starts[0] : made.starts[1], :2].mean(axis=0) - np.array(truth.ORIGIN)
    ice = np.radians(truth.ICE_TOWARDS)
    moved = np.array(truth.APEX) + truth.ICE_DRAG * np.array([np.sin(ice), np.cos(ice)])
    assert np.hypot(*(first - moved)) < 260
    assert made.table["samples"].iloc[0] > 6
    assert made.table["peak"].iloc[0] > 100
    assert (made.table["mean"] <= made.table["peak"]).all()
    with pytest.raises(InputError, match="lie together"):
        run("anomalies", {"samples": soils}, attribute="Sn ppm", by="value", value=1e9)


def test_units_come_from_the_map_the_smaller_polygon_first(soils: PointSet) -> None:
    west, east, south, north, _, _ = soils.bounds
    big = np.array([(west, south), (east, south), (east, north), (west, north), (west, south)])
    small = big * 0.25 + np.array([west, south]) * 0.75
    xy = np.vstack([small, big])
    geology = Features(
        name="m",
        crs=CRS,
        table=pd.DataFrame({"unit": ["inner", "outer"]}),
        vertices=np.column_stack([xy, np.full(10, np.nan)]),
        starts=np.array([0, 5, 10]),
        owner=np.array([0, 1]),
        part_types=np.array([RING, RING]),
    )
    made = run("level-by-unit", {"samples": soils, "map": geology}, attribute="Sn ppm")
    assert isinstance(made, PointSet)
    inner = (soils.table["x"] < west + 0.25 * (east - west)) & (soils.table["y"] < south + 0.25 * (north - south))
    assert (made.table["map unit"][inner & (soils.table["x"] > west)] == "inner").all()
    assert made.units["Sn ppm levelled"] == "deviations"
    with pytest.raises(InputError, match="no column 'rock'"):
        run("level-by-unit", {"samples": soils, "map": geology}, attribute="Sn ppm", unit="rock")


def test_components_of_the_soils_put_tin_and_tungsten_together(soils: PointSet) -> None:
    made = run("principal-components", {"samples": soils})
    assert isinstance(made, PointSet)
    assert {"component 1", "component 2"} <= set(made.table.columns)
    note = made.findings[made.findings["what"].str.startswith("component 1")]["what"].iloc[0]
    assert "explains" in note
    again = run("principal-components", {"samples": made}, columns="Sn ppm; W ppm", logs="as they are", keep=1)
    assert isinstance(again, PointSet)
    assert (again.findings["what"].str.startswith("component ")).sum() == 1
