"""Compiles the numba kernels into their cache: `python -m innerlamp.warm`, run once by the set-up."""

from __future__ import annotations

import numpy as np

from .core.compute.geology import rbf
from .core.compute.gridding import plate
from .core.compute.potential import fields, lattice, prisms, roughness
from .core.geometry.mesh import DrapedMesh, TensorMesh


def warm() -> None:
    """Call every kernel once with the types that the operations use."""
    mesh = TensorMesh.even((0.0, 0.0, -100.0), (25.0, 25.0, 25.0), (4, 4, 4))
    draped = DrapedMesh(0.0, 0.0, mesh.u, mesh.v, 0.0, np.zeros((4, 4)), np.full((4, 4, 4), 25.0))
    obs = np.array([[50.0, 50.0, 30.0], [60.0, 40.0, 30.0]])
    for dtype in (np.float32, np.float64):
        for cells in (mesh, draped):
            prisms.magnetic_kernel(cells, obs, 60.0, 0.0, 50_000.0, near=40.0, dtype=dtype)
    for cells in (mesh, draped):
        prisms.gravity_kernel(cells, obs, near=40.0)
    kinds = (fields.total_field(60.0, 0.0, 50_000.0), fields.vertical_gravity())
    for cells in (mesh, draped):
        for kind in kinds:
            operator = lattice.Lattice(cells, obs, [kind])
            operator.transposed(operator.apply(np.ones(cells.size)))
    roughness.Roughness(mesh, np.ones(mesh.size, dtype=bool), 25.0).apply(np.ones(mesh.size))
    rng = np.random.default_rng(0)
    for n in (49, 449):  # below and above the size from which the work is shared among cores
        at = rng.uniform(0.0, n - 1.0, (2, 50))
        plate.through(at[0], at[1], rng.normal(size=50), n, n, 0.0, rounds=1)
    field = rbf.fit(rng.normal(size=(20, 3)), rng.normal(size=20))
    rbf.evaluate(field, rng.normal(size=(5, 3)))


if __name__ == "__main__":
    warm()
