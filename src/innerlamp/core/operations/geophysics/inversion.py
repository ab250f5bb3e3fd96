"""Inversion of magnetic readings for susceptibility or magnetisation, and of gravity for density."""

from __future__ import annotations

import fnmatch
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from ...compute.potential import fields
from ...compute.potential.fields import Component, field_direction
from ...compute.potential.mainfield import MainField, main_field
from ...crs import grid_convergence, to_lonlat
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, Params, Row, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel, Grid
from ...items.points import PointSet, SurveyLines
from ...progress import Progress
from . import known as kn
from . import readings as rd
from . import solving as sv
from .cells import Cells, below, cost, proposed_cells

if TYPE_CHECKING:
    from ...compute.potential.inversion import Inversion

_ROUNDS = {"smooth": 120, "blocky": 220, "compact": 260}  # products with the kernel that a run takes, as measured
_RICH = 0.1  # SI from which bodies demagnetise themselves noticeably (Clark & Emerson 1991, Exploration Geophysics 22)


class FlownRow(Row):
    lines: str = param(..., "Lines", help="Their names; * stands for any letters, ? for one")
    date: str = param(..., "Date", help="A day or a year")


class MagneticReading(Params):
    """What is read of a magnetic survey; stands before the rest in forms."""

    attribute: str = param(
        "",
        "Reading",
        editor="attribute",
        of="lines",
        help="Total-field anomaly, or total field from which the main field is taken off",
    )
    date: str = param(
        "",
        "Date of survey",
        editor="date",
        help="For the main field: a year is enough, a day is better; the survey's own when empty",
    )
    flown: tuple[FlownRow, ...] = param(
        (),
        "Flown at other dates",
        editor="table",
        help="Blocks of lines with dates of their own; the rest goes by the date above",
        more=True,
    )
    magnetisation: Literal["along the field", "one direction, to be found", "any direction"] = param(
        "along the field",
        "Magnetisation",
        help="Rocks may keep one of their own: one direction for all is found with the strength; any direction gives each cell its own and smears",
    )
    noise: float = param(
        0.0,
        "Noise",
        unit="nT",
        low=0.0,
        help="0 estimates it from fourth differences along the lines and adds 1 nT for what cells can't show",
    )


class InvertMagnetics(sv.SolvingParams, MagneticReading):
    """Parameters of an inversion of magnetic readings."""


def main_field_at(item: Item, date: str, x: float, y: float, z: float) -> tuple[MainField, float]:
    """The main field at a survey's middle and its declination from grid north; a year alone is taken at its middle.

    Raises
    ------
    InputError
        When no date is given and the survey has none.
    """
    when = date or getattr(item, "date", "")
    if not when:
        raise InputError(
            "the date of the survey is not known", where=item.name, fix="Give it as 'date', such as 2024-05-17 or 2024"
        )
    lon, lat = to_lonlat(item.crs, x, y)
    field = main_field(float(lon), float(lat), z, f"{when}-07-01" if len(when) == 4 and when.isdigit() else when)
    return field, field.declination - grid_convergence(item.crs, x, y)


def flown_at(item: Item, p: MagneticReading, data: rd.Readings) -> list[tuple[np.ndarray, str]]:
    """Rows of the readings with their date, for each date that there is.

    Raises
    ------
    InputError
        When a row of the table names no line.
    """
    dates = np.full(len(data.line), p.date, dtype=object)
    lines = list(dict.fromkeys(data.line.tolist()))
    for row in p.flown:
        wanted = row.lines.strip()
        rows = np.isin(data.line, fnmatch.filter(lines, wanted))
        if not rows.any():
            some = ", ".join(lines[:8]) or "none"
            raise InputError(f"no line is called '{wanted}'", where=item.name, fix=f"Lines here: {some} …")
        dates[rows] = row.date.strip()
    return [(np.flatnonzero(dates == date), str(date)) for date in sorted(set(dates.tolist()))]


