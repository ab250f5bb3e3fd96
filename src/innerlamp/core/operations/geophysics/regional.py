"""The regional of a survey, shown beside what is left: a polynomial, or what lies around and below the area of a wider inversion."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ...compute.potential import fields, meshing
from ...declaring.operation import Cost, Example, Input, Inputs, Operation, Output, param
from ...errors import InputError
from ...items.attributes import measuring
from ...items.base import Item
from ...items.fields import Grid
from ...items.points import SurveyLines
from ...progress import Progress
from . import readings as rd
from . import solving as sv
from .cells import Cells, InversionParams, below, cost, fits, proposed_cells
from .inversion import gravity_kind, main_field_at, main_field_in, suggested

Way = Literal["a wider inversion", "constant", "plane", "second degree", "third degree"]
_COARSE = 25_000  # cells of the wider inversion at most, about
_SLOTS = (
    Input("survey", "Readings", ("lines", "points", "grid")),
    *rd.SLOTS,
)


class RegionalParams(InversionParams):
    """Parameters of a regional: those of the cells are of the inversion that is to follow."""

    attribute: str = param("", "Reading", editor="attribute", of="survey")
    way: Way = param(
        "a wider inversion",
        "Regional is",
        help="What rock around and below the area gives, found by a coarse inversion of all readings; or a polynomial",
    )
    deeper: float = param(
        2.0, "The wider one reaches", unit="times as deep", low=1.0, high=10.0, help="Than the model to come", more=True
    )
    date: str = param("", "Date of survey", editor="date", help="Of magnetics, for the main field", more=True)


def _magnetic(inputs: Inputs, p: RegionalParams) -> bool:
    attributes = inputs["survey"].attributes
    chosen = attributes.get(p.attribute)
    if chosen is not None and chosen.quantity:
        return chosen.quantity == "magnetic field"
    return bool(measuring(attributes, "magnetic field"))


def _wider(inputs: Inputs, p: RegionalParams, data: rd.Readings, inner: Cells) -> tuple[Inputs, RegionalParams]:
    """Inputs without the area, and coarse cells for all readings."""
    whole = Inputs({slot: item for slot, item in inputs.items() if slot != "area"}, inputs.crs, inputs.area)
    west, east, south, north = inputs["survey"].bounds[:4]
    depth = p.deeper * p.depth
    times = max(2.0, (((east - west) * (north - south) * depth) / (_COARSE * p.cell**2 * p.cell_z)) ** (1.0 / 3.0))
    return whole, p.model_copy(
        update={
            "outline": (),
            "cell": times * p.cell,
            "cell_z": times * p.cell_z,
            "depth": depth,
            "spacing": max(times * p.cell, p.spacing),
            "padding": 6,
            "growth": max(p.growth, 1.1),
        }
    )


def _run(inputs: Inputs, p: RegionalParams, progress: Progress) -> dict[str, Item]:
    item = inputs["survey"]
    magnetic = _magnetic(inputs, p)
    every = p.model_copy(update={"spacing": 1e-3, "thinning": "nearest to the middle", "each": 1})
    data = rd.read(inputs, "survey", p.attribute, every, p.cell)
    values = data.values
    unit = item.attributes[p.attribute].unit if p.attribute in item.attributes else ""
    if magnetic:
        field, declination = main_field_at(item, p.date, *data.obs.mean(axis=0))
        values = values - main_field_in(values, field)
        kind = fields.total_field(field.inclination, declination, field.intensity)
    else:
        kind = gravity_kind("gz")
    words = list(data.words)
    if p.way == "a wider inversion":
        regional, said = _from_around(inputs, p, data, kind, magnetic, progress)
        words.insert(0, said)
    else:
        columns = sv.trend_of(p.way, data.obs)
        assert columns is not None
        regional = columns @ _robust(columns, values)
    residual = values - regional
    table = pd.DataFrame(
        {
            "line": np.where(data.line == "", "1", data.line),
            "x": data.obs[:, 0],
            "y": data.obs[:, 1],
            "z": data.obs[:, 2],
            "observed": values,
            "regional": regional,
            "residual": residual,
        }
    )
    quantity = "magnetic field" if magnetic else "gravity"
    result = SurveyLines(
        name=sv.named(item, "Regional"),
        crs=item.crs,
        table=table,
        units=dict.fromkeys(("observed", "regional", "residual"), unit),
        quantities=dict.fromkeys(("observed", "regional", "residual"), quantity),
        date=p.date or getattr(item, "date", ""),
    )
    words.insert(0, f"The regional takes off {np.ptp(regional):.3g} {unit} of {np.ptp(values):.3g} {unit}".rstrip())
    progress(1.0, "; ".join(words))
    return {"regional": result}


def _robust(columns: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Coefficients by least absolute deviations, reweighted: anomalies do not pull a regional towards them."""
    weight = np.ones(len(values))
    found: np.ndarray = np.zeros(columns.shape[1])
    for _ in range(30):
        found, *_ = np.linalg.lstsq(columns * weight[:, None], values * weight, rcond=None)
        away = np.abs(values - columns @ found)
        usual = max(1.4826 * float(np.median(away)), 1e-12)
        weight = 1.0 / np.sqrt(np.maximum(away, 0.1 * usual))
    return np.asarray(found)


