"""What the inversions of gravity and magnetics share: how the model is held, what is known of it, what comes out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import numpy as np
import pandas as pd

from ...compute.potential import meshing
from ...compute.potential.fields import FieldKernel
from ...declaring.operation import Inputs, param
from ...items.base import Item
from ...progress import Progress
from .cells import Cells, InversionParams, fits
from .known import KnownParams, known_of
from .readings import Readings

if TYPE_CHECKING:
    from ...compute.potential import inversion

Character = Literal["smooth", "blocky", "compact"]
Trend = Literal["none", "constant", "plane", "second degree"]
NORMS: dict[Character, tuple[float, float]] = {"smooth": (2.0, 2.0), "blocky": (2.0, 1.0), "compact": (0.0, 2.0)}
SEEN = "sensitivity"


class SolvingParams(KnownParams, InversionParams):
    """Parameters of the solution."""

    trend: Trend = param("plane", "Regional", help="Fitted along with the model, and kept beside the fit")
    character: Character = param(
        "smooth",
        "Character",
        help="Smooth bodies, blocky ones with sharp edges, or the most compact ones that explain the readings",
    )
    family: Literal["one run", "six runs"] = param(
        "one run",
        "Family",
        help="Six runs with other weighting, smoothness and character say in how many of them a cell stands out",
    )
    threshold: float = param(
        0.0,
        "Stands out from",
        unit="its own",
        help="0 takes half of what the strongest hundredth of the cells has; below 0 what is lower stands out",
        more=True,
    )
    smoothness: float = param(
        0.0,
        "Smoothness",
        unit="m",
        low=0.0,
        help="Length over which the model is held smooth; 0 takes the cell size",
        more=True,
    )
    exponent: float = param(
        0.45,
        "Depth weighting",
        low=0.0,
        high=1.0,
        help="Power of the sensitivity weighting: higher puts sources deeper",
        more=True,
    )
    target: float = param(
        1.0, "Target misfit", above=0.0, help="Mean squared residual in units of the noise", more=True
    )
    iterations: int = param(40, "Most iterations", low=1, high=200, more=True)


@dataclass(frozen=True)
class Solved:
    """What an inversion gave, and in what part (percent) of a family of runs each cell stands out; None for one run."""

    result: inversion.Inversion
    agreement: np.ndarray | None = None
    words: str = ""


def solve(
    inputs: Inputs,
    p: SolvingParams,
    data: Readings,
    values: np.ndarray,
    noise: np.ndarray,
    cells: Cells,
    fields: Sequence[FieldKernel],
    lower: float,
    progress: Progress,
    one_direction: bool = False,
) -> Solved:
    """Invert readings for the values of the cells; `lower` is the lowest value where none is asked for.

    Raises
    ------
    InputError, ConvergenceError
        As `invert`; also when the run would not fit into memory, or what is known does not lie below the readings.
    """
    from threadpoolctl import threadpool_limits

    from ...compute.potential import coherent, inversion
    from ...compute.potential.lattice import Lattice

    fits(cells, data, len(fields))
    active = cells.active.ravel()
    settings = inversion.Settings(
        smoothness=p.smoothness or p.cell,
        exponent=p.exponent,
        target=p.target,
        norm_size=NORMS[p.character][0],
        norm_steps=NORMS[p.character][1],
        max_iterations=p.iterations,
    )
    known = known_of(inputs, p, cells, len(fields), lower, p.cell)
    trend = trend_of(p.trend, data.obs)
    with threadpool_limits(2):
        kernel = Lattice(cells.mesh, data.obs, fields, active, progress=progress.part(0.0, 0.1))
        even = meshing.evened_sensitivity(
            cells.mesh, cells.active, kernel.column_norms()[: cells.count], data.obs, not fields[0].is_gravity
        )
        known = replace(known, weigh_by=np.tile(even, len(fields)))

        def run(how: inversion.Settings, part: Progress) -> inversion.Inversion:
            problem = (kernel, values, noise, cells.mesh, active, how, known)
            if one_direction:
                return coherent.invert_one_direction(*problem, trend=trend, progress=part)[0]
            return inversion.invert(*problem, trend=trend, progress=part)

        others = variants(settings) if p.family == "six runs" else []
        share = 0.88 / (1 + len(others))
        result = run(settings, progress.part(0.1, 0.1 + share))
        strength = [strength_of(result, len(fields))]
        for number, how in enumerate(others, start=1):
            if progress.enough:
                break
            strength.append(
                strength_of(run(how, progress.part(0.1 + number * share, 0.1 + (number + 1) * share)), len(fields))
            )
    if not others:
        return Solved(result)
    limit = p.threshold or 0.5 * float(np.percentile(strength[0], 99))
    out = np.stack([s < limit if limit < 0 else s >= limit for s in strength])
    words = f"agreement of {len(strength)} runs on what stands out from {limit:.3g}"
    return Solved(result, 100.0 * out.mean(axis=0), words)


def variants(base: inversion.Settings) -> list[inversion.Settings]:
    """Five other ways to hold the same model: weighting shallower and deeper, smoother, blocky, compact."""
    length = base.smoothness
    wide = 2.0 * length if isinstance(length, int | float) else (2.0 * length[0], 2.0 * length[1], 2.0 * length[2])
    norms = [NORMS["smooth"], NORMS["blocky"], NORMS["compact"]]
    rest = [n for n in norms if n != (base.norm_size, base.norm_steps)][:2]
    return [
        replace(base, exponent=max(base.exponent - 0.15, 0.0)),
        replace(base, exponent=base.exponent + 0.15),
        replace(base, smoothness=wide),
        *(replace(base, norm_size=size, norm_steps=steps) for size, steps in rest),
    ]


def strength_of(result: inversion.Inversion, components: int) -> np.ndarray:
    """Value of each cell, of several components their length."""
    parts = result.model.reshape(components, -1)
    return parts[0] if components == 1 else np.asarray(np.linalg.norm(parts, axis=0))


def trend_of(kind: Trend, obs: np.ndarray) -> np.ndarray | None:
    """Columns of a regional at places."""
    if kind == "none":
        return None
    x, y = ((obs - obs.mean(axis=0)) / max(float(np.ptp(obs[:, :2], axis=0).max()), 1.0)).T[:2]
    columns = [np.ones(len(obs))]
    if kind != "constant":
        columns += [x, y]
    if kind == "second degree":
        columns += [x * x, x * y, y * y]
    return np.column_stack(columns)


def boxed(cells: Cells, values: np.ndarray) -> np.ndarray:
    """Values of the active cells in the shape of the mesh, NaN elsewhere."""
    box = np.full(cells.mesh.shape, np.nan)
    box[cells.active] = values
    return box


def seen(cells: Cells, result: inversion.Inversion) -> np.ndarray:
    """Sensitivity of each cell per volume, in percent of the largest: what the readings can't see is near 0."""
    volume = cells.mesh.volumes().reshape(cells.mesh.shape)[cells.active]
    each = result.sensitivity / volume
    return boxed(cells, 100.0 * each / each.max())


