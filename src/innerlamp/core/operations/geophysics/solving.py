"""What the inversions of gravity and magnetics share: how the model is held, what is known of it, what comes out."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Annotated, Literal

import numpy as np
import pandas as pd
from pydantic import BeforeValidator

from ...compute.potential import meshing
from ...compute.potential.fields import FieldKernel
from ...declaring.operation import Inputs, Row, param
from ...errors import InputError
from ...items.base import Item
from ...progress import Progress
from .cells import Cells, InversionParams, fits, near_ground
from .known import KnownParams, known_of
from .readings import Readings

if TYPE_CHECKING:
    from ...compute.potential import inversion
    from ...compute.potential.linear import Operator

Character = Literal["smooth", "blocky", "compact"]
Trend = Literal["none", "constant", "plane", "second degree", "third degree"]
DEGREES: dict[Trend, int | None] = {"none": None, "constant": 0, "plane": 1, "second degree": 2, "third degree": 3}
NORMS: dict[Character, tuple[float, float]] = {"smooth": (2.0, 2.0), "blocky": (2.0, 1.0), "compact": (0.0, 2.0)}
_EACH_CORE = 4  # parts of a run on this machine at most
SEEN = "sensitivity"
SEEN_ROLES = {SEEN: SEEN}
# Fields of a component of the model, and the rows of the readings that they are measured by.
Sensed = tuple[np.ndarray, Sequence[FieldKernel]]


CLUSTER = "INNER_LAMP_CLUSTER"


def _whose(value: object) -> object:
    """What projects of earlier versions say: an address, which is never taken from there."""
    plain = value in ("", "this machine", None)
    return "this machine" if plain else "my cluster" if isinstance(value, str) else value


def _my_cluster() -> str:
    address = os.environ.get(CLUSTER, "").strip()
    if not address:
        raise InputError("no cluster is set", fix=f"Set {CLUSTER}=tls://…:8786 before you start the program")
    return address


class RockClass(Row):
    value: float = param(..., "Typical value", help="In the unit of the model; the background is a class as well")


class SolvingParams(KnownParams, InversionParams):
    """Parameters of the solution."""

    name: str = param("", "Name", help="Of the model; what it is and of which readings when empty")
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
    classes: tuple[RockClass, ...] = param(
        (),
        "Rock classes",
        editor="table",
        help="Cells are drawn to the class that they are nearest to, where the readings let them",
        more=True,
    )
    pull: float = param(10.0, "Pull of classes", unit="times", above=0.0, high=1e4, more=True)
    parts: int = param(
        1, "Parts", low=1, high=256, help="Workers that the readings are split between, each with its part", more=True
    )
    cluster: Annotated[Literal["this machine", "my cluster"], BeforeValidator(_whose)] = param(
        "this machine",
        "Workers on",
        help=f"my cluster: that of the Dask scheduler whose address you set as {CLUSTER}, such as tls://10.0.0.5:8786. "
        "No project can name one",
        more=True,
    )

    @property
    def elsewhere(self) -> int:
        """Parts that do not take the memory of this machine; 1 where all is done here."""
        return self.parts if self.cluster == "my cluster" else 1


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
    sensed: Sequence[Sensed],
    lower: float,
    progress: Progress,
    one_direction: bool = False,
    shown: Callable[[np.ndarray], Item] | None = None,
) -> Solved:
    """Invert readings for the values of the cells; `lower` is the lowest value where none is asked for.

    `shown` makes an item of a model (components x cells,), for those who want to look at it while it comes nearer.

    Raises
    ------
    InputError, ConvergenceError
        As `invert`; also when the run would not fit into memory, or what is known does not lie below the readings.
    """
    from threadpoolctl import threadpool_limits

    from ...compute.potential import classes, coherent, inversion

    components = len(sensed[0][1])
    fits(cells, data, components, p.elsewhere)
    active = cells.active.ravel()
    settings = inversion.Settings(
        smoothness=p.smoothness or p.cell,
        exponent=p.exponent,
        target=p.target,
        norm_size=NORMS[p.character][0],
        norm_steps=NORMS[p.character][1],
        max_iterations=p.iterations,
    )
    known = known_of(inputs, p, cells, components, lower, p.cell)
    centres = _centres(p, components)
    trend = trend_of(p.trend, data.obs)

    def look(model: np.ndarray) -> None:
        if shown is not None and progress.watched:
            progress.show(shown(model))

    with threadpool_limits(2), ExitStack() as held:
        kernel = kernel_of(p, data, cells, sensed, held, progress.part(0.0, 0.1))
        even = meshing.evened_sensitivity(
            cells.mesh, cells.active, kernel.column_norms()[: cells.count], data.obs, not sensed[0][1][0].is_gravity
        )
        known = replace(known, weigh_by=np.tile(even, components))

        def run(
            how: inversion.Settings, part: Progress, told: inversion.Constraints | None = None
        ) -> inversion.Inversion:
            problem = (kernel, values, noise, cells.mesh, active, how, told or known)
            if one_direction:
                return coherent.invert_one_direction(*problem, trend=trend, look=look, progress=part)[0]
            return inversion.invert(*problem, trend=trend, look=look, progress=part)

        others = variants(settings) if p.family == "six runs" else []
        share = 0.88 / (1 + len(others) + (1 if centres is not None else 0))
        result = run(settings, progress.part(0.1, 0.1 + share))
        if centres is not None and not progress.enough:
            part = progress.part(0.1 + share, 0.1 + 2 * share)
            result = classes.guided(
                lambda told, number: [run(settings, part.part(0.25 * number, 0.25 * (number + 1)), told[0])],
                [known],
                [result],
                centres,
                p.pull,
            )[0]
        strength = [strength_of(result, components)]
        for number, how in enumerate(others, start=1):
            if progress.enough:
                break
            strength.append(
                strength_of(run(how, progress.part(0.1 + number * share, 0.1 + (number + 1) * share)), components)
            )
    if not others:
        return Solved(result)
    limit = p.threshold or 0.5 * float(np.percentile(strength[0], 99))
    out = np.stack([s < limit if limit < 0 else s >= limit for s in strength])
    words = f"agreement of {len(strength)} runs on what stands out from {limit:.3g}"
    return Solved(result, 100.0 * out.mean(axis=0), words)


def _centres(p: SolvingParams, components: int) -> np.ndarray | None:
    """Typical values (classes, 1) of the classes, None without any."""
    if not p.classes:
        return None
    if components > 1 or p.family != "one run":
        raise InputError("rock classes go with one run of one property", fix="Leave the table of classes empty")
    values = sorted(row.value - p.background for row in p.classes)
    if len(set(values)) < 2:
        raise InputError("at least two classes with different values are needed", fix="The background is one of them")
    return np.array(values)[:, None]


def kernel_of(
    p: SolvingParams, data: Readings, cells: Cells, sensed: Sequence[Sensed], held: ExitStack, progress: Progress
) -> Operator:
    """Return the operator from cells to readings, in parts when asked for; what it needs ends with `held`.

    Raises
    ------
    InputError
        When no cluster answers, workers end again and again, or there are far more parts than cores.
    """
    from ...compute.potential import parts as pt
    from ...compute.potential.lattice import Lattice
    from ...compute.potential.linear import ByRows

    clustered = p.cluster == "my cluster"
    if not clustered and p.parts > _EACH_CORE * (os.cpu_count() or 1):
        raise InputError(
            f"{p.parts} parts are too many for the {os.cpu_count()} cores of this machine: each is a process of its own",
            fix=f"Take {_EACH_CORE * (os.cpu_count() or 1)} at most, or give a cluster",
        )
    active = cells.active.ravel()
    made: list[tuple[np.ndarray, Operator]] = []
    for number, (rows, fields) in enumerate(sensed):
        part = progress.part(number / len(sensed), (number + 1) / len(sensed))
        if p.parts == 1 and not clustered:
            made.append((rows, Lattice(cells.mesh, data.obs[rows], fields, active, progress=part)))
            continue
        pieces = pt.parts_of(cells.mesh, data.obs[rows], fields, active, p.parts)
        workers = partial(pt.Cluster, address=_my_cluster()) if clustered else pt.Processes
        made.append((rows, held.enter_context(pt.Parted(pieces, workers, part))))
    return made[0][1] if len(made) == 1 else ByRows(made)


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
    """Columns of a regional at places, None for none."""
    degree = DEGREES[kind]
    if degree is None:
        return None
    x, y = ((obs - obs.mean(axis=0)) / max(float(np.ptp(obs[:, :2], axis=0).max()), 1.0)).T[:2]
    return np.column_stack([x ** (d - k) * y**k for d in range(degree + 1) for k in range(d + 1)])


def course_of(result: inversion.Inversion) -> pd.DataFrame:
    """The steps by which a model was come to, for its curve of misfit against size."""
    return pd.DataFrame(result.history, columns=["iteration", "beta", "misfit", "size"]).astype(float)


def boxed(cells: Cells, values: np.ndarray) -> np.ndarray:
    """Values of the active cells in the shape of the mesh, NaN elsewhere."""
    box = np.full(cells.mesh.shape, np.nan)
    box[cells.active] = values
    return box


def seen(cells: Cells, result: inversion.Inversion) -> np.ndarray:
    """Sensitivity of each cell per volume, in percent of the largest: what the readings can't see is near 0.

    Of several components a cell has the length of theirs together.
    """
    volume = cells.mesh.volumes().reshape(cells.mesh.shape)[cells.active]
    each = np.linalg.norm(result.sensitivity.reshape(-1, cells.count), axis=0) / volume
    return boxed(cells, 100.0 * each / each.max())


def beside(cells: Cells, solved: Solved) -> dict[str, np.ndarray]:
    """Properties in percent that say how far to trust the model."""
    out = {SEEN: seen(cells, solved.result)}
    if solved.agreement is not None:
        out["agreement"] = boxed(cells, solved.agreement)
    return out


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


def told(result: inversion.Inversion, data: Readings, cells: Cells, more: Sequence[str]) -> str:
    """What is said at the end of a run."""
    reached = "reached" if result.reached else "not reached: the noise may be set too low"
    parts = [f"Misfit {result.chi2:.2f}, target {reached}", *data.words, *near_ground(cells, data)]
    return "; ".join([*parts, *(m for m in more if m)])


def named(item: Item, what: str, name: str = "", main: bool = False) -> str:
    """What a result is called: by the name that was given, alone for the main one, else by what was read."""
    if name.strip():
        return name.strip() if main else f"{name.strip()}, {what[:1].lower()}{what[1:]}"
    return f"{what} of {item.name}"
