"""Room beside holes on a section, and the vertical scale that a content proposes: worked by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.core.compute.drilling.beside import room_beside
from innerlamp.core.compute.geometry.planes import EXAGGERATIONS, proposed_exaggeration


def test_room_is_measured_at_equal_elevations() -> None:
    # Levels stand 4.2 m apart here, over which the gap changes by 2.5 m. Two that come together downwards from 100 m to 40 m, one far to the right, one deep below all of them.
    hole = np.array([0, 0, 1, 1, 2, 2, 3, 3])
    along = np.array([0.0, 30.0, 100.0, 70.0, 400.0, 400.0, 50.0, 50.0])
    z = np.array([200.0, 100.0, 200.0, 100.0, 200.0, 100.0, -10.0, -200.0])
    left, right = room_beside(hole, along, z)
    assert right[0] == pytest.approx(40.0, abs=2.6) == left[1]
    assert right[1] == pytest.approx(300.0, abs=1.5) == left[2]
    assert np.isinf([left[0], right[2], left[3], right[3]]).all()


def test_one_hole_or_none_has_all_the_room() -> None:
    for count in (0, 1):
        left, right = room_beside(np.zeros(3 * count, np.int64), np.arange(3.0 * count), -np.arange(3.0 * count))
        assert len(left) == len(right) == count
        assert np.isinf(left).all() and np.isinf(right).all()
    nothing = room_beside(np.array([0, 1]), np.array([np.nan, 1.0]), np.array([1.0, np.nan]))
    assert np.isinf(nothing[0]).all()


@given(st.lists(st.tuples(st.floats(0, 1000), st.floats(-400, 400)), min_size=2, max_size=8))
def test_never_more_than_the_gap_of_vertical_holes(places: list[tuple[float, float]]) -> None:
    hole = np.repeat(np.arange(len(places)), 2)
    along = np.repeat([a for a, _ in places], 2)
    z = np.ravel([(500.0, -500.0) for _ in places])
    _, right = room_beside(hole, along, z)
    order = np.sort([a for a, _ in places])
    assert sorted(right[np.isfinite(right)]) == pytest.approx(sorted(np.diff(order)), abs=1e-9)


@pytest.mark.parametrize(
    ("width", "height", "factor"),
    [(800, 300, 1.0), (6000, 350, 5.0), (6000, 700, 3.0), (30_000, 200, 5.0), (100, 5000, 1.0), (0, 0, 1.0)],
)
def test_low_content_is_stretched_and_holes_keep_their_angles(width: float, height: float, factor: float) -> None:
    assert proposed_exaggeration(width, height, 700, 420) == factor
    assert factor in EXAGGERATIONS
