"""A small 2.5-D direct-current forward solver, for generating the demo's resistivity lines.

Finite volumes on a flat half-space section, one solve for each wavenumber, potentials summed by
the trapezoid rule over the logarithm of the wavenumber (Dey & Morrison 1979), and normalised by
the same computation over uniform ground, so that apparent resistivities carry no factor of the mesh.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import splu

FloatArray = NDArray[np.float64]


def apparent_resistivity(
    electrodes: FloatArray, abmn: NDArray[np.int64], resistivity: Callable[[FloatArray, FloatArray], FloatArray]
) -> FloatArray:
    """Return apparent resistivities (ohm.m) of arrays of electrode indices over a section.

    `electrodes` are equally spaced distances along the line in metres; `resistivity` gives ohm.m at
    distances and depths.
    """
    a = electrodes[1] - electrodes[0]
    step = a / 4.0
    inner = np.arange(electrodes[0] - 4 * a, electrodes[-1] + 4 * a + step / 2, step)
    pads = step * np.cumsum(1.45 ** np.arange(1, 13))
    x = np.concatenate([inner[0] - pads[::-1], inner, inner[-1] + pads])
    z = np.concatenate([[0.0], np.cumsum(step * 0.6 * 1.09 ** np.arange(34))])
    z = np.concatenate([z, z[-1] + (z[-1] - z[-2]) * np.cumsum(1.5 ** np.arange(1, 8))])
    nodes = len(pads) + 16 + 4 * np.arange(len(electrodes))
    cx, cz = 0.5 * (x[1:] + x[:-1]), 0.5 * (z[1:] + z[:-1])
    sigma = 1.0 / resistivity(*np.meshgrid(cx, cz, indexing="ij"))
    measured = _voltages(x, z, sigma, nodes, abmn)
    return measured / _voltages(x, z, np.full_like(sigma, 1.0), nodes, abmn)


def _voltages(
    x: FloatArray, z: FloatArray, sigma: FloatArray, nodes: NDArray[np.int64], abmn: NDArray[np.int64]
) -> FloatArray:
    nx, nz = len(x), len(z)
    dx, dz = np.diff(x), np.diff(z)
    index = np.arange(nx * nz).reshape(nx, nz)
    # Conductance of edges and area of nodes, each a sum over the cells that touch them.
    along = np.zeros((nx - 1, nz))
    along[:, :-1] += sigma * dz[None, :] / 2
    along[:, 1:] += sigma * dz[None, :] / 2
    along /= dx[:, None]
    down = np.zeros((nx, nz - 1))
    down[:-1] += sigma * dx[:, None] / 2
    down[1:] += sigma * dx[:, None] / 2
    down /= dz[None, :]
    area = np.zeros((nx, nz))
    quarter = sigma * dx[:, None] * dz[None, :] / 4
    for i, j in ((0, 0), (1, 0), (0, 1), (1, 1)):
        area[i : nx - 1 + i, j : nz - 1 + j] += quarter
    first = np.concatenate([index[:-1].ravel(), index[:, :-1].ravel()])
    second = np.concatenate([index[1:].ravel(), index[:, 1:].ravel()])
    g = np.concatenate([along.ravel(), down.ravel()])
    n = nx * nz
    edges = sp.coo_matrix(
        (np.concatenate([-g, -g]), (np.concatenate([first, second]), np.concatenate([second, first]))), shape=(n, n)
    )
    diagonal = np.bincount(first, g, n) + np.bincount(second, g, n)
    # The far edges are held at zero.
    far = np.zeros((nx, nz), dtype=bool)
    far[0], far[-1], far[:, -1] = True, True, True
    ks = np.geomspace(2e-4, 1.2, 18)
    sources = np.zeros((n, len(nodes)))
    sources[index[nodes, 0], np.arange(len(nodes))] = 1.0
    total = np.zeros((len(nodes), len(nodes)))
    weights = np.gradient(np.log(ks)) * ks
    weights[0] += ks[0]
    for k, weight in zip(ks, weights, strict=True):
        matrix = (edges + sp.diags(diagonal + k * k * area.ravel() + 1e12 * far.ravel())).tocsc()
        potential = splu(
            matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True}
        ).solve(sources)
        total += weight * potential[index[nodes, 0]]
    a, b, m, q = abmn.T
    return np.asarray(total[m, a] - total[m, b] - total[q, a] + total[q, b])