def _from_around(
    inputs: Inputs,
    p: RegionalParams,
    data: rd.Readings,
    kind: fields.FieldKernel,
    magnetic: bool,
    progress: Progress,
) -> tuple[np.ndarray, str]:
    """What the cells of a wider, coarse inversion outside of the model to come give at its readings, with its level."""
    from threadpoolctl import threadpool_limits

    from ...compute.potential import inversion
    from ...compute.potential.lattice import Lattice

    item = inputs["survey"]
    inner = below(inputs, data, p)
    whole, coarse = _wider(inputs, p, data, inner)
    around = rd.read(whole, "survey", p.attribute, coarse, coarse.cell)
    # All sensors lie above the coarse cells as well, those that were thinned away included.
    both = rd.Readings(
        np.vstack([around.obs, data.obs]),
        np.concatenate([around.values, data.values]),
        np.concatenate([around.line, data.line]),
        np.concatenate([around.ground, data.ground]),
        (),
    )
    cells = below(whole, both, coarse)
    fits(cells, both, 1)
    values = around.values
    if magnetic:
        values = values - main_field_in(values, main_field_at(item, p.date, *around.obs.mean(axis=0))[0])
    noise = np.full(len(values), max(0.02 * float(np.ptp(np.percentile(values, [2, 98]))), 1e-9))
    active = cells.active.ravel()
    with threadpool_limits(2):
        kernel = Lattice(cells.mesh, around.obs, [kind], active, progress=progress.part(0.0, 0.2))
        even = meshing.evened_sensitivity(cells.mesh, cells.active, kernel.column_norms(), around.obs, magnetic)
        settings = inversion.Settings(coarse.cell, 0.45 if magnetic else 0.75)
        known = inversion.Constraints(lower=0.0 if magnetic else -np.inf, weigh_by=even)
        columns = sv.trend_of("plane", both.obs)
        assert columns is not None
        found = inversion.invert(
            kernel,
            values,
            noise,
            cells.mesh,
            active,
            settings,
            known,
            trend=columns[: len(values)],
            progress=progress.part(0.2, 0.9),
        )
        places = cells.mesh.centres()[active]
        within, _ = inner.mesh.columns(places[:, 0], places[:, 1])
        outside = (within < 0) | (places[:, 2] < inner.mesh.bounds[4])
        if not outside.any():
            raise InputError(
                "nothing lies around or below the model to come", where=item.name, fix="Give an area, or less depth"
            )
        rest = Lattice(cells.mesh, data.obs, [kind], active).apply(np.where(outside, found.model, 0.0))
    level, *_ = np.linalg.lstsq(columns[: len(values)], found.regional, rcond=None)
    regional = rest + columns[len(values) :] @ level
    return regional, f"a wider inversion of {len(values):,} readings and {cells.count:,} cells, misfit {found.chi2:.2f}"


def _estimate(inputs: Inputs, p: RegionalParams) -> Cost:
    data = rd.read(inputs, "survey", p.attribute, p, p.cell)
    inner = below(inputs, data, p)
    if p.way != "a wider inversion":
        return Cost(f"{len(data.all_values):,} readings", 200.0, 1.0, data.words)
    whole, coarse = _wider(inputs, p, data, inner)
    around = rd.read(whole, "survey", p.attribute, coarse, coarse.cell)
    told = cost(below(whole, around, coarse), around, 1, 120, f"in cells of {coarse.cell:,.0f} m")
    return Cost(told.text, told.megabytes, told.seconds, data.words, cost(inner, data, 1, 1, "").sketch)


def _suggest(inputs: Inputs) -> dict[str, str | float]:
    item = inputs.get("survey")
    if item is None:
        return {}
    quantity = "magnetic field" if measuring(item.attributes, "magnetic field") else "gravity"
    found = suggested(inputs, "survey", quantity)
    return proposed_cells(item, inputs.maybe("ground", Grid)) | ({"attribute": found} if found else {})


OPERATION = Operation(
    name="regional-of-survey",
    example=Example(
        {"survey": "Gravity stations", "ground": "Ground"},
        {"attribute": "Bouguer_mGal", "way": "plane", "cell": 200.0, "cell_z": 50.0},
    ),
    title="Regional of a survey",
    area="Geophysics",
    help="Works out the regional at each reading and what is left without it, so that both can be looked at before anything is taken off: what is local in the regional is signal lost. Invert the residual of the result; it follows when the regional is changed.",
    params=RegionalParams,
    run=_run,
    reads=("survey",),
    inputs=_SLOTS,
    outputs=(Output("regional", "lines", "Observed, regional and residual"),),
    estimate=_estimate,
    suggest=_suggest,
)