def _within_the_year(item: Item, date: str, x: float, y: float, z: float) -> str:
    """What the main field changes by within a year, where no more than that is known of the date; '' otherwise."""
    when = date or getattr(item, "date", "")
    if not (len(when) == 4 and when.isdigit()):
        return ""
    (first, begin), (last, end) = (main_field_at(item, f"{when}-{day}", x, y, z) for day in ("01-01", "12-31"))
    parts = (last.intensity - first.intensity, last.inclination - first.inclination, end - begin)
    return " (within {} it changes by {:.0f} nT, {:.2f}° and {:.2f}°)".format(when, *map(abs, parts))


def _magnetics(inputs: Inputs, p: InvertMagnetics, progress: Progress) -> dict[str, Item]:
    item = inputs["lines"]
    data = rd.read(inputs, "lines", p.attribute, p, p.cell)
    low = rd.above_ground(data, item.name, max(0.5 * p.cell_z, 2.0))
    cells = below(inputs, data, p)
    free = p.magnetisation != "along the field"
    values, sensed = data.values.copy(), []
    for rows, date in flown_at(item, p, data):
        field, declination = main_field_at(item, date, *data.obs[rows].mean(axis=0))
        values[rows] -= main_field_in(values[rows], field)
        here = (field.inclination, declination, field.intensity)
        sensed.append((rows, fields.magnetisation_fields(*here) if free else (fields.total_field(*here),)))
    noise = rd.noise_of(data, p.noise, p, 1.0, item.name, "nT")
    one = p.magnetisation.startswith("one")

    def model_of(model: np.ndarray, more: dict[str, np.ndarray] | None = None) -> BlockModel:
        properties, units = _magnetic_properties(cells, model, free, here)
        return BlockModel(
            name=sv.named(item, "Magnetisation" if free else "Susceptibility", p.name, main=True),
            crs=item.crs,
            mesh=cells.mesh,
            properties=properties | (more or {}),
            units=units | dict.fromkeys(more or {}, "%"),
            roles=sv.SEEN_ROLES if more else {},
        )

    lower = -np.inf if free else 0.0
    solved = sv.solve(inputs, p, data, values, noise, cells, sensed, lower, progress, one, model_of)
    result = solved.result
    model = replace(model_of(result.model, sv.beside(cells, solved)), course=sv.course_of(result))
    fit = SurveyLines(
        name=sv.named(item, "Fit", p.name),
        crs=item.crs,
        table=sv.fit_table(data, values, noise, result),
        units=dict.fromkeys(sv.FIT_COLUMNS, "nT"),
        roles=sv.FIT_ROLES,
        date=p.date or getattr(item, "date", ""),
    )
    rich = float(result.model.max()) > _RICH and not free
    more = [
        low,
        _way(result) if one else "",
        f"above {_RICH} SI bodies demagnetise themselves: true values are higher" if rich else "",
        solved.words,
    ]
    progress(
        1.0,
        sv.told(result, data, cells, more),
        iteration=len(result.history),
        misfit=result.chi2,
        target=p.target,
    )
    return {"model": model, "fit": fit}


def main_field_in(values: np.ndarray, field: MainField) -> float:
    """What is to be taken off readings: the main field of total-field readings, nothing of anomalies."""
    return field.intensity if float(np.median(values)) > 0.5 * field.intensity else 0.0


def _way(result: Inversion) -> str:
    east, north, up = result.model.reshape(3, -1).sum(axis=1)
    inclination, declination = np.degrees([np.arctan2(-up, np.hypot(east, north)), np.arctan2(east, north)])
    return f"magnetised towards {declination % 360.0:.0f}° from grid north, inclination {inclination:.0f}°"


def _magnetic_properties(
    cells: Cells, model: np.ndarray, free: bool, here: tuple[float, float, float]
) -> tuple[dict[str, np.ndarray], dict[str, str]]:
    if not free:
        return {"susceptibility": sv.boxed(cells, model)}, {"susceptibility": "SI"}
    east, north, up = model.reshape(3, -1)
    strength = np.sqrt(east**2 + north**2 + up**2)
    along = np.stack([east, north, up]).T @ field_direction(*here[:2])
    flat = np.hypot(east, north)
    out = {
        # As a susceptibility that would give it if it were induced.
        "magnetisation": strength,
        "inclination": np.degrees(np.arctan2(-up, flat)),
        "declination": np.degrees(np.arctan2(east, north)) % 360.0,
        "along_field": along,
        "across_field": np.sqrt(np.maximum(strength**2 - along**2, 0.0)),
    }
    units = {"magnetisation": "SI", "along_field": "SI", "across_field": "SI", "inclination": "°", "declination": "°"}
    return {n: sv.boxed(cells, v) for n, v in out.items()}, units


