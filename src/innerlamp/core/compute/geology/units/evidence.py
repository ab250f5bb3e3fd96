"""What the field of a unit is fitted to: places with metres inside, those of a series together, thinned where they are many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from itertools import pairwise

import numpy as np
import pandas as pd

from ...geometry.orientations import plane_normal
from ..faults import Fault, taken_back

_ACROSS = 0.3  # of a hole's way, that goes across layers: less does not tell how thick they are


@dataclass(frozen=True)
class Evidence:
    """What a field is fitted to: places (n, 3), metres inside, which are contacts, their hole, and which must be honoured.

    `told` marks places whose metres a person gave; of the others that are no contact the side alone is sure.
    """

    points: np.ndarray
    values: np.ndarray
    contact: np.ndarray
    hole: np.ndarray
    firm: np.ndarray
    told: np.ndarray

    def only(self, rows: np.ndarray) -> Evidence:
        """Return some of it, given as a mask (n,) without unit."""
        return Evidence(*(getattr(self, f.name)[rows] for f in fields(self)))


def nothing() -> Evidence:
    """Return evidence of no place."""
    return Evidence(
        np.empty((0, 3)), np.empty(0), np.empty(0, bool), np.empty(0, object), np.empty(0, bool), np.empty(0, bool)
    )


def one_set(found: Sequence[Evidence], shifts: Sequence[float], faults: Sequence[Fault]) -> Evidence:
    """Return the evidence of a series as one: places before the faults, values in the field that its bases share."""
    return Evidence(
        taken_back(np.vstack([e.points for e in found]), faults),
        np.concatenate([e.values - s for e, s in zip(found, shifts, strict=True)]),
        *(np.concatenate([getattr(e, name) for e in found]) for name in ("contact", "hole", "firm", "told")),
    )


def levels(found: Sequence[Evidence], slope: np.ndarray | None = None) -> list[float]:
    """Return how far below the first base each base of a series lies, in metres along the field.

    With a slope (3,) of the field, without unit, contacts of one hole lie apart by what the field changes between them:
    holes go through dipping layers askew. NaN for a base whose holes run nearly along the layers.
    """
    shifts = [0.0]
    for before, here in pairwise(found):
        # The thickness of a layer: what its own contacts lie from the base above, where a hole has both.
        upper, lower = before.points[before.contact], here.points[here.contact]
        of = pd.Index(here.hole[here.contact])
        rows = of.to_series().groupby(of.to_numpy(), sort=False).indices if len(of) else {}
        thick: list[float] = []
        for name, mine in (
            pd.Series(before.hole[before.contact]).groupby(before.hole[before.contact], sort=False).indices.items()
        ):
            if name in rows:
                away = upper[mine][:, None, :] - lower[rows[name]][None, :, :]
                far = np.linalg.norm(away, axis=2)
                nearest = far.argmin(axis=1)
                if slope is None:
                    thick += far.min(axis=1).tolist()
                else:
                    along = away[np.arange(len(nearest)), nearest] @ slope
                    thick += along[along > _ACROSS * far.min(axis=1) * np.linalg.norm(slope)].tolist()
        none = 10.0 if slope is None or not len(of.intersection(before.hole[before.contact])) else np.nan
        shifts.append(shifts[-1] + (float(np.median(thick)) if thick else none))
    return shifts


def for_series(one: Evidence, youngest: bool, oldest: bool, cap: float) -> Evidence:
    """Return what a base tells of a field that it shares: beyond the cap (metres) only the outer bases tell their outer side."""
    far = np.abs(one.values) >= cap * (1 - 1e-9)
    keep = ~far | (youngest & (one.values > 0)) | (oldest & (one.values < 0))
    return one.only(keep)


def thinned(whole: Evidence, most: int = 0) -> Evidence:
    """Return at most as many values as are solved at once: contacts first, of the rest an even part."""
    from ..rbf import LARGEST  # numba is loaded where a model is made

    most = most or int(0.7 * LARGEST)
    if len(whole.points) <= most:
        return whole
    rest = np.flatnonzero(~whole.contact)
    kept = np.flatnonzero(whole.contact)
    if len(kept) > most:
        kept = kept[np.linspace(0, len(kept) - 1, most // 2).astype(int)]
    rows = np.zeros(len(whole.points), dtype=bool)
    rows[kept] = True
    rows[rest[np.linspace(0, len(rest) - 1, min(most - len(kept), len(rest))).astype(int)]] = True
    return whole.only(rows)


def nearer(points: np.ndarray, values: np.ndarray, contact: np.ndarray) -> np.ndarray:
    """Return values (n,) with the distance in metres to the nearest contact of any hole where that is less than along the own one."""
    from scipy.spatial import cKDTree

    if not contact.any():
        return values
    away, _ = cKDTree(points[contact]).query(points)
    return np.where(contact, 0.0, np.sign(values) * np.minimum(np.abs(values), away))


def carried_down(edge: np.ndarray, normal: np.ndarray, reach: float) -> np.ndarray:
    """Return places (m, 3) of a contact carried down its dip, as far as `reach` metres.

    Places (n, 3) of its edge and the normals (n, 3) of its plane there; what lies flat has no way down.
    """
    normal = np.where(normal[:, 2:] < 0, -normal, normal)
    level = np.hypot(normal[:, 0], normal[:, 1])
    steep = level > 0.02
    normal, level, at = normal[steep], level[steep], edge[steep]
    down = np.column_stack([normal[:, :2] * (normal[:, 2] / level)[:, None], -level])
    ways = reach * np.array([0.15, 0.35, 0.65, 1.0])
    return np.asarray((at[None, :, :] + ways[:, None, None] * down[None, :, :]).reshape(-1, 3))


def typed_normals(dip: float, dip_direction: float, count: int) -> np.ndarray:
    """Return the normal of one plane (degrees) so many times, shape (count, 3), without unit."""
    return np.repeat(plane_normal(np.array([dip]), np.array([dip_direction])), count, axis=0)
