"""The inversion: target misfit, bounds, depth, trend, and clear refusals."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import lsq_linear

from innerlamp.core.compute.potential import inversion, meshing, prisms
from innerlamp.core.compute.potential.linear import Dense
from innerlamp.core.errors import Cancelled, ConvergenceError, InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.progress import CallbackProgress

MESH = TensorMesh.even((0.0, 0.0, -500.0), (50.0, 50.0, 25.0), (24, 22, 20))


@pytest.fixture(scope="module")
def case() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    x, y = np.meshgrid(np.linspace(150, 1050, 18), np.linspace(150, 950, 16))
    obs = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 50.0)])
    kernel = prisms.magnetic_kernel(MESH, obs, 65.0, 2.0, 50_000.0, near=300.0, dtype=np.float32)
    true = np.zeros((24, 22, 20))
    true[10:14, 9:13, 11:16] = 0.05  # top 100 m below the mesh top
    data = kernel @ true.ravel().astype(np.float32) + np.random.default_rng(0).normal(0, 1.0, len(obs))
    return kernel, data.astype(float), true


def test_reaches_the_target_and_finds_the_block(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, true = case
    regional = np.column_stack([np.ones(len(data)), np.linspace(-1, 1, len(data))])
    seen: list[float] = []
    progress = CallbackProgress(lambda _fraction, _message, k: seen.append(k["misfit"]) if "misfit" in k else None)
    result = inversion.invert(
        Dense(kernel),
        data + regional @ [30.0, 12.0],
        np.ones(len(data)),
        MESH,
        np.ones(MESH.size, bool),
        smoothness=50.0,
        trend=regional,
        progress=progress,
    )
    assert result.reached
    assert result.chi2 == pytest.approx(1.0, abs=0.09)
    assert seen[0] > 3 * seen[-1]
    assert result.model.min() >= 0.0
    model = result.model.reshape(true.shape)
    where, core = np.argwhere(model > 0.6 * model.max()).mean(axis=0), np.argwhere(true > 0).mean(axis=0)
    assert where[:2] == pytest.approx(core[:2], abs=1.0)  # within a cell across
    assert abs(where[2] - core[2]) * 25.0 < 60.0  # its depth to about two cells
    assert np.mean((data + regional @ [30.0, 12.0] - result.predicted) ** 2) == pytest.approx(result.chi2)


def test_bounds_are_kept(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, _ = case
    result = inversion.invert(
        Dense(kernel), data, np.ones(len(data)), MESH, np.ones(MESH.size, bool), smoothness=50.0, upper=0.02
    )
    assert result.model.max() <= 0.02 + 1e-12


def test_small_problem_equals_a_general_solver() -> None:
    # With beta fixed, the bounded minimum is that of scipy's lsq_linear on the stacked system.
    mesh = TensorMesh.even((0.0, 0.0, -60.0), (20.0, 20.0, 20.0), (4, 3, 3))
    rng = np.random.default_rng(2)
    kernel = rng.normal(size=(40, mesh.size))
    rough = inversion.Roughness(mesh, np.ones(mesh.size, bool), 30.0)
    q = np.column_stack([rough.apply(e) for e in np.eye(mesh.size)])
    assert q == pytest.approx(q.T)
    box = np.column_stack([rough.solve_box(e) for e in np.eye(mesh.size)])
    assert box @ q == pytest.approx(np.eye(mesh.size), abs=1e-9)  # the cosine transform inverts Q exactly
    x = np.zeros(mesh.size)
    b, beta = rng.normal(size=40), 2.0
    for _ in range(60):
        gradient = kernel.T @ (kernel @ x - b) + beta * q @ x
        free = (x > 0) | (gradient < 0)
        step = inversion._solve_free(
            lambda v: kernel @ v, lambda r: kernel.T @ r, rough, beta, gradient, free, 200, 1e-12
        )
        x = np.maximum(x + 0.5 * step, 0.0)
    root = np.linalg.cholesky(beta * q).T
    best = lsq_linear(np.vstack([kernel, root]), np.concatenate([b, np.zeros(mesh.size)]), (0, np.inf), tol=1e-12).x
    assert x == pytest.approx(best, abs=1e-6)


def test_refusals_and_cancel(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, _ = case
    active = np.ones(MESH.size, bool)
    with pytest.raises(InputError, match="noise must be positive"):
        inversion.invert(Dense(kernel), data, np.zeros(len(data)), MESH, active, smoothness=50.0)
    with pytest.raises(ConvergenceError, match="within the noise"):
        inversion.invert(Dense(kernel), data, np.full(len(data), 1e6), MESH, active, smoothness=50.0)
    with pytest.raises(Cancelled):
        inversion.invert(
            Dense(kernel),
            data,
            np.ones(len(data)),
            MESH,
            active,
            smoothness=50.0,
            progress=CallbackProgress(lambda *_: None, lambda: True),
        )


def test_noise_and_thinning() -> None:
    rng = np.random.default_rng(5)
    along = np.arange(4000.0)
    signal = 300 * np.sin(along / 90)
    noisy = signal + rng.normal(0, 0.8, 4000)
    noisy[rng.choice(4000, 12)] += 150.0  # spikes do not matter
    assert meshing.line_noise(noisy, np.repeat(np.arange(4), 1000)) == pytest.approx(0.8, rel=0.06)
    x, y = rng.uniform(0, 500, 3000), rng.uniform(0, 500, 3000)
    rows = meshing.thin_by_cell(x, y, 50.0)
    cells = set(zip((x[rows] // 50).tolist(), (y[rows] // 50).tolist(), strict=True))
    assert len(rows) == len(cells) == 100
