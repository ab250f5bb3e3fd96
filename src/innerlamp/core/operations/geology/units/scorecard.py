"""A geological model held against the holes: logged and modelled units side by side, and the worst holes first."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ....compute.drilling.cells import rock_runs
from ....compute.drilling.desurvey import locate
from ....compute.geology.age_order import Unit
from ....declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ....errors import InputError
from ....importing.hole_paths import place
from ....items.base import Item
from ....items.fields import BlockModel
from ....items.holes import HoleSet
from ....items.points import PointSet
from ....progress import Progress
from .agreement import agreement, hole_points, share
from .logged_units import Logged, logged
from .model_units import model_slot, units_at


class ScorecardParams(Params):
    attribute: str = param("", "Logged units", editor="code", of="holes", help="The column of rocks or units")
    step: float = param(1.0, "Step along holes", unit="m", above=0.0, help="At which the model is asked")
    name: str = param("", "Name")


def modelled(model: BlockModel, log: Logged, depth_of: np.ndarray, step: float) -> pd.DataFrame:
    """Return the runs of the modelled unit along holes: hole, from_m, to_m, modelled; `depth_of` is the end of each hole."""
    count = np.ceil(np.maximum(depth_of, step) / step - 0.5).astype(np.int64)
    hole = np.repeat(np.arange(len(depth_of)), count)
    start = step * (np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count))
    at = locate(log.path, hole, start + 0.5 * step)
    unit = model.named("unit", units_at(model, at))
    of, top, foot, found = rock_runs(hole, start, np.minimum(start + step, depth_of[hole]), unit)
    return pd.DataFrame({"hole": log.names.to_numpy().astype(str)[of], "from_m": top, "to_m": foot, "modelled": found})


def _run(inputs: Inputs, p: ScorecardParams, progress: Progress) -> dict[str, Item]:
    holes, model = inputs.need("holes", HoleSet), inputs.need("model", BlockModel)
    if "unit" not in model.names:
        raise InputError("the model has no named units", where=model.name, fix="Choose one that 'build-units' made")
    if holes.crs != model.crs:
        raise InputError("holes and model have different coordinate systems", where=model.name)
    units = [Unit(name, "background") for name in model.names["unit"]]
    log = logged(holes, p.attribute, units, dict(model.members))
    progress(0.2, "Holes")
    table = agreement(model, log, step=p.step)
    if not len(table):
        raise InputError("no hole lies in the model", where=holes.name)
    deepest = np.nan_to_num(holes.collars["depth_m"].to_numpy(float))
    column = modelled(model, log, deepest, p.step)
    own = pd.DataFrame(
        {
            "hole": np.array([*map(str, log.names)], dtype=object)[log.runs.hole],
            "from_m": log.runs.start,
            "to_m": log.runs.stop,
            "logged": log.runs.unit,
        }
    )
    tables = {
        name: place(rows.assign(line=0), holes.collars, log.path)
        for name, rows in (("logged", own), ("modelled", column))
    }
    stem = p.name or f"Scorecard of {model.name}"
    beside = dataclasses.replace(
        holes, name=stem, tables=tables, readings={}, units={}, groups={}, quantities={}, roles={}
    )
    points = hole_points(table, holes, f"{stem}, by hole")
    progress(1.0, "; ".join(_words(table, points.table)))
    matrix = confusion(table)
    middle = points.table[["x", "y", "z"]].mean()
    rows = pd.DataFrame({axis: float(middle[axis]) for axis in "xyz"}, index=range(len(matrix)))
    rows = rows.assign(logged=matrix.index.to_numpy(), metres=matrix.sum(axis=1).to_numpy())
    rows = pd.concat([rows, matrix.add_prefix("as ").reset_index(drop=True)], axis=1)
    pairs = PointSet(
        name=f"{stem}, logged against modelled",
        crs=holes.crs,
        table=rows,
        units=dict.fromkeys(rows.columns[4:], "m"),
        content="classes",
    )
    return {"beside": beside, "by_hole": points, "confusion": pairs}


def confusion(table: pd.DataFrame) -> pd.DataFrame:
    """Return metres by logged (rows) and modelled unit (columns)."""
    return table.pivot_table(index="logged", columns="modelled", values="metres", aggfunc="sum", fill_value=0.0)


def _words(table: pd.DataFrame, by_hole: pd.DataFrame) -> list[str]:
    wrong = table[table["logged"] != table["modelled"]]
    pairs = wrong.groupby(["logged", "modelled"])["metres"].sum().reset_index().sort_values("metres", ascending=False)
    worst = [f"{r.logged} as {r.modelled} {r.metres:,.0f} m" for r in pairs.itertuples()]
    first = by_hole.iloc[0]
    words = [f"{share(table):.1f} % of {table['metres'].sum():,.0f} m agree"]
    if worst:
        words.append("modelled otherwise: " + ", ".join(worst[:3]))
        words.append(f"worst hole {first['hole']} ({first['wrong']:,.0f} m)")
    return words


OPERATION = Operation(
    name="score-model",
    example=Example(
        {"holes": "Emberlow holes", "model": "@build-units.model"}, {"attribute": "Rock"}, after=("build-units",)
    ),
    title="Hold a model against holes",
    area="Geology",
    help="Puts the logged and the modelled units of each hole side by side for strip logs and sections, and gives the agreement by metre of each hole, the worst first, and of each unit, as what it was modelled. Holes that came after the model say how well it foretold them.",
    params=ScorecardParams,
    run=_run,
    inputs=(
        Input("holes", "Drillholes", ("holes",)),
        model_slot(),
    ),
    outputs=(
        Output("beside", "holes", "Logged and modelled units"),
        Output("by_hole", "points", "Agreement of each hole"),
        Output("confusion", "points", "Metres of each logged unit by modelled unit"),
    ),
)
