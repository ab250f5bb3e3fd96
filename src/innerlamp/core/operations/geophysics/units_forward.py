"""What units of rock would be measured as at stations, held against readings, and the properties that fit them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
import pandas as pd

from ... import limits
from ...compute.potential import fields
from ...declaring.operation import Example, Input, Inputs, Maybe, Operation, Output, Params, Row, param
from ...errors import InputError
from ...items.base import Item
from ...items.fields import BlockModel
from ...items.points import PointSet, SurveyLines
from ...progress import Progress
from .inversion import gravity_kind, main_field_at, main_field_in
from .known import FACTORS
from .units import rows_for, unit_words

if TYPE_CHECKING:
    from ...compute.potential.linear import Operator
    from ...geometry.mesh import Mesh

_MU0 = 4e-7 * np.pi  # V s / (A m)


class UnitProperties(Row):
    unit: str = param(..., "Unit", help="Its name or number in the model")
    value: float = param(..., "Density or susceptibility", help="g/cm³, or SI")
    lowest: Maybe = param(None, "Lowest", help="For the fit; held at the value where no bound is given")
    highest: Maybe = param(None, "Highest")
    remanence: Maybe = param(None, "Remanence (A/m)")
    inclination: Maybe = param(None, "Its inclination (°)", help="Positive down")
    declination: Maybe = param(None, "Its declination (°)", help="From grid north")


class UnitResponse(Params):
    measured: Literal["gz", "xx", "xy", "xz", "yy", "yz", "zz", "total field"] = param(
        "gz", "Measured", help="Gravity in mGal, a component of its gradient in E, or the total magnetic field in nT"
    )
    attribute: str = param("", "Property", editor="attribute", of="model", help="Numbers of units, or the values")
    units: tuple[UnitProperties, ...] = param(
        (), "Units", editor="table", help="Without rows the property itself is the density contrast or susceptibility"
    )
    background: float = param(2.67, "Background density", unit="g/cm³", help="What densities of units are held against")
    reading: str = param("", "Reading", editor="attribute", of="stations", help="None: only what is worked out")
    values: Literal["as given", "fitted"] = param(
        "as given", "Values are", help="Fitted by least squares within the bounds of the table"
    )
    shift: Literal["none", "fixed", "constant", "plane"] = param(
        "constant", "Shift", help="Between readings and model: fixed as below, or solved for"
    )
    fixed_shift: float = param(0.0, "Fixed shift", unit="its own", more=True)
    date: str = param("", "Date of survey", editor="date", help="Of magnetics, for the main field", more=True)
    name: str = param("", "Name")


@dataclass(frozen=True)
class _Responses:
    """What a value of 1 of each unit is measured as (n, u), and what does not change (n,), such as remanence."""

    each: np.ndarray
    fixed: np.ndarray
    numbers: list[np.ndarray]  # cells of each unit


def _operator(mesh: Mesh, obs: np.ndarray, kinds: tuple[fields.FieldKernel, ...], active: np.ndarray) -> Operator:
    """From cells to readings: by FFT where the plan is even, else the matrix."""
    from ...compute.potential import prisms
    from ...compute.potential.lattice import Lattice
    from ...compute.potential.linear import Dense

    if mesh.even_plan is not None:
        return Lattice(mesh, obs, kinds, active)
    limits.afford(
        float(len(obs)) * len(kinds) * active.sum(), 8.0, "values of the kernel", "Take a model of even columns"
    )
    cells = np.flatnonzero(active)
    return Dense(np.hstack([prisms.kernel_matrix(mesh, obs, kind)[:, cells] for kind in kinds]))


def _responses(model: BlockModel, item: Item, obs: np.ndarray, p: UnitResponse, progress: Progress) -> _Responses:
    name = p.attribute or next(iter(model.properties))
    if name not in model.properties:
        raise InputError(f"there is no property '{name}'", where=model.name)
    values = model.properties[name]
    present = np.isfinite(values)
    magnetic = p.measured == "total field"
    progress(0.1, "Kernel")
    if p.measured == "total field":
        field, declination = main_field_at(item, p.date, *obs.mean(axis=0))
        here = (field.inclination, declination, field.intensity)
        inside = np.stack(model.mesh.find(*obs.T), axis=1)
        within = (inside[:, 0] >= 0) & present[tuple(np.maximum(inside, 0).T)]
        if within.any():
            raise InputError(
                f"{int(within.sum()):,} readings lie within the model's cells, where no closed form holds",
                where=model.name,
                fix="Take a model that ends below the sensors",
            )
        remanent = any(row.remanence for row in p.units)
        kinds = fields.magnetisation_fields(*here) if remanent else (fields.total_field(*here),)
    else:
        kinds = (gravity_kind(p.measured),)
    kernel = _operator(model.mesh, obs, kinds, present.ravel())
    progress(0.6, "Units")

    def of(weights: np.ndarray, way: np.ndarray | None) -> np.ndarray:
        if len(kinds) == 1:
            return kernel.apply(weights)
        assert way is not None
        return kernel.apply((way[:, None] * weights[None, :]).ravel())

    along = fields.field_direction(*here[:2]) if magnetic else None
    if not p.units:
        factor = FACTORS.get(model.units.get(name, ""), 1.0)
        return _Responses(of(values[present] * factor, along)[:, None], np.zeros(len(obs)), [present])
    words = unit_words(model, name, values[present])
    rows = rows_for(words, [row.unit.strip() for row in p.units], model.name)
    each = np.column_stack([of(r.astype(float), along) for r in rows])
    fixed = np.zeros(len(obs))
    for row, cells in zip(p.units, rows, strict=True):
        if magnetic and row.remanence:
            if row.inclination is None or row.declination is None:
                raise InputError(f"the remanence of unit '{row.unit}' has no direction", fix="Give both angles")
            # Magnetisation in units of the main field's own strength, as the kernel takes it.
            size = row.remanence * _MU0 / (here[2] * 1e-9)
            fixed += size * of(cells.astype(float), fields.field_direction(row.inclination, row.declination))
    numbers = []
    for cells in rows:
        box = np.zeros(values.shape, dtype=bool)
        box[present] = cells
        numbers.append(box)
    return _Responses(each, fixed, numbers)


def _bounds(p: UnitResponse, off: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values, lowest and highest of the units, less the background; without bounds both are the value."""
    if not p.units:
        return np.ones(1), np.ones(1), np.ones(1)
    given = np.array([row.value for row in p.units])
    low = np.array(
        [row.value if row.lowest is None and row.highest is None else _or(row.lowest, -np.inf) for row in p.units]
    )
    high = np.array(
        [row.value if row.lowest is None and row.highest is None else _or(row.highest, np.inf) for row in p.units]
    )
    return given - off, low - off, high - off


