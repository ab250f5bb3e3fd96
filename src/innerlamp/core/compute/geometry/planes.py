"""Vertical section planes and fences: distances along and across, and cuts through triangulated surfaces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class SectionPlane:
    """A vertical plane from (x0, y0) to (x1, y1) in metres, seen so that its start is on the left.

    With `bends`, places that it passes on its way, it is a fence: vertical planes that follow each other, unfolded
    into one picture.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    bends: tuple[tuple[float, float], ...] = ()

    @classmethod
    def along(cls, places: Sequence[float] | FloatArray) -> SectionPlane:
        """Return the section through places in metres, given as x, y, x, y ... or with shape (n, 2); n is two or more.

        Raises
        ------
        ValueError
            When they are no places, or lie at one.
        """
        xy = np.asarray(places, dtype=float).reshape(-1, 2)
        xy = xy[np.concatenate([[True], np.hypot(*np.diff(xy, axis=0).T) > 1e-6])] if len(xy) > 1 else xy
        if len(xy) < 2 or not np.isfinite(xy).all():
            raise ValueError("a section needs two places that lie apart")
        (x0, y0), *between, (x1, y1) = xy.tolist()
        return cls(x0, y0, x1, y1, tuple((float(x), float(y)) for x, y in between))

    @property
    def places(self) -> FloatArray:
        """Its ends and bends in their order, metres, shape (n, 2)."""
        return np.array([(self.x0, self.y0), *self.bends, (self.x1, self.y1)], dtype=float)

    @cached_property
    def pieces(self) -> tuple[SectionPlane, ...]:
        """The straight planes that it is made of."""
        at = self.places.tolist()
        return tuple(SectionPlane(*a, *b) for a, b in pairwise(at)) if self.bends else (self,)

    @cached_property
    def corners(self) -> FloatArray:
        """Distances along it of its ends and bends, metres, shape (n,)."""
        return np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(self.places, axis=0).T))])

    @property
    def length(self) -> float:
        return float(self.corners[-1])

    @property
    def azimuth(self) -> float:
        """Direction from its start to its end in degrees clockwise from north."""
        return float(np.degrees(np.arctan2(self.x1 - self.x0, self.y1 - self.y0)) % 360.0)

    @property
    def view_azimuth(self) -> float:
        """Direction in which the viewer looks, degrees clockwise from north; of a fence on the whole."""
        return (self.azimuth - 90.0) % 360.0

    def piece_at(self, along: FloatArray) -> NDArray[np.int64]:
        """Return the number of the straight plane at distances along the line (metres), in their shape."""
        inner = self.corners[1:-1]
        return np.searchsorted(inner, np.asarray(along, dtype=float), side="right").astype(np.int64)

    def azimuth_at(self, along: FloatArray) -> FloatArray:
        """Return the direction of the line in degrees at distances along it (metres), in their shape."""
        return np.array([piece.azimuth for piece in self.pieces])[self.piece_at(along)]

    def nearest_piece(self, x: FloatArray, y: FloatArray) -> NDArray[np.int64]:
        """Return the number of the straight plane that lies nearest to places (metres), in their shape."""
        x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
        best, which = np.full(x.shape, np.inf), np.zeros(x.shape, dtype=np.int64)
        for number, piece in enumerate(self.pieces):
            a, off = piece.to_plane(x, y)
            away = np.hypot(a - np.clip(a, 0.0, piece.length), off)
            nearer = away < best - 1e-9
            best, which = np.where(nearer, away, best), np.where(nearer, number, which)
        return which

    def to_plane(
        self, x: FloatArray, y: FloatArray, piece: NDArray[np.int64] | None = None
    ) -> tuple[FloatArray, FloatArray]:
        """Return distance along the line and distance behind the plane (away from the viewer), metres.

        At a fence each place belongs to the straight plane that is nearest, or to `piece`; in the outer angle of a bend
        it lies at the bend, as far off as it is away from there.
        """
        x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
        if not self.bends:
            size = max(self.length, 1e-9)
            ux, uy = (self.x1 - self.x0) / size, (self.y1 - self.y0) / size
            ax, ay = x - self.x0, y - self.y0
            return ax * ux + ay * uy, -ax * uy + ay * ux
        which = self.nearest_piece(x, y) if piece is None else piece
        along, off = np.full(x.shape, np.nan), np.full(x.shape, np.nan)
        last = len(self.pieces) - 1
        for number, one in enumerate(self.pieces):
            a, o = one.to_plane(x, y)
            held = np.clip(a, -np.inf if number == 0 else 0.0, np.inf if number == last else one.length)
            mine = which == number
            along = np.where(mine, self.corners[number] + held, along)
            off = np.where(mine, np.where(o < 0, -1.0, 1.0) * np.hypot(a - held, o), off)
        return along, off

    def to_map(self, along: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings of distances along the line.

        All have the shape of `along`, and are in metres.
        """
        t, xy = np.asarray(along, dtype=float), self.places
        which = self.piece_at(t)
        run = np.maximum(np.diff(self.corners), 1e-9)
        share = (t - self.corners[which]) / run[which]
        place = xy[which] + share[..., None] * (xy[which + 1] - xy[which])
        return place[..., 0], place[..., 1]

    def beside(self, off: float) -> FloatArray:
        """Return the line that runs at a distance behind it (metres, negative in front), shape (n, 2), mitred at bends."""
        xy = self.places
        run = np.diff(xy, axis=0)
        run /= np.maximum(np.hypot(*run.T), 1e-9)[:, None]
        behind = np.column_stack([-run[:, 1], run[:, 0]])
        mean = np.concatenate([behind[:1], behind[:-1] + behind[1:], behind[-1:]])
        mean /= np.maximum(np.hypot(*mean.T), 1e-9)[:, None]
        normal = np.concatenate([behind[:1], behind])
        reach = np.maximum((mean * normal).sum(axis=1), 0.3)  # sharp bends are cut off
        return np.asarray(xy + off * mean / reach[:, None])

    def moved(self, east: float, north: float) -> SectionPlane:
        """Return it moved aside by metres."""
        return SectionPlane.along(self.places + np.array([east, north]))

    def stepped(self, off: float) -> SectionPlane:
        """Return it moved as a whole by metres behind itself, negative in front."""
        a = np.radians(self.azimuth)
        return self.moved(-off * float(np.cos(a)), off * float(np.sin(a)))


Side = Literal["both sides", "behind", "in front"]
SIDES: tuple[Side, ...] = ("both sides", "behind", "in front")


def in_corridor(off: FloatArray, width: float, side: Side = "both sides") -> NDArray[np.bool_]:
    """Return which distances behind a section (metres, negative in front of it) lie in its corridor of a width to a side."""
    off = np.asarray(off, dtype=float)
    low = 0.0 if side == "behind" else -width
    high = 0.0 if side == "in front" else width
    return np.asarray((off >= low - 1e-9) & (off <= high + 1e-9))


def turned(plane: SectionPlane, degrees: float) -> SectionPlane:
    """Return a section of the same shape, turned clockwise on the map about its middle."""
    if plane.bends:
        a, middle = np.radians(degrees), plane.places.mean(axis=0)
        turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
        return SectionPlane.along(middle + (plane.places - middle) @ turn)
    return about(0.5 * (plane.x0 + plane.x1), 0.5 * (plane.y0 + plane.y1), plane.azimuth + degrees, plane.length)


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
    """Return segments (n, 2, 2) of distance along and elevation where a section cuts triangles, from its start to its end."""
    if len(triangles) == 0:
        return np.empty((0, 2, 2))
    found = [
        _between(_cut(vertices, triangles, piece), piece.length) + np.array([start, 0.0])
        for piece, start in zip(plane.pieces, plane.corners[:-1], strict=True)
    ]
    return np.concatenate(found)


def _between(segments: FloatArray, end: float) -> FloatArray:
    # What of segments (n, 2, 2) lies between 0 and `end` along the section.
    a, b = segments[:, 0], segments[:, 1]
    run = np.where(np.abs(b[:, 0] - a[:, 0]) < 1e-12, 1e-12, b[:, 0] - a[:, 0])
    t0, t1 = (0.0 - a[:, 0]) / run, (end - a[:, 0]) / run
    low, high = np.clip(np.minimum(t0, t1), 0.0, 1.0), np.clip(np.maximum(t0, t1), 0.0, 1.0)
    keep = (high > low) & (np.maximum(a[:, 0], b[:, 0]) >= 0.0) & (np.minimum(a[:, 0], b[:, 0]) <= end)
    clipped = np.stack([a + low[:, None] * (b - a), a + high[:, None] * (b - a)], axis=1)
    return np.asarray(clipped[keep])


def _cut(vertices: FloatArray, triangles: NDArray[np.integer], plane: SectionPlane) -> FloatArray:
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
