"""Where a model of units is a guess: many models that fit what is known as well, and how often each unit is where."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from ....compute.geology import age_order as ao
from ....compute.geology.faults import Fault, taken_back
from ....declaring.operation import Cost, Example, Inputs, Operation, Output, param
from ....items.base import Item
from ....items.features import Features
from ....items.fields import BlockModel
from ....items.holes import HoleSet
from ....progress import Progress
from .build_model import OPERATION as BUILD
from .build_model import sources_of
from .covers import cover_of
from .fault_throws import cutting, faults_of
from .given_surfaces import inside_of
from .model_extent import within
from .model_sources import Sources
from .unit_fields import Posed, posed
from .unit_params import BuildModel
from .vein_fields import vein_bodies

_AT_ONCE = 2_000  # places


class Uncertainty(BuildModel):
    realisations: int = param(
        50, "Realisations", low=2, high=500, help="Models that are made, each as likely as the others"
    )
    contact_error: float = param(
        3.0,
        "Contacts are right within",
        unit="m",
        low=0.0,
        help="Standard deviation of where holes have their contacts",
    )
    map_error: float = param(
        15.0, "Mapped contacts within", unit="m", low=0.0, help="The same of mapped, drawn and given contacts"
    )
    reading_error: float = param(
        8.0, "Readings within", unit="°", low=0.0, high=60.0, help="Standard deviation of the way of a reading"
    )
    seed: int = param(1, "Seed", low=0, help="The same seed gives the same models", more=True)


def moved(task: Posed, p: Uncertainty, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return values (n, r) and normals (r, m, 3) of a field for each realisation: contacts with what is near them, and readings."""
    from scipy.spatial import cKDTree

    whole, count = task.whole, p.realisations
    on = np.flatnonzero(whole.contact)
    sd = np.where(whole.hole[on] == "", p.map_error, p.contact_error)
    shift = rng.normal(size=(len(on), count)) * sd[:, None]
    values = np.repeat(whole.values[:, None], count, axis=1)
    if len(on):
        # A contact that lies elsewhere is as much nearer to what lies on one side of it, as it is farther from the other.
        _, nearest = cKDTree(whole.points[on]).query(whole.points)
        values += shift[nearest]
        sure = ~whole.contact
        keep = np.sign(whole.values)[:, None]
        values[sure] = np.where(values[sure] * keep[sure] > 0, values[sure], 0.0)
    turned = np.repeat(task.plane_normals[None, :, :], count, axis=0)
    turned = turned + np.radians(p.reading_error) * rng.normal(size=turned.shape)
    return values, turned / np.maximum(np.linalg.norm(turned, axis=2, keepdims=True), 1e-9)


def _several(
    group: list[int],
    of: Sources,
    p: Uncertainty,
    faults: Sequence[Fault],
    now: np.ndarray,
    then: np.ndarray,
    rng: np.random.Generator,
) -> Iterator[list[np.ndarray]]:
    """Metres inside of each unit of a series for all realisations, (part, r), part by part of the places."""
    from ....compute.geology import scalar_fields

    number, row, count = group[0], p.units[group[0]], p.realisations
    if row.surface.strip():
        shifts = rng.normal(size=(len(group), count)) * p.map_error
        for part in _parts(len(now)):
            yield [
                inside_of(p.units[k].surface.strip(), of.given, of.units[k].kind, now[part])[:, None] + s
                for k, s in zip(group, shifts, strict=True)
            ]
    elif row.kind == "overburden" and (cover := cover_of(number, of, p)) is not None:
        from scipy.spatial import cKDTree

        plan = cKDTree(cover.points[:, :2])
        shift = (
            rng.normal(size=(len(cover.points), count))
            * np.where(cover.hole == "", p.map_error, p.contact_error)[:, None]
        )
        for part in _parts(len(now)):
            _, nearest = plan.query(now[part, :2])  # a base that lies elsewhere is as much higher or lower
            yield [cover.inside(now[part], of)[:, None] + shift[nearest]]
    elif row.kind == "vein":
        from scipy.spatial import cKDTree

        made = vein_bodies(number, of, p, faults)
        other = next((k for k, u in enumerate(of.units) if u.name == row.ends_at.strip()), -1)
        end = vein_bodies(other, of, p, faults) if other >= 0 else None
        walls = cKDTree(taken_back(made.walls, faults))
        shift = (
            rng.normal(size=(len(made.walls), count)) * np.where(made.hole == "", p.map_error, p.contact_error)[:, None]
        )
        for part in _parts(len(then)):
            values = made.value(then[part]) if end is None else made.ended(made.value(then[part]), end, then[part])
            _, nearest = walls.query(then[part])  # the walls of a piece move each for itself, along the normal
            yield [values[:, None] + shift[nearest]]
    else:
        task = posed(group, of, p, faults)
        values, normals = moved(task, p, rng)
        made_of: dict[str, Any] = dict(task.options)
        equations = scalar_fields.equations(
            task.whole.points, task.plane_at, task.plane_normals, nugget=task.nugget, **made_of
        )
        growth = np.stack([equations.grown(n) for n in normals], axis=1)
        for _, found in scalar_fields.several(equations, values, growth, then, _AT_ONCE):
            yield [found + shift for shift in task.shifts]


