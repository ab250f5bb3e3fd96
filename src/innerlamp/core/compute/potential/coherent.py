"""Magnetisation of one direction that is not known: found along with its strength.

A model of three free components spreads one body over many directions. Here the components are turned into a frame
whose first axis is the direction supposed, along which only positive strengths are allowed, while those across it
cost more; the direction then follows the sum of what the readings still put across it, until nothing is left there
that would turn it. The sum is the total moment, which the readings hold best (Helbig 1963, Zeitschrift für Geophysik
29).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ...geometry.mesh import Mesh
from ...progress import SILENT, Progress
from .inversion import Constraints, Inversion, Settings, invert
from .linear import Operator

FloatArray = NDArray[np.float64]
_ACROSS = 0.3  # unit of the components across: smaller costs more
_BEYOND = 4.0  # a step in direction goes so many times as far as the readings alone turn it in one round
_CLOSE = 0.5  # degrees
_ROUNDS = 10


class Turned:
    """An operator of three components (east, north, up) as one of components in another frame, each in its own unit."""

    def __init__(self, whole: Operator, axes: FloatArray, units: FloatArray) -> None:
        self._whole, self._turn = whole, units[:, None] * axes

    @property
    def shape(self) -> tuple[int, int]:
        return self._whole.shape

    def to_map(self, model: FloatArray) -> FloatArray:
        """Return the components (east, north, up), without unit, of a model (3 x cells,) in the frame."""
        return np.asarray((self._turn.T @ model.reshape(3, -1)).ravel())

    def apply(self, model: FloatArray) -> FloatArray:
        """Return the data (n,), in the unit of the whole operator, of a model (3 x cells,) in the frame."""
        return self._whole.apply(self.to_map(model))

    def transposed(self, data: FloatArray) -> FloatArray:
        """Return the product (3 x cells,) of the transposed operator with data (n,)."""
        return np.asarray((self._turn @ self._whole.transposed(data).reshape(3, -1)).ravel())

    def column_norms(self) -> FloatArray:
        """Return the length (3 x cells,) of the data of each cell."""
        return self._whole.column_norms()


def invert_one_direction(
    kernel: Operator,
    data: FloatArray,
    noise: FloatArray,
    mesh: Mesh,
    active: NDArray[np.bool_],
    settings: Settings,
    known: Constraints | None = None,
    *,
    trend: FloatArray | None = None,
    look: Callable[[FloatArray], None] | None = None,
    progress: Progress = SILENT,
) -> tuple[Inversion, FloatArray]:
    """Invert data for a magnetisation (east, north, up) of one direction; returns the model and the unit vector found.

    Parameters and errors as in `invert`; of what is known only `weigh_by` and `directions` are taken. `kernel` is that of the three components (see `magnetisation_fields`).
    """
    known = known or Constraints()
    free = Constraints(weigh_by=known.weigh_by, directions=known.directions)
    smooth = replace(settings, norm_size=2.0, norm_steps=2.0)
    found = invert(kernel, data, noise, mesh, active, smooth, free, trend=trend, progress=progress.part(0.0, 0.2))
    way = _sum(found.model)
    low = np.zeros(kernel.shape[1])
    low[len(low) // 3 :] = -np.inf
    bound = replace(free, lower=low)
    for number in range(_ROUNDS):
        last = number == _ROUNDS - 1
        turned = Turned(kernel, _frame(way), np.array([1.0, _ACROSS, _ACROSS]))
        part = progress.part(0.2 + 0.8 * number / _ROUNDS, 0.2 + 0.8 * (number + 1) / _ROUNDS)
        seen = None if look is None else _mapped(look, turned)
        result = invert(turned, data, noise, mesh, active, smooth, bound, trend=trend, look=seen, progress=part)
        model = turned.to_map(result.model)
        toward = _sum(model)
        found = replace(result, model=model)
        if _angle(toward, way) < _CLOSE or last or progress.enough:
            break
        new = way + _BEYOND * (toward - way)
        way = np.asarray(new / np.linalg.norm(new))
    if settings.is_compact and not progress.enough:
        turned = Turned(kernel, _frame(way), np.array([1.0, _ACROSS, _ACROSS]))
        result = invert(turned, data, noise, mesh, active, settings, bound, trend=trend, progress=part)
        found = replace(result, model=turned.to_map(result.model))
    return found, way


def _mapped(look: Callable[[FloatArray], None], turned: Turned) -> Callable[[FloatArray], None]:
    return lambda model: look(turned.to_map(model))


def _sum(model: FloatArray) -> FloatArray:
    total = model.reshape(3, -1).sum(axis=1)
    return np.asarray(total / max(float(np.linalg.norm(total)), 1e-300))


def _angle(a: FloatArray, b: FloatArray) -> float:
    return float(np.degrees(np.arccos(np.clip(a @ b, -1.0, 1.0))))


def _frame(way: FloatArray) -> FloatArray:
    """Three unit vectors as rows, the first along a direction."""
    other = np.eye(3)[int(np.argmin(np.abs(way)))]
    second = np.cross(way, other)
    second /= np.linalg.norm(second)
    return np.stack([way, second, np.cross(way, second)])
