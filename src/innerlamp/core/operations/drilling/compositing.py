"""Length-weighted composites of drillhole grades."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pandas as pd

from ...compute.drilling import desurvey
from ...compute.drilling.cells import Leftover, bench_cells, divided
from ...declaring.operation import Cost, Example, Input, Inputs, Maybe, Operation, Output, Params, Several, param
from ...errors import InputError
from ...importing.hole_paths import path_from
from ...items.base import Item
from ...items.holes import HoleSet, table_with
from ...items.points import PointSet
from ...progress import Progress
from .of_holes import grades_of, mean_over, runs_of, spans

DUST = 1e-6  # metres
By = Literal["length from the collar", "bench", "rock"]


class Composites(Params):
    attribute: str = param(..., "Grade", editor="attribute", of="holes")
    by: By = param("length from the collar", "Composites by", help="Rock: they break at contacts")
    length: float = param(5.0, "Length", unit="m", above=0.0, help="Of composites, or the height of benches")
    code: str = param("", "Rock column", editor="code", of="holes", help="For composites by rock")
    whole: bool = param(False, "One for each run of a rock", help="For composites by rock: the length is not used")
    level: float = param(0.0, "Elevation of a bench", unit="m", help="Any one of them; for benches", more=True)
    leftover: Leftover = param(
        "keep", "What is left over", help="At the end of a hole, or above a contact; not for benches", more=True
    )
    least: float = param(
        0.5, "Least sampled part", low=0.0, high=1.0, help="Composites with less of their length sampled are left out"
    )
    top_cut: Maybe = param(None, "Top-cut", help="Grades above it count as it; none when empty", more=True)
    missing: Maybe = param(
        None,
        "Missing grades count as",
        help="In the unit of the grade that is composited; 0 holds for all. Stay missing when empty, and count neither as metal nor as length",
        more=True,
    )
    missing_of: Several = param(
        (),
        "Missing others count as",
        editor="lines",
        help="For grades that are also composited, each in its own unit, such as Cu_pct=0.01; what is not named stays missing",
        more=True,
    )
    also: Several = param(
        (),
        "Also composite",
        editor="lines",
        of="holes",
        help="Other grades of these holes, parted by semicolons",
        more=True,
    )
    name: str = param("", "Name", help="Attribute and length when empty")


def _run(inputs: Inputs, p: Composites, progress: Progress) -> dict[str, Item]:
    holes = inputs.need("holes", HoleSet)
    progress(0.1, "Cutting holes into lengths")
    path, index = path_from(holes)
    hole, start, stop, extra = _cells(holes, p, path, index)
    progress(0.4, "Compositing")
    columns: dict[str, np.ndarray] = {}
    sampled = np.zeros(len(hole))
    for name in dict.fromkeys((p.attribute, *p.also)):
        mean, length = _mean(holes, name, p, index, (hole, start, stop))
        columns[name] = mean
        if name == p.attribute:
            sampled = length
    # Of the nominal length, so that a short rest at the end of a hole does not pass as a whole composite.
    nominal = stop - start if p.by != "length from the collar" or p.leftover != "keep" else np.full(len(hole), p.length)
    keep = (sampled >= p.least * nominal - 1e-9) & (sampled > 0)
    if not keep.any():
        raise InputError(
            "no composite has enough of its length sampled",
            where=holes.name,
            fix="Lower the least sampled part, or take a shorter length",
        )
    xyz = desurvey.locate(path, hole, 0.5 * (start + stop))
    out = pd.DataFrame(
        {"hole": index.to_numpy()[hole], "from_m": start, "to_m": stop, "sampled_m": sampled}
        | columns
        | extra
        | {c: xyz[:, k] for k, c in enumerate("xyz")}
    )[keep].reset_index(drop=True)
    units = {name: holes.units.get(name, "") for name in columns} | dict.fromkeys(("from_m", "to_m", "sampled_m"), "m")
    units |= {"bench": "m"} if "bench" in extra else {}
    words = (
        "by rock"
        if p.by == "rock" and p.whole
        else f"{p.length:g} m" + {"bench": " benches", "rock": " by rock"}.get(p.by, "")
    )
    return {
        "composites": PointSet(
            name=p.name or f"{p.attribute} composites {words}",
            crs=holes.crs,
            table=out,
            units=units,
            quantities={name: holes.attributes[name].quantity for name in columns},
            roles={"from_m": "from", "to_m": "to", "sampled_m": "sampled"},
            content="composites",
        )
    }


def _mean(
    holes: HoleSet, name: str, p: Composites, index: pd.Index, cells: tuple[np.ndarray, np.ndarray, np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    top_cut = p.top_cut if p.top_cut is not None and name == p.attribute else np.inf
    mean, length = mean_over(holes, name, index, cells, top_cut)
    # What rounding leaves of a neighbour's interval is dust and no sample.
    length = np.where(length < DUST, 0.0, length)
    mean = np.where(length > 0, mean, np.nan)
    lacking = _missing(p, holes).get(name)
    if lacking is not None:
        whole = cells[2] - cells[1]
        mean = (np.nan_to_num(mean) * length + lacking * (whole - length)) / whole
        length = whole
    return mean, length


def _missing(p: Composites, holes: HoleSet) -> dict[str, float]:
    """What missing grades count as, by grade and each in its unit; what is not in it stays missing."""
    told: dict[str, float] = {}
    if p.missing is not None:
        told = dict.fromkeys((p.attribute, *p.also) if p.missing == 0 else (p.attribute,), p.missing)
    for words in p.missing_of:
        name, _, number = words.rpartition("=")
        try:
            value = float(number)
        except ValueError:
            value = np.nan
        if name.strip() not in (p.attribute, *p.also) or not np.isfinite(value):
            raise InputError(
                f"'{words}' does not say what a missing grade counts as",
                where=holes.name,
                fix=f"Write a grade that is composited and a number in its unit: {(p.also or (p.attribute,))[0]}=0.01",
            )
        told[name.strip()] = value
    return told


def _cells(
    holes: HoleSet, p: Composites, path: desurvey.Path, index: pd.Index
) -> tuple[np.ndarray, np.ndarray, np.ndarray, dict[str, np.ndarray]]:
    """Hole, start and stop of the lengths that are composited, and what else is known of each."""
    end = holes.collars["depth_m"].to_numpy(float).copy()
    code, _, deepest = spans(grades_of(holes, p.attribute), index)
    np.maximum.at(end, code[code >= 0], deepest[code >= 0])
    end = np.nan_to_num(end)
    if p.by == "bench":
        hole, start, stop, foot = bench_cells(path, end, p.length, p.level)
        return hole, start, stop, {"bench": foot}
    if p.by == "rock":
        hit = table_with(holes, p.code) if p.code else None
        if hit is None:
            raise InputError(
                f"'{p.code}' is not logged in these holes" if p.code else "no rock column is given",
                where=holes.name,
                fix="Choose the column of rocks that composites break at",
            )
        h, a, b, rock = runs_of(hit[1], p.code, index)
        hole, start, stop, run = divided(h, a, b, np.inf if p.whole else p.length, p.leftover)
        return hole, start, stop, {p.code: rock[run]}
    hole, start, stop, _ = divided(np.arange(len(end)), np.zeros(len(end)), end, p.length, p.leftover)
    return hole, start, stop, {}


def _estimate(inputs: Inputs, p: Composites) -> Cost:
    holes = inputs.need("holes", HoleSet)
    count = float(holes.collars["depth_m"].sum()) / p.length
    return Cost(f"at most {count:,.0f} composites", 1.0, 0.5)


OPERATION = Operation(
    name="composite",
    example=Example({"holes": "Emberlow holes"}, {"attribute": "Sn_ppm", "length": 6.0}),
    title="Composite grades",
    area="Drilling",
    help="Cuts holes into equal lengths from the collar, into benches, or at the contacts of rocks, and gives each part the length-weighted mean of what was sampled in it. Gaps count neither as metal nor as length unless a value is given for them.",
    params=Composites,
    run=_run,
    reads=("holes",),
    inputs=(Input("holes", "Drillholes", ("holes",)),),
    outputs=(Output("composites", "points", "Composites"),),
    estimate=_estimate,
)
