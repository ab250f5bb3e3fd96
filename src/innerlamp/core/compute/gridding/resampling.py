"""Grids read again on other cells."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ..geometry.sampling import bilinear

FloatArray = NDArray[np.float64]
Places = Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray]]


def to_system(
    values: FloatArray,
    x0: float,
    y0: float,
    dx: float,
    dy: float,
    forward: Places,
    back: Places,
    most: int = 200_000_000,
) -> tuple[FloatArray, float, float, float]:
    """Return a grid on square cells of another coordinate system.

    Every new cell centre is taken back to the old system exactly and read there between the four
    nearest cells; outside it is blank.

    Parameters
    ----------
    values
        Shape (ny, nx), row 0 the southernmost.
    x0, y0, dx, dy
        First cell centre and cell sizes in the old system, whatever its unit.
    forward, back
        Turn places of the old system into the new one, and back.

    Returns
    -------
    values (ny, nx), first cell centre x and y, cell size
        In the new system. The cell size is the mean of what an old cell in the middle measures there,
        to three digits.

    Raises
    ------
    InputError
        When the grid does not lie where both systems are usable, or would be too large.
    """
    ny, nx = values.shape
    i, j = np.arange(nx), np.arange(ny)
    edge_i = np.concatenate([i, i, np.zeros(ny), np.full(ny, nx - 1)])
    edge_j = np.concatenate([np.zeros(nx), np.full(nx, ny - 1), j, j])
    ex, ey = forward(x0 + dx * edge_i, y0 + dy * edge_j)
    mx, my = x0 + dx * (nx // 2), y0 + dy * (ny // 2)
    tx, ty = forward(np.array([mx, mx + dx, mx]), np.array([my, my, my + dy]))
    if not (np.isfinite(ex).all() and np.isfinite(ey).all() and np.isfinite(tx).all()):
        raise InputError(
            "the grid does not lie where the project's coordinate system is usable", fix="Check both systems"
        )
    cell = float(f"{0.5 * (np.hypot(tx[1] - tx[0], ty[1] - ty[0]) + np.hypot(tx[2] - tx[0], ty[2] - ty[0])):.3g}")
    west, south = np.floor(ex.min() / cell) * cell, np.floor(ey.min() / cell) * cell
    across, up = int(np.ceil((ex.max() - west) / cell)) + 1, int(np.ceil((ey.max() - south) / cell)) + 1
    if across * up > most:
        raise InputError(f"the grid would have {across:,} × {up:,} cells", fix="Resample it first")
    out = np.empty((up, across))
    x = west + cell * np.arange(across)
    for row in range(up):
        sx, sy = back(x, np.full(across, south + cell * row))
        out[row] = bilinear(values, x0, y0, dx, dy, sx, sy)
    return out, float(west), float(south), cell
