"""Surveys whose readings are much denser along lines than across, and readings on the ground over a body that crops out."""

from __future__ import annotations

import numpy as np

from innerlamp.core.compute.potential import fields, inversion, meshing
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.geometry.mesh import TensorMesh

FIELD = (-35.0, 4.0, 25_000.0)


def test_lines_two_hundred_metres_apart_leave_no_stripes_in_the_model() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -600.0), (50.0, 50.0, 25.0), (40, 40, 24))
    x, y = np.meshgrid(np.arange(100.0, 1901.0, 10.0), np.arange(100.0, 1901.0, 200.0))
    rng = np.random.default_rng(2)
    obs = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 60.0)])
    rows = meshing.thin_by_cell(obs[:, 0], obs[:, 1], 50.0)
    obs = obs[rows]
    active = np.ones(mesh.size, bool)
    kernel = Lattice(mesh, obs, [fields.total_field(*FIELD)], active)
    true = np.zeros(mesh.shape)
    true[14:26, 12:27, 9:17] = 0.05
    data = kernel.apply(true.ravel()) + rng.normal(0, 1.0, len(obs))
    known = inversion.Constraints(lower=0.0)
    found = inversion.invert(kernel, data, np.ones(len(obs)), mesh, active, inversion.Settings(smoothness=100.0), known)
    assert found.reached
    model = found.model.reshape(mesh.shape)
    # Power of the model across the lines, all columns and layers together, by wavelength.
    power = (np.abs(np.fft.rfft(model, axis=1)) ** 2).sum(axis=(0, 2))
    length = mesh.shape[1] * 50.0
    at = round(length / 200.0)
    assert power[at - 1 : at + 2].sum() < 0.05 * power.sum()


def test_ground_readings_over_an_outcropping_body_give_its_susceptibility_at_the_surface() -> None:
    mesh = meshing.draped_under(
        TensorMesh.even((0.0, 0.0, -100.0), (10.0, 10.0, 5.0), (30, 30, 20)), np.zeros((30, 30))
    )
    x, y = np.meshgrid(np.arange(25.0, 276.0, 5.0), np.arange(25.0, 276.0, 10.0))
    obs = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 2.0)])  # two metres above the cells
    active = np.ones(mesh.size, bool)
    kernel = Lattice(mesh, obs, [fields.total_field(*FIELD)], active)
    true = np.zeros(mesh.shape)
    true[11:19, 11:19, 8:] = 0.05  # 80 m wide, from the surface to 60 m
    rng = np.random.default_rng(1)
    data = kernel.apply(true.ravel())
    noise = np.hypot(2.0, 0.02 * np.abs(data))
    data = data + rng.normal(0, noise)
    even = meshing.evened_sensitivity(mesh, np.ones(mesh.shape, bool), kernel.column_norms(), obs)
    settings, known = inversion.Settings(smoothness=10.0), inversion.Constraints(lower=0.0, weigh_by=even)
    found = inversion.invert(kernel, data, noise, mesh, active, settings, known)
    assert found.reached
    surface = found.model.reshape(mesh.shape)[12:18, 12:18, -1]
    assert abs(surface.mean() / 0.05 - 1.0) < 0.2
    beside = found.model.reshape(mesh.shape)[:, :4, -1]
    assert beside.mean() < 0.1 * surface.mean()
