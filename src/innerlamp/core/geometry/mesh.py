"""Meshes of cells in columns: the cells of block models, inversions and exports.

A mesh has columns of rectangular plan, that may be turned about the vertical, and in each column cells
on top of each other. `TensorMesh` has the same levels in all columns; `DrapedMesh` has a top of its own
for each column and layers whose thickness may be zero. Cells are counted (i, j, k) along the first axis
(east when the mesh is not turned), the second axis (north) and up.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
# The order of a cell's corners: around the bottom, then around the top (that of a VTK hexahedron).
CORNERS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1]])
_PART = 100_000  # places looked at together
_ENOUGH = 1_000_000  # layers that tell how thin they are
_EVEN = 1e-6  # share of a width by which widths may differ and still count as equal


@dataclass(frozen=True, eq=False)
class Mesh(ABC):
    """What all meshes have in common: the plan of their columns.

    Attributes
    ----------
    x0, y0
        Easting and northing in metres of the outer corner at which both axes begin.
    u, v
        Widths of the columns in metres along the first and the second axis, shapes (nx,) and (ny,).
    azimuth
        Direction of the second axis in degrees clockwise from grid north; the first axis lies 90° to its right.
    """

    x0: float
    y0: float
    u: FloatArray
    v: FloatArray
    azimuth: float = 0.0

    def __post_init__(self) -> None:
        for name in self._arrays():
            array = np.ascontiguousarray(getattr(self, name), dtype=float)
            array.flags.writeable = False
            object.__setattr__(self, name, array)
        for widths in (self.u, self.v):
            if widths.ndim != 1 or not len(widths) or not (widths > 0).all() or not np.isfinite(widths).all():
                raise InputError("the widths of a mesh's columns must be positive")
        if not np.isfinite([self.x0, self.y0, self.azimuth]).all():
            raise InputError("the place of a mesh must be finite")

    @staticmethod
    @abstractmethod
    def _arrays() -> tuple[str, ...]:
        """Names of the arrays that it is made of."""

    # ---- sizes

    @property
    @abstractmethod
    def shape(self) -> tuple[int, int, int]:
        """Number of cells along the first axis, the second axis and up."""

    @property
    def size(self) -> int:
        """Number of cells."""
        return int(np.prod([float(n) for n in self.shape]))

    @property
    def is_turned(self) -> bool:
        """Whether its axes are not east and north."""
        return bool(abs(self.azimuth % 360.0) > 1e-9)

    @property
    def even_plan(self) -> tuple[float, float] | None:
        """Widths along both axes where all columns are alike, else None."""
        return (_step(self.u), _step(self.v)) if _even(self.u) and _even(self.v) else None

    # ---- places

    @property
    def axes(self) -> tuple[FloatArray, FloatArray]:
        """Unit vectors (east, north) of both axes."""
        a = np.radians(self.azimuth) if self.is_turned else 0.0
        return np.array([np.cos(a), -np.sin(a)]), np.array([np.sin(a), np.cos(a)])

    def to_map(self, p: FloatArray, q: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings of places given in metres along both axes."""
        first, second = self.axes
        return self.x0 + p * first[0] + q * second[0], self.y0 + p * first[1] + q * second[1]

    def from_map(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return metres along both axes of places given by easting and northing."""
        (a, b), (c, d) = self.axes
        east, north = np.asarray(x, dtype=float) - self.x0, np.asarray(y, dtype=float) - self.y0
        return east * a + north * b, east * c + north * d

    @property
    def plan_edges(self) -> tuple[FloatArray, FloatArray]:
        """Where columns begin and end along both axes, metres; shapes (nx + 1,) and (ny + 1,)."""
        return edges_of(self.u), edges_of(self.v)

    @property
    def plan_centres(self) -> tuple[FloatArray, FloatArray]:
        """Eastings and northings of the columns, shape (nx, ny) each."""
        p, q = (0.5 * (e[1:] + e[:-1]) for e in self.plan_edges)
        return self.to_map(*np.meshgrid(p, q, indexing="ij"))

    def columns(self, x: FloatArray, y: FloatArray) -> tuple[IntArray, IntArray]:
        """Return the column (i, j) in which places lie, -1 for both outside of all."""
        p, q = self.from_map(x, y)
        i, j = (_bin(e, w) for e, w in zip(self.plan_edges, (p, q), strict=True))
        out = (i < 0) | (j < 0)
        return np.where(out, -1, i), np.where(out, -1, j)

    @property
    def bounds(self) -> tuple[float, float, float, float, float, float]:
        """West, east, south, north, lowest and highest in metres."""
        p, q = (e[[0, -1]] for e in self.plan_edges)
        x, y = self.to_map(p[[0, 1, 1, 0]], q[[0, 0, 1, 1]])
        low, high = self._heights()
        return float(x.min()), float(x.max()), float(y.min()), float(y.max()), low, high

    @abstractmethod
    def _heights(self) -> tuple[float, float]:
        """Lowest and highest elevation."""

    # ---- cells

    @abstractmethod
    def find(self, x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[IntArray, IntArray, IntArray]:
        """Return the cell (i, j, k) in which places lie, -1 for all three outside of the mesh."""

    def values_at(self, values: NDArray[Any], x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
        """Return the values (nx, ny, nz) of the cells in which places lie; NaN outside of the mesh."""
        i, j, k = self.find(x, y, z)
        inside = i >= 0
        out = values[np.where(inside, i, 0), np.where(inside, j, 0), np.where(inside, k, 0)]
        return np.where(inside, out, np.nan)

    @abstractmethod
    def cut(self, x: FloatArray, y: FloatArray, most: int) -> Cut:
        """Return the cells on a vertical cut through places (n,) in order, in at most so many rows; only its columns are looked at."""

    @abstractmethod
    def levels(self, i: IntArray, j: IntArray, k: IntArray) -> tuple[FloatArray, FloatArray]:
        """Return the elevations in metres of bottom and top of cells, in the shape of their numbers."""

    def centres(self, cells: IntArray | None = None) -> FloatArray:
        """Return the centres (n, 3) of cells given as rows (i, j, k), or of all in the order of (nx, ny, nz)."""
        i, j, k = (self.all_cells() if cells is None else np.asarray(cells)).T
        p, q = (0.5 * (e[1:] + e[:-1]) for e in self.plan_edges)
        x, y = self.to_map(p[i], q[j])
        low, high = self.levels(i, j, k)
        return np.column_stack([x, y, 0.5 * (low + high)])

    def corners(self, cells: IntArray) -> FloatArray:
        """Return the corners (n, 8, 3) of cells given as rows (i, j, k), in the order of `CORNERS`."""
        i, j, k = np.asarray(cells).T
        p, q = self.plan_edges
        x, y = self.to_map(p[i[:, None] + CORNERS[:, 0]], q[j[:, None] + CORNERS[:, 1]])
        z = np.stack(self.levels(i, j, k), axis=1)
        return np.stack([x, y, z[:, CORNERS[:, 2]]], axis=-1)

    def volumes(self, cells: IntArray | None = None) -> FloatArray:
        """Return the volumes (n,) in m³ of cells given as rows (i, j, k), or of all in the order of (nx, ny, nz)."""
        i, j, k = (self.all_cells() if cells is None else np.asarray(cells)).T
        low, high = self.levels(i, j, k)
        return np.asarray(self.u[i] * self.v[j] * (high - low))

    def all_cells(self) -> IntArray:
        """Return (i, j, k) of all cells, shape (n, 3), in the order of arrays of shape (nx, ny, nz)."""
        return np.stack(np.unravel_index(np.arange(self.size), self.shape), axis=1).astype(np.int64)

    @property
    @abstractmethod
    def words(self) -> str:
        """Cell sizes in words."""

    @property
    @abstractmethod
    def thin(self) -> float:
        """Thickness in metres of a thin layer: what a picture of a cut must be able to show."""

    # ---- comparing and storing

    def __eq__(self, other: object) -> bool:
        """Whether two meshes have the same cells."""
        if not isinstance(other, Mesh) or type(self) is not type(other) or self.shape != other.shape:
            return False
        mine, theirs = self.taken_apart(), other.taken_apart()
        return mine[0] == theirs[0] and all(np.array_equal(mine[1][n], theirs[1][n]) for n in mine[1])

    __hash__ = None  # type: ignore[assignment]

    def taken_apart(self) -> tuple[dict[str, Any], dict[str, FloatArray]]:
        """Return plain values and arrays by name, for storing."""
        plain = {n: getattr(self, n) for n in self.__dataclass_fields__ if n not in self._arrays()}
        return {"mesh": type(self).__name__, **plain}, {n: getattr(self, n) for n in self._arrays()}

    @staticmethod
    def put_together(plain: dict[str, Any], arrays: dict[str, FloatArray]) -> Mesh:
        """Return the mesh of what `taken_apart` gave."""
        kinds: dict[str, Any] = {"TensorMesh": TensorMesh, "DrapedMesh": DrapedMesh}
        rest = {n: v for n, v in plain.items() if n != "mesh"}
        mesh: Mesh = kinds[plain["mesh"]](**rest, **arrays)
        return mesh


@dataclass(frozen=True, eq=False)
class Cut:
    """The cells on a vertical cut, as fine as its thinnest layers ask for.

    Attributes
    ----------
    low, high
        Elevations in metres between which the rows lie, evenly.
    i, j, k
        Cell of each place, shape (rows, n), from the bottom up; -1 for all three outside of the mesh.
    """

    low: float
    high: float
    i: IntArray
    j: IntArray
    k: IntArray

    def values(self, of: NDArray[Any]) -> FloatArray:
        """Return the values (nx, ny, nz) of the cells, shape (rows, n); NaN outside of the mesh."""
        inside = self.k >= 0
        out = of[np.where(inside, self.i, 0), np.where(inside, self.j, 0), np.where(inside, self.k, 0)]
        return np.where(inside, out, np.nan)


def _rows(low: float, high: float, thin: float, most: int) -> FloatArray:
    """Elevations of the rows of a cut: as fine as the thinnest layer, within reason; equal layers are a row each."""
    count = int(np.clip(np.round((high - low) / thin), 1, most))
    return low + (high - low) / count * (np.arange(count, dtype=float) + 0.5)


@dataclass(frozen=True, eq=False)
class TensorMesh(Mesh):
    """Rectangular cells that have the same levels everywhere.

    Attributes
    ----------
    z0
        Elevation of the bottom in metres.
    w
        Heights of the layers in metres from the bottom up, shape (nz,).
    """

    z0: float = 0.0
    w: FloatArray = None  # type: ignore[assignment]

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.w.ndim != 1 or not len(self.w) or not (self.w > 0).all() or not np.isfinite(self.w).all():
            raise InputError("the heights of a mesh's layers must be positive")

    @staticmethod
    def _arrays() -> tuple[str, ...]:
        return ("u", "v", "w")

    @classmethod
    def even(
        cls,
        origin: tuple[float, float, float],
        step: tuple[float, float, float],
        shape: tuple[int, int, int],
        azimuth: float = 0.0,
    ) -> TensorMesh:
        """Return a mesh of equal cells from its lower corner, cell sizes in metres and numbers of cells."""
        u, v, w = (np.full(int(n), float(d)) for n, d in zip(shape, step, strict=True))
        return cls(float(origin[0]), float(origin[1]), u, v, float(azimuth), float(origin[2]), w)

    @property
    def shape(self) -> tuple[int, int, int]:
        return len(self.u), len(self.v), len(self.w)

    @property
    def step(self) -> tuple[float, float, float] | None:
        """Cell sizes where all cells are equal, else None."""
        plan = self.even_plan
        return (*plan, _step(self.w)) if plan is not None and _even(self.w) else None

    @property
    def z_edges(self) -> FloatArray:
        """Elevations between the layers, from the bottom up, shape (nz + 1,)."""
        return self.z0 + edges_of(self.w)

    @property
    def z_centres(self) -> FloatArray:
        """Elevations of the middles of the layers, shape (nz,)."""
        edges = self.z_edges
        return 0.5 * (edges[1:] + edges[:-1])

    def _heights(self) -> tuple[float, float]:
        return self.z0, float(self.z_edges[-1])

    def find(self, x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[IntArray, IntArray, IntArray]:
        i, j = self.columns(x, y)
        k = _bin(self.z_edges, np.asarray(z, dtype=float))
        i, j, k = np.broadcast_arrays(i, j, k)
        out = (i < 0) | (k < 0)
        return np.where(out, -1, i), np.where(out, -1, j), np.where(out, -1, k)

    def cut(self, x: FloatArray, y: FloatArray, most: int) -> Cut:
        low, high = self._heights()
        z = _rows(low, high, self.thin, most)
        return Cut(low, high, *self.find(x[None, :], y[None, :], z[:, None]))

    def levels(self, i: IntArray, j: IntArray, k: IntArray) -> tuple[FloatArray, FloatArray]:
        edges = self.z_edges
        return edges[k], edges[np.asarray(k) + 1]

    @property
    def thin(self) -> float:
        return float(self.w.min())

    @property
    def words(self) -> str:
        return " × ".join(_range(w) for w in (self.u, self.v, self.w)) + " m"


@dataclass(frozen=True, eq=False)
class DrapedMesh(Mesh):
    """Columns that begin at a surface, with layers whose thickness differs from column to column and may be zero.

    Attributes
    ----------
    tops
        Elevation of the top of each column in metres, shape (nx, ny).
    thickness
        Thickness of the layers in metres, shape (nx, ny, nz), from the bottom up; zero where a layer is not there.
    """

    tops: FloatArray = None  # type: ignore[assignment]
    thickness: FloatArray = None  # type: ignore[assignment]

    def __post_init__(self) -> None:
        super().__post_init__()
        plan = (len(self.u), len(self.v))
        if self.tops.shape != plan or self.thickness.ndim != 3 or self.thickness.shape[:2] != plan:
            raise InputError("tops and layers do not fit the columns of the mesh")
        if not (self.thickness >= 0).all() or not np.isfinite(self.tops).all() or not np.isfinite(self.thickness).all():
            raise InputError("the layers of a mesh must have a thickness of zero or more")

    @staticmethod
    def _arrays() -> tuple[str, ...]:
        return ("u", "v", "tops", "thickness")

    @property
    def shape(self) -> tuple[int, int, int]:
        return len(self.u), len(self.v), self.thickness.shape[2]

    @property
    def interfaces(self) -> FloatArray:
        """Elevations between the layers of each column, from the bottom up, shape (nx, ny, nz + 1)."""
        below = np.cumsum(self.thickness[:, :, ::-1], axis=2)[:, :, ::-1]
        return np.concatenate([self.tops[:, :, None] - below, self.tops[:, :, None]], axis=2)

    def levelled(self) -> TensorMesh | None:
        """Return the mesh with whole cells that its columns are cut from at their tops, None when they have no levels in common."""
        between, tops = self.interfaces, self.tops[:, :, None]
        found = between.max(axis=(0, 1))
        even = found[0] + float(found[1] - found[0]) * np.arange(len(found))
        for levels in (even, found):  # the upper levels may be cut in every column: equal layers go on
            heights = np.diff(levels)
            # Slivers under a top may have been given to the cell below: the highest level of a column is its top.
            if (heights > 0).all() and (np.abs(between - np.minimum(levels, tops)) <= 0.21 * heights.max()).all():
                return TensorMesh(self.x0, self.y0, self.u, self.v, self.azimuth, float(levels[0]), heights)
        return None

    def _heights(self) -> tuple[float, float]:
        return float((self.tops - self.thickness.sum(axis=2)).min()), float(self.tops.max())

    def interfaces_of(self, i: IntArray, j: IntArray) -> FloatArray:
        """Return the elevations between the layers of columns (n,), from the bottom up, shape (n, nz + 1)."""
        below = np.cumsum(self.thickness[i, j][:, ::-1], axis=1)[:, ::-1]
        top = self.tops[i, j][:, None]
        return np.concatenate([top - below, top], axis=1)

    def _columns_of(self, i: IntArray, j: IntArray) -> tuple[IntArray, IntArray, IntArray]:
        """The different columns (i, j) among some, and for each of those its place in that list; outside counts as the first."""
        number = np.maximum(i, 0) * len(self.v) + np.maximum(j, 0)
        found, place = np.unique(number, return_inverse=True)
        return found // len(self.v), found % len(self.v), place.reshape(number.shape)

    def find(self, x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[IntArray, IntArray, IntArray]:
        i, j = self.columns(x, y)
        # Only of the columns that are met, each once, are the layers summed up.
        own_i, own_j, place = self._columns_of(i, j)
        between, highest = self.interfaces_of(own_i, own_j), self._highest(own_i, own_j)
        i, j, place, z = np.broadcast_arrays(i, j, place, np.asarray(z, dtype=float))
        k = np.empty(z.shape, dtype=np.int64)
        flat, flat_place, flat_z = k.reshape(-1), place.reshape(-1), z.reshape(-1)
        for begin in range(0, z.size, _PART):
            part = slice(begin, begin + _PART)
            there, height = between[flat_place[part]], flat_z[part]
            # The last interface that is not above the place: layers of no thickness are stepped over.
            with np.errstate(invalid="ignore"):
                found = (there <= height[:, None]).sum(axis=1) - 1
            flat[part] = np.where(height == there[:, -1], highest[flat_place[part]], found)
        out = (i < 0) | (k < 0) | (k >= self.shape[2])
        return np.where(out, -1, i), np.where(out, -1, j), np.where(out, -1, k)

    def cut(self, x: FloatArray, y: FloatArray, most: int) -> Cut:
        i, j = self.columns(x, y)
        own_i, own_j, place = self._columns_of(i, j)
        between, highest = self.interfaces_of(own_i, own_j), self._highest(own_i, own_j)
        met = np.unique(place[i >= 0])
        if not len(met):
            low = high = float(self.tops.flat[0])
            none = np.full((1, len(x)), -1, dtype=np.int64)
            return Cut(low, high + 1.0, none, none, none)
        low, high = float(between[met].min()), float(between[met].max())
        z = _rows(low, high, _thin(np.diff(between[met], axis=1)), most)
        k = np.empty((len(own_i), len(z)), dtype=np.int64)
        for column, levels in enumerate(between):
            k[column] = np.searchsorted(levels, z, "right") - 1
            k[column, z == levels[-1]] = highest[column]
        k = k[place].T
        out = (i < 0)[None, :] | (k < 0) | (k >= self.shape[2])
        wide = np.broadcast_to(i, k.shape), np.broadcast_to(j, k.shape)
        return Cut(low, high, np.where(out, -1, wide[0]), np.where(out, -1, wide[1]), np.where(out, -1, k))

    def _highest(self, i: IntArray, j: IntArray) -> IntArray:
        """The highest layer of columns that has a thickness."""
        there = self.thickness[i, j] > 0
        return np.where(there.any(axis=-1), there.shape[-1] - 1 - np.argmax(there[..., ::-1], axis=-1), -1)

    def levels(self, i: IntArray, j: IntArray, k: IntArray) -> tuple[FloatArray, FloatArray]:
        own_i, own_j, place = self._columns_of(np.asarray(i), np.asarray(j))
        between = self.interfaces_of(own_i, own_j)
        return between[place, k], between[place, np.asarray(k) + 1]

    @property
    def thin(self) -> float:
        return _thin(self.thickness)

    @property
    def words(self) -> str:
        there = self.thickness[self.thickness > 0]
        heights = _range(np.round(there, 1) if there.size else self.thickness.ravel())
        return " × ".join((_range(self.u), _range(self.v), heights)) + " m, draped"


def face_corners(axis: int, side: int) -> IntArray:
    """Return the four corners (numbers in `CORNERS`, in order around it) of a cell's face at the near (0) or far (1) side of an axis."""
    mine = np.flatnonzero(CORNERS[:, axis] == side)
    a, b = (k for k in range(3) if k != axis)
    turn = np.arctan2(CORNERS[mine, b] - 0.5, CORNERS[mine, a] - 0.5)
    return np.asarray(mine[np.argsort(turn)])


def edges_of(widths: FloatArray) -> FloatArray:
    """Return where cells of these widths begin and end, from 0 on: shape (n + 1,)."""
    if _even(widths):  # so that equal cells begin at exact multiples
        return _step(widths) * np.arange(len(widths) + 1, dtype=float)
    return np.concatenate([[0.0], np.cumsum(widths)])


def edges_around(middles: FloatArray) -> FloatArray:
    """Return the edges (n + 1,) of cells from their middles: half way between them, the outer cells as wide as to their neighbours."""
    between = 0.5 * (middles[1:] + middles[:-1])
    return np.concatenate([[2 * middles[0] - between[0]], between, [2 * middles[-1] - between[-1]]])


def _even(widths: FloatArray) -> bool:
    return bool(np.ptp(widths) <= _EVEN * widths.mean())


def _step(widths: FloatArray) -> float:
    return float(widths[0]) if np.ptp(widths) == 0.0 else float(widths.mean())


def _thin(thickness: FloatArray) -> float:
    """The thickness that one in fifty of the layers that are there stays below; of very many an even part is looked at."""
    step = max(thickness.size // _ENOUGH, 1)
    some = thickness.reshape(-1)[::step]
    there = some[some > 0]
    return float(np.percentile(there, 2)) if there.size else 1.0


def _bin(edges: FloatArray, at: FloatArray) -> IntArray:
    """The interval in which places lie, -1 outside; the far edge belongs to the last one."""
    with np.errstate(invalid="ignore"):
        k = np.searchsorted(edges, at, "right") - 1
        k = np.where(at == edges[-1], len(edges) - 2, k)
        return np.where((at >= edges[0]) & (at <= edges[-1]), k, -1).astype(np.int64)


def _range(widths: FloatArray) -> str:
    low, high = float(widths.min()), float(widths.max())
    return f"{low:g}" if high - low <= _EVEN * max(high, 1e-300) else f"{low:g} to {high:g}"
