"""Veins as pairs of walls: a middle surface over their plane, and a thickness that pinches out where holes do not have it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

if TYPE_CHECKING:  # what the library behind it takes to load is only paid when a vein is made
    from . import rbf

FloatArray = NDArray[np.float64]
_ALONG = 0.12  # sine of the angle (about 7 degrees) under which a hole runs along a vein


@dataclass(frozen=True)
class Vein:
    """A vein in the frame of its plane.

    Attributes
    ----------
    origin
        A place on the plane, metres.
    axes
        Unit vectors (3, 3) as rows: two in the plane, its normal.
    middle, half, extent
        Fields over the plane (third coordinate 0), metres: offset of the middle surface along the normal, half the
        thickness of its pieces, and what bounds that half: large where the vein is, negative beyond where it pinches out.
    least
        Half of the least thickness in metres where the vein is there.
    """

    origin: FloatArray
    axes: FloatArray
    middle: rbf.RadialField
    half: rbf.RadialField
    extent: rbf.RadialField
    least: float

    def value(self, points: FloatArray) -> FloatArray:
        """Return metres (n,) inside of the walls, negative outside."""
        flat, off = self._flat_and_off(points)
        return self.half_at(flat[:, :2]) - np.abs(off)

    def middle_at(self, flat: FloatArray) -> FloatArray:
        """Return the offset (n,) of the middle surface along the normal at places (n, 2) in the plane, metres."""
        from . import rbf

        return np.asarray(rbf.evaluate(self.middle, _flat(flat)))

    def half_at(self, flat: FloatArray) -> FloatArray:
        """Return half the thickness (n,) at places (n, 2) in the plane, metres; negative beyond where it pinches out."""
        from . import rbf

        at = _flat(flat)
        there = rbf.evaluate(self.extent, at)
        half = np.minimum(np.maximum(rbf.evaluate(self.half, at), self.least), there)
        # As thick as asked wherever it is, up to where it ends.
        return np.asarray(np.where(there > 0, np.maximum(half, np.minimum(self.least, 4.0 * there)), there))

    def off(self, points: FloatArray) -> FloatArray:
        """Return metres (n,) from the middle surface along the normal of the plane, positive on its side."""
        return self._flat_and_off(points)[1]

    def _flat_and_off(self, points: FloatArray) -> tuple[FloatArray, FloatArray]:
        from . import rbf

        local = (points - self.origin) @ self.axes.T
        flat = np.column_stack([local[:, :2], np.zeros(len(local))])
        return flat, np.asarray(local[:, 2] - rbf.evaluate(self.middle, flat))


def parted(offsets: FloatArray, apart: float) -> NDArray[np.int64]:
    """Return which of several parallel veins pieces belong to, numbered from the lowest offset on.

    Parameters
    ----------
    offsets
        Of each piece (n,) along the normal of their plane, metres.
    apart
        A wider gap than this, in metres, between one offset and the next parts two veins.
    """
    order = np.argsort(offsets, kind="stable")
    out = np.empty(len(offsets), dtype=np.int64)
    out[order] = np.concatenate([[0], np.cumsum(np.diff(offsets[order]) > apart)]) if len(offsets) else 0
    return out


def ended(value: FloatArray, off: FloatArray, off_own: FloatArray) -> FloatArray:
    """Return metres (n,) inside of a vein that ends at another, on the side of it where most of its own pieces lie.

    Parameters
    ----------
    value
        Metres (n,) inside of the vein as it were without the other.
    off, off_own
        Metres from the middle surface of the other: of the places (n,), and of the vein's own pieces (k,).
    """
    return np.asarray(np.minimum(value, side_kept(off_own) * off))


def side_kept(off_own: FloatArray) -> float:
    """Return on which side of another a vein that ends there is, 1 or -1, from how far off it its pieces (k,) lie, metres."""
    return 1.0 if float(np.median(off_own)) >= 0 else -1.0


def mean_plane(points: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the middle of points (n, 3), metres, and axes (3, 3) whose last row is the normal of the plane through them, upward.

    Raises
    ------
    InputError
        When they lie on one line.
    """
    middle = points.mean(axis=0)
    _, sizes, rows = np.linalg.svd(points - middle, full_matrices=False)
    normal = np.cross(rows[0], rows[1])
    if not sizes[1] > 1e-6 * sizes[0]:
        raise InputError("the vein's pieces lie on one line, which is no plane", fix="Give its dip and dip direction")
    normal /= np.linalg.norm(normal)
    normal = normal if normal[2] >= 0 else -normal
    return middle, np.stack([rows[0], np.cross(normal, rows[0]), normal])