def _or(value: float | None, other: float) -> float:
    return other if value is None else value


def _run(inputs: Inputs, p: UnitResponse, progress: Progress) -> dict[str, Item]:
    from ...compute.potential.unit_fit import fit_units, shift_columns

    model, stations = inputs.need("model", BlockModel), inputs.need("stations", PointSet, SurveyLines)
    if p.values == "fitted" and not (p.reading and p.units):
        raise InputError("a fit needs readings and a table of units with bounds")
    table = stations.table
    obs = table[["x", "y", "z"]].to_numpy(float)
    data = pd.to_numeric(table[p.reading], errors="coerce").to_numpy(float) if p.reading else np.zeros(len(obs))
    good = np.isfinite(obs).all(axis=1) & np.isfinite(data)
    if good.sum() < 3:
        raise InputError(f"{int(good.sum())} stations have a place, an elevation and a reading", where=stations.name)
    obs, data = obs[good], data[good]
    magnetic = p.measured == "total field"
    if magnetic and p.reading:
        data = data - main_field_in(data, main_field_at(stations, p.date, *obs.mean(axis=0))[0])
    made = _responses(model, stations, obs, p, progress)
    off = 0.0 if magnetic or not p.units else p.background
    values, low, high = _bounds(p, off)
    columns = shift_columns("none" if p.shift == "fixed" or not p.reading else p.shift, obs)
    fixed = made.fixed + (p.fixed_shift if p.shift == "fixed" else 0.0)
    told = fit_units(made.each, data - fixed, *((low, high) if p.values == "fitted" else (values, values)), columns)
    computed = made.each @ told.values + made.fixed
    shift = told.shift + (p.fixed_shift if p.shift == "fixed" else 0.0)
    unit = "nT" if magnetic else "mGal" if p.measured == "gz" else "E"
    out = table[good].reset_index(drop=True).assign(computed=computed)
    units = {**stations.units, "computed": unit}
    words = []
    if p.reading:
        out = out.assign(shift=shift, residual=data - computed - shift)
        units |= {"shift": unit, "residual": unit}
        words.append(f"residual {float(np.sqrt(np.mean(out['residual'] ** 2))):.3g} {unit} (root mean square)")
    if p.values == "fitted":
        words += [
            f"{row.unit} {value + off:.4g}" + (f" ± {error:.2g}" if np.isfinite(error) else " (at a bound or held)")
            for row, value, error in zip(p.units, told.values, told.errors, strict=True)
        ]
    result: dict[str, Item] = {
        "stations": PointSet(
            name=p.name or f"{model.name} at {stations.name}",
            crs=stations.crs,
            table=out,
            units=units,
            quantities=dict(stations.quantities),
            roles={**stations.roles, **{n: n for n in ("residual",) if n in out}},
            content="stations",
        )
    }
    if p.units:
        # What the table does not name has the background: a unit of density 0, such as a void, is one that it names.
        filled = np.where(np.isfinite(model.properties[p.attribute or next(iter(model.properties))]), off, np.nan)
        for cells, value in zip(made.numbers, told.values, strict=True):
            filled[cells] = value + off
        kind = "susceptibility" if magnetic else "density"
        result["model"] = BlockModel(
            name=f"{kind.capitalize()} of {model.name}",
            crs=model.crs,
            mesh=model.mesh,
            properties={kind: filled},
            units={kind: "SI" if magnetic else "g/cm³"},
        )
    progress(1.0, "; ".join(words) or "Worked out")
    return result


UNITS_FORWARD = Operation(
    name="response-of-units",
    example=Example(
        {"model": "Susceptibility of Airborne magnetics", "stations": "Gravity stations"},
        {"attribute": "susceptibility", "measured": "gz", "reading": "Bouguer_mGal"},
    ),
    title="Gravity or magnetics of units",
    area="Geophysics",
    help="Works out what the units of a block model would be measured as with the densities or susceptibilities of a table, remanence included, and holds it against readings. A shift is fixed or solved for; values within bounds can be fitted.",
    params=UnitResponse,
    run=_run,
    reads=("stations",),
    inputs=(
        Input("model", "Block model", ("blocks",)),
        Input("stations", "Stations or lines", ("points", "lines")),
    ),
    outputs=(
        Output("stations", "points", "What is worked out, and the residual"),
        Output("model", "blocks", "Model with the values"),
    ),
)
