"""Work on grids: filters of potential fields, regional and residual, calculating with grids."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from ...compute.expression import columns_used, evaluate
from ...compute.geometry.sampling import bilinear
from ...declaring.operation import Cost, Example, Input, Inputs, Maybe, Operation, Output, Params, param
from ...errors import InputError
from ...items.attributes import AnyQuantity
from ...items.base import Item
from ...items.fields import Grid
from ...progress import Progress
from .sampling import GRID, cells_cost, same_system

Filter = Literal[
    "vertical derivative",
    "horizontal gradient",
    "total gradient",
    "tilt angle",
    "continuation",
    "reduction to the pole",
    "pseudo-gravity",
    "band-pass",
]


class FilterGrid(Params):
    filter: Filter = param("vertical derivative", "Filter")
    height: float = param(100.0, "Continue by", unit="m", help="Up for positive, down for negative; for continuation")
    inclination: Maybe = param(
        None,
        "Inclination",
        unit="°",
        low=-90.0,
        high=90.0,
        help="Of the main field, positive down, negative in the south; for reduction to the pole and pseudo-gravity where no date is given",
    )
    declination: Maybe = param(None, "Declination", unit="°", low=-180.0, high=180.0, help="From grid north")
    date: str = param(
        "",
        "Date of the survey",
        editor="date",
        help="Takes inclination and declination from the geomagnetic field (IGRF) at the middle of the grid",
    )
    shortest: float = param(
        0.0, "Shortest wavelength", unit="m", low=0.0, help="For band-pass; 0 keeps all short ones", more=True
    )
    longest: float = param(
        0.0, "Longest wavelength", unit="m", low=0.0, help="For band-pass; 0 keeps all long ones", more=True
    )
    ratio: float = param(
        1000.0, "Density by magnetisation", above=0.0, help="kg/m³ for each A/m; for pseudo-gravity", more=True
    )
    name: str = param("", "Name", help="Filter and grid when empty")


class Regional(Params):
    by: Literal["polynomial", "upward continuation"] = param("polynomial", "Regional by")
    order: int = param(1, "Order", low=0, high=6, help="Of the polynomial: 1 is a plane")
    height: float = param(1000.0, "Height", unit="m", above=0.0, help="Of the continuation")


class Calculate(Params):
    expression: str = param(
        ...,
        "Expression",
        help="Over the grids a, b and c, such as a + 150 or where(b > 300, a, 0). The result lies on the cells of a",
    )
    attribute: str = param("", "Values are", help="What the result is; that of a when empty")
    unit: str = param("", "Unit of the result")
    quantity: AnyQuantity = param(
        "auto", "Quantity of the result", help="What it measures; auto goes by its unit", more=True
    )
    name: str = param("", "Name", help="The expression when empty")


def main_field_of(grid: Grid, date: str) -> tuple[float, float]:
    """Return inclination and declination from grid north (degrees) at the middle of a grid."""
    from ...compute.potential.mainfield import main_field
    from ...crs import grid_convergence, to_lonlat

    west, east, south, north, _, _ = grid.bounds
    x, y = 0.5 * (west + east), 0.5 * (south + north)
    lon, lat = to_lonlat(grid.crs, x, y)
    field = main_field(float(lon), float(lat), 300.0, date)
    return field.inclination, field.declination - grid_convergence(grid.crs, x, y)


def _direction(grid: Grid, p: FilterGrid) -> tuple[float, float]:
    """Return inclination and declination (from grid north) by the date, else as given; (90, 0) for filters without one.

    Raises
    ------
    InputError
        When a filter needs them and they are not known: no hemisphere is assumed.
    """
    if p.filter not in ("reduction to the pole", "pseudo-gravity"):
        return 90.0, 0.0
    if p.date:
        return main_field_of(grid, p.date)
    if p.inclination is None or p.declination is None:
        raise InputError(
            "the direction of the main field is not known",
            where=grid.name,
            fix="Give the date of the survey, or inclination and declination",
        )
    return p.inclination, p.declination


def _run_filter(inputs: Inputs, p: FilterGrid, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import filters as fl

    grid = inputs.need("grid", Grid)
    progress(0.1, p.filter.capitalize())
    v, dx, dy, unit = grid.values, grid.dx, grid.dy, grid.unit
    inclination, declination = _direction(grid, p)
    per_metre = f"{unit}/m" if unit else "1/m"
    made: dict[str, tuple[Any, str]] = {
        "vertical derivative": (lambda: fl.derivatives(v, dx, dy)[2], per_metre),
        "horizontal gradient": (lambda: fl.horizontal_gradient(v, dx, dy), per_metre),
        "total gradient": (lambda: fl.total_gradient(v, dx, dy), per_metre),
        "tilt angle": (lambda: fl.tilt(v, dx, dy), "°"),
        "continuation": (lambda: fl.continued(v, dx, dy, p.height), unit),
        "reduction to the pole": (lambda: fl.reduced_to_pole(v, dx, dy, inclination, declination), unit),
        "pseudo-gravity": (lambda: fl.pseudo_gravity(v, dx, dy, inclination, declination, p.ratio), "mGal"),
        "band-pass": (lambda: fl.band_pass(v, dx, dy, p.shortest, p.longest), unit),
    }
    run, out_unit = made[p.filter]
    values = run()
    word: str = p.filter
    if p.filter == "continuation":
        word = f"{'up' if p.height >= 0 else 'down'} {abs(p.height):g} m"
    magnetic = p.filter in ("reduction to the pole", "pseudo-gravity")
    progress(
        1.0,
        f"inclination {inclination:.1f}°, declination {declination:.1f}° from grid north"
        + (", amplitude limited near the equator" if abs(inclination) < 20 else "")
        + ", level and plane of the grid taken off"
        if magnetic
        else p.filter,
    )
    kept = p.filter in ("continuation", "reduction to the pole", "band-pass")
    attribute = grid.attribute if kept else f"{grid.attribute} {p.filter}"
    out = Grid(
        name=p.name or f"{grid.name}, {word}",
        crs=grid.crs,
        values=values,
        x0=grid.x0,
        y0=grid.y0,
        dx=dx,
        dy=dy,
        attribute=attribute,
        unit=out_unit,
        quantities={attribute: grid.attributes[grid.attribute].quantity} if kept else {},
    )
    return {"filtered": out}


def _run_regional(inputs: Inputs, p: Regional, progress: Progress) -> dict[str, Item]:
    from ...compute.potential import filters as fl

    grid = inputs.need("grid", Grid)
    progress(0.1, "Regional")
    blank = ~np.isfinite(grid.values)
    if p.by == "polynomial":
        surface = fl.polynomial(grid.values, p.order)
    else:
        surface = fl.continued(grid.values, grid.dx, grid.dy, p.height)
    surface = np.where(blank, np.nan, surface)
    rest = f"{grid.attribute} residual"
    place: dict[str, Any] = {
        "crs": grid.crs,
        "x0": grid.x0,
        "y0": grid.y0,
        "dx": grid.dx,
        "dy": grid.dy,
        "unit": grid.unit,
    }
    return {
        "residual": Grid(
            name=f"{grid.name}, residual",
            values=grid.values - surface,
            attribute=rest,
            roles={rest: "residual"},
            **place,
        ),
        "regional": Grid(
            name=f"{grid.name}, regional", values=surface, attribute=f"{grid.attribute} regional", **place
        ),
    }


def _run_calculate(inputs: Inputs, p: Calculate, progress: Progress) -> dict[str, Item]:
    first = inputs.need("a", Grid)
    gx, gy = first.places
    columns: dict[str, np.ndarray] = {"a": first.values.ravel(), "x": gx.ravel(), "y": gy.ravel()}
    for slot in ("b", "c"):
        other = inputs.maybe(slot, Grid)
        if other is None:
            continue
        same_system(first, other)
        same = other.values.shape == first.values.shape and np.allclose(
            [other.x0, other.y0, other.dx, other.dy], [first.x0, first.y0, first.dx, first.dy]
        )
        columns[slot] = (
            other.values.ravel()
            if same
            else bilinear(other.values, other.x0, other.y0, other.dx, other.dy, gx.ravel(), gy.ravel())
        )
    absent = [n for n in ("b", "c") if n in columns_used(p.expression) and n not in columns]
    if absent:
        raise InputError(
            f"the expression uses {' and '.join(absent)}, which {'is' if len(absent) == 1 else 'are'} not chosen",
            where=p.expression[:60],
        )
    progress(0.4, "Calculating")
    with np.errstate(all="ignore"):
        values = np.asarray(evaluate(p.expression, columns, first.values.size))
    if values.dtype.kind not in "fb":
        raise InputError("the expression does not give numbers", where=p.expression[:60])
    values = np.where(np.isfinite(values.astype(float)), values.astype(float), np.nan).reshape(first.values.shape)
    if not np.isfinite(values).any():
        raise InputError(
            "the result is blank everywhere", where=p.expression[:60], fix="Check whether the grids overlap"
        )
    attribute = p.attribute or ("result" if p.unit and p.unit != first.unit else first.attribute)
    out = Grid(
        name=p.name or f"{p.expression[:40]} (a = {first.name})",
        crs=first.crs,
        values=values,
        x0=first.x0,
        y0=first.y0,
        dx=first.dx,
        dy=first.dy,
        attribute=attribute,
        unit=p.unit or first.unit,
        quantities=_quantity_of_result(p, first, attribute),
    )
    return {"result": out}


def _quantity_of_result(p: Calculate, first: Grid, attribute: str) -> dict[str, str]:
    if p.quantity != "auto":
        return {attribute: p.quantity}
    return {attribute: first.attributes[first.attribute].quantity} if attribute == first.attribute else {}


def _estimate(inputs: Inputs, p: Any) -> Cost:
    return cells_cost(inputs.need("grid" if "grid" in inputs else "a", Grid), 6e-7)


FILTER = Operation(
    name="filter-grid",
    example=Example({"grid": "Magnetics"}, {"filter": "reduction to the pole", "date": "2024-05-16"}),
    title="Filter a potential field",
    area="Geophysics",
    help="Derivatives, gradients, tilt angle, continuation, reduction to the pole, pseudo-gravity and band-pass of a grid; gaps and edges are handled and come back as they were.",
    params=FilterGrid,
    run=_run_filter,
    inputs=(GRID,),
    outputs=(Output("filtered", "grid", "Filtered grid"),),
    estimate=_estimate,
)
REGIONAL = Operation(
    name="regional-residual",
    example=Example({"grid": "Magnetics"}, {}),
    title="Regional and residual",
    area="Geophysics",
    help="Takes a polynomial surface or the field continued upward off a grid; both parts come out.",
    params=Regional,
    run=_run_regional,
    inputs=(GRID,),
    outputs=(Output("residual", "grid", "Residual"), Output("regional", "grid", "Regional")),
    estimate=_estimate,
)
CALCULATE = Operation(
    name="calculate-grid",
    example=Example({"a": "Ground"}, {"expression": "a + 150", "name": "Flight surface"}),
    title="Calculate with grids",
    area="Maps",
    help="Works out a grid from up to three others by a safe expression; grids on other cells are read where the cells of a lie.",
    params=Calculate,
    run=_run_calculate,
    inputs=(
        Input("a", "Grid a", ("grid",)),
        Input("b", "Grid b", ("grid",), optional=True, proposed=False),
        Input("c", "Grid c", ("grid",), optional=True, proposed=False),
    ),
    outputs=(Output("result", "grid", "Result"),),
    estimate=_estimate,
)
