"""The cells of a map grid."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import InputError
from .mesh import FloatArray


@dataclass(frozen=True)
class GridGeometry:
    """Cell centres of a grid: first centre, cell size (metres) and numbers of columns and rows."""

    x0: float
    y0: float
    cell: float
    nx: int
    ny: int

    @property
    def size(self) -> int:
        return self.nx * self.ny

    def places(self) -> tuple[FloatArray, FloatArray]:
        """Return eastings and northings of all cell centres, shape (ny, nx)."""
        gx, gy = np.meshgrid(self.x0 + self.cell * np.arange(self.nx), self.y0 + self.cell * np.arange(self.ny))
        return gx, gy


def geometry_around(x: FloatArray, y: FloatArray, cell: float, margin: float = 0.0) -> GridGeometry:
    """Return cells on round multiples of the cell size that cover places and a margin (metres).

    Raises
    ------
    InputError
        When the cell size is not positive.
    """
    if not cell > 0:
        raise InputError(
            "the cell size must be positive", fix="Give it in metres, about a quarter of the sample spacing"
        )
    i0, i1 = int(np.floor((x.min() - margin) / cell)), int(np.ceil((x.max() + margin) / cell))
    j0, j1 = int(np.floor((y.min() - margin) / cell)), int(np.ceil((y.max() + margin) / cell))
    return GridGeometry((i0 + 0.5) * cell, (j0 + 0.5) * cell, cell, max(i1 - i0, 2), max(j1 - j0, 2))
