"""A tabular body seen along its strike: a plane through intercepts, where holes pierce it, and where it is open."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ..geometry.orientations import dip_and_direction, plane_normal
from .desurvey import Path, locate
from .piercing import piercings

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
SECTORS = 8  # directions in the plane that are looked into
FLATTEST = 15.0  # degrees of dip below which a body is no longer seen along its strike


@dataclass(frozen=True)
class BodyPlane:
    """A plane with coordinates of its own.

    Attributes
    ----------
    middle
        A place on it (x, y, z), metres.
    dip, dip_direction
        Degrees.
    """

    middle: FloatArray
    dip: float
    dip_direction: float

    @property
    def strike(self) -> float:
        """Degrees, so that the plane dips to the right."""
        return (self.dip_direction - 90.0) % 360.0

    @property
    def normal(self) -> FloatArray:
        """Upward unit normal, east-north-up, shape (3,)."""
        return np.asarray(plane_normal(np.array([self.dip]), np.array([self.dip_direction]))[0])

    @property
    def axes(self) -> tuple[FloatArray, FloatArray]:
        """Unit vectors along strike and up the dip, shape (3,) each."""
        a = np.radians(self.strike)
        along = np.array([np.sin(a), np.cos(a), 0.0])
        up = np.cross(self.normal, along)
        return along, up if up[2] >= 0 else -up

    def inside(self, xyz: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return metres along strike, up the dip, and off the plane (upwards) of places (n, 3)."""
        along, up = self.axes
        away = np.asarray(xyz) - self.middle
        return away @ along, away @ up, away @ self.normal

    def outside(self, along: FloatArray, up: FloatArray) -> FloatArray:
        """Return the places (n, 3) of metres along strike and up the dip."""
        first, second = self.axes
        return np.asarray(self.middle + np.multiply.outer(along, first) + np.multiply.outer(up, second))


def fitted_plane(
    places: FloatArray, weights: FloatArray, dip: float | None, direction: float | None, within: float
) -> BodyPlane:
    """Return the plane of a body through intercepts.

    With an orientation it lies where most of the weight is found within `within` metres of it, so that of several
    parallel veins the richest is taken; without one it is fitted to all by least squares of distances (smallest
    principal axis, Pearson 1901).

    Parameters
    ----------
    places, weights
        Of intercepts, shapes (n, 3) in metres and (n,); those without a place or a weight above 0 do not count.
    dip, direction
        Degrees, both or neither.

    Raises
    ------
    InputError
        When they are too few, lie on one line, or the plane is too flat to be seen along its strike.
    """
    good = np.isfinite(places).all(axis=1) & (weights > 0)
    if not good.any():
        raise InputError("no interval has a place and a grade above 0")
    at, w = places[good], weights[good] / weights[good].sum()
    middle = w @ at
    if dip is None or direction is None:
        away = (at - middle) * np.sqrt(w)[:, None]
        if len(at) < 3:
            raise InputError(
                "a plane is fitted to three intercepts at least", fix="Give dip and dip direction of the body"
            )
        _, size, axes = np.linalg.svd(away, full_matrices=False)
        if size[1] < 0.05 * size[0] or size[2] > 0.7 * size[1]:
            raise InputError(
                "the intercepts lie along a line or all around: no plane follows from them",
                fix="Give dip and dip direction of the body",
            )
        d, a = dip_and_direction(axes[2:])
        dip, direction = float(d[0]), float(a[0])
    else:
        normal = plane_normal(np.array([dip]), np.array([direction]))[0]
        off = (at - middle) @ normal
        held = np.array([w[np.abs(off - o) <= within].sum() for o in off])
        best = off[int(np.argmax(held))]
        mine = np.abs(off - best) <= within
        middle = (w[mine] / w[mine].sum()) @ at[mine]
    if dip < FLATTEST:
        raise InputError(f"a body that dips by {dip:.0f}° is not seen along its strike", fix="Look at it on the map")
    return BodyPlane(middle, float(dip), float(direction) % 360.0)


@dataclass(frozen=True)
class Pierced:
    """Where holes meet a plane, or would do if they went on straight.

    Attributes
    ----------
    hole
        Index of the hole.
    depth
        Depth in metres; beyond the hole's end where it stops short.
    missing
        Metres by which it stops short, 0 where it does not.
    xyz
        The place, shape (n, 3).
    """

    hole: IntArray
    depth: FloatArray
    missing: FloatArray
    xyz: FloatArray


