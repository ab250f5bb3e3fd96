"""The outline of a surface seen from above."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def footprint(vertices: FloatArray, triangles: NDArray[np.integer], cells: int = 160) -> list[FloatArray]:
    """Return closed or open lines (n, 2) in metres around the area that triangles cover in plan.

    The area is rastered at about `cells` cells along its longer side, so the outline is good to
    about one such cell: for drawing, not for measuring.
    """
    if len(triangles) == 0:
        return []
    xy = vertices[:, :2]
    low, high = xy.min(axis=0), xy.max(axis=0)
    cell = max(float((high - low).max()) / cells, 1e-6)
    shape = np.ceil((high - low) / cell).astype(int) + 5
    mask = np.zeros((shape[1], shape[0]))
    corners = xy[triangles]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    size = float(np.sqrt(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).max()))
    most = int(np.sqrt(6e6 / len(triangles))) + 2  # many triangles are small ones
    steps = int(np.clip(np.ceil(3 * size / cell), 2, most))
    for i in range(steps + 1):
        for j in range(steps + 1 - i):
            f, g = i / steps, j / steps
            p = f * corners[:, 0] + g * corners[:, 1] + (1 - f - g) * corners[:, 2]
            at = ((p - low) / cell + 2).astype(int)
            mask[at[:, 1], at[:, 0]] = 1.0
    import contourpy

    x = low[0] + (np.arange(shape[0]) - 1.5) * cell
    y = low[1] + (np.arange(shape[1]) - 1.5) * cell
    return [np.asarray(line) for line in contourpy.contour_generator(x, y, mask).lines(0.5)]
