"""Attributes know what they are: told once by heading and unit, carried on by operations, kept in the catalogue."""

from __future__ import annotations

from pathlib import Path
from typing import get_args

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.attributes import (
    QUANTITIES,
    AnyQuantity,
    Attribute,
    in_role,
    is_ground,
    orientation,
    plain_number,
    told_by,
)
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.legend import RAMPS, propose
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"


def grid(name: str, attribute: str, unit: str, **more: object) -> Grid:
    values = np.add.outer(np.arange(30.0), np.arange(40.0)) + 4000.0
    return Grid(name=name, crs=CRS, values=values, x0=0, y0=0, dx=10, dy=10, attribute=attribute, unit=unit, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("heading", "unit", "quantity"),
    [
        ("Sn_ppm", "ppm", "grade"),
        ("Recovery_pct", "%", "recovery"),
        ("RQD (%)", "%", "recovery"),
        ("TMI_ANOM_nT", "nT", "magnetic field"),
        ("Bouguer mGal", "mGal", "gravity"),
        ("susceptibility", "", "susceptibility"),
        ("Densidad", "", "density"),
        ("Cota (m)", "m", "elevation"),
        ("Höhe", "m", "length"),  # not among the words: the unit alone
        ("depth (m)", "m", "length"),
        ("dip direction", "°", "direction"),
        ("Dip", "", "dip"),
        ("tilt", "°", "angle"),
        ("dip", "ppm", "grade"),  # the unit is stronger than a word
        ("anything", "", "number"),
    ],
)
def test_headings_and_units_tell_the_quantity(heading: str, unit: str, quantity: str) -> None:
    assert told_by(heading, unit) == quantity


def test_each_family_has_a_ramp_of_its_own() -> None:
    """Common practice, no source: what lies on one screen must be told apart by its colours."""
    families = (
        "grade",
        "magnetic field",
        "gravity",
        "susceptibility",
        "density",
        "resistivity",
        "chargeability",
        "score",
    )
    ramps = [QUANTITIES[name].ramp for name in families]
    assert len(set(ramps)) == len(families)
    assert {q.ramp for q in QUANTITIES.values()} | {q.diverging for q in QUANTITIES.values()} <= set(RAMPS)
    assert set(get_args(AnyQuantity)) == {"auto", *QUANTITIES}


def test_values_are_read_out_in_the_digits_of_their_quantity() -> None:
    assert Attribute("m", "elevation").said(4012.345) == "4,012.3"
    assert Attribute("mGal", "gravity").said(-31.23456) == "-31.235"
    assert Attribute("ppm", "grade").said(1234.56) == "1235"
    assert Attribute("", "score").said(0.7777) == "0.78"
    assert Attribute("mGal", "gravity").said(0.0001234) == "0.0001234"  # never rounded to nothing
    assert Attribute("m", "elevation").tick(4012.4) == "4\u2009012"
    assert Attribute("ppm", "grade").tick(4012.4) == plain_number(4012.4) == "4\u2009010"


def test_a_grid_of_any_name_is_ground_when_it_holds_elevations() -> None:
    named = grid("Suelo", "cota del terreno", "m", quantities={"cota del terreno": "elevation"})
    assert named.is_ground and named.bounds[4:] == (4000.0, 4068.0)
    assert not grid("Suelo", "elevation", "m").is_ground  # a name alone means nothing
    lines = OPERATIONS["contours"].run(Inputs({"grid": named}, CRS), OPERATIONS["contours"].check({}), SILENT)[
        "contours"
    ]
    assert lines.attributes["cota del terreno"] == Attribute("m", "elevation", "level")
    assert in_role(lines.attributes, "line weight") == "weight"


def test_operations_carry_quantities_on() -> None:
    rng = np.random.default_rng(1)
    table = pd.DataFrame({"x": rng.uniform(0, 400, 80), "y": rng.uniform(0, 300, 80), "z": np.nan})
    table["mesure"] = 0.01 * table["x"]
    points = PointSet(name="P", crs=CRS, table=table, quantities={"mesure": "chargeability"})
    made = {}
    for name, inputs, values in (
        ("grid-minimum-curvature", {"samples": points}, {"attribute": "mesure"}),
        ("cross-validate", {"samples": points}, {"attribute": "mesure", "method": "inverse distance"}),
        ("regional-residual", {"grid": grid("G", "field", "nT")}, {}),
        ("filter-grid", {"grid": grid("G", "field", "nT")}, {"filter": "vertical derivative"}),
        ("filter-grid", {"grid": grid("G", "field", "", quantities={"field": "gravity"})}, {"filter": "continuation"}),
    ):
        op = OPERATIONS[name]
        made[name, str(values.get("filter", ""))] = op.run(Inputs(inputs, CRS), op.check(values), SILENT)  # type: ignore[arg-type]
    assert made["grid-minimum-curvature", ""]["grid"].attributes["mesure"].quantity == "chargeability"
    left = made["cross-validate", ""]["residuals"].attributes
    assert left["residual"] == Attribute("", "chargeability", "residual")
    assert made["regional-residual", ""]["residual"].attributes["field residual"] == Attribute(
        "nT", "magnetic field", "residual"
    )
    assert (
        made["filter-grid", "vertical derivative"]["filtered"].attributes["field vertical derivative"].quantity
        == "field gradient"
    )
    assert made["filter-grid", "continuation"]["filtered"].attributes["field"].quantity == "gravity"


def test_structures_are_told_by_what_they_measure_not_by_what_they_are_called() -> None:
    table = pd.DataFrame({"x": [0.0], "y": [0.0], "z": [0.0], "Einfallen": [30.0], "Richtung": [120.0]})
    plain = PointSet(name="P", crs=CRS, table=table)
    assert orientation(plain.attributes) is None
    told = PointSet(name="P", crs=CRS, table=table, quantities={"Einfallen": "dip", "Richtung": "direction"})
    assert orientation(told.attributes) == ("Einfallen", "Richtung")


def test_what_an_attribute_is_can_be_said_and_taken_back(tmp_path: Path) -> None:
    with Project.create(tmp_path / "p", CRS) as project:
        project.store.put(grid("Suelo", "cota", "m"))
        project.run("describe-attribute", item="Suelo", attribute="cota", quantity="elevation")
        entry = project.store.find("Suelo")
        assert entry is not None and is_ground(entry.attributes)
        loaded = project.store.load(entry.id)
        assert propose("cota", loaded.attributes["cota"], np.array([4000.0, 4200.0])).ramp == "grey"
        with pytest.raises(InputError, match="no attribute"):
            project.run("describe-attribute", item="Suelo", attribute="other", quantity="grade")
        project.store.undo()
        entry = project.store.find("Suelo")
        assert entry is not None and not is_ground(entry.attributes)


def test_raw_readings_are_not_what_an_item_is_coloured_by() -> None:
    table = pd.DataFrame({"x": [0.0], "y": [0.0], "z": [0.0], "RAW_TMI": [49e3], "TMI": [12.0]})
    told = PointSet(name="P", crs=CRS, table=table, units={"RAW_TMI": "nT", "TMI": "nT"}).told_by_headings()
    assert told.attributes["RAW_TMI"] == Attribute("nT", "magnetic field", "raw")
    assert told.attributes["TMI"] == Attribute("nT", "magnetic field")
