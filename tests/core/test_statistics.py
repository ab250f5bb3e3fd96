"""Spikes, correlation, regression, boxes and column facts, against scipy, pandas and cases worked by hand."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
import scipy.stats
from pytest import approx

from innerlamp.core.compute.drilling.logged import logged_at
from innerlamp.core.compute.statistics.relations import (
    box,
    column_facts,
    correlations,
    probability_places,
    ranks,
    regression,
)
from innerlamp.core.compute.statistics.spikes import hampel, isolated
from innerlamp.core.errors import InputError


def test_hampel_by_hand() -> None:
    # Window of 5 around the 9: 1 2 9 2 1, median 2, deviations 1 0 7 0 1, their median 1, limit 3 x 1.4826 = 4.45 < 7.
    spike, mended = hampel(np.array([1.0, 2, 9, 2, 1, 2, 1]), 2, 3.0)
    assert spike.tolist() == [False, False, True, False, False, False, False]
    assert mended.tolist() == [1, 2, 2, 2, 1, 2, 1]
    # With a limit of 5 (7.41) the same reading is no spike.
    assert not hampel(np.array([1.0, 2, 9, 2, 1, 2, 1]), 2, 5.0)[0].any()


def test_hampel_agrees_with_a_plain_loop() -> None:
    rng = np.random.default_rng(0)
    v = np.cumsum(rng.normal(size=300))
    v[[20, 100, 101, 250]] += [30, -25, 40, 35]
    v[[5, 150]] = np.nan
    spike, mended = hampel(v, 4, 3.0)
    for i in range(len(v)):
        window = v[max(0, i - 4) : i + 5]
        middle = np.nanmedian(window)
        mad = scipy.stats.median_abs_deviation(window[np.isfinite(window)], scale="normal")
        expected = np.isfinite(v[i]) and abs(v[i] - middle) > 3 * mad * 1.4826 / (1 / scipy.stats.norm.ppf(0.75))
        assert spike[i] == expected, i
        assert mended[i] == approx(middle if expected else v[i], nan_ok=True)
    assert {20, 250} <= set(np.flatnonzero(spike))


def test_spikes_are_told_from_steep_anomalies() -> None:
    # Dipole-like anomalies 40 to 80 m deep read every 10 m, with noise: 120 spikes of 15 to 400 nT on 40 lines. Invented
    # data; the shape is that of a source below a line (Telford et al. 1990, ch. 3).
    rng = np.random.default_rng(1)
    x = 10.0 * np.arange(400)
    true = found = false = plain = 0
    for _ in range(40):
        depth = rng.uniform(40.0, 80.0)
        v = 0.01 * x + rng.normal(0, 0.5, 400)
        for centre, scale, size in ((800.0, 1.0, 800.0), (2100.0, 0.7, -560.0), (3100.0, 1.5, 1600.0)):
            u = (x - centre) / (depth * scale)
            v += size * (1 - 0.5 * u) / (1 + u * u) ** 1.5
        assert not isolated(v, 5, 6.0)[0].any()
        at = rng.choice(np.arange(5, 395, 9), 3, replace=False)
        v[at] += rng.choice([-1, 1], 3) * rng.uniform(15.0, 400.0, 3)
        hit = np.flatnonzero(isolated(v, 5, 6.0)[0])
        true, found, false = true + 3, found + len(set(hit) & set(at)), false + len(set(hit) - set(at))
        plain += len(set(np.flatnonzero(hampel(v, 5, 6.0)[0])) & set(at))
    assert false == 0
    assert found >= 0.93 * true > 1.1 * plain


def test_a_spike_of_two_readings_and_one_beside_a_gap() -> None:
    rng = np.random.default_rng(2)
    v = 100.0 * np.sin(np.arange(120) / 15.0) + rng.normal(0, 0.2, 120)
    v[40:42] += [60.0, 55.0]
    v[80:84] = np.nan
    v[84] -= 70.0
    spike, mended = isolated(v, 5, 6.0)
    assert np.flatnonzero(spike).tolist() == [40, 41, 84]
    assert np.abs(mended[40:42] - 100.0 * np.sin(np.array([40, 41]) / 15.0)).max() < 3.0
    assert np.isnan(mended[80:84]).all()


def test_hampel_refuses_nonsense() -> None:
    with pytest.raises(InputError):
        hampel(np.zeros(5), 0, 3.0)
    with pytest.raises(InputError):
        hampel(np.zeros(5), 2, 0.0)
    assert hampel(np.empty(0), 2, 3.0)[0].shape == (0,)
    assert not hampel(np.full(9, np.nan), 2, 3.0)[0].any()


def test_correlations_agree_with_pandas_and_scipy() -> None:
    rng = np.random.default_rng(1)
    a = rng.lognormal(size=200)
    b = a * 2 + rng.normal(size=200)
    c = rng.integers(0, 5, 200).astype(float)
    a[::17], b[::13] = np.nan, np.nan
    table = pd.DataFrame({"a": a, "b": b, "c": c})
    for by_rank, method in ((False, "pearson"), (True, "spearman")):
        ours, count = correlations([a, b, c], by_rank)
        assert ours == approx(table.corr(method).to_numpy())  # type: ignore[arg-type]
        assert count[0, 1] == (np.isfinite(a) & np.isfinite(b)).sum()
    assert ranks(np.array([3.0, 1, 3, np.nan, 2])) == approx([3.5, 1, 3.5, np.nan, 2], nan_ok=True)
    assert ranks(c) == approx(scipy.stats.rankdata(c))
    assert np.isnan(correlations([np.ones(5), np.arange(5.0)])[0][0, 1])


def test_regression_agrees_with_scipy_and_by_hand() -> None:
    line = regression(np.array([0.0, 1, 2, np.nan]), np.array([1.0, 3, 5, 9]))
    assert (line.intercept, line.slope, line.correlation, line.count) == approx((1.0, 2.0, 1.0, 3))
    rng = np.random.default_rng(2)
    x, y = rng.normal(size=(2, 50))
    theirs, ours = scipy.stats.linregress(x, y), regression(x, y)
    assert (ours.slope, ours.intercept, ours.correlation) == approx((theirs.slope, theirs.intercept, theirs.rvalue))
    with pytest.raises(InputError):
        regression(np.ones(5), np.arange(5.0))


def test_normal_values_lie_on_a_line_in_the_probability_plot() -> None:
    rng = np.random.default_rng(3)
    values, scores = probability_places(10 + 2 * rng.normal(size=5000))
    assert np.polyfit(scores, values, 1) == approx([2.0, 10.0], abs=0.1)
    assert (np.diff(values) >= 0).all()
    _, scores = probability_places(np.array([5.0, np.nan, 1.0, 3.0]))
    assert scores == approx(scipy.stats.norm.ppf(np.array([0.625, 1.625, 2.625]) / 3.25))  # Blom 1958


def test_boxes_by_hand() -> None:
    made = box(np.array([1.0, 2, 3, 4, 5, 100, np.nan]))
    assert made is not None
    # Quartiles 2.25 and 4.75, box 2.5, whiskers within 1.5 of it: from 1 to 5, and 100 stands alone.
    assert (made.quarter, made.median, made.three_quarters) == (2.25, 3.5, 4.75)
    assert (made.low, made.high, made.outliers.tolist(), made.count) == (1.0, 5.0, [100.0], 6)
    assert box(np.array([np.nan])) is None


def test_column_facts_agree_with_pandas() -> None:
    rng = np.random.default_rng(4)
    values = rng.lognormal(size=1000)
    values[::10] = np.nan
    facts, series = column_facts(values), pd.Series(values)
    assert (facts["known"], facts["missing"]) == (900, 100)
    assert facts["95 %"] == approx(series.quantile(0.95))
    assert (facts["mean"], facts["standard deviation"]) == approx((series.mean(), series.std()))
    assert column_facts(np.array([np.nan])) == {"known": 0.0, "missing": 1.0}


def test_a_constant_has_no_correlation() -> None:
    rng = np.random.default_rng(0)
    matrix, _ = correlations([rng.normal(size=50), np.full(50, 0.1), np.full(50, 1e9 / 3)])
    assert np.isnan(matrix[0, 1]) and np.isnan(matrix[0, 2]) and np.isnan(matrix[1, 1])
    assert matrix[0, 0] == pytest.approx(1.0)


def test_an_empty_log_names_nothing() -> None:
    table = pd.DataFrame({"hole": ["A"], "from_m": [0.0], "to_m": [1.0]})
    log = pd.DataFrame({"hole": [], "from_m": [], "to_m": [], "rock": []})
    assert logged_at(table, log, "rock").tolist() == [""]
    assert logged_at(table.iloc[:0], log, "rock").tolist() == []
