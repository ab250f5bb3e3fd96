"""Legends: places on a ramp and back, what is proposed for which values, labels."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.core.items.attributes import Attribute
from innerlamp.core.items.legend import CLASS_COLOURS, RAMPS, Legend, is_line, position, propose, value_at, without_unit

LEGENDS = (
    Legend("Sn", "ppm", low=5.0, high=500.0),
    Legend("Sn", "ppm", scale="log", low=5.0, high=500.0),
    Legend("Sn", "ppm", scale="quantile", breaks=(1.0, 2.0, 10.0, 400.0)),
    Legend("TMI", "nT", ramp="split", low=-80.0, high=80.0),
)


@pytest.mark.parametrize("legend", LEGENDS)
@given(place=st.floats(0.0, 1.0))
def test_value_and_place_are_inverse(legend: Legend, place: float) -> None:
    assert position(legend, np.array([value_at(legend, place)]))[0] == pytest.approx(place, abs=1e-9)


@pytest.mark.parametrize("legend", LEGENDS)
def test_places_rise_with_values_and_stay_on_the_ramp(legend: Legend) -> None:
    values = np.linspace(-1000.0, 1000.0, 401)
    place = position(legend, values)
    assert (np.diff(place) >= 0).all()
    assert (place.min(), place.max()) == (0.0, 1.0)
    assert np.isnan(position(legend, np.array([np.nan]))[0])


def test_log_puts_the_geometric_mean_in_the_middle() -> None:
    legend = LEGENDS[1]
    assert value_at(legend, 0.5) == pytest.approx(50.0)
    assert position(legend, np.array([0.0, -3.0])).tolist() == [0.0, 0.0]


def test_skewed_grades_are_proposed_a_log_scale() -> None:
    rng = np.random.default_rng(0)
    made = propose("Sn_ppm", Attribute("ppm", "grade"), rng.lognormal(2.0, 1.5, 4000))
    assert made.scale == "log"
    assert 0 < made.low < made.high
    assert propose("dip", Attribute("°", "dip"), rng.uniform(0, 90, 500)).scale == "linear"


def test_anomalies_around_zero_are_proposed_an_even_ramp() -> None:
    rng = np.random.default_rng(0)
    made = propose("TMI", Attribute("nT", "magnetic field"), rng.normal(0, 40, 3000))
    assert made.ramp == "split"
    assert made.low == -made.high
    assert made.high == float(f"{made.high:.2g}")  # round numbers at the ends


@pytest.mark.parametrize(
    ("quantity", "unit", "values", "ramp", "low", "high"),
    [
        ("elevation", "m", np.array([120.0, 480.0, np.nan]), "grey", 120.0, 480.0),
        ("score", "", np.array([0.4, 0.6]), "mist", 0.0, 1.0),
        ("susceptibility", "SI", np.array([0.0, 0.0, 0.04]), "dusk", 0.0, 0.04),
        ("number", "", np.array([np.nan, np.inf]), "shoal", 0.0, 1.0),
        ("resistivity", "ohm.m", np.array([10.0, 100.0, 1000.0]), "frost", 19.0, 980.0),
        ("density", "g/cm³", np.array([2.5, 2.7, 2.9]), "earth", 2.5, 2.9),
    ],
)
def test_kinds_of_values_have_their_own_ramps(
    quantity: str, unit: str, values: np.ndarray, ramp: str, low: float, high: float
) -> None:
    made = propose("what it is called says nothing", Attribute(unit, quantity), values)
    assert (made.ramp, made.low, made.high) == (ramp, low, pytest.approx(high, rel=0.03))


def test_constant_values_still_give_a_ramp_that_can_be_drawn() -> None:
    made = propose("Cu", Attribute("%", "grade"), np.full(20, 0.3))
    assert np.isfinite(position(made, np.array([0.3]))).all()


def test_classes_get_different_colours_and_nothing_for_nothing() -> None:
    made = propose("rock", Attribute("", "code"), np.array(["SLATE", "GRAN", None, "SLATE", "", "SKARN"], dtype=object))
    assert list(made.classes) == ["GRAN", "SKARN", "SLATE"]
    assert len(set(made.classes.values())) == 3
    assert len(set(CLASS_COLOURS)) == len(CLASS_COLOURS)


@pytest.mark.parametrize(
    ("attribute", "unit", "label"),
    [
        ("Sn_ppm", "ppm", "Sn (ppm)"),
        ("Cu_pct", "%", "Cu (%)"),
        ("rock code", "", "rock code"),
        ("ppm", "ppm", "ppm (ppm)"),
    ],
)
def test_labels_carry_the_unit_once(attribute: str, unit: str, label: str) -> None:
    assert Legend(attribute, unit).label == label
    assert without_unit(attribute, "") == attribute


def test_legends_come_back_from_json_and_newer_fields_are_ignored() -> None:
    legend = dataclasses.replace(LEGENDS[2], cutoff=3.0, classes={"a": "#000000"})
    data = legend.to_json() | {"shadow": "long"}
    assert Legend.from_json(data) == legend
    assert set(RAMPS) >= {"ember", "tide", "split", "grey", "rainbow"}


def test_a_total_field_is_told_apart_on_its_colour_bar() -> None:
    """48,900 to 49,160 nT: in two digits both ends would be 49,000."""
    made = propose("TMI", Attribute("nT", "magnetic field"), np.random.default_rng(0).uniform(48_900, 49_160, 500))
    assert 48_890 < made.low < 48_950
    assert 49_120 < made.high < 49_170
    ticks = [made.tick(v) for v in (made.low, 49_030.0, made.high)]
    assert len(set(ticks)) == 3 and ticks[1] == "49\u2009030"


def test_a_unit_whose_name_has_a_word_of_lines_has_a_colour_but_a_line_of_a_map_its_sign() -> None:
    names = np.array(["Slate", "Quartz veins", "Slate", "fault"], dtype=object)
    of_map, of_blocks = (propose("unit", Attribute(), names, lines) for lines in (True, False))
    assert is_line(of_map, "fault") and is_line(of_map, "Quartz veins") and not is_line(of_map, "Slate")
    assert not is_line(of_blocks, "Quartz veins") and of_blocks.classes["Quartz veins"] != of_blocks.classes["Slate"]
    both = of_map.with_classes(propose("unit", Attribute(), np.array(["Slate", "Till", "Skarn"], dtype=object), False))
    areas = [both.classes[n] for n in ("Slate", "Till", "Skarn")]
    assert len(set(areas)) == 3 and is_line(both, "fault") and both.with_classes(of_map) == both
