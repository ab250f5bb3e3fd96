"""A model of units as signed surfaces and the order in which they part the ground: small, exact, read at any fineness.

A unit is made of pieces, each the ground on the positive side of one or more contacts; the first piece in the order of age
(young first) whose contacts are all positive has the place, and what no piece takes is the background. Contacts are kept
each for itself as smooth fields, never as combined margins or as the difference of two walls: a vein keeps its middle and
its half thickness, so that no unit is lost because it is thin. Fields are those before the faults moved the ground: a place
is taken back along the slip of each fault on whose hangingwall it lies, so that nothing is smeared across a fault.

Fields are cubic B-splines on even lattices (Unser 1999, IEEE Signal Processing Magazine 16(6), 22).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ....errors import InputError
from .reading import Packed, natural_codes, values_at

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
_NONE = -1
_BATCH = 200_000
PAD = 2  # nodes beyond what is read, so that the spline never looks past its lattice
MOST_FAULTS = 30


@dataclass(frozen=True)
class Lattice:
    """A field on an even lattice, along the axes of the map or of a sheet.

    Attributes
    ----------
    origin
        First node (3,), metres; of a sheet its first two coordinates in the plane, the third 0.
    spacing
        Metres (3,) between nodes.
    weights
        Weights of the spline, float32, shape (nx, ny, nz); (nu, nv, 1) over a plane.
    """

    origin: FloatArray
    spacing: FloatArray
    weights: NDArray[np.float32]

    @classmethod
    def through(cls, origin: FloatArray, spacing: FloatArray, values: FloatArray) -> Lattice:
        """Return the field that has values (nx, ny, nz) at the nodes of a lattice; with nz = 1 it is one over a plane.

        Raises
        ------
        InputError
            When a value is no number, or the lattice has fewer than four nodes along an axis.
        """
        from scipy.ndimage import spline_filter1d

        flat = values.shape[2] == 1
        if not np.isfinite(values).all():
            raise InputError("a contact's field has places without a number", fix="Look at the readings it is made of")
        if min(values.shape[:2] if flat else values.shape) < 4:
            raise InputError("a contact's field has fewer than four nodes along an axis", fix="Take a finer lattice")
        out = np.asarray(values, dtype=float)
        for axis in range(2 if flat else 3):
            out = spline_filter1d(out, order=3, axis=axis, mode="mirror")
        return cls(np.asarray(origin, float), np.asarray(spacing, float), out.astype(np.float32))


@dataclass(frozen=True)
class Frame:
    """A plane with axes: places become metres along two of them and off it.

    Attributes
    ----------
    origin
        A place (3,) on it, metres.
    axes
        Unit vectors (3, 3) as rows: two in the plane, its normal.
    """

    origin: FloatArray
    axes: FloatArray


LEVEL = Frame(np.zeros(3), np.eye(3))


@dataclass(frozen=True)
class Contact:
    """One signed surface: positive on the side of its unit, in metres or nearly so.

    Attributes
    ----------
    name
        Of the unit whose contact it is.
    lattice
        The field in space; or, over a plane, the middle of a sheet (its offset along the normal).
    sign
        What the field is multiplied with: 1 or -1. Of a sheet: 1 for what lies on the side of the normal.
    level
        Added to it, metres.
    frame
        The plane of a sheet; None for a field in space.
    thick
        Over the same plane, half the thickness of a sheet: the wall lies beyond the middle by it; negative where there is none.
    moved
        Numbers of the faults that moved it.
    """

    name: str
    lattice: Lattice
    sign: float = 1.0
    level: float = 0.0
    frame: Frame | None = None
    thick: Lattice | None = None
    moved: tuple[int, ...] = ()


@dataclass(frozen=True)
class Move:
    """A fault: where it is, and by how much its hangingwall moved.

    Attributes
    ----------
    name
        Of the fault.
    frame
        Its plane: along strike, down the dip, the upward normal; the origin is the middle of where it moved.
    bend
        Metres that it lies off its plane, over the plane; None for a plane.
    slip
        The movement (3,) of the hangingwall at the middle, metres.
    length, height
        From tip to tip along strike and down the dip, metres; infinite for none. The movement falls off as an ellipse.
    ends
        Other faults (numbers) at which it ends, with the side, 1 hangingwall or -1 footwall, on which it is.
    """

    name: str
    frame: Frame
    slip: FloatArray
    bend: Lattice | None = None
    length: float = np.inf
    height: float = np.inf
    ends: tuple[tuple[int, float], ...] = ()


@dataclass(frozen=True)
class Piece:
    """A part of a unit: where all of some contacts are positive.

    Attributes
    ----------
    unit
        Number of the unit; -1 for what is no ground, such as air.
    contacts
        Numbers of contacts.
    """

    unit: int
    contacts: tuple[int, ...]


@dataclass(frozen=True)
class UnitModel:
    """Contacts, faults and the rules that make units of them.

    Attributes
    ----------
    units
        Names, from the youngest to the background.
    contacts, faults
        See there; faults from the youngest on.
    pieces
        From the youngest on: the first that holds a place has it. What none holds is the last unit.
    low, high
        Corners (3,) of the box that the model is known in, metres.
    """

    units: tuple[str, ...]
    contacts: tuple[Contact, ...]
    pieces: tuple[Piece, ...]
    low: FloatArray
    high: FloatArray
    faults: tuple[Move, ...] = ()

    def __post_init__(self) -> None:
        count = len(self.contacts)
        for piece in self.pieces:
            if not piece.contacts or min(piece.contacts) < 0 or max(piece.contacts) >= count:
                raise InputError("a piece of the model of units names a contact that is not there")
            if not -1 <= piece.unit < len(self.units):
                raise InputError("a piece of the model of units names a unit that is not there")
        if len(self.faults) > MOST_FAULTS:
            raise InputError(f"a model of units has {len(self.faults)} faults; {MOST_FAULTS} are the most")
        if not (np.asarray(self.high) > np.asarray(self.low)).all():
            raise InputError("the model of units has no extent")

    @cached_property
    def packed(self) -> Packed:
        """All numbers in few arrays, as compiled code reads them."""
        return _packed(self)

    @cached_property
    def piece_units(self) -> IntArray:
        """Unit of each piece, and of the background after them."""
        return np.array([*(p.unit for p in self.pieces), len(self.units) - 1], dtype=np.int64)

    def values(self, points: FloatArray) -> FloatArray:
        """Return metres (n, k) on the positive side of each contact at places (n, 3), each on its own side of the faults."""
        at = np.ascontiguousarray(points, dtype=float)
        out = np.empty((len(at), len(self.contacts)))
        values_at(self.packed, at, natural_codes(self.packed, at), out)
        return out

    def piece_at(self, points: FloatArray) -> IntArray:
        """Return which piece (n,) has each place (n, 3), metres; the count of pieces for the background."""
        values = self.values(points)
        out = np.full(len(values), len(self.pieces), dtype=np.int64)
        for k in range(len(self.pieces) - 1, -1, -1):
            out[(values[:, list(self.pieces[k].contacts)] > 0).all(axis=1)] = k
        return out

    def unit_at(self, points: FloatArray) -> IntArray:
        """Return the number of the unit (n,) at places (n, 3), metres; -1 in the air."""
        return np.asarray(self.piece_units[self.piece_at(points)])

    def margins(self, points: FloatArray, ground: bool = True) -> FloatArray:
        """Return how far inside of each unit places (n, 3) lie: metres (n, units), negative outside, as far as contacts are distances.

        The zero of each column is the surface of the unit, what is younger cut away; the air too, unless `ground` is off.
        """
        if len(points) > _BATCH:  # what is read in between takes as much as what is asked
            parts = [self.margins(points[k : k + _BATCH], ground) for k in range(0, len(points), _BATCH)]
            return np.concatenate(parts)
        values = self.values(points)
        out = np.full((len(values), len(self.units)), -np.inf)
        free = np.full(len(values), np.inf)
        for piece in self.pieces:
            if piece.unit < 0 and not ground:
                continue
            own = values[:, list(piece.contacts)].min(axis=1)
            if piece.unit >= 0:
                out[:, piece.unit] = np.maximum(out[:, piece.unit], np.minimum(own, free))
            free = np.minimum(free, -own)
        out[:, -1] = np.maximum(out[:, -1], free)
        return out

    def ground_at(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """Return the elevation (n,) of the ground, metres, at eastings and northings (n,): its first contact is that of the air."""
        at = np.column_stack([x, y, np.zeros(len(x))])
        above = np.empty((len(at), 1))
        values_at(self.packed, at, np.zeros(len(at), dtype=np.int64), above)
        return -above[:, 0]


def nodes_of(origin: FloatArray, spacing: FloatArray, count: IntArray) -> FloatArray:
    """Return the nodes (n, 3) of a lattice, the last axis fastest, from its first one and the metres (3,) between them."""
    axes = [origin[k] + spacing[k] * np.arange(count[k]) for k in range(3)]
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)


def sampled(
    field_at: Callable[[FloatArray], FloatArray], low: FloatArray, high: FloatArray, spacing: FloatArray
) -> Lattice:
    """Return a field in space read at the nodes of a lattice that covers a box.

    Parameters
    ----------
    field_at
        Gives values (n,) at places (n, 3).
    low, high
        Corners (3,) of the box in metres.
    spacing
        Metres (3,) between nodes.
    """
    origin = np.asarray(low, float) - PAD * spacing
    count = np.ceil((np.asarray(high, float) - low) / spacing).astype(int) + 2 * PAD + 1
    at = nodes_of(origin, spacing, count)
    return Lattice.through(origin, spacing, np.asarray(field_at(at), float).reshape(tuple(count)))


def sampled_over(
    field_at: Callable[[FloatArray], FloatArray], low: FloatArray, high: FloatArray, spacing: float
) -> Lattice:
    """Return a field over a plane read at the nodes of a lattice that covers a box (2,) to (2,) of its coordinates, metres.

    `field_at` gives values (n,) at places (n, 2).
    """
    count = np.maximum(np.ceil((np.asarray(high, float) - low) / spacing).astype(int), 1) + 2 * PAD + 1
    origin = np.array([low[0] - PAD * spacing, low[1] - PAD * spacing, 0.0])
    axes = [origin[k] + spacing * np.arange(count[k]) for k in range(2)]
    at = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 2)
    values = np.asarray(field_at(at), float).reshape(count[0], count[1], 1)
    return Lattice.through(origin, np.array([spacing, spacing, 1.0]), values)


def _packed(model: UnitModel) -> Packed:
    lattices: list[Lattice] = []
    numbers: dict[int, int] = {}

    def number(lattice: Lattice | None) -> int:
        if lattice is None:
            return _NONE
        if id(lattice) not in numbers:
            numbers[id(lattice)] = len(lattices)
            lattices.append(lattice)
        return numbers[id(lattice)]

    rows: list[tuple[int, int, int, float, float, float, float, Frame, int]] = []
    for c in model.contacts:
        mask = sum(1 << j for j in c.moved)
        if c.frame is None:
            rows.append((0, number(c.lattice), _NONE, 0.0, c.sign, 0.0, c.level, LEVEL, mask))
        else:
            # On the side of the normal: w - m; beneath: m - w; a wall lies half the thickness beyond.
            half = 1.0 if c.thick is not None else 0.0
            rows.append((1, number(c.lattice), number(c.thick), c.sign, -c.sign, half, c.level, c.frame, mask))
    for j, f in enumerate(model.faults):
        rows.append((1, number(f.bend), _NONE, 1.0, -1.0, 0.0, 0.0, f.frame, (1 << j) - 1))
    sizes = [lattice.weights.size for lattice in lattices]
    weights = np.concatenate([lattice.weights.ravel() for lattice in lattices] or [np.zeros(1, np.float32)])
    many = len(model.faults)
    ends = np.zeros((many, many))
    for j, f in enumerate(model.faults):
        for other, side in f.ends:
            ends[j, other] = side
    kinds, first, second, off, one, two, level, frames, moved = zip(*rows, strict=True)
    pieces = [np.asarray(p.contacts, np.int64) for p in model.pieces]
    return Packed(
        weights=weights,
        start=np.concatenate([[0], np.cumsum(sizes)])[:-1].astype(np.int64),
        shape=np.array([lat.weights.shape for lat in lattices], dtype=np.int64).reshape(-1, 3),
        origin=np.array([lat.origin for lat in lattices], dtype=float).reshape(-1, 3),
        inverse=np.array([1.0 / lat.spacing for lat in lattices], dtype=float).reshape(-1, 3),
        kind=np.array(kinds, dtype=np.int64),
        fields=np.column_stack([first, second]).astype(np.int64),
        factors=np.column_stack([off, one, two, level]).astype(float),
        frame=np.array([np.vstack([f.origin, f.axes]) for f in frames], dtype=float),
        moved=np.array(moved, dtype=np.int64),
        slip=np.array([f.slip for f in model.faults], dtype=float).reshape(-1, 3),
        tips=np.array([(2.0 / f.length, 2.0 / f.height) for f in model.faults], dtype=float).reshape(-1, 2),
        ends=ends,
        piece_start=np.concatenate([[0], np.cumsum([len(p) for p in pieces])]).astype(np.int64),
        piece_contacts=np.concatenate(pieces) if pieces else np.zeros(0, np.int64),
    )
