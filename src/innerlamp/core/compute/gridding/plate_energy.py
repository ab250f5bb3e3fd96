"""The bending and stretching energy of a thin plate on a grid."""

from __future__ import annotations

from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray


def plate_energy(nx: int, ny: int, tension: float = 0.0, there: NDArray[np.bool_] | None = None) -> Any:
    """Return the matrix of ``(1 - t) (uxx² + 2 uxy² + uyy²) + t (ux² + uy²)`` of a free plate, in cells.

    `there`, of shape (ny, nx), says which cells the plate has; it is free at their edge.
    """

    def second(n: int) -> Any:
        return sp.diags([1.0, -2.0, 1.0], [0, 1, 2], shape=(max(n - 2, 0), n), format="csr")

    def first(n: int) -> Any:
        return sp.diags([-1.0, 1.0], [0, 1], shape=(n - 1, n), format="csr")

    def squared(pieces: Any) -> Any:
        pieces = pieces.tocsr()
        if there is not None:
            pieces = pieces[np.asarray(abs(pieces) @ (~there).ravel().astype(float)) == 0.0]
        return pieces.T @ pieces

    bending = (
        squared(sp.kron(sp.identity(ny), second(nx)))
        + squared(sp.kron(second(ny), sp.identity(nx)))
        + 2.0 * squared(sp.kron(first(ny), first(nx)))
    )
    if not tension:
        return bending.tocsr()
    stretching = squared(sp.kron(sp.identity(ny), first(nx))) + squared(sp.kron(first(ny), sp.identity(nx)))
    return ((1.0 - tension) * bending + tension * stretching).tocsr()
