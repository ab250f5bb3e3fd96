"""Looks of sections as plain data and files; what is none is passed over or refused."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.core.errors import InputError
from innerlamp.core.items.section_look import (
    HANDS,
    MOST_BESIDE,
    MOST_PANELS,
    WAYS,
    Beside,
    SectionLook,
    as_data,
    from_data,
    look_of_text,
    look_text,
)

COLUMNS = st.builds(
    Beside,
    st.sampled_from(WAYS),
    st.text(min_size=1, max_size=20),
    st.sampled_from(HANDS),
    st.floats(0, 2000),
    st.floats(1, 2000),
)
LOOKS = st.builds(
    SectionLook,
    st.lists(COLUMNS, max_size=MOST_BESIDE).map(tuple),
    st.lists(st.text(max_size=30), max_size=MOST_PANELS).map(tuple),
    st.booleans(),
    st.booleans(),
)


@given(LOOKS)
def test_a_look_goes_through_data_and_files_unchanged(look: SectionLook) -> None:
    assert from_data(json.loads(json.dumps(as_data(look)))) == look
    assert look_of_text(look_text(look)) == look


@given(
    st.recursive(
        st.none() | st.booleans() | st.floats() | st.text(), lambda x: st.lists(x) | st.dictionaries(st.text(), x)
    )
)
def test_whatever_stands_there_makes_a_look_or_none(data: object) -> None:
    assert isinstance(from_data(data), SectionLook)
    assert isinstance(from_data({"beside": data, "panels": data, "strip": data}), SectionLook)


def test_odd_columns_are_passed_over_and_numbers_held_in_bounds() -> None:
    good = {"way": "bars", "attribute": "Sn", "hand": "left", "offset": -5, "width": 1e9}
    bad = [
        {**good, "way": "pie"},
        {**good, "hand": "above"},
        {**good, "width": "wide"},
        {**good, "width": float("nan")},
        7,
    ]
    (only,) = from_data({"beside": [good, *bad]}).beside
    assert (only.offset, only.width) == (0.0, 2000.0)
    assert len(from_data({"beside": [good] * 50}).beside) == MOST_BESIDE


def test_columns_stand_outside_of_each_other_on_their_side() -> None:
    look = SectionLook()
    for hand in ("right", "right", "left"):
        look = look.with_beside(Beside("bars", "Sn", hand, 4.0, 30.0))  # type: ignore[arg-type]
    assert [b.offset for b in look.beside] == [4.0, 37.0, 4.0]


@pytest.mark.parametrize("text", ["", "[1]", "{}", '{"format": "other"}', "[" * 100_000])
def test_files_that_hold_no_look_are_refused(text: str) -> None:
    with pytest.raises(InputError, match="no look of a section"):
        look_of_text(text, "x.json")
