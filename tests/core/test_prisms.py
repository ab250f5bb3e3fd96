"""Prism gravity and magnetics against independent quadrature, sphere, dipole and Poisson's relation."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from innerlamp.core.compute.potential import fastmath, prisms
from innerlamp.core.geometry.mesh import TensorMesh

PRISM_A = TensorMesh.even((-100.0, -150.0, -300.0), (200.0, 300.0, 200.0), (1, 1, 1))
# Three-dimensional Gauss-Legendre quadrature, equal to a two-dimensional mpmath integration to 1e-16.
GZ = {
    (0, 0, 0): 0.8218815194,
    (80, 120, 0): 0.5488979612,
    (100, 150, 0): 0.4375146303,
    (200, -350, 50): 0.0984081464,
    (10, 20, -400): -0.8147913428,
}
# Quadrature of surface charges, equal to volume dipoles to 1e-13. F 50000 nT, I 60, D 10, k 0.05.
TFA = {
    (0, 0, 0): 249.223044,
    (80, 120, 0): -4.572046,
    (100, 150, 0): -47.759020,
    (200, -350, 50): 19.970287,
    (300, 0, -200): -75.257061,
    (30, -40, 80): 124.209291,
}


def test_fast_functions_match_the_library() -> None:
    rng = np.random.default_rng(1)
    x = 10.0 ** rng.uniform(-12, 12, 20_000)
    out = np.empty_like(x)
    fastmath.log_array(x, out)
    assert np.abs(out - np.log(x)).max() < 1e-14
    x *= np.where(rng.random(x.size) < 0.5, -1, 1)
    fastmath.atan_array(x, out)
    assert np.abs(out - np.arctan(x)).max() < 1e-15


@pytest.mark.parametrize("place", GZ)
def test_gravity_of_a_prism(place: tuple[float, float, float]) -> None:
    got = prisms.gravity_of(PRISM_A, np.array([500.0]), np.array([place], dtype=float))[0]
    assert got == pytest.approx(GZ[place], abs=5e-8)


@pytest.mark.parametrize("place", TFA)
def test_total_field_of_a_prism(place: tuple[float, float, float]) -> None:
    got = prisms.magnetics_of(PRISM_A, np.array([0.05]), np.array([place], dtype=float), 60.0, 10.0, 50_000.0)[0]
    # On the edge (100, 150, 0) is above the rim of the prism's top, where the field is steepest.
    assert got == pytest.approx(TFA[place], abs=2e-5 if place != (100, 150, 0) else 2e-4)


def test_at_pole_and_equator_and_poisson() -> None:
    zero = np.zeros((1, 3))
    pole = prisms.magnetics_of(PRISM_A, np.array([0.05]), zero, 90.0, 0.0, 50_000.0)[0]
    assert pole == pytest.approx(387.635987, abs=1e-5)
    assert prisms.magnetics_of(PRISM_A, np.array([0.05]), zero, 0.0, 0.0, 50_000.0)[0] == pytest.approx(
        -164.231502, abs=1e-5
    )
    # Poisson: at the pole the anomaly is k F / (4 pi G rho) times the vertical gradient of gravity (E = 1e-4 mGal/m).
    step = 0.5
    up, down = (prisms.gravity_of(PRISM_A, np.array([500.0]), np.array([[0.0, 0.0, z]]))[0] for z in (step, -step))
    gradient = (down - up) / (2 * step) * 1e-5
    assert 0.05 * 50_000 * gradient / (4 * np.pi * prisms.GRAVITATION * 500.0) == pytest.approx(pole, rel=1e-5)


def test_voxel_sphere_is_a_point_mass_and_a_dipole_far_away() -> None:
    n, radius = 40, 100.0
    mesh = TensorMesh.even((-radius, -radius, -radius), (2 * radius / n, 2 * radius / n, 2 * radius / n), (n, n, n))
    x, y, z = mesh.centres().T
    inside = x**2 + y**2 + z**2 <= radius**2
    volume = mesh.volumes()[inside].sum()
    obs = np.array([[300.0, -200.0, 400.0], [0.0, 0.0, 700.0], [-1500.0, 900.0, 100.0]])
    r = np.linalg.norm(obs, axis=1)
    g = prisms.gravity_of(mesh, np.where(inside, 800.0, np.nan), obs)
    # Downward attraction of a mass at the origin (Telford et al. 1990).
    assert g == pytest.approx(prisms.GRAVITATION * 1e5 * 800.0 * volume * obs[:, 2] / r**3, rel=2e-5)
    t = prisms.magnetics_of(mesh, np.where(inside, 0.1, np.nan), obs, 60.0, 10.0, 50_000.0)
    f = prisms.field_direction(60.0, 10.0)
    cosine = obs @ f / r
    dipole = 0.1 * 50_000 * volume / (4 * np.pi) * (3 * cosine**2 - 1) / r**3
    assert t == pytest.approx(dipole, rel=2e-4)


def test_far_formula_and_mask_agree_with_the_closed_form() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -900.0), (50.0, 50.0, 25.0), (20, 18, 36))
    obs = np.array([[300.0, 500.0, 40.0], [900.0, 100.0, 60.0]])
    active = np.random.default_rng(0).random(mesh.size) < 0.6
    exact = prisms.magnetic_kernel(mesh, obs, 65.0, -3.0, 50_000.0)
    mixed = prisms.magnetic_kernel(mesh, obs, 65.0, -3.0, 50_000.0, active, near=300.0, dtype=np.float32)
    x, y, z = mesh.centres().T
    r = np.sqrt((x - obs[:, :1]) ** 2 + (y - obs[:, 1:2]) ** 2 + (z - obs[:, 2:]) ** 2)
    envelope = 2 * 50_000 / (4 * np.pi) * mesh.volumes() / r**3
    assert (np.abs(mixed - exact[:, active]) / envelope[:, active]).max() < 2e-4
    gravity = prisms.gravity_kernel(mesh, obs)
    assert prisms.gravity_kernel(mesh, obs, near=300.0) == pytest.approx(gravity, rel=1e-4)


def test_bouguer_slab(reference: dict[str, Any]) -> None:
    # 2 pi G rho t: 0.0419 mGal per metre and g/cm3 (textbooks, from memory: 0.04193).
    slab = TensorMesh.even((-2e5, -2e5, -10.0), (4e5, 4e5, 10.0), (1, 1, 1))
    got = prisms.gravity_of(slab, np.array([1000.0]), np.array([[0.0, 0.0, 1.0]]))[0]
    assert got / 10.0 == pytest.approx(0.0419359, abs=5e-5)
    assert reference["gravity"]["prism_A"]["density_kgm3"] == 500.0
