"""Block models with cells of several sizes, brought onto one lattice: averaged in the largest, or kept in the smallest."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from ...errors import InputError
from ...geometry.mesh import FloatArray, IntArray, TensorMesh
from .cells import AXES, MOST_CELLS, on_axes, on_map

_ODD = 0.01  # of a cell by which a cell may lie off its lattice
MOST_CODES = 30  # whole numbers of so few values that have no unit are codes, which have no mean


@dataclass(frozen=True)
class Lattice:
    """The mesh that cells of several sizes are brought onto, and how they lie on it.

    Attributes
    ----------
    mesh
        Even cells.
    cell
        Flat number of a cell of the mesh for each part of a cell of the file, shape (m,).
    row
        Which cell of the file each part is of, shape (m,).
    volume
        Of each part, m³, shape (m,).
    """

    mesh: TensorMesh
    cell: IntArray
    row: IntArray
    volume: FloatArray

    def share(self) -> FloatArray:
        """Return how much of each cell is filled, in the shape of the mesh."""
        count = int(np.prod(self.mesh.shape))
        whole = float(self.mesh.u[0] * self.mesh.v[0] * self.mesh.w[0])
        return (np.bincount(self.cell, self.volume, count) / whole).reshape(self.mesh.shape)

    def mean(self, values: FloatArray) -> FloatArray:
        """Return means by volume of what is known, NaN where nothing is; values (n,) are those of the cells of the file."""
        count = int(np.prod(self.mesh.shape))
        mine = values[self.row]
        known = np.isfinite(mine)
        weight = np.bincount(self.cell[known], self.volume[known], count)
        total = np.bincount(self.cell[known], self.volume[known] * mine[known], count)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(weight > 0, total / weight, np.nan).reshape(self.mesh.shape)

    def most(self, codes: FloatArray) -> FloatArray:
        """Return the code that fills most of each cell, the lower one of two that fill as much; NaN where nothing is known."""
        mine = codes[self.row]
        known = np.isfinite(mine)
        parts = pd.DataFrame({"cell": self.cell[known], "code": mine[known], "volume": self.volume[known]})
        sums = parts.groupby(["cell", "code"], sort=True)["volume"].sum().reset_index()
        first = sums.loc[sums.groupby("cell")["volume"].idxmax()]
        out = np.full(int(np.prod(self.mesh.shape)), np.nan)
        out[first["cell"].to_numpy()] = first["code"].to_numpy()
        return out.reshape(self.mesh.shape)


def are_codes(values: FloatArray, unit: str) -> bool:
    """Return whether numbers are codes, such as those of domains: whole, few different ones, without a unit."""
    known = values[np.isfinite(values)]
    return not unit and bool((known == np.round(known)).all()) and len(np.unique(known)) <= MOST_CODES


def lattice_of(centres: FloatArray, sizes: FloatArray, file: str, azimuth: float = 0.0, fine: bool = False) -> Lattice:
    """Return the even lattice of cells that were cut into smaller ones.

    Parameters
    ----------
    centres, sizes
        Shape (n, 3), metres; sizes along the axes of the mesh.
    azimuth
        Direction of the second axis, degrees clockwise from grid north.
    fine
        Whether the lattice has the smallest size along each axis, so that every cell is kept as it is, instead of the largest.

    Raises
    ------
    InputError
        When the largest cells lie on no lattice, others do not fit into them, cells overlap, or the lattice is too large.
    """
    if not len(centres) or not (sizes > 0).all():
        raise InputError("no row has a place and a size above zero", where=file)
    at = on_axes(centres, azimuth)
    low, high = at - sizes / 2, at + sizes / 2
    step, origin, count = np.empty(3), np.empty(3), np.empty(3)
    for k, name in enumerate(AXES):
        step[k], origin[k], count[k] = _along(low[:, k], high[:, k], sizes[:, k], name, file, fine)
    if np.prod(count) > MOST_CELLS:
        fix = "Take it in the largest cells" if fine else "Leave out what lies far off"
        raise InputError(f"the cells span a mesh of more than {MOST_CELLS / 1e6:g} million cells", where=file, fix=fix)
    x, y = on_map(float(origin[0]), float(origin[1]), centres[0], azimuth)
    size, counts = (float(step[0]), float(step[1]), float(step[2])), (int(count[0]), int(count[1]), int(count[2]))
    mesh = TensorMesh.even((x, y, float(origin[2])), size, counts, azimuth)
    first = np.floor((low - origin) / step + _ODD).astype(np.int64)
    span = np.ceil((high - origin) / step - _ODD).astype(np.int64) - first
    if not fine and (span > 1).any():
        row = int(np.flatnonzero((span > 1).any(axis=1))[0])
        raise InputError(
            f"the cell at {centres[row, 0]:.1f}, {centres[row, 1]:.1f}, {centres[row, 2]:.1f} lies across two of the largest cells",
            where=file,
            fix="Keep the cells in the smallest",
        )
    cell, rows = _parts(first, np.maximum(span, 1), mesh.shape)
    volume = sizes.prod(axis=1)[rows] if not fine else np.full(len(rows), float(step.prod()))
    filled = np.bincount(cell, volume)
    if (over := int((filled > step.prod() * (1.0 + _ODD)).sum())) > 0:
        raise InputError(
            f"cells overlap in {over:,} places", where=file, fix="Leave out the cells that are there twice"
        )
    return Lattice(mesh, cell, rows, volume)


def _along(
    low: FloatArray, high: FloatArray, sizes: FloatArray, name: str, file: str, fine: bool
) -> tuple[float, float, float]:
    """Size, beginning and number of the cells of the lattice along an axis."""
    largest, smallest = float(sizes.max()), float(sizes.min())
    whole = sizes > largest * (1.0 - _ODD / 10)
    places = (low[whole] - low[whole][0]) / largest
    if np.abs(places - np.round(places)).max() > _ODD:
        raise InputError(
            f"the largest cells are on no lattice along {name}", where=file, fix="Regularise the model first"
        )
    step = largest
    if fine:
        parts = largest / smallest
        offsets = (low - low[whole][0]) / smallest
        uneven = (
            np.abs(offsets - np.round(offsets)).max() > _ODD or np.abs(sizes / smallest % 1.0 - 0.5).min() < 0.5 - _ODD
        )
        if abs(parts - round(parts)) > _ODD or uneven:
            raise InputError(
                f"the cells are no multiples of the smallest along {name}, {smallest:g} m",
                where=file,
                fix="Take it in the largest cells",
            )
        step = largest / round(parts)
    begin = float(low[whole][0]) + largest * np.floor((low.min() - low[whole][0]) / largest + _ODD)
    return step, float(begin), max(float(np.ceil((high.max() - begin) / step - _ODD)), 1.0)


def _parts(first: IntArray, span: IntArray, shape: tuple[int, ...]) -> tuple[IntArray, IntArray]:
    """Flat numbers of all cells of the lattice that cells (n, 3) take, and which of these each is of."""
    cells, rows = [], []
    kinds, of = np.unique(span, axis=0, return_inverse=True)
    of = of.ravel()
    for number, kind in enumerate(kinds):
        mine = np.flatnonzero(of == number)
        offsets = np.stack(np.meshgrid(*(np.arange(n) for n in kind), indexing="ij"), axis=-1).reshape(-1, 3)
        at = (first[mine, None, :] + offsets[None, :, :]).reshape(-1, 3)
        cells.append(np.ravel_multi_index((at[:, 0], at[:, 1], at[:, 2]), shape))
        rows.append(np.repeat(mine, len(offsets)))
    return np.concatenate(cells), np.concatenate(rows)
