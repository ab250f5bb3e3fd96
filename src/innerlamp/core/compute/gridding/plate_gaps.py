"""A thin plate in the gaps of a grid, clamped to the cells around them (Briggs 1974; tension: Smith & Wessel 1990).

The energy of the plate is least where its equations hold in the gap and its values are those that are
known elsewhere. Each gap is solved by itself and directly, so that the equations hold *in the gap*; one
that is too wide for that is solved on wider cells first and then in pieces that overlap.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...progress import SILENT, Progress
from .plate_energy import plate_energy

FloatArray = NDArray[np.float64]
_DIRECT = 90_000  # unknowns of a gap that is solved by elimination
_MOST = 1_500_000
_TILE, _OVERLAP = 150, 24
_RIM = 4  # known cells around a gap that take part; the plate's equations reach two


def filled(values: FloatArray, gap: NDArray[np.bool_], tension: float = 0.0, progress: Progress = SILENT) -> FloatArray:
    """Return a grid with the cells of `gap` filled; other cells stay as they are.

    Parameters
    ----------
    values
        Shape (ny, nx), any unit; NaN where nothing is known.
    gap
        Shape (ny, nx): cells to be filled. Blank cells that are not to be filled are outside of the plate.
    tension
        From 0 (only bending) to below 1 (nearly a membrane).

    Raises
    ------
    InputError
        When a gap is too wide.
    """
    from scipy.ndimage import find_objects, label

    out = values.copy()
    known = np.isfinite(values) & ~gap
    # Gaps that lie within two cells of each other share equations: they are one.
    groups, count = label(_grown(gap, 2))
    boxes = find_objects(groups)
    for number in range(count):
        box = tuple(
            slice(max(s.start - _RIM, 0), min(s.stop + _RIM, n))
            for s, n in zip(boxes[number], values.shape, strict=True)
        )
        mine = gap[box] & (groups[box] == number + 1)
        if not mine.any():
            continue
        free, here = mine.ravel(), known[box].ravel()
        part = np.where(known[box], values[box], 0.0).ravel()
        if not here.any():
            continue
        part[free] = _solved(mine, here, part, tension)
        out[box] = np.where(mine, part.reshape(mine.shape), out[box])
        progress((number + 1) / count, "Gap by gap")
    return out


def _grown(mask: NDArray[np.bool_], cells: int) -> NDArray[np.bool_]:
    from scipy.ndimage import binary_dilation

    return np.asarray(binary_dilation(mask, np.ones((3, 3), dtype=bool), iterations=cells))


def _solved(mine: NDArray[np.bool_], here: NDArray[np.bool_], part: FloatArray, tension: float) -> FloatArray:
    """Values of the free cells: those that make the energy of the free and the known cells least."""
    import scipy.sparse as sp
    from scipy.sparse.linalg import splu

    ny, nx = mine.shape
    free = mine.ravel()
    energy = plate_energy(nx, ny, tension, (free | here).reshape(mine.shape))
    rows = energy[np.flatnonzero(free)]
    matrix, right = rows[:, np.flatnonzero(free)].tocsc(), -(rows[:, np.flatnonzero(here)] @ part[here])
    if matrix.shape[0] > _MOST:
        raise InputError(
            f"a gap of {matrix.shape[0]:,} cells is too wide to be filled", fix="Fill less wide ones, or resample first"
        )
    if matrix.shape[0] > _DIRECT:
        return _by_tiles(mine, here.reshape(mine.shape), part.reshape(mine.shape), tension)
    options = {"SymmetricMode": True}
    try:
        return np.asarray(splu(matrix, permc_spec="MMD_AT_PLUS_A", options=options).solve(right))
    except RuntimeError:  # a speck of the plate that nothing ties to a known cell
        matrix = matrix + sp.identity(matrix.shape[0], format="csc") * (1e-12 * float(abs(matrix.diagonal()).max()))
        return np.asarray(splu(matrix, permc_spec="MMD_AT_PLUS_A", options=options).solve(right))


def _by_tiles(mine: NDArray[np.bool_], here: NDArray[np.bool_], part: FloatArray, tension: float) -> FloatArray:
    """A wide gap: solved on cells twice as wide first, then piece by piece with the rest held (Schwarz)."""
    now = np.where(mine, _coarse(mine, here, part, tension), part)
    ny, nx = mine.shape
    for south in range(0, ny, _TILE):
        for west in range(0, nx, _TILE):
            box = tuple(
                slice(max(a - _OVERLAP - _RIM, 0), min(a + _TILE + _OVERLAP + _RIM, n))
                for a, n in ((south, ny), (west, nx))
            )
            inner = np.zeros_like(mine)
            inner[
                max(south - _OVERLAP, 0) : south + _TILE + _OVERLAP, max(west - _OVERLAP, 0) : west + _TILE + _OVERLAP
            ] = True
            free = (mine & inner)[box]
            if free.any():
                held = (here | mine)[box] & ~free
                block = now[box].copy()
                block[free] = _solved(free, held.ravel(), now[box].ravel(), tension)
                now[box] = block
    return now[mine]


def _coarse(mine: NDArray[np.bool_], here: NDArray[np.bool_], part: FloatArray, tension: float) -> FloatArray:
    """The same gap on cells twice as wide, read back on these: where the iteration begins."""
    from scipy.ndimage import zoom

    ny, nx = mine.shape
    grown = [np.pad(a, ((0, ny % 2), (0, nx % 2)), mode="edge") for a in (mine, here, part)]
    blocks = [np.asarray(a, dtype=float).reshape(a.shape[0] // 2, 2, a.shape[1] // 2, 2) for a in grown]
    count = blocks[1].sum(axis=(1, 3))
    mean = (blocks[2] * blocks[1]).sum(axis=(1, 3)) / np.maximum(count, 1)
    free = (count == 0) & blocks[0].any(axis=(1, 3))
    mean[free] = _solved(free, (count > 0).ravel(), mean.ravel(), tension)
    return np.asarray(zoom(mean, 2, order=1, mode="nearest", grid_mode=True))[:ny, :nx]
