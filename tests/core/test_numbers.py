"""Numbers as people type them, in the ways of several countries (common practice, no source)."""

from __future__ import annotations

import pytest

from innerlamp.core.errors import InputError
from innerlamp.core.numbers import number_or_none, parse_number, parse_numbers
from innerlamp.core.units import unit_in_heading, without_unit_in_heading


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("12.5", 12.5),
        ("12,5", 12.5),
        (" 1 234,5 ", 1234.5),
        ("1\u2009234.5", 1234.5),
        ("1\u202f234,5", 1234.5),
        ("1'234.5", 1234.5),
        ("1,234,567.25", 1234567.25),
        ("1.234.567,25", 1234567.25),
        ("−3", -3.0),
        ("1e3", 1000.0),
        ("1,234", 1.234),
    ],
)
def test_numbers_are_read_as_people_write_them(text: str, value: float) -> None:
    assert parse_number(text) == value


@pytest.mark.parametrize("text", ["", "abc", "1;2", "nan", "inf", "1_000", "--2", "1.2.3"])
def test_what_is_no_number_is_refused_by_name(text: str) -> None:
    with pytest.raises(InputError, match="is not a number"):
        parse_number(text, "Cut-off")
    assert number_or_none(text) is None


def test_lists_are_parted_by_semicolons() -> None:
    assert parse_numbers("5; 20,5;;100") == [5.0, 20.5, 100.0]
    with pytest.raises(InputError, match="not a list of numbers"):
        parse_numbers("5; x")


@pytest.mark.parametrize(
    ("heading", "unit", "name"),
    [
        ("Susceptibility (10^-3 SI)", "10⁻³ SI", "Susceptibility"),
        ("MagSus [10-3 SI]", "10⁻³ SI", "MagSus"),
        ("Susc_1e-3SI", "10⁻³ SI", "Susc"),
        ("MagSus (x10-3 SI)", "10⁻³ SI", "MagSus"),
        ("Magsus SI x 10-3", "10⁻³ SI", "Magsus"),
        ("kappa (SI×10⁻⁵)", "10⁻⁵ SI", "kappa"),
        ("k (10^-6 cgs)", "10⁻⁶ cgs", "k"),
        ("Susc (SI)", "SI", "Susc"),
    ],
)
def test_a_power_of_ten_is_part_of_the_unit(heading: str, unit: str, name: str) -> None:
    assert unit_in_heading(heading) == unit
    assert without_unit_in_heading(heading) == name
