"""The regular mesh of potential-field models."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Mesh:
    """A regular mesh: lower south-western corner, cell sizes (metres) and numbers of cells."""

    x0: float
    y0: float
    z0: float
    dx: float
    dy: float
    dz: float
    nx: int
    ny: int
    nz: int

    @property
    def size(self) -> int:
        return self.nx * self.ny * self.nz

    def centres(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Cell centres along each axis."""
        return (
            self.x0 + self.dx * (np.arange(self.nx, dtype=np.float64) + 0.5),
            self.y0 + self.dy * (np.arange(self.ny, dtype=np.float64) + 0.5),
            self.z0 + self.dz * (np.arange(self.nz, dtype=np.float64) + 0.5),
        )
