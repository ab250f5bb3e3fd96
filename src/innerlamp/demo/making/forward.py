"""A 2.5-D direct-current forward solver over ground with relief, for generating the demo's lines.

Linear finite elements on triangles that follow the ground, four columns a spacing, one solve for each
wavenumber (Coggon 1971; Rijo 1977), potentials summed over wavenumbers, and normalised by the same
computation over flat uniform ground, so that apparent resistivities carry no factor of the mesh but do
carry the effect of the relief. Chargeability by Seigel's (1959) definition: the change of apparent
resistivity when every conductivity is lowered by the factor ``1 - m``.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import splu

FloatArray = NDArray[np.float64]
_COLUMNS = 4  # of the mesh in one spacing
_WAVES = 18


def _axes(electrodes: FloatArray) -> tuple[FloatArray, FloatArray, NDArray[np.int64]]:
    a = electrodes[1] - electrodes[0]
    step = a / _COLUMNS
    pads = step * np.cumsum(1.45 ** np.arange(1, 13))
    inner = np.arange(electrodes[0] - 4 * a, electrodes[-1] + 4 * a + step / 2, step)
    x = np.concatenate([inner[0] - pads[::-1], inner, inner[-1] + pads])
    z = np.concatenate([[0.0], np.cumsum(step * 0.6 * 1.09 ** np.arange(34))])
    z = np.concatenate([z, z[-1] + (z[-1] - z[-2]) * np.cumsum(1.5 ** np.arange(1, 8))])
    return x, z, len(pads) + 4 * _COLUMNS + _COLUMNS * np.arange(len(electrodes))


def uniform_flat(electrodes: FloatArray, abmn: NDArray[np.int64]) -> FloatArray:
    """Voltages of arrays over flat ground of 1 ohm.m, with the discretization of `apparent`."""
    x, z, nodes = _axes(electrodes)
    sigma = np.ones((len(x) - 1, len(z) - 1))
    return _voltages(x, np.zeros(len(x)), z, sigma, nodes, abmn)


def apparent(
    electrodes: FloatArray,
    abmn: NDArray[np.int64],
    ground: Callable[[FloatArray], FloatArray],
    section: Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray]],
    flat: FloatArray,
) -> tuple[FloatArray, FloatArray]:
    """Apparent resistivities in ohm.m and apparent chargeabilities (V/V) of arrays over a section.

    `electrodes` are equally spaced distances in metres, `ground` gives elevations at distances, `section`
    gives resistivity and chargeability at distances and depths below the ground.
    """
    x, z, nodes = _axes(electrodes)
    middle = 0.5 * (x[1:] + x[:-1]), 0.5 * (z[1:] + z[:-1])
    rho, charge = section(*np.meshgrid(*middle, indexing="ij"))
    # Far from the line the relief goes over into a level, so that the pads stay in shape.
    held = np.clip(x, electrodes[0] - 100.0, electrodes[-1] + 100.0)
    top = ground(held)
    direct = _voltages(x, top, z, 1.0 / rho, nodes, abmn) / flat
    charged = _voltages(x, top, z, (1.0 - charge) / rho, nodes, abmn) / flat
    return direct, (charged - direct) / charged


def _voltages(
    x: FloatArray, top: FloatArray, z: FloatArray, sigma: FloatArray, nodes: NDArray[np.int64], abmn: NDArray[np.int64]
) -> FloatArray:
    nx, nz = len(x), len(z)
    px = np.repeat(x[:, None], nz, axis=1)
    # Depths stay along verticals near the ground and flatten out downwards.
    fade = np.exp(-z / (0.25 * z[-1]))
    pz = (top - top.mean())[:, None] * fade - z
    index = np.arange(nx * nz).reshape(nx, nz)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    # Both diagonals of a cell, each pair of triangles with half of its weight: no direction is preferred.
    corners = np.concatenate(
        [np.stack(v, axis=-1).reshape(-1, 3) for v in ((a, b, c), (a, c, d), (a, b, d), (b, c, d))]
    )
    value = np.tile(sigma.ravel() * 0.5, 4)
    xs, zs = px.ravel()[corners], pz.ravel()[corners]
    gx = np.stack([zs[:, 1] - zs[:, 2], zs[:, 2] - zs[:, 0], zs[:, 0] - zs[:, 1]], axis=1)
    gz = np.stack([xs[:, 2] - xs[:, 1], xs[:, 0] - xs[:, 2], xs[:, 1] - xs[:, 0]], axis=1)
    area = 0.5 * np.abs(gx[:, 0] * gz[:, 1] - gx[:, 1] * gz[:, 0])
    stiff = (gx[:, :, None] * gx[:, None, :] + gz[:, :, None] * gz[:, None, :]) * (value / (4 * area))[:, None, None]
    mass = (np.ones((3, 3)) + np.eye(3))[None] * (value * area / 12.0)[:, None, None]
    rows, columns = np.repeat(corners, 3, axis=1).ravel(), np.tile(corners, (1, 3)).ravel()
    n = nx * nz
    k_part = sp.coo_matrix((stiff.ravel(), (rows, columns)), shape=(n, n)).tocsc()
    m_part = sp.coo_matrix((mass.ravel(), (rows, columns)), shape=(n, n)).tocsc()
    far = np.zeros((nx, nz))
    far[0], far[-1], far[:, -1] = 1.0, 1.0, 1.0  # held at zero
    wall = sp.diags(1e12 * far.ravel()).tocsc()
    sources = np.zeros((n, len(nodes)))
    sources[index[nodes, 0], np.arange(len(nodes))] = 1.0
    total = np.zeros((len(nodes), len(nodes)))
    ks = np.geomspace(2e-4, 1.2, _WAVES)
    weights = np.gradient(np.log(ks)) * ks
    weights[0] += ks[0]
    for k, weight in zip(ks, weights, strict=True):
        matrix = (k_part + k * k * m_part + wall).tocsc()
        solved = splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        total += weight * solved.solve(sources)[index[nodes, 0]]
    p, q, m, r = abmn.T
    return np.asarray(total[m, p] - total[m, q] - total[r, p] + total[r, q])