def _parts(count: int) -> Iterator[slice]:
    for begin in range(0, count, _AT_ONCE):
        yield slice(begin, min(begin + _AT_ONCE, count))


def entropy(share: np.ndarray) -> np.ndarray:
    """Return the information entropy of units at places, from the share (n, k) of each: 0 sure, 1 when all are as likely.

    Wellmann & Regenauer-Lieb 2012 (Tectonophysics 526-529, 207), divided by its largest value.
    """
    logs = np.log(np.where(share > 0, share, 1.0))
    return np.asarray(-(share * logs).sum(axis=1) / np.log(share.shape[1]))


def _run(inputs: Inputs, p: Uncertainty, progress: Progress) -> dict[str, Item]:
    p = p.switched
    of, _, _ = sources_of(inputs, p)
    faults, _ = faults_of(of, p, progress.part(0.0, 0.1))
    now = of.mesh.centres()
    rng = np.random.default_rng(p.seed)
    groups = ao.series(of.units)
    cut = [cutting(group[0], faults, of, p) for group in groups]
    sources = [
        _several(group, of, p, mine, now, taken_back(now, mine), rng) for group, mine in zip(groups, cut, strict=True)
    ]
    counts = np.zeros((len(now), len(of.units)), dtype=np.int32)
    volumes = np.zeros((p.realisations, len(of.units)))
    inside = (of.mesh.thickness.ravel() > 0) & within(p, now)
    volume = of.mesh.volumes()
    for part in _parts(len(now)):
        progress(0.1 + 0.88 * part.start / len(now), f"{p.realisations} realisations")
        fields = [each for source in sources for each in next(source)]
        unit, _ = ao.combined([f.ravel() for f in fields])
        units = unit.reshape(-1, p.realisations)
        for k in range(len(of.units)):
            hit = units == k
            counts[part, k] = hit.sum(axis=1)
            volumes[:, k] += ((volume[part] * inside[part])[:, None] * hit).sum(axis=0)
    share = counts / p.realisations
    mesh, crs = of.mesh, (inputs.maybe("holes", HoleSet) or inputs.need("map", Features)).crs

    def boxed(values: np.ndarray) -> np.ndarray:
        return np.where(inside, values, np.nan).astype(np.float32).reshape(mesh.shape)

    unsure = entropy(share)
    names = [u.name for u in of.units]
    model = BlockModel(
        name=p.name or "Entropy of units",
        crs=crs,
        mesh=mesh,
        properties={
            "entropy": boxed(unsure),
            "unit": np.where(inside, share.argmax(axis=1).astype(float), np.nan).reshape(mesh.shape),
            **{f"probability of {name}": boxed(100.0 * share[:, k]) for k, name in enumerate(names)},
        },
        units={"entropy": "", "unit": "", **{f"probability of {name}": "%" for name in names}},
        names={"unit": tuple(names)},
        members=of.members,
    )
    words = [
        f"{name} {volumes[:, k].mean() / 1e6:,.2f} ± {volumes[:, k].std() / 1e6:,.2f} million m³"
        for k, name in enumerate(names)
    ]
    mean = float(np.average(unsure[inside], weights=volume[inside]))
    progress(1.0, f"mean entropy {mean:.3f}; " + "; ".join(words))
    return {"model": model}


def _estimate(inputs: Inputs, p: Uncertainty) -> Cost:
    assert BUILD.estimate is not None
    plain = BUILD.estimate(inputs, p)
    more = plain.seconds * (4.0 + 0.05 * p.realisations)
    return Cost(
        f"{plain.text}, {p.realisations} realisations", plain.megabytes * 2.0 + 200, more, plain.notes, plain.sketch
    )


assert BUILD.example is not None
OPERATION = Operation(
    name="unit-uncertainty",
    example=Example(BUILD.example.inputs, {**BUILD.example.params, "realisations": 5}),
    title="Where units are a guess",
    area="Geology",
    help="Makes many models of units, each with contacts and readings moved within what they may be off, and tells how often each unit is at each block and how unsure the unit is (entropy), with volumes and their spread. Throws of faults stay as they are.",
    params=Uncertainty,
    run=_run,
    reads=BUILD.reads,
    inputs=BUILD.inputs,
    outputs=(Output("model", "blocks", "Probabilities and entropy"),),
    estimate=_estimate,
    suggest=BUILD.suggest,
)
