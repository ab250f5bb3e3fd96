"""Gravity and magnetics inverted together on the same cells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ...compute.potential import fields
from ...declaring.operation import Cost, Example, Input, Inputs, Maybe, Operation, Output, Params, Row, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel, Grid
from ...items.points import PointSet, SurveyLines
from ...progress import Progress
from . import known as kn
from . import readings as rd
from . import solving as sv
from .cells import Cells, below, cost, fits, proposed_cells
from .inversion import gravity_kind, main_field_at, main_field_in, suggested

if TYPE_CHECKING:
    from ...compute.potential.inversion import Constraints, Inversion


class RockPair(Row):
    susceptibility: float = param(..., "Susceptibility", unit="SI")
    density: float = param(..., "Density", unit="g/cm³", help="Less the background, where one is given")


class UnitPair(Row):
    unit: str = param(..., "Unit", help="Its number or name, or 'cover' for what lies above the base of cover")
    susceptibility: Maybe = param(None, "Susceptibility", unit="SI")
    density: Maybe = param(None, "Density", unit="g/cm³", help="Less the background, where one is given")
    trust: Maybe = param(None, "Trust", help="Weight of departures from both; 1 when empty")


class BothReadings(Params):
    """What is read of both surveys; stands before the rest in forms."""

    magnetic_reading: str = param("", "Magnetic reading", editor="attribute", of="lines", help="Total-field anomaly")
    gravity_reading: str = param(
        "", "Gravity reading", editor="attribute", of="stations", help="Bouguer anomaly in mGal"
    )
    date: str = param(
        "", "Date of survey", editor="date", help="Of the magnetic one, for the main field; a year is enough"
    )
    magnetic_noise: float = param(
        0.0, "Magnetic noise", unit="nT", low=0.0, help="0 estimates it along the lines and adds 1 nT"
    )
    gravity_noise: float = param(0.0, "Gravity noise", unit="mGal", low=0.0, help="0 takes 2 % of the range")
    coupling_weight: float = param(
        3.0,
        "Coupling weight",
        low=0.0,
        high=1e4,
        help="0 inverts each alone; more makes both change in the same places",
    )
    gravity_exponent: float = param(
        0.75, "Depth weighting of density", low=0.0, high=1.5, help="That of susceptibility stands below", more=True
    )
    measured_susceptibility: str = param(
        "",
        "Susceptibility in holes",
        editor="attribute",
        of="holes",
        help="Measured on core or down the hole",
        more=True,
    )
    measured_density: str = param(
        "", "Density in holes", editor="attribute", of="holes", help="The background is taken off", more=True
    )
    shared_units: tuple[UnitPair, ...] = param(
        (), "Known of both by unit", editor="table", help="What is expected of each unit", more=True
    )
    rocks: tuple[RockPair, ...] = param(
        (),
        "Rock classes of both",
        editor="table",
        help="Cells are drawn to the pair that they are nearest to; the background, such as 0 and 0, is a class as well",
        more=True,
    )


class InvertTogether(sv.SolvingParams, BothReadings):
    """Parameters of a joint inversion."""


def _read(inputs: Inputs, p: InvertTogether) -> tuple[rd.Readings, rd.Readings, rd.Readings]:
    """Magnetic readings, gravity readings, and all of them for the cells below."""
    one = rd.read(inputs, "lines", p.magnetic_reading, p, p.cell)
    two = rd.read(inputs, "stations", p.gravity_reading, p, p.cell)
    if inputs["lines"].crs != inputs["stations"].crs:
        raise InputError("the surveys have different coordinate systems", where=inputs["stations"].name)
    west, south = np.maximum(one.obs[:, :2].min(axis=0), two.obs[:, :2].min(axis=0))
    east, north = np.minimum(one.obs[:, :2].max(axis=0), two.obs[:, :2].max(axis=0))
    if west >= east or south >= north:
        raise InputError("the surveys do not lie over each other", where=inputs["stations"].name)
    both = rd.Readings(
        np.vstack([one.obs, two.obs]),
        np.concatenate([one.values, two.values]),
        np.concatenate([one.line, two.line]),
        np.concatenate([one.ground, two.ground]),
        (*one.words, *two.words),
    )
    return one, two, both


def _run(inputs: Inputs, p: InvertTogether, progress: Progress) -> dict[str, Item]:
    from contextlib import ExitStack

    from threadpoolctl import threadpool_limits

    from ...compute.potential import classes, inversion, meshing
    from ...compute.potential.joint import Survey, invert_together

    if p.family != "one run" or p.character != "smooth" or "start" in inputs or p.units or p.classes or p.measured:
        raise InputError(
            "surveys inverted together are smooth, one run, and know units, classes and holes by both properties",
            fix="Leave family, character, start and what is known of one property as they are, or invert each alone",
        )
    lines, stations = inputs["lines"], inputs["stations"]
    one, two, both = _read(inputs, p)
    words = [
        rd.above_ground(one, lines.name, max(0.5 * p.cell_z, 2.0)),
        rd.above_ground(two, stations.name, max(p.cell_z, 5.0)),
    ]
    cells = below(inputs, both, p)
    fits(cells, both, 2, p.elsewhere)
    active = cells.active.ravel()
    field, declination = main_field_at(lines, p.date, *one.obs.mean(axis=0))
    magnetic = one.values - main_field_in(one.values, field)
    told = _known(inputs, p, cells)
    with threadpool_limits(2), ExitStack() as held:
        surveys = []
        for data, values, noise, kind, exponent, known in (
            (
                one,
                magnetic,
                rd.noise_of(one, p.magnetic_noise, p, 1.0, lines.name, "nT"),
                fields.total_field(field.inclination, declination, field.intensity),
                p.exponent,
                told[0],
            ),
            (
                two,
                two.values,
                rd.gravity_noise(two, p.gravity_noise, p, stations.name),
                gravity_kind("gz"),
                p.gravity_exponent,
                told[1],
            ),
        ):
            every = [(np.arange(len(values)), (kind,))]
            kernel = sv.kernel_of(p, data, cells, every, held, progress.part(0.0, 0.1))
            even = meshing.evened_sensitivity(
                cells.mesh, cells.active, kernel.column_norms(), data.obs, not kind.is_gravity
            )
            settings = inversion.Settings(p.smoothness or p.cell, exponent, p.target, max_iterations=p.iterations)
            held_by = replace(known, weigh_by=even)
            surveys.append(Survey(kernel, values, noise, settings, held_by, sv.trend_of(p.trend, data.obs)))
        share = 0.4 if p.rocks else 0.98
        found = invert_together(surveys, cells.mesh, active, p.coupling_weight, progress=progress.part(0.1, share))
        if p.rocks and not progress.enough:

            def again(told: Sequence[Constraints], number: int) -> list[Inversion]:
                part = progress.part(0.4 + 0.145 * number, 0.4 + 0.145 * (number + 1))
                now = [replace(s, known=k) for s, k in zip(surveys, told, strict=True)]
                return invert_together(now, cells.mesh, active, p.coupling_weight, progress=part)

            found = classes.guided(again, [s.known for s in surveys], found, _centres(p), p.pull)
    properties = {
        "susceptibility": sv.boxed(cells, found[0].model),
        "density_contrast": sv.boxed(cells, found[1].model),
        f"magnetic_{sv.SEEN}": sv.seen(cells, found[0]),
        f"gravity_{sv.SEEN}": sv.seen(cells, found[1]),
    }
    units = {"susceptibility": "SI", "density_contrast": "g/cm³", f"magnetic_{sv.SEEN}": "%", f"gravity_{sv.SEEN}": "%"}
    model = BlockModel(
        name=p.name.strip() or f"Model of {lines.name} and {stations.name}",
        crs=lines.crs,
        mesh=cells.mesh,
        properties=properties,
        units=units,
        course=sv.course_of(found[0]),
        roles={f"{survey}_{sv.SEEN}": sv.SEEN for survey in ("magnetic", "gravity")},
    )
    fit = SurveyLines(
        name=sv.named(lines, "Joint fit"),
        crs=lines.crs,
        table=sv.fit_table(one, magnetic, surveys[0].noise, found[0]),
        units=dict.fromkeys(sv.FIT_COLUMNS, "nT"),
        roles=sv.FIT_ROLES,
        date=p.date or getattr(lines, "date", ""),
    )
    gravity_fit = PointSet(
        name=sv.named(stations, "Joint fit"),
        crs=stations.crs,
        table=sv.fit_table(two, two.values, surveys[1].noise, found[1]).drop(columns="line"),
        units=dict.fromkeys(sv.FIT_COLUMNS, "mGal"),
        roles=sv.FIT_ROLES,
        content="stations",
    )
    reached = all(result.reached for result in found)
    likeness = _likeness(found[0].model, found[1].model)
    said = [
        f"Misfit {found[0].chi2:.2f} and {found[1].chi2:.2f}, target {'reached' if reached else 'not reached'}",
        f"correlation of susceptibility with density {likeness:.2f}",
        *both.words,
        *(w for w in words if w),
    ]
    worst = max(result.chi2 for result in found)
    progress(1.0, "; ".join(said), iteration=len(found[0].history), misfit=worst, target=p.target)
    return {"model": model, "fit": fit, "gravity_fit": gravity_fit}


def _known(inputs: Inputs, p: InvertTogether, cells: Cells) -> tuple[Constraints, Constraints]:
    """What is known of the susceptibility and of the density."""
    magnetic = [kn.UnitKnown(unit=r.unit, value=r.susceptibility, trust=r.trust) for r in p.shared_units]
    dense = [kn.UnitKnown(unit=r.unit, value=r.density, trust=r.trust) for r in p.shared_units]
    if "holes" in inputs and not (p.measured_susceptibility or p.measured_density):
        raise InputError("no measured property is chosen", where=inputs["holes"].name, fix="Name one of the holes")
    out = []
    for units, measured, lower, more in (
        (magnetic, p.measured_susceptibility, 0.0, {"background": 0.0}),
        (dense, p.measured_density, -np.inf, {"lower": None, "upper": None}),
    ):
        told = {slot: item for slot, item in inputs.items() if slot != "holes" or measured}
        one = p.model_copy(update={"units": tuple(units), "measured": measured, **more})
        out.append(kn.known_of(Inputs(told, inputs.crs, inputs.area), one, cells, 1, lower, p.cell))
    return out[0], out[1]


def _centres(p: InvertTogether) -> np.ndarray:
    """Pairs (classes, 2) of the rock classes."""
    pairs = {(row.susceptibility, row.density - p.background) for row in p.rocks}
    if len(pairs) < 2:
        raise InputError(
            "at least two different rock classes are needed", fix="The background, 0 and 0, is one of them"
        )
    return np.array(sorted(pairs))


def _likeness(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.corrcoef(a, b)[0, 1]) if np.ptp(a) > 0 and np.ptp(b) > 0 else 0.0


def _estimate(inputs: Inputs, p: InvertTogether) -> Cost:
    one, two, both = _read(inputs, p)
    cells = below(inputs, both, p)
    rounds = 160 * (5 if p.rocks else 1)
    return cost(cells, both, 2, rounds, f"{len(one.obs):,} magnetic and {len(two.obs):,} of gravity", p.elsewhere)


def _suggest(inputs: Inputs) -> dict[str, str | float]:
    lines, ground = inputs.get("lines"), inputs.maybe("ground", Grid)
    sizes = proposed_cells(lines, ground) if lines is not None else {}
    stations = inputs.get("stations")
    for name, size in (proposed_cells(stations, ground) if stations is not None else {}).items():
        sizes[name] = max(size, sizes.get(name, 0.0))
    first, second = suggested(inputs, "lines", "magnetic field"), suggested(inputs, "stations", "gravity")
    return sizes | ({"magnetic_reading": first} if first else {}) | ({"gravity_reading": second} if second else {})


TOGETHER = Operation(
    name="invert-together",
    example=Example(
        {"lines": "Airborne magnetics", "stations": "Gravity stations", "ground": "Ground"},
        {
            "magnetic_reading": "TMI_ANOM_nT",
            "gravity_reading": "Bouguer_mGal",
            "cell": 250.0,
            "cell_z": 100.0,
            "gravity_noise": 0.05,
        },
    ),
    title="Invert gravity and magnetics together",
    area="Geophysics",
    help="Finds a susceptibility and a density contrast on the same cells, each of which explains its own readings, and which change in the same places as far as the readings let them. Where the rocks of one survey are not those of the other, take each alone.",
    params=InvertTogether,
    run=_run,
    reads=("lines", "stations"),
    inputs=(
        Input("lines", "Magnetic readings", ("lines", "points", "grid"), need=rd.may_measure("magnetic field")),
        Input("stations", "Gravity readings", ("points", "lines", "grid"), need=rd.may_measure("gravity")),
        *rd.SLOTS,
        *kn.SLOTS,
    ),
    outputs=(
        Output("model", "blocks", "Model"),
        Output("fit", "lines", "Magnetic fit"),
        Output("gravity_fit", "points", "Gravity fit"),
    ),
    estimate=_estimate,
    suggest=_suggest,
)