def _estimate_magnetics(inputs: Inputs, p: InvertMagnetics) -> Cost:
    data = rd.read(inputs, "lines", p.attribute, p, p.cell)
    cells = below(inputs, data, p)
    item = inputs["lines"]
    level = rd.told_noise(data, p.noise, p, item.name)
    more = f"noise {level:.3g} nT" if level else "noise estimated"
    if p.date or getattr(item, "date", "") or p.flown:
        for rows, date in flown_at(item, p, data):
            place = data.obs[rows].mean(axis=0)
            field, declination = main_field_at(item, date, *place)
            more += (
                f", main field {field.intensity:,.0f} nT, inclination {field.inclination:.1f}°,"
                f" {abs(declination):.1f}° {'west' if declination < 0 else 'east'} of grid north"
            )
            more += f" for {len(rows):,} readings of {date}" if p.flown and date else ""
            more += _within_the_year(item, date, *place)
    components = 1 if p.magnetisation == "along the field" else 3
    rounds = _ROUNDS[p.character] * (6 if p.magnetisation.startswith("one") else 1)
    rounds *= (8 if p.family == "six runs" else 1) + (4 if p.classes else 0)
    return cost(cells, data, components, rounds, more, p.elsewhere)


def suggested(inputs: Inputs, slot: str, quantity: str) -> str:
    """The attribute of an input that is likely meant, '' for none."""
    item = inputs.get(slot)
    found = [name for name, a in item.attributes.items() if a.quantity == quantity] if item is not None else []
    # An anomaly or a corrected reading, if there is one, is nearer to what is wanted than a raw one.
    words = ("anom", "resid", "level", "corr", "boug")
    found.sort(key=lambda name: not any(word in name.lower() for word in words))
    return found[0] if found else ""


def _suggest(inputs: Inputs, slot: str, quantity: str) -> dict[str, Any]:
    item = inputs.get(slot)
    if item is None:
        return {}
    found = suggested(inputs, slot, quantity)
    return proposed_cells(item, inputs.maybe("ground", Grid)) | ({"attribute": found} if found else {})


INVERT = Operation(
    name="invert-magnetics",
    example=Example(
        {"lines": "Airborne magnetics", "ground": "Ground"},
        {"attribute": "TMI_ANOM_nT", "cell": 200.0, "cell_z": 100.0, "depth": 800.0},
    ),
    title="Invert magnetics",
    area="Geophysics",
    help="Finds the susceptibility under the ground that explains the readings to within their noise, or the magnetisation where rocks may keep one of their own. The main field is that of the IGRF at the survey's place and date.",
    params=InvertMagnetics,
    run=_magnetics,
    reads=("lines",),
    inputs=(
        Input("lines", "Magnetic readings", ("lines", "points", "grid"), need=rd.may_measure("magnetic field")),
        *rd.SLOTS,
        *kn.SLOTS,
    ),
    outputs=(Output("model", "blocks", "Model"), Output("fit", "lines", "Predicted data and residual")),
    estimate=_estimate_magnetics,
    suggest=lambda inputs: _suggest(inputs, "lines", "magnetic field"),
)

Measured = Literal["gz", "xx", "xy", "xz", "yy", "yz", "zz"]


class GravityReading(Params):
    """What is read of a gravity survey; stands before the rest in forms."""

    attribute: str = param(
        "", "Reading", editor="attribute", of="stations", help="Bouguer anomaly, or a component of the gradient"
    )
    component: Measured = param(
        "gz",
        "It is",
        help="gz in mGal, or a component of the gradient in E with x east, y north and z down",
    )
    noise: float = param(0.0, "Noise", unit="mGal or E", low=0.0, help="0 takes 2 % of the range of the readings")


