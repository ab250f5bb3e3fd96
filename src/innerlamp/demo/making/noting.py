"""What all makers share: their own streams of chance, and the list of what was planted."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from ..truth import ORIGIN

SEED = 20240517


def chance(name: str) -> np.random.Generator:
    """A stream of its own for each file, so that a change of one leaves the others as they are."""
    return np.random.default_rng([SEED, zlib.crc32(name.encode())])


@dataclass
class Planted:
    """The clerical errors that were put into files, each with its file and line."""

    errors: list[dict[str, object]] = field(default_factory=list)

    def note(self, file: str, row: int | None, what: str, hole: str = "", **more: object) -> None:
        """Note what was planted in a data row (counted from 0; none for a file as a whole)."""
        self.errors.append(
            {"file": file, "line": 0 if row is None else int(row) + 2, "hole": hole, "what": what} | more
        )

    def below(self, file: str, table: pd.DataFrame, columns: list[str], hole: str = "") -> None:
        """Note every row with a value below detection in some of the columns."""
        low = table[columns].apply(lambda c: c.astype(str).str.startswith("<")).any(axis=1)
        for row in map(int, np.flatnonzero(low)):
            self.note(file, row, "below detection", str(table.at[row, hole]).strip() if hole else "")


def cells(values: np.ndarray, limit: float, digits: int) -> list[str]:
    """Values as a laboratory writes them: below the limit as ``<limit``."""
    return [f"<{limit:g}" if v < limit else f"{v:.{digits}f}" for v in values]


def east(x: np.ndarray, digits: int = 1) -> np.ndarray:
    """Eastings of local coordinates, rounded."""
    return np.asarray(np.round(np.asarray(x) + ORIGIN[0], digits))


def north(y: np.ndarray, digits: int = 1) -> np.ndarray:
    """Northings of local coordinates, rounded."""
    return np.asarray(np.round(np.asarray(y) + ORIGIN[1], digits))
