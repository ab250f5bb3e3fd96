"""Vertical section planes: distances along and across, and cuts through triangulated surfaces."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class SectionPlane:
    """A vertical plane from (x0, y0) to (x1, y1) in metres, seen so that its start is on the left."""

    x0: float
    y0: float
    x1: float
    y1: float

    @property
    def length(self) -> float:
        return float(np.hypot(self.x1 - self.x0, self.y1 - self.y0))

    @property
    def azimuth(self) -> float:
        """Direction of the line in degrees clockwise from north."""
        return float(np.degrees(np.arctan2(self.x1 - self.x0, self.y1 - self.y0)) % 360.0)

    @property
    def view_azimuth(self) -> float:
        """Direction in which the viewer looks, degrees clockwise from north."""
        return (self.azimuth - 90.0) % 360.0

    def to_plane(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return distance along the line and distance behind the plane (away from the viewer), metres."""
        ux, uy = (self.x1 - self.x0) / max(self.length, 1e-9), (self.y1 - self.y0) / max(self.length, 1e-9)
        ax, ay = np.asarray(x) - self.x0, np.asarray(y) - self.y0
        return ax * ux + ay * uy, -ax * uy + ay * ux

    def to_map(self, along: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings of distances along the line.

        All have the shape of `along`, and are in metres.
        """
        t = np.asarray(along, dtype=float) / max(self.length, 1e-9)
        return self.x0 + t * (self.x1 - self.x0), self.y0 + t * (self.y1 - self.y0)


Side = Literal["both sides", "behind", "in front"]
SIDES: tuple[Side, ...] = ("both sides", "behind", "in front")


def in_corridor(off: FloatArray, width: float, side: Side = "both sides") -> NDArray[np.bool_]:
    """Return which distances behind a section (metres, negative in front of it) lie in its corridor of a width to a side."""
    off = np.asarray(off, dtype=float)
    low = 0.0 if side == "behind" else -width
    high = 0.0 if side == "in front" else width
    return np.asarray((off >= low - 1e-9) & (off <= high + 1e-9))


def turned(plane: SectionPlane, degrees: float) -> SectionPlane:
    """Return a section of the same length and middle, turned clockwise on the map."""
    a = np.radians(plane.azimuth + degrees)
    return about(0.5 * (plane.x0 + plane.x1), 0.5 * (plane.y0 + plane.y1), float(np.degrees(a)), plane.length)


def about(x: float, y: float, azimuth: float, length: float) -> SectionPlane:
    """Return the section of a length (m) whose middle lies at a place and that runs towards an azimuth (degrees)."""
    a = np.radians(azimuth)
    dx, dy = 0.5 * length * float(np.sin(a)), 0.5 * length * float(np.cos(a))
    return SectionPlane(x - dx, y - dy, x + dx, y + dy)


EXAGGERATIONS = (1.0, 1.5, 2.0, 3.0, 5.0, 10.0)


def proposed_exaggeration(width: float, height: float, pane_width: float, pane_height: float) -> float:
    """Return the vertical exaggeration at which what a section shows can be read, one of `EXAGGERATIONS`.

    True angles (1) as long as the content, fitted by its width, takes a quarter of the pane's height; else the largest
    up to 5 that still lets it fit. Content in metres, pane in pixels.
    """
    if min(width, height, pane_width, pane_height) <= 0:
        return 1.0
    share = (height / width) / (pane_height / pane_width)  # of the pane's height that is filled
    if share >= 0.25:
        return 1.0
    return max(f for f in EXAGGERATIONS if f == 1.0 or (f <= 5.0 and f * share <= 0.7))


def cut_surface(vertices: FloatArray, triangles: NDArray[np.integer], plane: SectionPlane) -> FloatArray:
    """Return segments (n, 2, 2) of distance along and elevation where a plane cuts triangles."""
    if len(triangles) == 0:
        return np.empty((0, 2, 2))
    along, off = plane.to_plane(vertices[:, 0], vertices[:, 1])
    off = np.where(off == 0.0, 1e-9, off)
    tri = np.asarray(triangles)
    side = off[tri] > 0
    count = side.sum(axis=1)
    crossing = (count == 1) | (count == 2)
    tri, side, count = tri[crossing], side[crossing], count[crossing]
    # The corner that is alone on its side comes first.
    alone = np.argmax(side == (count == 1)[:, None], axis=1)
    rows = np.arange(len(tri))
    a = tri[rows, alone]
    ends = []
    for step in (1, 2):
        b = tri[rows, (alone + step) % 3]
        t = off[a] / (off[a] - off[b])
        ends.append(
            np.stack(
                [along[a] + t * (along[b] - along[a]), vertices[a, 2] + t * (vertices[b, 2] - vertices[a, 2])], axis=-1
            )
        )
    return np.stack(ends, axis=1)
