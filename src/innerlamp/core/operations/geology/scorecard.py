"""A geological model held against the holes: logged and modelled units side by side, and the worst holes first."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ...compute.drilling.desurvey import locate
from ...compute.geology.age_order import Unit
from ...declaring.operation import Example, Input, Inputs, Operation, Output, Params, param
from ...errors import InputError
from ...importing.hole_paths import path_from, place
from ...items.base import Item
from ...items.fields import BlockModel
from ...items.holes import HoleSet
from ...items.points import PointSet
from ...progress import Progress
from .agreement import agreement, share
from .logged_units import Logged, logged


class ScorecardParams(Params):
    attribute: str = param("", "Logged units", editor="code", of="holes", help="The column of rocks or units")
    step: float = param(1.0, "Step along holes", unit="m", above=0.0, help="At which the model is asked")
    name: str = param("", "Name")


def modelled(model: BlockModel, log: Logged, depth_of: np.ndarray, step: float) -> pd.DataFrame:
    """Return the runs of the modelled unit along holes: hole, from_m, to_m, modelled; `depth_of` is the end of each hole."""
    tables = []
    names = [str(n) for n in log.names]
    for number, deep in enumerate(depth_of):
        at = np.arange(0.5 * step, max(deep, step), step)
        if not len(at):
            continue
        places = locate(log.path, np.full(len(at), number), at)
        unit = model.named("unit", model.mesh.values_at(model.properties["unit"], *places.T))
        change = np.flatnonzero(np.concatenate([[True], unit[1:] != unit[:-1]]))
        ends = np.append(change[1:], len(at))
        tables.append(
            pd.DataFrame(
                {
                    "hole": names[number],
                    "from_m": at[change] - 0.5 * step,
                    "to_m": np.minimum(at[ends - 1] + 0.5 * step, deep),
                    "modelled": unit[change],
                }
            )
        )
    whole = pd.concat(tables, ignore_index=True) if tables else pd.DataFrame()
    return whole[whole["modelled"] != ""].reset_index(drop=True)


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
    deepest = holes.collars["depth_m"].to_numpy(float)
    column = modelled(model, log, deepest, p.step)
    own = pd.DataFrame(
        {
            "hole": np.array([*map(str, log.names)], dtype=object)[log.runs.hole],
            "from_m": log.runs.start,
            "to_m": log.runs.stop,
            "logged": log.runs.unit,
        }
    )
    path, _ = path_from(holes)
    tables = {
        name: place(rows.assign(line=0), holes.collars, path) for name, rows in (("logged", own), ("modelled", column))
    }
    stem = p.name or f"Scorecard of {model.name}"
    beside = dataclasses.replace(
        holes, name=stem, tables=tables, readings={}, units={}, groups={}, quantities={}, roles={}
    )
    by_hole = _by_hole(table)
    collars = holes.collars.assign(hole=holes.collars["hole"].astype(str)).set_index("hole").loc[by_hole["hole"]]
    rows = pd.DataFrame(
        {
            **{axis: collars[axis].to_numpy(float) for axis in ("x", "y", "z")},
            "hole": by_hole["hole"].to_numpy(),
            "agreement": by_hole["agreement"].to_numpy(),
            "wrong": by_hole["wrong"].to_numpy(),
            "mostly": by_hole["mostly"].to_numpy(),
        }
    )
    points = PointSet(
        name=f"{stem}, by hole", crs=holes.crs, table=rows, units={"agreement": "%", "wrong": "m"}, content="readings"
    )
    progress(1.0, "; ".join(_words(table, by_hole)))
    return {"beside": beside, "by_hole": points}


def _by_hole(table: pd.DataFrame) -> pd.DataFrame:
    """Agreement in percent, wrong metres and the most frequent mistake of each hole, the worst first."""
    rows = []
    for hole, part in table.groupby("hole", sort=False):
        bad = part[part["logged"] != part["modelled"]].sort_values("metres", ascending=False)
        worst = f"{bad['logged'].iloc[0]} as {bad['modelled'].iloc[0]}" if len(bad) else ""
        rows.append({"hole": hole, "agreement": share(part), "wrong": float(bad["metres"].sum()), "mostly": worst})
    return pd.DataFrame(rows).sort_values(["wrong", "hole"], ascending=[False, True]).reset_index(drop=True)


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
    help="Puts the logged and the modelled units of each hole side by side for strip logs and sections, and gives the agreement by metre of each hole, the worst first. Holes that came after the model say how well it foretold them.",
    params=ScorecardParams,
    run=_run,
    inputs=(
        Input("holes", "Drillholes", ("holes",)),
        Input(
            "model",
            "Model of units",
            ("blocks",),
            need=lambda e: "unit" in e.attributes and e.attributes["unit"].is_code,
        ),
    ),
    outputs=(
        Output("beside", "holes", "Logged and modelled units"),
        Output("by_hole", "points", "Agreement of each hole"),
    ),
)