def pierced(path: Path, end: FloatArray, plane: BodyPlane, beyond: float) -> Pierced:
    """Return where each hole first pierces a plane; holes that stop short of it by up to `beyond` metres are carried on straight.

    Parameters
    ----------
    path, end
        Desurveyed holes, and the depth (m) to which each reaches.
    """
    rows: list[tuple[int, float, float, FloatArray]] = []
    normal = plane.normal
    for hole in range(len(end)):
        if not end[hole] > 0:
            continue
        hit, depth = piercings(path, end, hole, plane.middle[None, :], normal[None, :])
        if len(hit):
            rows.append((hole, float(depth[0]), 0.0, locate(path, np.array([hole]), depth[:1])[0]))
            continue
        last = locate(path, np.array([hole, hole]), np.array([max(end[hole] - 1.0, 0.0), end[hole]]))
        run = (last[1] - last[0]) / max(float(np.linalg.norm(last[1] - last[0])), 1e-9)
        towards = float(run @ normal)
        if not np.isfinite(last).all() or abs(towards) < 1e-6:
            continue
        missing = float((plane.middle - last[1]) @ normal) / towards
        if 0.0 < missing <= beyond:
            rows.append((hole, float(end[hole]) + missing, missing, last[1] + missing * run))
    return Pierced(
        np.array([r[0] for r in rows], dtype=np.int64),
        np.array([r[1] for r in rows]),
        np.array([r[2] for r in rows]),
        np.array([r[3] for r in rows]).reshape(-1, 3),
    )


@dataclass(frozen=True)
class OpenEnd:
    """A direction in a plane in which nothing has tested the ground beyond a place of interest.

    Attributes
    ----------
    row
        Which place.
    angle
        Degrees in the plane, from along strike (0) to up the dip (90).
    nearest
        Metres to the nearest test in that direction, NaN where there is none.
    """

    row: int
    angle: float
    nearest: float


def open_ends(along: FloatArray, up: FloatArray, value: FloatArray, least: float, reach: float) -> list[OpenEnd]:
    """Return the open directions around places whose value is at least `least`: no test within `reach` metres.

    Eight sectors of 45° are looked into; every other test counts, whatever its value.

    Parameters
    ----------
    along, up
        Places of all tests in the plane, metres, shape (n,).
    value
        Of each test; NaN counts as no test.
    """
    tested = np.flatnonzero(np.isfinite(value))
    out = []
    for row in np.flatnonzero(np.nan_to_num(value, nan=-np.inf) >= least).tolist():
        others = tested[tested != row]
        da, du = along[others] - along[row], up[others] - up[row]
        away = np.hypot(da, du)
        turn = np.degrees(np.arctan2(du, da))
        for k in range(SECTORS):
            angle = 360.0 / SECTORS * k
            off = np.abs((turn - angle + 180.0) % 360.0 - 180.0)
            mine = away[(off <= 180.0 / SECTORS) & (away > 1e-6)]
            nearest = float(mine.min()) if len(mine) else np.nan
            if not nearest <= reach:
                out.append(OpenEnd(row, angle, nearest))
    return out


def directions_in_words(plane: BodyPlane, angle: float) -> tuple[str, float, float]:
    """Return a direction in a plane in words, with its plunge (down) and trend in degrees."""
    first, second = plane.axes
    a = np.radians(angle)
    line = np.cos(a) * first + np.sin(a) * second
    plunge = float(np.degrees(np.arcsin(np.clip(-line[2], -1.0, 1.0)))) + 0.0  # no minus zero
    trend = float(np.degrees(np.arctan2(line[0], line[1])) % 360.0)
    half = round(angle / 45.0) % 8
    to = _compass(plane.strike if half in (7, 0, 1) else plane.strike + 180.0)
    words = (
        f"along strike to {to}",
        f"up dip to {to}",
        "up dip",
        f"up dip to {to}",
        f"along strike to {to}",
        f"down dip to {to}",
        "down dip",
        f"down dip to {to}",
    )
    return words[half], plunge, trend


def _compass(azimuth: float) -> str:
    return ("N", "NE", "E", "SE", "S", "SW", "W", "NW")[round((azimuth % 360.0) / 45.0) % 8]
