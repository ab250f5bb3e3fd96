"""Linear operators from models to data: what an inversion needs of a forward problem, and no more."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


class Operator(Protocol):
    """Data of a model, linear in it.

    Attributes
    ----------
    shape
        Number of data and of cells.
    """

    @property
    def shape(self) -> tuple[int, int]: ...

    def apply(self, model: FloatArray) -> FloatArray:
        """Return the data (n,) of a model (cells,)."""

    def transposed(self, data: FloatArray) -> FloatArray:
        """Return the product (cells,) of the transposed operator with data (n,)."""

    def column_norms(self) -> FloatArray:
        """Return the length (cells,) of the data of each cell with value 1: its sensitivity."""


class Dense:
    """A matrix (n, cells) as an operator; products are made in its own precision and come back in double."""

    def __init__(self, matrix: NDArray[np.floating]) -> None:
        self.matrix = matrix

    @property
    def shape(self) -> tuple[int, int]:
        return self.matrix.shape[0], self.matrix.shape[1]

    def apply(self, model: FloatArray) -> FloatArray:
        return np.asarray(self.matrix @ model.astype(self.matrix.dtype), dtype=float)

    def transposed(self, data: FloatArray) -> FloatArray:
        return np.asarray(self.matrix.T @ data.astype(self.matrix.dtype), dtype=float)

    def column_norms(self) -> FloatArray:
        return np.asarray(np.sqrt(np.einsum("ij,ij->j", self.matrix, self.matrix, dtype=np.float64)))
