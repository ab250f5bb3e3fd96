"""The faults of a model, with the throws that its layers ask for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pandas as pd

from ....compute.geology.faults import Fault, checked, step_across, taken_back, through, with_throw
from ....errors import InputError
from ....items.features import Features
from ....items.fields import Surface
from ....items.points import PointSet
from ....progress import Progress
from .contact_evidence import evidence
from .hand_evidence import lines_named
from .model_extent import height_at
from .model_sources import Sources
from .unit_params import BuildModel, FaultRow

_MOST = 400  # places that a fault is laid through


def _placed(row: FaultRow, of: Sources) -> Fault:
    """A fault where its row says, or along its trace, points or surface."""
    at = [np.empty((0, 3))]
    for item in of.faults:
        if isinstance(item, Surface):
            if item.name == row.fault.strip():
                rows = np.linspace(0, len(item.vertices) - 1, min(len(item.vertices), _MOST)).astype(np.int64)
                at.append(item.vertices[rows])
        elif isinstance(item, PointSet | Features):
            at.append(lines_named([item], row.fault.strip()))
    places = np.vstack(at)
    given = None if row.east is None or row.north is None else np.array([row.east, row.north, np.nan])
    if given is not None:
        given[2] = row.elevation if row.elevation is not None else height_at(of.ground, given[:1], given[1:2])[0]
    if len(places):
        lost = ~np.isfinite(places[:, 2])
        places[lost, 2] = height_at(of.ground, places[lost, 0], places[lost, 1])
        if len(places) > _MOST:
            places = places[np.linspace(0, len(places) - 1, _MOST).astype(np.int64)]
        fault = through(places, row.dip, row.dip_direction)
        if given is not None and fault.bent is None:
            fault = replace(fault, point=given)
    elif given is None:
        raise InputError(
            f"the fault '{row.fault}' has no place",
            fix="Give its easting and northing, or a trace, points or a surface of its name under 'Traces of faults'",
        )
    elif row.dip is None or row.dip_direction is None:
        raise InputError(f"the fault '{row.fault}' needs a dip and a dip direction")
    else:
        fault = Fault(given, row.dip, row.dip_direction)
    return replace(
        fault, throw=row.throw or 0.0, along=row.along, length=np.inf if row.length is None else row.length,
        height=np.inf if row.height is None else row.height,
    )  # fmt: skip


def cutting(number: int, made: Sequence[Fault], of: Sources, p: BuildModel) -> list[Fault]:
    """Return the faults that cut a unit.

    Raises
    ------
    InputError
        When a fault is to cut from a unit that is not there.
    """
    names = [u.name for u in of.units]
    out = []
    for row, fault in zip(p.faults, made, strict=True):
        first = row.cuts_from.strip()
        if first and first not in names:
            raise InputError(
                f"the fault '{row.fault}' cuts from '{first}', which is no unit", fix="There are: " + ", ".join(names)
            )
        if not first or names.index(first) <= number:
            out.append(fault)
    return out


def _ended(number: int, made: Sequence[Fault], p: BuildModel) -> Fault:
    """A fault that ends at another, on the side on which its own place lies."""
    name = p.faults[number].ends_at.strip()
    if not name:
        return made[number]
    other = next((k for k, row in enumerate(p.faults) if row.fault.strip() == name), number)
    if other == number:
        raise InputError(f"'{p.faults[number].fault}' ends at '{name}', which is no other fault of the list")
    side = 1.0 if float(made[other].off(made[number].point[None, :])[0]) >= 0 else -1.0
    return replace(made[number], ends=((made[other], side),))


def throw_map(made: Sequence[Fault], p: BuildModel, of: Sources) -> pd.DataFrame:
    """Return places on the faults of a model with what they moved there: x, y, z, fault, throw, heave, level slip, along."""
    low, high = np.array(of.mesh.bounds).reshape(3, 2).T
    parts = []
    for row, fault in zip(p.faults, made, strict=True):
        at = fault.places_on(low, high, max(2.0 * p.cell, float((high - low).max()) / 60.0))
        at = at[at[:, 2] <= height_at(of.ground, at[:, 0], at[:, 1])]
        share = fault.share(at)
        columns = {axis: at[:, k] for k, axis in enumerate("xyz")}
        parts.append(
            pd.DataFrame(
                {
                    **columns,
                    "fault": row.fault,
                    "throw": share * fault.throw,
                    "heave": share * fault.heave,
                    "slip_east": share * fault.slip[0],
                    "slip_north": share * fault.slip[1],
                    "along": share * fault.along,
                }
            )
        )
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame()


def faults_of(of: Sources, p: BuildModel, progress: Progress) -> tuple[list[Fault], list[str]]:
    """The faults with their throws, and what is said of those that were looked for.

    Raises
    ------
    InputError
        When a fault has no place or dip, lies outside of the model, or nothing tells its throw.
    """
    made: list[Fault] = []
    words: list[str] = []
    for row in p.faults:
        made.append(checked(_placed(row, of)))
        low, high = np.array(of.mesh.bounds).reshape(3, 2).T
        if not len(made[-1].places_on(low, high, max(p.cell, p.cell_z))):
            raise InputError(
                f"the fault '{row.fault}' lies outside of the model", fix="Look at its place, dip and direction"
            )
    made = [_ended(k, made, p) for k in range(len(made))]
    wanted = [k for k, row in enumerate(p.faults) if row.throw is None]
    if not wanted:
        return made, words
    # Layers tell a throw: what was laid down flat goes on across the fault, once it is taken back.
    layers = [
        k for k, u in enumerate(of.units)
        if u.kind in ("conformable base", "unconformity") and not p.units[k].surface
    ]  # fmt: skip
    found = [evidence(k, of, p, made, alone=True) for k in layers]
    sets = [e.points[e.contact] for e in found]
    for turn, k in enumerate(wanted):
        progress(turn / len(wanted), f"Throw of {p.faults[k].fault}")

        def rough(fault: Fault, here: int = k) -> float:
            others = [*made[:here], fault, *made[here + 1 :]]
            return step_across([(fault.off(at), taken_back(at, others)) for at in sets])

        if not np.isfinite(rough(made[k])):
            raise InputError(
                f"the throw of '{p.faults[k].fault}' can't be told: no layer is met on both sides of it",
                fix="Give its throw",
            )
        made[k] = with_throw(made[k], rough, p.most_throw)
        words.append(f"throw of {p.faults[k].fault} {made[k].throw:.0f} m, heave {made[k].heave:.0f} m")
    return made, words
