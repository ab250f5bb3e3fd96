"""Grids of mines and camps: a system of their own, tied to the project's by known points.

``1000 2000 = 500123.4 7001234.5; 1500 2000 = 500480 7001390`` says what two places of the local grid are in the project. Two or
more give shift, turn and scale by least squares (a similarity in the plane: Ghilani 2017, Adjustment Computations, 18.2); with a
third number on both sides heights are shifted by the mean of the differences. A name before them (``Mine grid: 1000 2000 = ...``)
is what the project knows them by from then on.
"""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .errors import CrsError

FloatArray = NDArray[np.float64]
_NUMBER = r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?"
_NAMED = re.compile(r"^\s*([^=:;\d][^=:;]{0,59}?)\s*:\s*(.*)$", re.DOTALL)
_PAIR = re.compile(rf"^\s*({_NUMBER}(?:[\s,]+{_NUMBER}){{1,2}})\s*=\s*({_NUMBER}(?:[\s,]+{_NUMBER}){{1,2}})\s*$")


@dataclass(frozen=True)
class LocalGrid:
    """East + i north of the project is `shift` + `turn` times that of the local grid less its `origin`; heights are higher by `up`.

    `residuals` are what is left at the known points, in metres of the project.
    """

    origin: complex
    shift: complex
    turn: complex
    up: float
    residuals: tuple[float, ...]

    @property
    def scale(self) -> float:
        """Metres of the project a metre of the local grid."""
        return abs(self.turn)

    @property
    def azimuth(self) -> float:
        """Degrees from the project's north to local north, clockwise."""
        return float(np.degrees(-np.angle(self.turn)) % 360.0)

    def to_project(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings (n,) of the project, in metres, of places (n,) of the local grid."""
        out = self.shift + self.turn * (np.asarray(x) + 1j * np.asarray(y) - self.origin)
        return out.real, out.imag

    def to_local(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings (n,) of the local grid, in its metres, of places (n,) of the project."""
        out = self.origin + (np.asarray(x) + 1j * np.asarray(y) - self.shift) / self.turn
        return out.real, out.imag

    @property
    def turned(self) -> float:
        """As `azimuth`, from above -180 to 180."""
        return self.azimuth if self.azimuth <= 180.0 else self.azimuth - 360.0

    @property
    def words(self) -> str:
        """How it lies, for people."""
        most = (
            f", largest residual {max(self.residuals):.2f} m"
            if len(self.residuals) > 2
            else ", two points, no residuals"
        )
        return f"turned {self.turned:.3f}°, scale {self.scale:.6f}, heights {self.up:+.2f} m{most}"

    @property
    def doubtful(self) -> bool:
        """Whether the scale or a residual is more than a survey's error."""
        return abs(self.scale - 1.0) > 0.002 or max(self.residuals) > 1.0


@dataclass(frozen=True)
class GridLine:
    """A line of a round easting (`along` is "E") or northing ("N") of a local grid, its ends (x0, y0, x1, y1) in the project."""

    along: str
    value: float
    ends: tuple[float, float, float, float]


MOST_LINES = 200


def lines_across(grid: LocalGrid, ground: tuple[float, float, float, float], step: float) -> list[GridLine]:
    """Return the lines of round local coordinates that cross a rectangle of the project, cut off at its sides.

    Parameters
    ----------
    ground
        West, east, south and north of the rectangle, in metres of the project.
    step
        Interval in metres of the local grid; where it gives more than `MOST_LINES` lines a way there are none.
    """
    west, east, south, north = ground
    corners = grid.to_local(np.array([west, east, east, west]), np.array([south, south, north, north]))
    out = []
    for along, here, across in (("E", corners[0], corners[1]), ("N", corners[1], corners[0])):
        first, last = int(np.ceil(here.min() / step)), int(np.floor(here.max() / step))
        if last - first >= MOST_LINES:
            continue
        for k in range(first, last + 1):
            ends = (np.full(2, k * step), np.array([across.min(), across.max()]))
            x, y = grid.to_project(*(ends if along == "E" else ends[::-1]))
            cut = _within(x, y, ground)
            if cut is not None:
                out.append(GridLine(along, k * step, cut))
    return out


def _within(
    x: FloatArray, y: FloatArray, ground: tuple[float, float, float, float]
) -> tuple[float, float, float, float] | None:
    """The part of a line within a rectangle (Liang and Barsky 1984), None where it passes by."""
    first, last = 0.0, 1.0
    for start, way, low, high in ((x[0], x[1] - x[0], *ground[:2]), (y[0], y[1] - y[0], *ground[2:])):
        if abs(way) < 1e-12:
            if not low <= start <= high:
                return None
            continue
        a, b = sorted(((low - start) / way, (high - start) / way))
        first, last = max(first, a), min(last, b)
    if last - first < 1e-9:
        return None
    x0, x1 = x[0] + np.array([first, last]) * (x[1] - x[0])
    y0, y1 = y[0] + np.array([first, last]) * (y[1] - y[0])
    return float(x0), float(y0), float(x1), float(y1)


def is_local(text: str) -> bool:
    """Return whether a text that names a system of coordinates gives known points instead."""
    return "=" in text and "+proj" not in text and "[" not in text


def name_of(text: str) -> str:
    """Return the name that stands before known points, '' without one."""
    found = _NAMED.match(text) if is_local(text) else None
    return found.group(1) if found else ""


def called(text: str) -> str:
    """Return what people call a local grid that a text gives: its name, else plain words."""
    return name_of(text) or "local grid"


@functools.lru_cache(maxsize=64)
def local_grid(text: str) -> LocalGrid:
    """Return the local grid that known points give.

    Raises
    ------
    CrsError
        When there are fewer than two, they lie at one place, or one can't be read.
    """
    here, there, heights = [], [], []
    named = _NAMED.match(text)
    for part in filter(None, (p.strip() for p in (named.group(2) if named else text).split(";"))):
        found = _PAIR.match(part)
        if found is None:
            raise CrsError(
                f"'{part[:60]}' is no known point",
                fix="Write local east and north = project's east and north: 1000 2000 = 500123 7001234",
            )
        a, b = ([float(v) for v in re.split(r"[\s,]+", side.strip())] for side in found.groups())
        here.append(complex(a[0], a[1]))
        there.append(complex(b[0], b[1]))
        if len(a) == len(b) == 3:
            heights.append(b[2] - a[2])
    u, w = np.array(here), np.array(there)
    if len(u) < 2 or np.ptp(u.real) + np.ptp(u.imag) < 1.0:
        raise CrsError(
            "a local grid needs two known points or more that are apart", fix="Give another point, after a semicolon"
        )
    middle, target = complex(u.mean()), complex(w.mean())
    turn = complex(np.vdot(u - middle, w - target) / np.vdot(u - middle, u - middle))
    left = np.abs(target + turn * (u - middle) - w)
    return LocalGrid(middle, target, turn, float(np.mean(heights)) if heights else 0.0, tuple(left.tolist()))
