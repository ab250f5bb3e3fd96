"""Gridding by kriging and from near samples, and comparing methods by leaving samples out."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pandas as pd

from ...declaring.operation import Cost, Example, Inputs, Operation, Output, Params, Whole, param
from ...errors import InputError
from ...geometry.grid import geometry_around
from ...items.base import Item
from ...items.points import PointSet
from ...progress import Progress
from .sampling import (
    BOUNDARY,
    SAMPLES,
    AtPlaces,
    GridValues,
    Samples,
    Trended,
    at_cells,
    cost,
    finished,
    geometry_of,
    measured,
    read_samples,
    settled,
    suggest,
    unbiased,
)

Near = Literal["inverse distance", "nearest neighbour", "natural neighbours", "triangles", "radial basis"]
Kernels = Literal["thin plate", "linear", "cubic"]
METHODS = (
    "kriging",
    "minimum curvature",
    "inverse distance",
    "nearest neighbour",
    "natural neighbours",
    "triangles",
    "radial basis",
)


class VariogramChoice(Params):
    """How the variogram is modelled; zeros are fitted."""

    shape: Literal["spherical", "exponential", "gaussian"] = param("spherical", "Shape")
    nugget: float = param(
        -1.0, "Nugget", unit="squared", help="In the squared unit of the (transformed) values; −1 fits it"
    )
    sill: float = param(0.0, "Sill above nugget", unit="squared", low=0.0, help="0 fits it")
    range_m: float = param(
        0.0,
        "Range",
        unit="m",
        low=0.0,
        help="Where the sill is reached (95 % of it for exponential and gaussian), along the longer axis; 0 fits it",
    )
    second: Literal["none", "spherical", "exponential", "gaussian"] = param(
        "none", "Second structure", help="Adds another shape with a sill and a range of its own", more=True
    )
    second_sill: float = param(0.0, "Its sill", unit="squared", low=0.0, help="0 fits it", more=True)
    second_range_m: float = param(0.0, "Its range", unit="m", low=0.0, help="0 fits it", more=True)
    azimuth: float = param(0.0, "Longer axis towards", unit="°", low=0.0, high=360.0, more=True)
    ratio: float = param(1.0, "Shorter range by longer", above=0.0, high=1.0, more=True)
    neighbours: Whole = param(24, "Samples for each cell", low=2, high=200, more=True)
    drift: Literal["none", "linear"] = param(
        "none", "Drift", more=True, help="linear: the mean is a plane instead of a constant"
    )


class Kriging(VariogramChoice, GridValues):  # pydantic lists the fields of the last base first
    pass


class NearGrid(Trended):
    method: Near = param("inverse distance", "Method")
    power: float = param(2.0, "Power of distance", unit="power", above=0.0, high=20.0, help="For inverse distance")
    neighbours: Whole = param(12, "Samples for each cell", low=1, high=200, help="For inverse distance", more=True)
    kernel: Kernels = param("thin plate", "Kernel", help="For radial basis", more=True)
    smoothing: float = param(
        0.0,
        "Smoothing",
        unit="share",
        low=0.0,
        help="For radial basis; 0 honours every sample, 0.001 smooths a little",
        more=True,
    )


class _Validated(Params):
    attribute: str = param(..., "Attribute", editor="attribute", of="samples")
    transform: Literal["none", "log10", "square root", "normal score"] = param("none", "Transform")
    method: Literal[
        "kriging",
        "minimum curvature",
        "inverse distance",
        "nearest neighbour",
        "natural neighbours",
        "triangles",
        "radial basis",
        "every method",
    ] = param("kriging", "Method", help="every method compares them in one table")
    power: float = param(2.0, "Power of distance", unit="power", above=0.0, high=20.0, help="For inverse distance")
    tension: float = param(0.0, "Tension", unit="0 to 1", low=0.0, high=0.99, help="For minimum curvature", more=True)
    name: str = param("", "Name", help="Method and attribute when empty")


class CrossValidate(VariogramChoice, _Validated):
    pass


def given_structures(p: VariogramChoice) -> list[tuple[Any, float, float]]:
    """Return shape, sill and range of each structure that a form names; 0 stands for what is to be fitted."""
    second = [(p.second, p.second_sill, p.second_range_m)] if p.second != "none" else []
    return [(p.shape, p.sill, p.range_m), *second]


def given_model(p: VariogramChoice) -> Any:
    """Return the model of a form that says all of it, None where something is to be fitted."""
    from ...compute.gridding import variogram as vg

    given = given_structures(p)
    if p.nugget < 0 or not all(sill > 0 and range_m > 0 for _, sill, range_m in given):
        return None
    return vg.Model(p.nugget, tuple(vg.Structure(*each) for each in given), p.azimuth, p.ratio)


def settled_model(data: Any, p: VariogramChoice) -> Any:
    """Return the model of a form: what is not chosen is fitted to the experimental variogram."""
    from ...compute.gridding import variogram as vg

    given = given_structures(p)
    if (whole := given_model(p)) is not None:
        return whole
    fitted = vg.fit(data, p.shape, p.azimuth, p.ratio, len(given), given[-1][0])
    parts = tuple(
        vg.Structure(shape, sill or found.sill, range_m or found.range)
        for (shape, sill, range_m), found in zip(given, fitted.structures, strict=True)
    )
    return vg.Model(p.nugget if p.nugget >= 0 else fitted.nugget, parts, p.azimuth, p.ratio)


def model_for(x: np.ndarray, y: np.ndarray, v: np.ndarray, p: VariogramChoice) -> tuple[Any, Any]:
    """Return the experimental variogram (None where the form says the whole model) and the model of a form."""
    from ...compute.gridding import variogram as vg

    if (whole := given_model(p)) is not None:
        return None, whole
    data = vg.experimental(x, y, v, *vg.propose_bins(x, y))
    return data, settled_model(data, p)


def _words(model: Any) -> str:
    parts = [f"{s.shape}, sill {s.sill:.3g}, range {s.range:.3g} m" for s in model.structures]
    return f"nugget {model.nugget:.3g}; " + "; ".join(parts)


def _run_kriging(inputs: Inputs, p: Kriging, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding import kriging as kr
    from ...compute.gridding import minimum_curvature as mc

    source = measured(inputs)
    ready = read_samples(source, p)
    geometry, blanking = geometry_of(measured(inputs), ready, p)
    progress(0.02, "Variogram")
    gx, gy = (g.ravel() for g in geometry.places())
    wanted = ~mc.blank_far(geometry, ready.x, ready.y, blanking).ravel()
    parts, variances, words, plain = [], [], "", 0
    for number, values in enumerate(ready.parts):
        if len(ready.parts) > 1 and np.ptp(values) < 1e-12:  # one component of angles that lie alike about an axis
            parts.append(np.full((geometry.ny, geometry.nx), values[0]))
            variances.append(np.zeros((geometry.ny, geometry.nx)))
            continue
        _, model = model_for(ready.x, ready.y, values, p)
        estimate, variance = np.full(geometry.size, np.nan), np.full(geometry.size, np.nan)
        step = 0.85 / len(ready.parts)
        made = kr.krige(
            ready.x,
            ready.y,
            values,
            gx[wanted],
            gy[wanted],
            model,
            p.neighbours,
            p.drift == "linear",
            progress=progress.part(0.1 + step * number, 0.1 + step * (number + 1)),
        )
        estimate[wanted], variance[wanted], plain = made.estimate, made.variance, int(made.plain.sum())
        if p.transform in ("log10", "square root"):
            lacking = np.zeros(geometry.size)
            lacking[wanted] = made.lacking
            ready = unbiased(ready, p.transform, lacking.reshape(geometry.ny, geometry.nx))
        parts.append(estimate.reshape(geometry.ny, geometry.nx))
        variances.append(variance.reshape(geometry.ny, geometry.nx))
        words = words or _words(model)
    unit = source.attributes[p.attribute].unit
    name = p.name or f"{p.attribute} kriged"
    squared = (
        f"{unit}²" if unit and p.transform == "none" else "" if p.transform == "none" else f"{p.transform} squared"
    )
    notes = [words, ready.note, f"{plain:,} cells without drift: their samples lie on one line" if plain else ""]
    progress(1.0, "; ".join(note for note in notes if note))
    spread = np.mean(variances, axis=0)
    return {
        "grid": finished(inputs, p, ready, parts, geometry, blanking, name),
        "variance": finished(
            inputs, p, ready, [spread], geometry, blanking, f"Variance of {name}", "kriging variance", squared
        ),
    }


def _run_near(inputs: Inputs, p: NearGrid, progress: Progress) -> dict[str, Item]:
    ready = read_samples(measured(inputs), p)
    geometry, blanking = geometry_of(measured(inputs), ready, p)
    progress(0.1, "Interpolating")
    parts = near_parts(ready, geometry, p, progress.part(0.1, 0.95))
    progress(1.0, ready.note)
    return {"grid": finished(inputs, p, ready, parts, geometry, blanking, p.name or f"{p.attribute} by {p.method}")}


def near_parts(ready: Samples, geometry: Any, p: NearGrid, progress: Progress) -> list[np.ndarray]:
    """Return the components of a grid from near samples."""
    from ...compute.gridding.natural import natural_at
    from ...compute.gridding.radial import radial

    if p.method == "natural neighbours":
        return at_cells(ready, geometry, p, lambda x, y, v, ax, ay: natural_at(x, y, v, ax, ay, progress))
    if p.method == "radial basis":
        return at_cells(
            ready, geometry, p, lambda x, y, v, ax, ay: radial(x, y, v, ax, ay, p.kernel, p.smoothing, progress)
        )
    return at_cells(ready, geometry, p, lambda x, y, v, ax, ay: _at(p.method, x, y, v, ax, ay, p.power, p.neighbours))


def _at(
    method: str, x: np.ndarray, y: np.ndarray, v: np.ndarray, ax: np.ndarray, ay: np.ndarray, power: float, count: int
) -> np.ndarray:
    from ...compute.gridding import neighbours as nb

    if method == "inverse distance":
        return nb.inverse_distance(x, y, v, ax, ay, power, count)
    return nb.nearest(x, y, v, ax, ay) if method == "nearest neighbour" else nb.triangles(x, y, v, ax, ay)


def _left_out(
    method: str, x: np.ndarray, y: np.ndarray, v: np.ndarray, power: float, count: int, progress: Progress
) -> np.ndarray:
    """Return each value from the others. Only near samples matter, so each is estimated within its neighbourhood."""
    from scipy.spatial import cKDTree

    xy = np.column_stack([x, y])
    if method in ("inverse distance", "nearest neighbour"):
        k = 1 if method == "nearest neighbour" else min(count, len(v) - 1)
        away, near = cKDTree(xy).query(xy, k=k + 1, workers=-1)
        weight = 1.0 / np.maximum(away[:, 1:], 1e-9) ** (power if k > 1 or method == "inverse distance" else 0.0)
        return np.asarray((weight * v[near[:, 1:]]).sum(axis=1) / weight.sum(axis=1))
    near = cKDTree(xy).query(xy, k=min(len(v), 60), workers=-1)[1]
    out = np.full(len(v), np.nan)
    for row in range(len(v)):
        rest = near[row][near[row] != row]
        try:
            out[row] = _at(method, x[rest], y[rest], v[rest], x[row : row + 1], y[row : row + 1], power, count)[0]
        except InputError:
            continue  # the others lie on one line: no triangle holds this place
        if row % 500 == 0:
            progress(row / len(v), "Leaving one out")
    return out


def _in_folds(ready: Samples, estimate: AtPlaces, progress: Progress) -> np.ndarray:
    """Return each value as estimated from the others; a twentieth of the samples is left out at a time."""
    x, y, v = ready.x, ready.y, ready.parts[0]
    fold = np.random.default_rng(1).permutation(len(v)) % min(20, len(v))
    out = np.full(len(v), np.nan)
    for k in range(int(fold.max()) + 1):
        mine = fold == k
        out[mine] = estimate(x[~mine], y[~mine], v[~mine], x[mine], y[mine])
        progress((k + 1) / (fold.max() + 1), "Leaving a twentieth out")
    return out


def _run_validate(inputs: Inputs, p: CrossValidate, progress: Progress) -> dict[str, Item]:
    from ...compute.gridding.validation import judge

    source = measured(inputs)
    form = GridValues(attribute=p.attribute, transform=p.transform)
    ready = read_samples(source, form)
    x, y, v = ready.x, ready.y, ready.parts[0]
    if len(v) < 5:
        raise InputError(f"{len(v)} samples are too few to leave one out", where=source.name)
    unit = p.transform if p.transform != "none" else source.attributes[p.attribute].unit
    methods: tuple[str, ...] = METHODS if p.method == "every method" else (p.method,)
    table = pd.DataFrame({"x": x, "y": y, "z": np.nan, "observed": v})
    units = {"observed": unit}
    told: list[tuple[float, str]] = []
    best = np.inf
    for number, method in enumerate(methods):
        part = progress.part(0.05 + 0.9 * number / len(methods), 0.05 + 0.9 * (number + 1) / len(methods))
        estimate, variance, note = left_out_by(method, ready, settled(ready.spacing, ready.share, form)[0], p, part)
        numbers = judge(v, estimate, variance)
        told.append((numbers.rmse, f"{method}{note}, {numbers.words}"))
        if len(methods) > 1:
            table[f"residual {method}"] = estimate - v
            units[f"residual {method}"] = unit
        if numbers.rmse < best:
            best = numbers.rmse
            table["estimated"], table["residual"] = estimate, estimate - v
            if variance is not None:
                table["standardised"] = (estimate - v) / np.sqrt(np.maximum(variance, 1e-300))
            elif "standardised" in table:
                table = table.drop(columns="standardised")
    units |= {"estimated": unit, "residual": unit}
    told.sort(key=lambda each: each[0])
    findings = pd.DataFrame(
        [("note", words, "", "", "", "", 0) for _, words in told],
        columns=["severity", "what", "done", "hole", "table", "file", "line"],
    )
    progress(1.0, told[0][1] if len(told) == 1 else "from the best: " + "; ".join(words for _, words in told))
    name = p.name or f"{p.attribute} left out, {p.method}"
    said = source.attributes[p.attribute].quantity if p.transform == "none" else "number"
    residuals = [str(column) for column in table if str(column).startswith("residual")]
    return {
        "residuals": PointSet(
            name=name,
            crs=source.crs,
            table=table,
            units=units,
            quantities={"standardised": "deviation"} | dict.fromkeys(("observed", "estimated", *residuals), said),
            roles={"estimated": "predicted"} | dict.fromkeys(residuals, "residual"),
            content="readings",
            findings=findings,
        )
    }


def left_out_by(
    method: str, ready: Samples, cell: float, p: CrossValidate, progress: Progress
) -> tuple[np.ndarray, np.ndarray | None, str]:
    """Return each value as a method estimates it from the others, its variance where there is one, and how it was done."""
    from ...compute.geometry.sampling import bilinear
    from ...compute.gridding import kriging as kr
    from ...compute.gridding import minimum_curvature as mc
    from ...compute.gridding import radial as rb
    from ...compute.gridding.natural import natural_at

    x, y, v = ready.x, ready.y, ready.parts[0]
    if method == "kriging":
        _, model = model_for(x, y, v, p)
        made = kr.krige(
            x, y, v, x, y, model, p.neighbours, p.drift == "linear", leave_one_out=np.arange(len(v)), progress=progress
        )
        count = int(made.plain.sum())
        return made.estimate, made.variance, f" ({count:,} without drift)" if count else ""
    if method == "radial basis":
        return rb.left_out(x, y, v, progress=progress), None, ""
    geometry = geometry_around(x, y, cell, margin=cell)

    def plate(a: np.ndarray, b: np.ndarray, c: np.ndarray, ax: np.ndarray, ay: np.ndarray) -> np.ndarray:
        made = mc.minimum_curvature(a, b, c, geometry, tension=p.tension)
        return np.asarray(bilinear(made, geometry.x0, geometry.y0, cell, cell, ax, ay))

    surfaces: dict[str, AtPlaces] = {
        "minimum curvature": plate,
        "natural neighbours": natural_at,
    }
    if method in surfaces:
        return _in_folds(ready, surfaces[method], progress), None, ", a twentieth at a time"
    return _left_out(method, x, y, v, p.power, p.neighbours, progress), None, ""


def _estimate(inputs: Inputs, p: Any) -> Cost:
    return cost(inputs, p, 40_000, 1000.0)


KRIGING = Operation(
    name="grid-kriging",
    renamed={"reach": "range_m", "second_reach": "second_range_m"},
    example=Example({"samples": "Soils"}, {"attribute": "Sn ppm", "transform": "log10", "cell": 80.0}),
    title="Grid by kriging",
    area="Maps",
    help="Estimates each cell from the nearest samples by their variogram, and says how sure it is: the kriging variance is a second grid.",
    params=Kriging,
    run=_run_kriging,
    reads=("samples",),
    inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"), Output("variance", "grid", "Kriging variance")),
    estimate=_estimate,
    suggest=suggest,
)
NEAR = Operation(
    name="grid-neighbours",
    example=Example(
        {"samples": "Soils"},
        {"attribute": "Sn ppm", "transform": "log10", "cell": 80.0, "method": "natural neighbours"},
    ),
    title="Grid from near samples",
    area="Maps",
    help="Grids by inverse distance, nearest neighbour, natural neighbours, triangles or radial basis functions.",
    params=NearGrid,
    run=_run_near,
    reads=("samples",),
    inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"),),
    estimate=_estimate,
    suggest=suggest,
)
VALIDATE = Operation(
    name="cross-validate",
    renamed={"reach": "range_m", "second_reach": "second_range_m"},
    example=Example({"samples": "Soils"}, {"attribute": "Sn ppm", "transform": "log10"}),
    title="Compare gridding methods",
    area="Maps",
    help="Leaves each sample out in turn and estimates it from the others; the misses are a point set to map and chart.",
    params=CrossValidate,
    run=_run_validate,
    reads=("samples",),
    inputs=(SAMPLES,),
    outputs=(Output("residuals", "points", "Misses"),),
    suggest=suggest,
)
