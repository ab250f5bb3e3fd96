"""The bodies of a vein unit: from where its walls are, one body or several parallel ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..veins import Vein, ended, fit_vein, mean_plane, parted


@dataclass(frozen=True)
class Bodies:
    """The bodies of a vein unit, the walls (n, 3) as they lie now with their hole, and where their pieces were before faults."""

    veins: tuple[Vein, ...]
    walls: np.ndarray
    hole: np.ndarray
    centres: np.ndarray

    def value(self, then: np.ndarray) -> np.ndarray:
        """Return metres (n,) inside of any of them at places before faults."""
        return np.asarray(np.max([v.value(then) for v in self.veins], axis=0))

    def ended(self, values: np.ndarray, other: Bodies, then: np.ndarray) -> np.ndarray:
        """Return metres (n,) inside when they end at the first body of another vein."""
        return ended(values, other.veins[0].off(then), other.veins[0].off(self.centres))


def bodies_of(
    top: np.ndarray,
    foot: np.ndarray,
    without: tuple[np.ndarray, np.ndarray],
    walls: np.ndarray,
    hole: np.ndarray,
    *,
    normal: np.ndarray | None,
    apart: float | None,
    lines: Sequence[int],
    upright: bool,
    least: float,
    reach: float,
) -> Bodies:
    """Return the bodies through walls before faults.

    Parameters
    ----------
    top, foot
        Both walls of each piece, (n, 3) each, metres.
    without
        Ends, (m, 3) each, of pieces of holes that have no vein.
    walls, hole
        The walls (2 n, 3) as they lie now, and the hole (n,) of each piece, '' for none.
    normal
        Of its plane, None to be found; `upright` planes are looked for where no hole tells it.
    apart
        Metres across the plane from which pieces are veins of their own.
    lines
        Places of each line, where nothing but lines tells the vein.
    least, reach
        Least thickness, and how far it goes on beyond the last piece, metres.
    """
    centres = 0.5 * (top + foot)
    of_body = np.zeros(len(centres), dtype=np.int64)
    if apart is not None:
        across = mean_plane(centres)[1][2] if normal is None else normal
        of_body = parted(centres @ across, apart)
        if normal is None:
            normal = across
    elif lines and len(top) == sum(lines):
        of_body = np.repeat(np.arange(len(lines)), lines)
    made = []
    for k in range(int(of_body.max()) + 1):
        rows = of_body == k
        plane = normal if normal is not None else (upright_along(centres[rows]) if upright else None)
        made.append(fit_vein(top[rows], foot[rows], without, plane, least, reach))
    return Bodies(tuple(made), walls, np.tile(hole, 2), centres)


def upright_along(line: np.ndarray) -> np.ndarray:
    """Return the level normal (3,) of an upright plane along a line (n, 3) in metres."""
    away = line[:, :2] - line[:, :2].mean(axis=0)
    _, _, rows = np.linalg.svd(away, full_matrices=False)
    return np.array([-rows[0, 1], rows[0, 0], 0.0])


def walls_across(shape: Any, normal: np.ndarray | None, every: float) -> list[np.ndarray]:
    """Return the cuts (2, 2) of lines across the strike of a mapped polygon, `every` so many metres; across its longer side without a normal (3,)."""
    import shapely

    corners = np.array(shapely.minimum_rotated_rectangle(shape).exterior.coords)
    sides = np.diff(corners[:3], axis=0)
    long = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
    across = np.array([-long[1], long[0]]) if normal is None or np.hypot(*normal[:2]) < 0.05 else normal[:2]
    across = across / np.linalg.norm(across)
    along = np.array([across[1], -across[0]])
    middle = np.array(shape.centroid.coords[0])
    ring = shapely.get_coordinates(shape) - middle
    reach = float(np.abs(ring @ across).max()) + 10.0
    spots = np.arange(float((ring @ along).min()) + 5.0, float((ring @ along).max()), every)
    walls: list[np.ndarray] = []
    for s in spots:
        at = middle + s * along
        cut = shape.intersection(shapely.LineString([at - reach * across, at + reach * across]))
        walls += [np.array(g.coords) for g in shapely.get_parts(cut) if g.geom_type == "LineString" and g.length > 0]
    return walls


def deeper(at: np.ndarray, dip: float | None, direction: float | None, reach: float) -> list[np.ndarray]:
    """Return places (n, 3) in metres carried down a dip (degrees, upright when not given) to parts of a reach; none without one."""
    if not reach:
        return []
    d, a = np.radians(90.0 if dip is None else dip), np.radians(direction or 0.0)
    down = np.array([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), -np.sin(d)])
    return [at + w * reach * down for w in (0.35, 0.7, 1.0)]
