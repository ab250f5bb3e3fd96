"""Faults as planes along which the hangingwall moved: places are taken back to where they were before.

What is fitted to places taken back is continuous across the fault; what it gives at a place is asked for where that
place was (restoration as used in balanced sections; Dahlstrom 1969, Canadian Journal of Earth Sciences 6, 743).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ..geometry.orientations import plane_normal

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
    """

    point: FloatArray
    dip: float
    dip_direction: float
    throw: float = 0.0
    along: float = 0.0
    length: float = np.inf

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
    def slip(self) -> FloatArray:
        """The movement (3,) of the hangingwall at the middle of the fault, in metres, along the plane."""
        d, a = np.radians(self.dip), np.radians(self.dip_direction)
        down = np.array([np.cos(d) * np.sin(a), np.cos(d) * np.cos(a), -np.sin(d)])
        return np.asarray(self.throw / max(np.sin(d), 1e-9) * down + self.along * self.strike)

    @property
    def heave(self) -> float:
        """Level part of the movement down the dip in metres."""
        return float(self.throw / np.tan(np.radians(self.dip)))

    def off(self, points: FloatArray) -> FloatArray:
        """Return metres (n,) from the plane, positive on the hangingwall."""
        return np.asarray((points - self.point) @ self.normal)

    def share(self, points: FloatArray) -> FloatArray:
        """Return what part (n,) of the movement places along the fault have."""
        if not np.isfinite(self.length):
            return np.ones(len(points))
        s = 2.0 * ((points - self.point) @ self.strike) / self.length
        return np.sqrt(np.clip(1.0 - s**2, 0.0, 1.0))

    def taken_back(self, points: FloatArray) -> FloatArray:
        """Return where places (n, 3) were before the fault moved."""
        moved = (self.off(points) > 0) * self.share(points)
        return np.asarray(points - moved[:, None] * self.slip)


def taken_back(points: FloatArray, faults: Sequence[Fault]) -> FloatArray:
    """Return where places (n, 3) were before all faults moved, given from the youngest to the oldest."""
    for fault in faults:
        points = fault.taken_back(points)
    return points


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