def plane_axes(normal: FloatArray) -> FloatArray:
    """Return axes (3, 3) as rows, unit vectors, of a plane with an upward unit normal (3,): along strike, down dip, the normal."""
    strike = np.array([-normal[1], normal[0], 0.0])
    strike = np.array([1.0, 0.0, 0.0]) if np.linalg.norm(strike) < 1e-9 else strike / np.linalg.norm(strike)
    return np.stack([strike, np.cross(normal, strike), normal])


def fit_vein(
    one_wall: FloatArray,
    other_wall: FloatArray,
    without: tuple[FloatArray, FloatArray],
    normal: FloatArray | None = None,
    least: float = 0.0,
    reach: float = 50.0,
) -> Vein:
    """Fit a vein.

    Parameters
    ----------
    one_wall, other_wall
        Where holes enter and leave it, shapes (n, 3) in metres.
    without
        Ends (k, 3) of pieces of holes in which it is not: where one passes the middle surface the vein pinches out.
    normal
        Of its plane; from its pieces by default, three of them at least.
    least
        Least thickness in metres where it is there.
    reach
        Metres beyond its outermost pieces at which it ends where no hole says so before.

    Raises
    ------
    InputError
        When there are too few pieces for a plane.
    """
    from . import rbf

    centres = 0.5 * (one_wall + other_wall)
    if len(centres) < (3 if normal is None else 1):
        raise InputError(
            f"the vein is met {len(centres)} times; three are needed for its plane",
            fix="Give its dip and dip direction",
        )
    if normal is None:
        origin, axes = mean_plane(centres)
    else:
        origin, axes = centres.mean(axis=0), plane_axes(normal)
    local = (centres - origin) @ axes.T
    thick = np.abs((one_wall - other_wall) @ axes[2])
    # Where a hole runs along the vein its ends are no walls: such a piece tells where the vein is, not how thick.
    length = np.linalg.norm(one_wall - other_wall, axis=1)
    walls = thick > _ALONG * length
    if not walls.any():
        walls[:] = True
    flat = np.column_stack([local[:, :2], np.zeros(len(local))])
    middle = _over_plane(flat, local[:, 2])
    # Where pieces without it pass through the middle surface it has no thickness.
    first, last = (np.asarray(w, float).reshape(-1, 3) for w in without)
    ends = [(w - origin) @ axes.T for w in (first, last)]
    off = [e[:, 2] - rbf.evaluate(middle, np.column_stack([e[:, :2], np.zeros(len(e))])) for e in ends]
    through = off[0] * off[1] < 0
    share = (off[0] / np.where(through, off[0] - off[1], 1.0))[:, None]
    empty = (ends[0] + share * (ends[1] - ends[0]))[through]
    # Round about it ends at its reach, and beyond it is gone.
    rings = [_ring(flat[:, :2], reach), _ring(flat[:, :2], 1.6 * reach)]
    usual = float(np.median(thick[walls]))
    at = np.vstack([flat, _flat(empty[:, :2]), *map(_flat, rings)])
    # What bounds the thickness falls from four times of half of it to as much below nothing, so that it ends half-way.
    steep = 2.0 * np.maximum(np.where(walls, thick, usual), usual)
    beyond = [np.full(len(ring), share * usual) for ring, share in zip(rings, (-0.02, -2.0), strict=True)]
    bound = np.concatenate([steep, np.full(len(empty), -2.0 * usual), *beyond])
    return Vein(origin, axes, middle, _over_plane(flat[walls], 0.5 * thick[walls]), _over_plane(at, bound), 0.5 * least)


def _flat(uv: FloatArray) -> FloatArray:
    return np.column_stack([uv, np.zeros(len(uv))])


def _ring(uv: FloatArray, reach: float) -> FloatArray:
    """Places at a distance round the hull of others."""
    import shapely

    hull = shapely.MultiPoint(uv).convex_hull.buffer(reach)
    count = max(16, int(hull.length / max(reach, 1e-6)))
    return np.array([hull.exterior.interpolate(s, normalized=True).coords[0] for s in np.arange(count) / count])


def _over_plane(flat: FloatArray, values: FloatArray) -> rbf.RadialField:
    """A field over the plane; of fewer than five places their mean."""
    from . import rbf

    if len(flat) < 5:
        mean = float(values.mean())
        return rbf.RadialField(flat[:1].copy(), np.zeros(1), np.array([mean, 0.0, 0.0, 0.0]), np.eye(3), np.zeros(3))
    return rbf.fit(flat, values)
