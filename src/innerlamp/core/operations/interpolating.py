"""Gridding by kriging and from near samples, and comparing methods by leaving samples out."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pandas as pd

from ..errors import InputError
from ..items.base import Item
from ..items.points import PointSet
from ..progress import Progress
from .declare import Cost, Inputs, Operation, Output, Params, Whole, param
from .grid_common import BOUNDARY, SAMPLES, GridValues, finished, settled, suggest, values_of

Near = Literal["inverse distance", "nearest neighbour", "natural neighbours", "triangles"]


class VariogramChoice(Params):
    """How the variogram is modelled; zeros are fitted."""

    shape: Literal["spherical", "exponential", "gaussian"] = param("spherical", "Shape")
    nugget: float = param(
        -1.0, "Nugget", unit="squared", help="In the squared unit of the (transformed) values; −1 fits it"
    )
    sill: float = param(0.0, "Sill above nugget", unit="squared", low=0.0, help="0 fits it")
    reach: float = param(0.0, "Range", unit="m", low=0.0, help="Where the sill is reached (95 % of it for exponential and gaussian), along the longer axis; 0 fits it")  # fmt: skip
    azimuth: float = param(0.0, "Longer axis towards", unit="°", low=0.0, high=360.0, more=True)
    ratio: float = param(1.0, "Shorter range by longer", above=0.0, high=1.0, more=True)
    neighbours: Whole = param(24, "Samples for each cell", low=2, high=200, more=True)
    drift: Literal["none", "linear"] = param("none", "Drift", more=True, help="linear: the mean is a plane instead of a constant")  # fmt: skip


class Kriging(VariogramChoice, GridValues):  # pydantic lists the fields of the last base first
    pass


class NearGrid(GridValues):
    method: Near = param("inverse distance", "Method")
    power: float = param(2.0, "Power of distance", unit="power", above=0.0, high=20.0, help="For inverse distance")
    neighbours: Whole = param(12, "Samples for each cell", low=1, high=200, help="For inverse distance", more=True)


class _Validated(Params):
    attribute: str = param(..., "Attribute", role="attribute", of="samples")
    transform: Literal["none", "log10"] = param("none", "Transform")
    method: Literal["kriging", "inverse distance", "nearest neighbour", "triangles"] = param("kriging", "Method")
    power: float = param(2.0, "Power of distance", unit="power", above=0.0, high=20.0, help="For inverse distance")
    name: str = param("", "Name", help="Method and attribute when empty")


class CrossValidate(VariogramChoice, _Validated):
    pass


def model_for(x: np.ndarray, y: np.ndarray, v: np.ndarray, p: VariogramChoice) -> tuple[Any, Any]:
    """Return the experimental variogram and the model: what is not chosen is fitted to it."""
    from ..compute.gridding import variogram as vg

    data = vg.experimental(x, y, v, *vg.propose_bins(x, y))
    chosen = p.nugget >= 0 and p.sill > 0 and p.reach > 0
    fitted = None if chosen else vg.fit(data, p.shape, p.azimuth, p.ratio)
    nugget = p.nugget if p.nugget >= 0 else fitted.nugget if fitted else 0.0
    sill = p.sill or (fitted.structures[0].sill if fitted else 0.0)
    reach = p.reach or (fitted.structures[0].range if fitted else 0.0)
    return data, vg.Model(nugget, (vg.Structure(p.shape, sill, reach),), p.azimuth, p.ratio)


def _words(model: Any) -> str:
    part = model.structures[0]
    return f"{part.shape}, nugget {model.nugget:.3g}, sill {part.sill:.3g}, range {part.range:.3g} m"


def _run_kriging(inputs: Inputs, p: Kriging, progress: Progress) -> dict[str, Item]:
    from ..compute.gridding import kriging as kr
    from ..compute.gridding import minimum_curvature as mc

    source = inputs["samples"]
    x, y, v, _ = values_of(source, p)
    cell, blanking = settled(x, y, p)
    x, y, v, twins = kr.without_twins(x, y, v)
    progress(0.02, "Variogram")
    _, model = model_for(x, y, v, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    gx, gy = np.meshgrid(lattice.x0 + cell * np.arange(lattice.nx), lattice.y0 + cell * np.arange(lattice.ny))
    blank = mc.blank_far(lattice, x, y, blanking)
    wanted = ~blank.ravel()
    estimate, variance = np.full(lattice.size, np.nan), np.full(lattice.size, np.nan)
    estimate[wanted], variance[wanted] = kr.krige(
        x, y, v, gx.ravel()[wanted], gy.ravel()[wanted], model, p.neighbours, p.drift == "linear", progress=progress.part(0.1, 0.95)
    )  # fmt: skip
    shape = (lattice.ny, lattice.nx)
    unit = source.attributes.get(p.attribute, "")
    name = p.name or f"{p.attribute} kriged"
    squared = "log10 squared" if p.transform == "log10" else f"{unit}²" if unit else ""
    words = _words(model) + (f"; {twins} samples at one place averaged" if twins else "")
    if p.transform == "log10":
        words += "; turned back, so a cell holds the middle of the distribution (median), not its mean"
    progress(1.0, words)
    return {
        "grid": finished(inputs, p, estimate.reshape(shape), lattice, blank, unit, name),
        "variance": finished(inputs, p, variance.reshape(shape), lattice, blank, squared, f"Variance of {name}", "kriging variance"),
    }  # fmt: skip


def _run_near(inputs: Inputs, p: NearGrid, progress: Progress) -> dict[str, Item]:
    from ..compute.gridding import kriging as kr
    from ..compute.gridding import minimum_curvature as mc
    from ..compute.gridding import neighbours as nb

    source = inputs["samples"]
    x, y, v, _ = values_of(source, p)
    cell, blanking = settled(x, y, p)
    x, y, v, _ = kr.without_twins(x, y, v)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    gx, gy = np.meshgrid(lattice.x0 + cell * np.arange(lattice.nx), lattice.y0 + cell * np.arange(lattice.ny))
    progress(0.2, "Interpolating")
    if p.method == "natural neighbours":
        values = nb.natural(x, y, v, lattice.x0, lattice.y0, cell, lattice.nx, lattice.ny)
    else:
        values = _at(p.method, x, y, v, gx.ravel(), gy.ravel(), p.power, p.neighbours).reshape(gx.shape)
    blank = mc.blank_far(lattice, x, y, blanking)
    unit = source.attributes.get(p.attribute, "")
    return {"grid": finished(inputs, p, values, lattice, blank, unit, p.name or f"{p.attribute} by {p.method}")}


def _at(method: str, x: np.ndarray, y: np.ndarray, v: np.ndarray, ax: np.ndarray, ay: np.ndarray, power: float, count: int) -> np.ndarray:  # fmt: skip
    from ..compute.gridding import neighbours as nb

    if method == "inverse distance":
        return nb.inverse_distance(x, y, v, ax, ay, power, count)
    return nb.nearest(x, y, v, ax, ay) if method == "nearest neighbour" else nb.triangles(x, y, v, ax, ay)


def _left_out(method: str, x: np.ndarray, y: np.ndarray, v: np.ndarray, power: float, count: int, progress: Progress) -> np.ndarray:  # fmt: skip
    """Return each value from the others. Only near samples matter, so each is estimated within its neighbourhood."""
    from scipy.spatial import cKDTree

    xy = np.column_stack([x, y])
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


def _run_validate(inputs: Inputs, p: CrossValidate, progress: Progress) -> dict[str, Item]:
    from ..compute.gridding import kriging as kr
    from ..compute.gridding.validation import judge

    source = inputs["samples"]
    values = GridValues(attribute=p.attribute, transform=p.transform)
    x, y, v, _ = values_of(source, values)
    x, y, v, _ = kr.without_twins(x, y, v)
    if len(v) < 5:
        raise InputError(f"{len(v)} samples are too few to leave one out", where=source.name)
    variance = None
    if p.method == "kriging":
        _, model = model_for(x, y, v, p)
        estimate, variance = kr.krige(
            x, y, v, x, y, model, p.neighbours, p.drift == "linear", leave=np.arange(len(v)), progress=progress.part(0.1, 0.9)
        )  # fmt: skip
    else:
        estimate = _left_out(p.method, x, y, v, p.power, p.neighbours, progress.part(0.1, 0.9))
    numbers = judge(v, estimate, variance)
    unit = "log10" if p.transform == "log10" else source.attributes.get(p.attribute, "")
    table = pd.DataFrame({"x": x, "y": y, "z": np.nan, "observed": v, "estimated": estimate, "residual": estimate - v})
    units = {"observed": unit, "estimated": unit, "residual": unit}
    if variance is not None:
        table["standardised"] = (estimate - v) / np.sqrt(np.maximum(variance, 1e-300))
    progress(1.0, f"{p.method}, {numbers.words}")
    return {
        "residuals": PointSet(name=p.name or f"{p.attribute} left out, {p.method}", crs=source.crs, table=table, units=units, role="readings")
    }  # fmt: skip


def _estimate(inputs: Inputs, p: Any) -> Cost:
    from ..compute.gridding import minimum_curvature as mc

    x, y, _, _ = values_of(inputs["samples"], p)
    cell, blanking = settled(x, y, p)
    lattice = mc.lattice_around(x, y, cell, margin=cell)
    return Cost(f"{lattice.nx} × {lattice.ny} cells of {cell:g} m, blank beyond {blanking:g} m", lattice.size * 1e-3 + 50, 1.0 + lattice.size / 40_000)  # fmt: skip


KRIGING = Operation(
    name="grid-kriging", title="Grid by kriging", area="Maps",
    help="Estimates each cell from the nearest samples by their variogram, and says how sure it is: the kriging variance is a second grid.",
    params=Kriging, run=_run_kriging, inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"), Output("variance", "grid", "Kriging variance")), estimate=_estimate, suggest=suggest,
)  # fmt: skip
NEAR = Operation(
    name="grid-neighbours", title="Grid from near samples", area="Maps",
    help="Grids by inverse distance, nearest neighbour, natural neighbours or triangles.",
    params=NearGrid, run=_run_near, inputs=(SAMPLES, BOUNDARY),
    outputs=(Output("grid", "grid", "Grid"),), estimate=_estimate, suggest=suggest,
)  # fmt: skip
VALIDATE = Operation(
    name="cross-validate", title="Compare gridding methods", area="Maps",
    help="Leaves each sample out in turn and estimates it from the others; the misses are a point set to map and chart.",
    params=CrossValidate, run=_run_validate, inputs=(SAMPLES,),
    outputs=(Output("residuals", "points", "Misses"),), suggest=suggest,
)  # fmt: skip
