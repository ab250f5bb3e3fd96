"""The faults of a model, with the throws that its layers ask for."""

from __future__ import annotations

import numpy as np

from ...compute.geology.faults import Fault, checked, step_across, taken_back, with_throw
from ...errors import InputError
from ...progress import Progress
from .contact_evidence import Sources, evidence
from .model_extent import height_at
from .unit_params import BuildModel


def faults_of(of: Sources, p: BuildModel, progress: Progress) -> tuple[list[Fault], list[str]]:
    """The faults with their throws, and what is said of those that were looked for."""
    made: list[Fault] = []
    words: list[str] = []
    for row in p.faults:
        z = row.elevation
        z = float(height_at(of.ground, np.array([row.east]), np.array([row.north]))[0]) if z is None else z
        at = np.array([row.east, row.north, z])
        length = np.inf if row.length is None else row.length
        made.append(checked(Fault(at, row.dip, row.dip_direction, row.throw or 0.0, row.along, length)))
        west, east, south, north = of.mesh.bounds[:4]
        corners = np.array([(x, y, k) for x in (west, east) for y in (south, north) for k in of.mesh.bounds[4:]])
        off = made[-1].off(corners)
        if off.min() > 0 or off.max() < 0:
            raise InputError(
                f"the fault '{row.fault}' lies outside of the model", fix="Look at its place, dip and direction"
            )
    wanted = [k for k, row in enumerate(p.faults) if row.throw is None]
    if not wanted:
        return made, words
    # Layers tell a throw: what was laid down flat goes on across the fault, once it is taken back.
    layers = [k for k, u in enumerate(of.units) if u.kind in ("conformable base", "unconformity")]
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
