"""How well a model of units foretells holes that it was not made of: holes are left out in turn, and the model made without them."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from ....compute.geology import age_order as ao
from ....declaring.operation import Cost, Example, Inputs, Operation, Output, param
from ....errors import InputError
from ....items.base import Item
from ....items.holes import HoleSet
from ....progress import SILENT, Progress
from .agreement import hole_points, places_along, share
from .build_model import OPERATION as BUILD
from .build_model import sources_of
from .fault_throws import faults_of
from .unit_fields import fields
from .unit_params import BuildModel

_MOST = 2_000  # values that each field is fitted to


class LeaveOut(BuildModel):
    parts: int = param(5, "Parts", low=2, high=50, help="The holes are left out in so many turns, each one once")
    seed: int = param(1, "Seed", low=0, help="The same seed leaves out the same holes", more=True)


def _run(inputs: Inputs, p: LeaveOut, progress: Progress) -> dict[str, Item]:
    p = p.switched
    of, log, _ = sources_of(inputs, p)
    if log is None:
        raise InputError("there are no holes that could be left out")
    faults, _ = faults_of(of, p, SILENT)
    there = np.unique(log.runs.hole)
    if len(there) < p.parts:
        raise InputError(f"{len(there)} holes can't be left out in {p.parts} parts", fix="Take fewer parts")
    order = np.random.default_rng(p.seed).permutation(there)
    tables, unmade = [], []
    names = np.array([u.name for u in of.units], dtype=object)
    of_holes = np.array([*map(str, log.names)], dtype=object)
    for turn in range(p.parts):
        progress(turn / p.parts, f"Part {turn + 1} of {p.parts}")
        left = order[turn :: p.parts]
        at, run, metres = places_along(log, left, min(p.step, 2.0))
        try:
            found = fields(dataclasses.replace(of, log=log.without(left)), p, at, faults, SILENT, most=_MOST)
        except InputError as error:  # a unit that only these holes have
            unmade.append(str(error))
            continue
        unit, _ = ao.combined([f.values for f in found])
        tables.append(
            pd.DataFrame(
                {
                    "hole": of_holes[log.runs.hole[run]],
                    "logged": names[log.unit[run]],
                    "modelled": names[unit],
                    "metres": metres,
                }
            )
        )
    if not tables:
        raise InputError(f"no part could be left out: {unmade[0]}", fix="Take more parts")
    whole = pd.concat(tables, ignore_index=True)
    words = [f"{share(whole):.1f} % of {whole['metres'].sum():,.0f} m foretold by models made without their holes"]
    by_unit = [f"{n} {share(part):.0f} %" for n, part in whole.groupby("logged", sort=False)]
    words.append("by logged unit: " + ", ".join(sorted(by_unit)))
    if unmade:
        words.append(f"{len(unmade)} parts could not be left out: {unmade[0]}")
    progress(1.0, "; ".join(words))
    return {
        "foretold": hole_points(whole, inputs.need("holes", HoleSet), p.name or "Holes foretold"),
    }


def _estimate(inputs: Inputs, p: LeaveOut) -> Cost:
    assert BUILD.estimate is not None
    plain = BUILD.estimate(inputs, p)
    return Cost(
        f"{p.parts} models without holes", plain.megabytes, 1.0 + 1.5 * p.parts, plain.notes, None, plain.contacts
    )


assert BUILD.example is not None
OPERATION = Operation(
    name="leave-holes-out",
    example=Example(BUILD.example.inputs, {**BUILD.example.params, "parts": 3}),
    title="Leave holes out in turn",
    area="Geology",
    help="Makes the model of units again and again, each time without a part of the holes, and tells what part of their metres it foretells: by unit, and hole by hole with the worst first. Takes the parameters of the model itself.",
    params=LeaveOut,
    run=_run,
    reads=BUILD.reads,
    inputs=BUILD.inputs,
    outputs=(Output("foretold", "points", "Agreement of each hole, left out"),),
    estimate=_estimate,
    suggest=BUILD.suggest,
)
