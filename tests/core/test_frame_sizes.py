"""Scale, extents and exaggeration of a section: by the definition of each, worked by hand, and there and back."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.core.compute.geometry.frame_sizes import FrameSizes
from innerlamp.core.errors import InputError

# A frame of 20 × 10 cm that shows 400 m along and 100 m up: 1:2 000, twice exaggerated.
FRAME = FrameSizes(0.20, 0.10, 100.0, 500.0, 3900.0, 4000.0)


def test_the_worked_frame_says_its_scale_and_what_becomes_of_the_others() -> None:
    assert (FRAME.scale, FRAME.exaggeration) == (pytest.approx(2000.0), pytest.approx(2.0))
    larger = FRAME.with_scale(1000.0)  # half of the extents, about the same middle
    assert (larger.left, larger.right, larger.low, larger.high_at) == pytest.approx((200.0, 400.0, 3925.0, 3975.0))
    true = FRAME.with_exaggeration(1.0)  # twice the elevations, the same distances
    assert (true.left, true.right, true.low, true.high_at) == pytest.approx((100.0, 500.0, 3850.0, 4050.0))
    wider = FRAME.with_distances(0.0, 800.0)  # 1:4 000, twice the elevations as well
    assert (wider.scale, wider.low, wider.high_at) == pytest.approx((4000.0, 3850.0, 4050.0))
    lower = FRAME.with_elevations(3800.0, 4000.0)  # true to scale now
    assert (lower.scale, lower.exaggeration, lower.left) == pytest.approx((2000.0, 1.0, 100.0))


@given(
    st.floats(10.0, 1e6), st.floats(0.1, 100.0), st.floats(-1e5, 1e5), st.floats(1.0, 1e5), st.floats(-500.0, 6000.0)
)
def test_what_is_asked_for_holds_and_the_rest_stays(
    scale: float, factor: float, left: float, length: float, low: float
) -> None:
    made = FRAME.with_scale(scale)
    assert made.scale == pytest.approx(scale) and made.exaggeration == pytest.approx(FRAME.exaggeration)
    made = FRAME.with_exaggeration(factor)
    assert made.exaggeration == pytest.approx(factor) and made.scale == pytest.approx(FRAME.scale)
    made = FRAME.with_distances(left, left + length)
    assert made.exaggeration == pytest.approx(FRAME.exaggeration)
    assert (made.left, made.right) == (left, left + length)
    made = FRAME.with_elevations(low, low + 150.0)
    assert (made.left, made.right, made.low) == (FRAME.left, FRAME.right, low)


def test_what_can_not_be_is_refused() -> None:
    for make in (
        lambda: FRAME.with_scale(0.0),
        lambda: FRAME.with_exaggeration(-1.0),
        lambda: FRAME.with_distances(500.0, 100.0),
        lambda: FRAME.with_elevations(4000.0, 4000.0),
        lambda: FRAME.with_elevations(0.0, 1e6),
    ):
        with pytest.raises(InputError):
            make()
