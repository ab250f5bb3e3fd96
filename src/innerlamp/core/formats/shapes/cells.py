"""Meshes found from the cells that a file lists one by one."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...geometry.mesh import FloatArray, IntArray, TensorMesh

_SAME = 1e-3  # metres within which two centres lie on one level
MOST_CELLS = 50_000_000
AXES = ("easting", "northing", "elevation")


def on_axes(centres: FloatArray, azimuth: float) -> FloatArray:
    """Return places (n, 3) along the axes of a turned mesh; in plan they count from the first one."""
    p, q = _turned(azimuth).from_map(centres[:, 0] - centres[0, 0], centres[:, 1] - centres[0, 1])
    return np.column_stack([p, q, centres[:, 2]])


def on_map(p: float, q: float, first: FloatArray, azimuth: float) -> tuple[float, float]:
    """Return easting and northing of a place along the axes that `on_axes` counts from the place `first`."""
    x, y = _turned(azimuth).to_map(np.array(p), np.array(q))
    return float(x) + float(first[0]), float(y) + float(first[1])


def _turned(azimuth: float) -> TensorMesh:
    return TensorMesh.even((0.0, 0.0, 0.0), (1.0, 1.0, 1.0), (1, 1, 1), azimuth)


def mesh_of_cells(
    centres: FloatArray, file: str, sizes: FloatArray | None = None, azimuth: float = 0.0, most: int = MOST_CELLS
) -> tuple[TensorMesh, tuple[IntArray, IntArray, IntArray]]:
    """Return the mesh that cells lie on, and the place (i, j, k) of each in it.

    Parameters
    ----------
    centres
        Shape (n, 3), metres.
    sizes
        Shape (n, 3), metres along the axes of the mesh; without them the cells are taken as equal.
    azimuth
        Direction of the second axis, degrees clockwise from grid north.

    Raises
    ------
    InputError
        When they lie on none, or it would have more than `most` cells.
    """
    if not len(centres):
        raise InputError("no row has a place", where=file)
    low, widths, at = [], [], []
    for k, (name, along) in enumerate(zip(AXES, on_axes(centres, azimuth).T, strict=True)):
        begin, width, place = _axis(along, None if sizes is None else sizes[:, k], name, file)
        low.append(begin)
        widths.append(width)
        at.append(place)
        if np.prod([float(len(w)) for w in widths]) > most:
            raise InputError(f"the cells span a mesh of more than {most / 1e6:g} million cells", where=file)
    x, y = on_map(low[0], low[1], centres[0], azimuth)
    mesh = TensorMesh(x, y, widths[0], widths[1], azimuth, low[2], widths[2])
    return mesh, (at[0], at[1], at[2])


def _axis(along: FloatArray, sizes: FloatArray | None, name: str, file: str) -> tuple[float, FloatArray, IntArray]:
    """Where the mesh begins along an axis, its widths, and the place of each cell."""
    order = np.argsort(along, kind="stable")
    new = np.concatenate([[False], np.diff(along[order]) > _SAME])
    group = np.empty(len(along), dtype=np.int64)
    group[order] = np.cumsum(new)
    places = np.bincount(group, along) / np.bincount(group)
    if sizes is not None:
        width = np.bincount(group, sizes) / np.bincount(group)
        if (width <= 0).any() or (np.abs(sizes - width[group]) > 1e-3 * width[group]).any():
            raise InputError(f"cells at one {name} differ in size", where=file, fix="Regularise the model first")
        if np.allclose(places[:-1] + width[:-1] / 2, places[1:] - width[1:] / 2, atol=1e-3 * float(width.min())):
            return float(places[0] - width[0] / 2), width, group
        if np.ptp(width) > 1e-3 * width.mean():
            raise InputError(f"cells along {name} leave gaps or overlap", where=file, fix="Regularise the model first")
        least = float(width.mean())
    elif len(places) < 2:
        raise InputError(
            f"all cells have the same {name}", where=file, fix="Give the sizes of the cells in columns dx, dy, dz"
        )
    else:
        least = float(np.diff(places).min())
    steps = (places - places[0]) / least
    if np.abs(steps - np.round(steps)).max() > 0.01:
        raise InputError(
            f"cells are not on a regular lattice along {name}", where=file, fix="Regularise the model first"
        )
    count = int(np.round(steps[-1])) + 1
    if count > MOST_CELLS:
        raise InputError(f"the cells span a mesh of more than {MOST_CELLS / 1e6:g} million cells", where=file)
    return float(places[0]) - least / 2, np.full(count, least), np.round(steps).astype(np.int64)[group]


def bounds_to_mesh(
    low: FloatArray, high: FloatArray, file: str
) -> tuple[TensorMesh, tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]]:
    """Return the mesh of cells given by their lower and upper corners (n, 3), and the place of each."""
    return mesh_of_cells(0.5 * (low + high), file, high - low)