class InvertGravity(sv.SolvingParams, GravityReading):
    """Parameters of an inversion of gravity readings."""

    exponent: float = param(
        0.75,
        "Depth weighting",
        low=0.0,
        high=1.5,
        help="Power of the sensitivity weighting: higher puts sources deeper",
        more=True,
    )


def _gravity(inputs: Inputs, p: InvertGravity, progress: Progress) -> dict[str, Item]:
    item = inputs["stations"]
    data = rd.read(inputs, "stations", p.attribute, p, p.cell)
    low = rd.above_ground(data, item.name, max(p.cell_z, 5.0))
    cells = below(inputs, data, p)
    noise = rd.gravity_noise(data, p.noise, p, item.name)
    kind = gravity_kind(p.component)

    def model_of(model: np.ndarray, more: dict[str, np.ndarray] | None = None) -> BlockModel:
        return BlockModel(
            name=sv.named(item, "Density contrast", p.name, main=True),
            crs=item.crs,
            mesh=cells.mesh,
            properties={"density_contrast": sv.boxed(cells, model)} | (more or {}),
            units={"density_contrast": "g/cm³"} | dict.fromkeys(more or {}, "%"),
            roles=sv.SEEN_ROLES if more else {},
        )

    every = [(np.arange(len(data.values)), (kind,))]
    solved = sv.solve(inputs, p, data, data.values, noise, cells, every, -np.inf, progress, shown=model_of)
    result = solved.result
    model = replace(model_of(result.model, sv.beside(cells, solved)), course=sv.course_of(result))
    fit = PointSet(
        name=sv.named(item, "Fit", p.name),
        crs=item.crs,
        table=sv.fit_table(data, data.values, noise, result).drop(columns="line"),
        units=dict.fromkeys(sv.FIT_COLUMNS, kind.unit),
        roles=sv.FIT_ROLES,
        content="stations",
    )
    progress(
        1.0,
        sv.told(result, data, cells, [low, solved.words]),
        iteration=len(result.history),
        misfit=result.chi2,
        target=p.target,
    )
    return {"model": model, "fit": fit}


def gravity_kind(measured: Measured) -> fields.FieldKernel:
    """What is measured of a density in g/cm³."""
    kind = fields.vertical_gravity() if measured == "gz" else fields.gravity_gradient(_component(measured))
    return fields.FieldKernel(kind.tensor, 1000.0 * kind.scale, kind.unit)


def _component(measured: Measured) -> Component:
    assert measured != "gz"
    return measured


def _estimate_gravity(inputs: Inputs, p: InvertGravity) -> Cost:
    data = rd.read(inputs, "stations", p.attribute, p, p.cell)
    cells = below(inputs, data, p)
    level = rd.gravity_level(data, p.noise, p, inputs["stations"].name)
    unit = "mGal" if p.component == "gz" else "E"
    rounds = _ROUNDS[p.character] * ((8 if p.family == "six runs" else 1) + (4 if p.classes else 0))
    return cost(cells, data, 1, rounds, f"noise {level:.3g} {unit}", p.elsewhere)


INVERT_GRAVITY = Operation(
    name="invert-gravity",
    example=Example(
        {"stations": "Gravity stations", "ground": "Ground"},
        {"attribute": "Bouguer_mGal", "cell": 200.0, "cell_z": 50.0, "noise": 0.05},
    ),
    title="Invert gravity",
    area="Geophysics",
    help="Finds the density contrast under the ground that explains Bouguer anomalies or a component of the gravity gradient to within their noise. Contrasts may have both signs unless bounds are given.",
    params=InvertGravity,
    run=_gravity,
    reads=("stations",),
    inputs=(
        Input("stations", "Gravity readings", ("points", "lines", "grid"), need=rd.may_measure("gravity")),
        *rd.SLOTS,
        *kn.SLOTS,
    ),
    outputs=(Output("model", "blocks", "Density model"), Output("fit", "points", "Predicted data and residual")),
    estimate=_estimate_gravity,
    suggest=lambda inputs: _suggest(inputs, "stations", "gravity"),
)
