"""The field of each unit: how far inside of its contact places lie, as far as that contact alone decides."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields as dataclass_fields
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
import pandas as pd

from ....compute.geology import age_order as ao
from ....compute.geology.faults import Fault, taken_back
from ....compute.geology.units.evidence import Evidence, for_series, levels, one_set, thinned
from ....compute.geology.units.kept_fields import kept
from ....compute.geology.units.vein_bodies import Bodies
from ....errors import InputError
from ....progress import Progress
from .contact_evidence import evidence
from .covers import Cover, cover_of
from .fault_throws import cutting
from .given_surfaces import inside_of
from .logged_units import UnitRow
from .model_sources import Readings, Sources
from .unit_params import BuildModel
from .vein_fields import vein_bodies

_OF_MAPS = (
    4.0  # metres of smoothing more for contacts that a map has, which are drawn less surely than holes are logged
)
COLUMNS = ["x", "y", "z", "surface", "misfit", "hole"]


class Found(NamedTuple):
    """The field of a unit at the places of a model, its contacts with their misfit, and holes that it misses.

    `shift` is what was added to the field that its series shares.
    """

    values: np.ndarray
    contacts: pd.DataFrame
    misses: pd.DataFrame
    shift: float = 0.0


class Posed(NamedTuple):
    """What the field of a series is fitted to: evidence before the faults, planes, and how it is smoothed."""

    found: list[Evidence]
    shifts: list[float]
    whole: Evidence
    nugget: np.ndarray
    plane_at: np.ndarray
    plane_normals: np.ndarray
    options: dict[str, Any]


def fields(
    of: Sources, p: BuildModel, now: np.ndarray, faults: Sequence[Fault], progress: Progress, most: int = 0
) -> list[Found]:
    """Return what there is for each unit but the background at places (n, 3) as they lie now.

    `most` bounds the values that each field is fitted to, for a coarse model.

    Raises
    ------
    InputError
        When nothing tells where a unit ends.
    """
    every = ao.series(of.units)
    cut = {group[0]: cutting(group[0], faults, of, p) for group in every}
    out: dict[int, Found] = {}
    before: dict[tuple[int, ...], np.ndarray] = {}  # places before the same faults are the same
    bodies = {
        group[0]: vein_bodies(group[0], of, p, cut[group[0]])
        for group in every
        if of.units[group[0]].kind == "vein" and not p.units[group[0]].surface
    }
    for turn, group in enumerate(every):
        part = progress.part(turn / len(every), (turn + 1) / len(every))
        part(0.0, of.units[group[0]].name)
        mine = cut[group[0]]
        key = tuple(map(id, mine))
        if key not in before:
            before[key] = taken_back(now, mine)
        then = before[key]
        if given := given_in(group, of, p):
            for k in given:
                values = inside_of(p.units[k].surface.strip(), of.given, of.units[k].kind, now)
                out[k] = Found(values, pd.DataFrame(columns=COLUMNS), pd.DataFrame())
        elif of.units[group[0]].kind == "overburden" and (cover := cover_of(group[0], of, p)) is not None:
            out[group[0]] = covered(group[0], cover, of, p, cover.inside(now, of))
        elif group[0] in bodies:
            out[group[0]] = _vein(group[0], bodies, of, p, then, mine)
        else:
            out |= dict(zip(group, fitted(group, of, p, then, mine, part, most), strict=True))
    return [out[k] for k in range(len(of.units) - 1)]


def given_in(group: list[int], of: Sources, p: BuildModel) -> list[int]:
    """Return the units of a series whose contact is a given surface: none, or all of them.

    Raises
    ------
    InputError
        When some are and others not.
    """
    given = [k for k in group if p.units[k].surface.strip()]
    if given and len(given) < len(group):
        raise InputError(
            f"'{of.units[given[0]].name}' has a given surface, but its series is fitted to holes",
            fix="Make it an unconformity, or give surfaces to all units of the series",
        )
    return given


def ending_vein(number: int, bodies: dict[int, Bodies], of: Sources, p: BuildModel) -> int | None:
    """Return the vein at which a vein is to end, None for none.

    Raises
    ------
    InputError
        When what it names is no other vein.
    """
    name = p.units[number].ends_at.strip()
    if not name:
        return None
    other = next((k for k, u in enumerate(of.units) if u.name == name), -1)
    if other not in bodies or other == number:
        raise InputError(
            f"'{of.units[number].name}' ends at '{name}', which is no other vein", fix="Name a vein of the age order"
        )
    return other


def posed(group: list[int], of: Sources, p: BuildModel, faults: Sequence[Fault], most: int = 0) -> Posed:
    """Return what the field of a series is fitted to.

    Raises
    ------
    InputError
        When nothing tells where a unit of it ends.
    """
    units = of.units
    found = [evidence(k, of, p, faults) for k in group]
    row = p.units[group[0]]
    for number, each in zip(group, found, strict=True):
        inside, outside = (each.values > 0).any(), (each.values < 0).any()
        if not inside or not outside:
            side = "outside" if inside else "inside"
            raise InputError(
                f"nothing tells where '{units[number].name}' ends: there is no place {side} of it",
                fix="Look at its codes, its place in the age order and the contact table",
            )
    laid, smooth = ao.laid_down(units[group[0]].kind), p.follow(group[0]) == "smooth"
    if laid and not smooth and (layers := _layers(found, row, of, p, faults, most)) is not None:
        return layers
    # Layers of one series are levels of one field: each base is moved to the same zero by its mean distance.
    shifts = levels(found)
    if len(found) > 1:
        found = [for_series(e, k == 0, k == len(found) - 1, p.cap) for k, e in enumerate(found)]
    whole = thinned(one_set(found, shifts, faults), most)
    nugget = np.where(whole.contact, p.smoothing, p.smoothing + 0.05 * np.abs(whole.values)) * (0.1 if smooth else 1.0)
    nugget[whole.firm] = 0.0
    near = of.readings if laid else Readings(of.readings.at[:0], of.readings.normals[:0])
    keep = _planes_kept(len(near.at), len(whole.points), most)
    options = {
        "ellipsoid": _ellipsoid(row),
        "plane_nugget": 0.02 if smooth else 0.2,
        "power": 3 if smooth else 1,
        # Layers go on as planes do; a body closes where nothing says that it goes on.
        "drift": "linear" if laid else "constant",
        "lift": _along_bedding(row, of, faults),
    }
    return Posed(found, shifts, whole, nugget, taken_back(near.at[keep], faults), near.normals[keep], options)


def _planes_kept(planes: int, values: int, most: int) -> np.ndarray:
    """Which readings are taken beside so many values."""
    from ....compute.geology import rbf

    limit = max((rbf.LARGEST - values) // 6, 0)
    many = min(limit, planes, 300 if not most else 60)
    return np.linspace(0, max(planes - 1, 0), many).astype(np.int64)


def _layers(
    found: list[Evidence],
    row: UnitRow,
    of: Sources,
    p: BuildModel,
    faults: Sequence[Fault],
    most: int,
) -> Posed | None:
    """Contacts of a series as values, of all else the few sides that would be violated; None with too few contacts."""
    from ....compute.geology import rbf, sides

    plain = one_set(found, [0.0] * len(found), faults)
    number = np.concatenate([np.full(len(e.points), k) for k, e in enumerate(found)])
    sign = np.sign(plain.values)
    only_side = ~plain.contact & ~plain.told
    if int(plain.contact.sum()) < 3:
        return None
    many = _planes_kept(len(of.readings.at), int(plain.contact.sum()), most)
    along, slope = sides.growth(
        plain.points[plain.contact],
        number[plain.contact],
        plain.points[only_side],
        number[only_side],
        sign[only_side],
        of.readings.normals[many],
    )
    shifts = levels(found, slope)
    if not np.isfinite(shifts).all():
        return None
    level = -np.array(shifts)[number]
    every = replace(plain, values=plain.values + level)
    whole = thinned(every.only(~only_side), most)
    keep = _planes_kept(len(of.readings.at), len(whole.points), most)
    at, normals = taken_back(of.readings.at[keep], faults), of.readings.normals[keep]
    beside = every.points[only_side]
    options: dict[str, Any] = {
        "ellipsoid": _ellipsoid(row),
        "plane_nugget": 0.2,
        "power": 1,
        "drift": "linear" if len(at) or _spread(whole.points, along) else "constant",
        "lift": _along_bedding(row, of, faults),
        "along": along,
    }
    nugget = np.where(whole.contact, p.smoothing, p.smoothing + 0.05 * np.abs(whole.values))
    nugget[(whole.hole == "") & whole.contact & ~whole.told] += _OF_MAPS
    nugget[whole.firm] = 0.0
    room = max(min(most or rbf.LARGEST, rbf.LARGEST - 6 * len(at)) - len(whole.points), 0)
    # What smoothing lets pass a contact passes the sample beside it, too.
    softness = np.where(every.firm, 1e-3, p.smoothing + 1e-3)[only_side]
    beside_of = (beside, level[only_side], sign[only_side], softness)
    said = [v.tolist() if isinstance(v, np.ndarray) else v for k, v in options.items() if k != "lift"]
    lifted = (of.readings.at, of.readings.normals, row.reach) if options["lift"] is not None else ()
    (held,) = kept(
        ("sides", whole.points, whole.values, nugget, *beside_of, at, normals, room, said, *lifted),
        lambda: (sides.held(whole.points, whole.values, nugget, *beside_of, (at, normals), options, room),),
    )
    rows = np.flatnonzero(only_side)[held]
    some = replace(every.only(rows), values=level[rows] + sides.BARELY * sign[rows])
    joined = Evidence(
        *(np.concatenate([getattr(whole, f.name), getattr(some, f.name)]) for f in dataclass_fields(whole))
    )
    nugget = np.concatenate([nugget, softness[held]])
    return Posed(found, shifts, joined, nugget, at, normals, options)


def _spread(points: np.ndarray, along: np.ndarray) -> bool:
    """Whether contacts (n, 3) spread both ways across a direction, so that they tell how a layer slopes."""
    across = points - points.mean(axis=0)
    across = across - (across @ along)[:, None] * along
    size = np.linalg.svd(across, compute_uv=False)
    return bool(size[1] > 0.05 * size[0])


def covered(number: int, cover: Cover, of: Sources, p: BuildModel, values: np.ndarray) -> Found:
    """Return what there is for a cover with its values at places."""
    name = of.units[number].name
    table = pd.DataFrame(
        {**{axis: cover.points[:, k] for k, axis in enumerate("xyz")}, "surface": name}
        | {"misfit": cover.inside(cover.points, of), "hole": cover.hole}
    )
    bad = table[(table["misfit"].abs() > p.tolerance) & (table["hole"] != "")]
    bad = bad.assign(what="misses its contact", distance=bad["misfit"].abs())
    return Found(values, table, bad.sort_values("distance", ascending=False).drop_duplicates("hole"))


def fitted(
    group: list[int],
    of: Sources,
    p: BuildModel,
    places: np.ndarray,
    faults: Sequence[Fault],
    progress: Progress,
    most: int,
) -> list[Found]:
    """Return the fields of a series at places (n, 3) before its faults, with their contacts; see `fields`."""
    from ....compute.geology import rbf, scalar_fields

    task = posed(group, of, p, faults, most)

    def make() -> tuple[np.ndarray, ...]:
        field = scalar_fields.fit_with_planes(
            task.whole.points, task.whole.values, task.plane_at, task.plane_normals,
            nugget=task.nugget, progress=progress.part(0.0, 0.4), **task.options,
        )  # fmt: skip
        own = [rbf.evaluate(field, taken_back(e.points, faults)) for e in task.found]
        return rbf.evaluate(field, places, progress.part(0.4, 1.0)), *own

    # What does not depend on a change is not made again: holes, codes or settings of other units leave a field as it was.
    said = {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in task.options.items() if k != "lift"}
    lift = p.units[group[0]].reach if task.options["lift"] is not None else None
    readings = (of.readings.at, of.readings.normals) if lift is not None else ()
    made = kept(
        (task.whole.points, task.whole.values, task.nugget, task.plane_at, task.plane_normals, places, said, lift, *readings,
         *(e.points for e in task.found)), make,
    )  # fmt: skip
    return [
        _found(of.units[number].name, each, made[0] + shift, own + shift, p.tolerance)._replace(shift=shift)
        for number, each, shift, own in zip(group, task.found, task.shifts, made[1:], strict=True)
    ]


def _found(name: str, each: Evidence, values: np.ndarray, own: np.ndarray, tolerance: float) -> Found:
    """The field of a unit with how far its surface passes each contact, and the worst of each hole that it misses."""
    table = pd.DataFrame(
        {
            **{axis: each.points[:, k] for k, axis in enumerate("xyz")},
            "surface": name,
            "misfit": own,
            "hole": each.hole,
        }
    )
    wrong = ~each.contact & (each.values * own < 0)
    off = np.where(each.contact | wrong, np.abs(own), 0.0)
    bad = table[(off > tolerance) & (each.hole != "")]
    words = np.where(
        each.contact, "misses its contact", np.where(own > 0, "is where the log has none", "is not where it was logged")
    )
    bad = bad.assign(what=words[bad.index], distance=off[bad.index])
    worst = bad.sort_values("distance", ascending=False).drop_duplicates(["hole", "surface"])
    return Found(values, table[each.contact], worst)


def _ellipsoid(row: UnitRow) -> Any:
    from ....compute.geology.rbf import Ellipsoid

    if row.dip is None or row.dip_direction is None or row.reach is None:
        return None
    return Ellipsoid((row.dip_direction - 90.0) % 360.0, row.dip, row.reach, row.reach)


def _along_bedding(row: UnitRow, of: Sources, faults: Sequence[Fault]) -> Any:
    """The trend along which a contact reaches where a reach but no dip is given: the bedding of the readings."""
    if row.reach is None or row.dip is not None or row.kind == "vein":
        return None
    if len(of.readings.at) < 3:
        raise InputError(
            f"'{row.unit}' is to reach along the bedding, but there are no structural readings",
            fix="Give its dip and dip direction, or choose readings",
        )
    from ....compute.geology.trends import of_planes

    return of_planes(taken_back(of.readings.at, faults), of.readings.normals, row.reach)


def _vein(
    number: int, bodies: dict[int, Bodies], of: Sources, p: BuildModel, places: np.ndarray, faults: Sequence[Fault]
) -> Found:
    values = bodies[number].value(places)
    other = ending_vein(number, bodies, of, p)
    if other is not None:
        values = bodies[number].ended(values, bodies[other], places)
    return vein_found(number, bodies, of, p, faults, values)


def vein_found(
    number: int,
    bodies: dict[int, Bodies],
    of: Sources,
    p: BuildModel,
    faults: Sequence[Fault],
    values: np.ndarray | None = None,
) -> Found:
    """Return what there is for a vein, with its values at places if they are given."""
    mine, name = bodies[number], of.units[number].name
    table = pd.DataFrame(
        {
            **{axis: mine.walls[:, k] for k, axis in enumerate("xyz")},
            "surface": name,
            "misfit": mine.value(taken_back(mine.walls, faults)),
            "hole": mine.hole,
        }
    )
    bad = table[(table["misfit"].abs() > p.tolerance) & (table["hole"] != "")]
    bad = bad.assign(what="misses its wall", distance=bad["misfit"].abs())
    return Found(
        np.empty(0) if values is None else values,
        table,
        bad.sort_values("distance", ascending=False).drop_duplicates("hole"),
    )
