"""Compiles the numba kernels into their cache, each part in a process of its own: `python -m innerlamp.warm`, run once by the set-up."""

from __future__ import annotations

import subprocess
import sys

import numpy as np

from .core.compute import kernel_cache
from .core.geometry.mesh import DrapedMesh, TensorMesh


def _meshes() -> tuple[TensorMesh, DrapedMesh]:
    mesh = TensorMesh.even((0.0, 0.0, -100.0), (25.0, 25.0, 25.0), (4, 4, 4))
    return mesh, DrapedMesh(0.0, 0.0, mesh.u, mesh.v, 0.0, np.zeros((4, 4)), np.full((4, 4, 4), 25.0))


_OBS = np.array([[50.0, 50.0, 30.0], [60.0, 40.0, 30.0]])


def lattices() -> None:
    """The operator of inversions, for both kinds of mesh."""
    from .core.compute.potential import fields, lattice, roughness

    for cells in _meshes():
        for kind in (fields.total_field(60.0, 0.0, 50_000.0), fields.vertical_gravity()):
            operator = lattice.Lattice(cells, _OBS, [kind])
            operator.transposed(operator.apply(np.ones(cells.size)))
    mesh = _meshes()[0]
    roughness.Roughness(mesh, np.ones(mesh.size, dtype=bool), 25.0).apply(np.ones(mesh.size))


def others() -> None:
    """Closed forms, gridding, fields and kriging, with the types that the operations use."""
    from .core.compute.geology import rbf
    from .core.compute.geology.estimation import Search, Variogram, estimate
    from .core.compute.gridding import kriging, plate
    from .core.compute.gridding.variogram import Model, Structure
    from .core.compute.potential import prisms

    for cells in _meshes():
        for dtype in (np.float32, np.float64):
            prisms.magnetic_kernel(cells, _OBS, 60.0, 0.0, 50_000.0, near=40.0, dtype=dtype)
        prisms.gravity_kernel(cells, _OBS, near=40.0)
    rng = np.random.default_rng(0)
    for n in (49, 449):  # below and above the size from which the work is shared among cores
        at = rng.uniform(0.0, n - 1.0, (2, 50))
        plate.through(at[0], at[1], rng.normal(size=50), n, n, 0.0, rounds=1)
    points, values = rng.normal(size=(20, 3)), rng.normal(size=20)
    rbf.evaluate(rbf.fit(points, values), points[:5])
    sphere = Structure("spherical", 1.0, 100.0)
    estimate(points, values, points[:5] + 0.1, Search(), "kriging", Variogram(0.1, (sphere,)))
    kriging.krige(points[:, 0], points[:, 1], values, points[:3, 0], points[:3, 1], Model(0.1, (sphere,)), 8)


def contacts() -> None:
    """What models of units are read and cut by."""
    from .core.compute.geology.bodies.model import Contact, Piece, UnitModel, sampled
    from .core.compute.geology.bodies.outlines import section
    from .core.compute.geology.bodies.solids import shares, solids

    low, high = np.zeros(3), np.full(3, 100.0)
    flat = Contact("over", sampled(lambda p: p[:, 2] - 48.0, low, high, np.full(3, 25.0)))
    model = UnitModel(("over", "rest"), (flat,), (Piece(0, (0,)),), low, high)
    section(model, low, np.eye(3)[0], np.eye(3)[2], (0.0, 100.0, 0.0, 100.0), 25.0)
    solids(model, 50.0)
    shares(model, _meshes()[0])


PARTS = {"lattices": lattices, "others": others, "contacts": contacts}


def warm() -> None:
    """Compile all, each part in a process of its own."""
    running = [subprocess.Popen([sys.executable, "-P", "-m", "innerlamp.warm", name]) for name in PARTS]
    if max(process.wait() for process in running):
        raise SystemExit("Some kernels could not be compiled; they are when they are first needed.")
    kernel_cache.forget_old(kernel_cache.cache_root())


if __name__ == "__main__":
    PARTS[sys.argv[1]]() if len(sys.argv) > 1 else warm()
