"""Faults as planes along which the hangingwall moved: places are taken back to where they were before.

What is fitted to places taken back is continuous across the fault; what it gives at a place is asked for where that
place was (restoration as used in balanced sections; Dahlstrom 1969, Canadian Journal of Earth Sciences 6, 743).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ..geometry.orientations import dip_and_direction, plane_normal
from .veins import mean_plane

if TYPE_CHECKING:  # loaded only where a fault is bent
    from .rbf import RadialField

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Fault:
    """A plane and the movement along it.

    Attributes
    ----------
    point
        A place on the plane, metres; the middle of a fault that dies out.
    dip, dip_direction
        Degrees.
    throw
        Metres by which the hangingwall went down (a normal fault), negative for up (a reverse one).
    along
        Metres by which the hangingwall went along strike, positive to the left of the dip direction, as seen from above.
    length
        From tip to tip along strike, metres; the movement falls off as an ellipse and is nothing beyond. Infinite by default.
    height
        The same down the dip: with both the tips are an ellipse in the plane.
    bent
        How far the fault lies off its plane, over the plane (third coordinate 0); none for a plane.
    ends
        Other faults at which it ends, each with the side (1 hangingwall, -1 footwall) on which it is.
    """

    point: FloatArray
    dip: float
    dip_direction: float
    throw: float = 0.0
    along: float = 0.0
    length: float = np.inf
    height: float = np.inf
    bent: RadialField | None = None
    ends: tuple[tuple[Fault, float], ...] = ()

    @property
    def normal(self) -> FloatArray:
        """Upward unit normal (3,); the hangingwall lies on its side."""
        return np.asarray(plane_normal(np.array([self.dip]), np.array([self.dip_direction]))[0])

    @property
    def strike(self) -> FloatArray:
        """Level unit vector (3,) to the left of the dip direction."""
        a = np.radians(self.dip_direction)
        return np.array([-np.cos(a), np.sin(a), 0.0])

    @property
    def axes(self) -> FloatArray:
        """Unit vectors (3, 3) as rows: along strike, down the dip, the upward normal."""
        return np.stack([self.strike, self._down, self.normal])

    @property
    def slip(self) -> FloatArray:
        """The movement (3,) of the hangingwall at the middle of the fault, in metres, along the plane."""
        fallen = self.throw / max(np.sin(np.radians(self.dip)), 1e-9)
        return np.asarray(fallen * self._down + self.along * self.strike)

    @property
    def heave(self) -> float:
        """Level part of the movement down the dip in metres."""
        return float(self.throw / np.tan(np.radians(self.dip)))

    def off(self, points: FloatArray) -> FloatArray:
        """Return metres (n,) from the fault along the normal of its plane, positive on the hangingwall."""
        local = points - self.point
        off = local @ self.normal
        if self.bent is not None:
            from .rbf import evaluate

            off = off - evaluate(
                self.bent, np.column_stack([local @ self.strike, local @ self._down, np.zeros(len(local))])
            )
        return np.asarray(off)

    @property
    def _down(self) -> FloatArray:
        d, a = np.radians(self.dip), np.radians(self.dip_direction)
        return np.array([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), -np.sin(d)])

    def share(self, points: FloatArray) -> FloatArray:
        """Return what part (n,) of the movement places along the fault have."""
        local = points - self.point
        square = np.zeros(len(points))
        for way, size in ((self.strike, self.length), (self._down, self.height)):
            if np.isfinite(size):
                square += (2.0 * (local @ way) / size) ** 2
        out = np.sqrt(np.clip(1.0 - square, 0.0, 1.0))
        for other, side in self.ends:
            out = np.where(side * other.off(points) > 0, out, 0.0)
        return np.asarray(out)

    def places_on(self, low: FloatArray, high: FloatArray, step: float) -> FloatArray:
        """Return places (n, 3) on the fault within a box, where it moved, on a lattice of `step` metres in its plane."""
        corners = np.array([(x, y, z) for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
        local = corners - self.point
        u, v = local @ self.strike, local @ self._down
        a, b = (np.arange(np.floor(c.min() / step), np.ceil(c.max() / step) + 1) * step for c in (u, v))
        uv = np.stack(np.meshgrid(a, b, indexing="ij"), axis=-1).reshape(-1, 2)
        at = self.point + uv @ np.stack([self.strike, self._down])
        if self.bent is not None:
            from .rbf import evaluate

            at = at + evaluate(self.bent, np.column_stack([uv, np.zeros(len(uv))]))[:, None] * self.normal
        inside = ((at >= low) & (at <= high)).all(axis=1)
        at = at[inside]
        return np.asarray(at[self.share(at) > 0])

    def taken_back(self, points: FloatArray) -> FloatArray:
        """Return where places (n, 3) were before the fault moved."""
        moved = (self.off(points) > 0) * self.share(points)
        return np.asarray(points - moved[:, None] * self.slip)


def taken_back(points: FloatArray, faults: Sequence[Fault]) -> FloatArray:
    """Return where places (n, 3) were before all faults moved, given from the youngest to the oldest."""
    for fault in faults:
        points = fault.taken_back(points)
    return points


def through(
    points: FloatArray, dip: float | None = None, dip_direction: float | None = None, smooth: float = 5.0
) -> Fault:
    """Return a fault through places of it (n, 3), metres: a trace on the ground, picked points, corners of a mesh.

    Parameters
    ----------
    dip, dip_direction
        Of its mean plane in degrees, where they are known; else of the plane that lies nearest to the places.
    smooth
        By which the bent surface may pass the places, in metres (nugget of its field).

    Raises
    ------
    InputError
        When the places lie on one line and no dip is known, or are too few.
    """
    if len(points) < 2:
        raise InputError("a fault needs two places at least", fix="Draw more of it")
    middle = points.mean(axis=0)
    if dip is None:
        try:
            _, axes = mean_plane(points)
        except InputError as error:
            raise InputError("the places of the fault lie on one line, which has no dip", fix="Give its dip") from error
        found, direction = dip_and_direction(axes[2:3])
        dip, dip_direction = float(found[0]), float(direction[0])
        if float(np.abs((points - middle) @ axes[1]).max()) < 0.02 * float(np.ptp((points - middle) @ axes[0])):
            raise InputError("the places of the fault lie nearly on one line, which has no dip", fix="Give its dip")
    elif dip_direction is None:
        # A trace tells the strike; of its two sides the one towards which it would dip by its relief.
        _, _, rows = np.linalg.svd(points[:, :2] - middle[:2], full_matrices=False)
        away = points[:, :2] - middle[:2]
        side = float(np.sum((away @ rows[1]) * (points[:, 2] - middle[2])))
        way = rows[1] if side <= 0 else -rows[1]
        dip_direction = float(np.degrees(np.arctan2(way[0], way[1])) % 360.0)
    fault = Fault(middle, dip, dip_direction)
    if len(points) < 5:
        return fault
    from .rbf import fit

    local = points - middle
    uv = np.column_stack([local @ fault.strike, local @ fault._down, np.zeros(len(local))])
    off = local @ fault.normal
    return replace(fault, bent=fit(uv, off, drift="constant", nugget=smooth))


def checked(fault: Fault) -> Fault:
    """Return a fault that can be one.

    Raises
    ------
    InputError
        When its dip is level or beyond upright, or its length is none.
    """
    if not 1.0 <= fault.dip <= 90.0:
        raise InputError(f"a fault's dip must be from 1 to 90°, not {fault.dip:g}")
    if not fault.length > 0:
        raise InputError("a fault's length must be positive")
    return fault


def step_across(layers: Sequence[tuple[FloatArray, FloatArray]], near: int = 60, neighbours: int = 6) -> float:
    """Return by how many metres layers step at a fault, once both sides are taken back; infinite where none is on both.

    Each contact near the fault is held against the plane through the nearest contacts of the other side.

    Parameters
    ----------
    layers
        For each layer the metres (n,) of its contacts from the fault as they are now, and their places (n, 3) taken back.
    near, neighbours
        Contacts of each side that are looked at, and those that a plane is laid through.
    """
    from scipy.spatial import cKDTree

    steps = []
    for off, at in layers:
        for mine in (off > 0, off <= 0):
            others, own = at[~mine], np.flatnonzero(mine)
            if len(others) < neighbours or not len(own):
                continue
            own = own[np.argsort(np.abs(off[own]))[:near]]
            _, found = cKDTree(others[:, :2]).query(at[own, :2], k=neighbours)
            for here, rows in zip(at[own], found, strict=True):
                around = others[rows] - here
                plane, *_ = np.linalg.lstsq(
                    np.column_stack([np.ones(neighbours), around[:, :2]]), around[:, 2], rcond=None
                )
                steps.append(abs(float(plane[0])))
    return float(np.median(steps)) if steps else float("inf")


def with_throw(fault: Fault, rough: Callable[[Fault], float], most: float, steps: int = 17) -> Fault:
    """Return a fault with the throw that leaves the smallest step.

    Parameters
    ----------
    rough
        What is left of the step with a fault, in metres; see `step_across`.
    most
        Throws from its negative to it are tried, in `steps` even steps, then more closely around the best.
    """
    tried = np.linspace(-most, most, steps)
    for _ in range(2):
        energy = [rough(replace(fault, throw=float(t))) for t in tried]
        best = int(np.argmin(energy))
        low, high = tried[max(best - 1, 0)], tried[min(best + 1, len(tried) - 1)]
        tried = np.linspace(low, high, 9)
    return replace(fault, throw=float(tried[int(np.argmin([rough(replace(fault, throw=float(t))) for t in tried]))]))
