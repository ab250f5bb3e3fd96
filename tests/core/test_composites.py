"""Composites against a case worked by hand with exact fractions."""

from __future__ import annotations

import numpy as np
import pytest

from innerlamp.core.compute.drilling.composites import composite
from innerlamp.core.errors import InputError

START = np.array([0.0, 1.3, 3.0, 4.2, 7.0, 8.5])
STOP = np.array([1.3, 3.0, 4.2, 6.0, 8.5, 10.7])
GRADE = np.array([0.2, 1.5, 8.7, 0.6, 3.1, 0.4])
HOLE = np.zeros(6, dtype=np.int64)


def test_two_metre_composites_honour_the_gap() -> None:
    # By hand: 0.655, 5.1, 1.41, 3.1 (1 m sampled of 6-8), 1.075, 0.4 (0.7 m); metal 19.86 over 9.7 m.
    hole, start, stop, grade, sampled = composite(HOLE, START, STOP, GRADE, 2.0)
    assert grade == pytest.approx([0.655, 5.1, 1.41, 3.1, 1.075, 0.4], abs=1e-12)
    assert sampled == pytest.approx([2, 2, 2, 1, 2, 0.7], abs=1e-9)
    assert start == pytest.approx([0, 2, 4, 6, 8, 10])
    assert stop == pytest.approx([2, 4, 6, 8, 10, 12])
    assert float(grade @ sampled) == pytest.approx(19.86)
    assert set(hole) == {0}


def test_metal_is_kept_for_any_length_and_holes_stay_apart() -> None:
    rng = np.random.default_rng(3)
    hole = np.repeat(np.arange(5), 40)
    edges = np.concatenate([np.cumsum(rng.uniform(0.3, 3.0, 41)) for _ in range(5)]).reshape(5, 41)
    start, stop = edges[:, :-1].ravel(), edges[:, 1:].ravel()
    grade = rng.lognormal(0, 1.5, 200)
    for length in (0.7, 1.0, 5.0, 1000.0):
        h, _, _, g, s = composite(hole, start, stop, grade, length)
        for k in range(5):
            assert float((g * s)[h == k].sum()) == pytest.approx(float((grade * (stop - start))[hole == k].sum()))


def test_unsampled_and_bad_intervals() -> None:
    missing = np.where(np.arange(6) == 2, np.nan, GRADE)
    _, _, _, grade, sampled = composite(HOLE, START, STOP, missing, 2.0)
    assert sampled[1] == pytest.approx(1.0)
    assert grade[1] == pytest.approx(1.5)
    with pytest.raises(InputError, match="ends above its start"):
        composite(HOLE, STOP, START, GRADE, 2.0)
    with pytest.raises(InputError, match="length must be positive"):
        composite(HOLE, START, STOP, GRADE, 0.0)
