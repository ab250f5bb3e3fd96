"""Markers in space: small solids of different shapes, many in one mesh."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor

from .actors import actor
from .polydata import colour_cells, polydata

FloatArray = NDArray[np.float64]
MOST = 20_000  # markers; of more an even part is drawn as solids


def _prism(sides: int, top: float) -> tuple[FloatArray, NDArray[np.int64]]:
    """A prism (top 1), or a cone (top 0) pointing up: corners in a ball of radius 1, and triangles."""
    a = 2.0 * np.pi * np.arange(sides) / sides
    low = np.column_stack([0.8 * np.cos(a), 0.8 * np.sin(a), np.full(sides, -0.7)])
    k = np.arange(sides)
    n = (k + 1) % sides
    if top == 0.0:
        points = np.concatenate([low, [[0.0, 0.0, 1.0]], [[0.0, 0.0, -0.7]]])
        faces = np.concatenate(
            [np.column_stack([k, n, np.full(sides, sides)]), np.column_stack([n, k, np.full(sides, sides + 1)])]
        )
        return points, faces
    high = low * [1.0, 1.0, -1.0]
    points = np.concatenate([low, high, [[0.0, 0.0, -0.7]], [[0.0, 0.0, 0.7]]])
    faces = np.concatenate(
        [
            np.column_stack([k, n, n + sides]),
            np.column_stack([k, n + sides, k + sides]),
            np.column_stack([n, k, np.full(sides, 2 * sides)]),
            np.column_stack([k + sides, n + sides, np.full(sides, 2 * sides + 1)]),
        ]
    )
    return points, faces


def _eight() -> tuple[FloatArray, NDArray[np.int64]]:
    points = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], dtype=float)
    faces = [[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]]
    return points, np.array(faces)


def _ball() -> tuple[FloatArray, NDArray[np.int64]]:
    points, faces = _eight()
    corners = points[faces]  # each triangle becomes four
    middle = [0.5 * (corners[:, a] + corners[:, b]) for a, b in ((0, 1), (1, 2), (2, 0))]
    count = len(faces)
    grown = np.concatenate([corners[:, 0], corners[:, 1], corners[:, 2], *middle])
    a, b, c, ab, bc, ca = (np.arange(count) + k * count for k in range(6))
    points = grown / np.linalg.norm(grown, axis=1)[:, None]
    faces = np.concatenate([np.column_stack(t) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
    shared, number = np.unique(points.round(9), axis=0, return_inverse=True)
    return 0.9 * shared, number.ravel()[faces]


# In the order in which the classes of a column take them.
SHAPES = (_ball(), _prism(4, 1.0), _prism(10, 0.0), _eight(), _prism(3, 1.0), _prism(4, 0.0), _prism(6, 1.0))


def classes_of(column: pd.Series) -> NDArray[np.int64]:
    """Return the number of the shape of each row: classes take shapes in the order of the alphabet."""
    words = column.astype(str).to_numpy()
    names = sorted({w for w in words.tolist() if w not in ("", "nan", "None")})
    number = {name: k % len(SHAPES) for k, name in enumerate(names)}
    return np.array([number.get(w, 0) for w in words.tolist()], dtype=np.int64)


def solids(at: FloatArray, rgb: NDArray[np.uint8], shape: NDArray[np.int64], radius: FloatArray) -> list[vtkActor]:
    """Return actors of markers: places (n, 3) relative to the scene, colours (n, 3), numbers of shapes, radii in metres."""
    out = []
    step = max(1, -(-len(at) // MOST))
    for number in np.unique(shape).tolist():
        mine = np.flatnonzero(shape == number)[::step]
        points, faces = SHAPES[number % len(SHAPES)]
        corners = at[mine][:, None, :] + radius[mine][:, None, None] * points[None, :, :]
        index = faces[None, :, :] + (np.arange(len(mine)) * len(points))[:, None, None]
        mesh = polydata(corners.reshape(-1, 3), faces=index.reshape(-1, 3))
        out.append(actor(colour_cells(mesh, np.repeat(rgb[mine], len(faces), axis=0))))
    return out
