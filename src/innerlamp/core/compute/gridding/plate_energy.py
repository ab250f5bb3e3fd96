"""The bending and stretching energy of a thin plate on a grid."""

from __future__ import annotations

import scipy.sparse as sp


def plate_energy(nx: int, ny: int, tension: float = 0.0) -> sp.csr_matrix:
    """Return the matrix of ``(1 - t) (uxx² + 2 uxy² + uyy²) + t (ux² + uy²)`` of a free plate, in cells."""

    def second(n: int) -> sp.csr_matrix:
        return sp.diags([1.0, -2.0, 1.0], [0, 1, 2], shape=(n - 2, n), format="csr")

    def first(n: int) -> sp.csr_matrix:
        return sp.diags([-1.0, 1.0], [0, 1], shape=(n - 1, n), format="csr")

    xx = sp.kron(sp.identity(ny), second(nx))
    yy = sp.kron(second(ny), sp.identity(nx))
    xy = sp.kron(first(ny), first(nx))
    bending = xx.T @ xx + yy.T @ yy + 2.0 * (xy.T @ xy)
    if not tension:
        return bending.tocsr()
    dx, dy = sp.kron(sp.identity(ny), first(nx)), sp.kron(first(ny), sp.identity(nx))
    return ((1.0 - tension) * bending + tension * (dx.T @ dx + dy.T @ dy)).tocsr()