def beside(cells: Cells, solved: Solved) -> tuple[dict[str, np.ndarray], dict[str, str]]:
    """Properties that say how far to trust the model, with their units."""
    out = {SEEN: seen(cells, solved.result)}
    if solved.agreement is not None:
        out["agreement"] = boxed(cells, solved.agreement)
    return out, dict.fromkeys(out, "%")


def fit_table(data: Readings, values: np.ndarray, noise: np.ndarray, result: inversion.Inversion) -> pd.DataFrame:
    """What was read and what the model gives at each sensor."""
    residual = values - result.predicted
    return pd.DataFrame(
        {
            "line": np.where(data.line == "", "1", data.line),
            "x": data.obs[:, 0],
            "y": data.obs[:, 1],
            "z": data.obs[:, 2],
            "observed": values,
            "noise": noise,
            "regional": result.regional,
            "predicted": result.predicted,
            "residual": residual,
            "normalised_residual": residual / noise,
        }
    )


FIT_COLUMNS = ("observed", "noise", "regional", "predicted", "residual")
FIT_ROLES = {n: n for n in ("noise", "predicted", "residual")}


def told(result: inversion.Inversion, data: Readings, cells: Cells, p: SolvingParams, more: Sequence[str]) -> str:
    """What is said at the end of a run."""
    reached = "reached" if result.reached else "not reached: the noise may be set too low"
    close = int(np.sum(data.obs[:, 2] - data.ground < p.cell_z))
    parts = [f"Misfit {result.chi2:.2f}, target {reached}", *data.words]
    if close:
        parts.append(f"{close:,} of {len(data.obs):,} readings are within a cell's height of the ground")
    if cells.lowered:
        parts.append(f"{cells.lowered:,} lie so low that the top of their column was cut")
    return "; ".join([*parts, *(m for m in more if m)])


def named(item: Item, what: str) -> str:
    return f"{what} of {item.name}"
