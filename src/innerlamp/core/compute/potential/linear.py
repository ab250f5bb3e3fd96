"""Linear operators from models to data: what an inversion needs of a forward problem, and no more."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

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


class Stacked:
    """Several operators on one model: their data after each other, such as components of a gradient."""

    def __init__(self, parts: Sequence[Operator]) -> None:
        if len({part.shape[1] for part in parts}) != 1:
            raise InputError("operators of different models can't be stacked")
        self.parts = tuple(parts)
        self._ends = np.cumsum([part.shape[0] for part in parts])

    @property
    def shape(self) -> tuple[int, int]:
        return int(self._ends[-1]), self.parts[0].shape[1]

    def apply(self, model: FloatArray) -> FloatArray:
        return np.concatenate([part.apply(model) for part in self.parts])

    def transposed(self, data: FloatArray) -> FloatArray:
        pieces = np.split(data, self._ends[:-1])
        return np.asarray(sum(part.transposed(d) for part, d in zip(self.parts, pieces, strict=True)))

    def column_norms(self) -> FloatArray:
        return np.asarray(np.sqrt(sum(part.column_norms() ** 2 for part in self.parts)))


class ByRows:
    """Operators on one model, each of which gives some rows of the data, such as blocks flown in different years."""

    def __init__(self, parts: Sequence[tuple[NDArray[np.int64], Operator]]) -> None:
        self._rows = [rows for rows, _ in parts]
        self._whole = Stacked([part for _, part in parts])

    @property
    def shape(self) -> tuple[int, int]:
        return self._whole.shape

    def apply(self, model: FloatArray) -> FloatArray:
        out = np.empty(self.shape[0])
        out[np.concatenate(self._rows)] = self._whole.apply(model)
        return out

    def transposed(self, data: FloatArray) -> FloatArray:
        return self._whole.transposed(data[np.concatenate(self._rows)])

    def column_norms(self) -> FloatArray:
        return self._whole.column_norms()
