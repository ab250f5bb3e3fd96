"""The inversion: target misfit, bounds, depth, trend, and clear refusals."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import lsq_linear
from scipy.stats import kstest

from innerlamp.core.compute.potential import fields, inversion, meshing, prisms
from innerlamp.core.compute.potential.bodies import dice
from innerlamp.core.compute.potential.coherent import invert_one_direction
from innerlamp.core.compute.potential.joint import Survey, invert_together
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.compute.potential.linear import Dense
from innerlamp.core.compute.potential.roughness import Roughness
from innerlamp.core.compute.potential.structure import CrossGradient
from innerlamp.core.errors import Cancelled, ConvergenceError, InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.progress import CallbackProgress

SMOOTH = inversion.Settings(smoothness=50.0)
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
        SMOOTH,
        inversion.Constraints(lower=0.0),
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


def test_bounds_are_kept_and_nothing_is_to_be_gained_within_them(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, _ = case
    known = inversion.Constraints(lower=0.0, upper=0.01)
    active, noise = np.ones(MESH.size, bool), np.ones(len(data))
    result = inversion.invert(Dense(kernel), data, noise, MESH, active, SMOOTH, known)
    assert result.model.max() == pytest.approx(0.01) and result.model.min() >= 0.0
    assert result.optimality < 5e-3
    # Karush-Kuhn-Tucker: at a lower bound the objective rises inwards, at an upper one it falls.
    beta = result.history[-1][1]
    norms = np.linalg.norm(kernel.astype(float), axis=0)
    w = (norms / norms.max()) ** 0.45
    rough = Roughness(MESH, active, 50.0)
    y = result.model * w
    gradient = (kernel.T @ (kernel @ result.model - data)) / w + beta * rough.apply(y)
    size = np.linalg.norm(kernel.T @ data / w) / np.sqrt(len(y))
    assert (gradient[result.model <= 0.0] > -0.02 * size).mean() > 0.99
    assert (gradient[result.model >= 0.01] < 0.02 * size).mean() > 0.99


def test_small_problem_equals_a_general_solver() -> None:
    # With beta fixed, the bounded minimum is that of scipy's lsq_linear on the stacked system.
    mesh = TensorMesh.even((0.0, 0.0, -60.0), (20.0, 20.0, 20.0), (4, 3, 3))
    rng = np.random.default_rng(2)
    kernel, active = rng.normal(size=(40, mesh.size)), np.ones(mesh.size, bool)
    trust = rng.uniform(0.5, 3.0, mesh.size)
    reference = rng.normal(0.0, 0.3, mesh.size)
    known = inversion.Constraints(lower=-0.1, upper=rng.uniform(0.2, 0.5, mesh.size), reference=reference, trust=trust)
    settings = inversion.Settings(smoothness=(30.0, 30.0, 15.0), exponent=0.4)
    data, noise = rng.normal(size=40), rng.uniform(0.5, 2.0, 40)
    problem = inversion.Problem(Dense(kernel), data, noise, mesh, active, settings, known, None)
    q = np.column_stack([problem.rough.apply(e) for e in np.eye(mesh.size)])
    assert q == pytest.approx(q.T)
    assert np.diag(q) == pytest.approx(problem.rough.diagonal)
    beta = 2.0
    for _ in range(200):
        problem.advance(beta)
    low, high = problem.low, problem.high
    norms = np.linalg.norm(kernel, axis=0)
    w = (norms / norms.max()) ** 0.4
    clipped = np.clip(reference, -0.1, known.upper)
    root = np.linalg.cholesky(beta * q).T
    stacked = np.vstack([kernel / noise[:, None] / w, root])
    wanted = np.concatenate([(data - kernel @ clipped) / noise, np.zeros(mesh.size)])
    best = lsq_linear(stacked, wanted, (low, high), tol=1e-12).x
    assert problem.model() == pytest.approx(clipped + best / w, abs=1e-5)
    assert problem.optimality(beta) < 1e-5


def test_the_cosine_transform_solves_the_measure_of_equal_cells() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -60.0), (20.0, 20.0, 20.0), (5, 3, 4))
    rough = Roughness(mesh, np.ones(mesh.size, bool), 30.0, components=2)
    x = np.random.default_rng(0).normal(size=2 * mesh.size)
    assert rough.solve_box(rough.apply(x)) == pytest.approx(x, abs=1e-5)


def test_other_norms_count_what_they_should() -> None:
    # A block of height 1 on 8 of 4 x 4 x 4 cells: its number of cells, and of the faces around it, by norm 0.
    mesh = TensorMesh.even((0.0, 0.0, -80.0), (20.0, 20.0, 20.0), (4, 4, 4))
    x = np.zeros(mesh.shape)
    x[:2, :2, :2] = 1.0
    rough = Roughness(mesh, np.ones(mesh.size, bool), 20.0)
    rough.reweight(x.ravel(), 1e-4, 0.0, 0.0)
    counted = float(x.ravel() @ rough.apply(x.ravel())) / 1e-8
    assert counted == pytest.approx(8 + 3 * 4, rel=1e-4)
    rough.reweight(x.ravel(), 1e-4, 2.0, 1.0)
    assert float(x.ravel() @ rough.apply(x.ravel())) == pytest.approx(8 + 12 * 1e-4, rel=1e-4)


def test_a_compact_model_is_more_compact_and_fits_as_well(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, true = case
    active, noise = np.ones(MESH.size, bool), np.ones(len(data))
    known = inversion.Constraints(lower=0.0, upper=0.06)
    smooth = inversion.invert(Dense(kernel), data, noise, MESH, active, SMOOTH, known)
    settings = inversion.Settings(smoothness=25.0, norm_size=0.0, norm_steps=2.0)
    compact = inversion.invert(Dense(kernel), data, noise, MESH, active, settings, known)
    assert compact.reached and compact.chi2 == pytest.approx(1.0, abs=0.1)

    def cells(model: np.ndarray) -> float:
        return float(np.sum(np.cumsum(np.sort(model)[::-1]) < 0.8 * model.sum()))

    assert cells(compact.model) < 0.6 * cells(smooth.model)
    true_sum = float(true.sum())
    assert np.corrcoef(compact.model, true.ravel())[0, 1] > np.corrcoef(smooth.model, true.ravel())[0, 1] - 0.05
    assert compact.model.sum() == pytest.approx(true_sum, rel=0.25)


def test_what_is_known_draws_the_model_and_a_start_saves_iterations(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, true = case
    active, noise = np.ones(MESH.size, bool), np.ones(len(data))
    reference = np.where(true.ravel() > 0, 0.05, 0.0)
    known = inversion.Constraints(lower=0.0, reference=reference, trust=np.where(true.ravel() > 0, 10.0, 1.0))
    plain = inversion.invert(Dense(kernel), data, noise, MESH, active, SMOOTH, inversion.Constraints(lower=0.0))
    half = data - 0.5 * (kernel @ reference)
    drawn = inversion.invert(Dense(kernel), data + half, noise, MESH, active, SMOOTH, known)
    assert np.corrcoef(drawn.model, true.ravel())[0, 1] > np.corrcoef(plain.model, true.ravel())[0, 1]
    again = inversion.Constraints(lower=0.0, start=plain.model)
    seen: list[np.ndarray] = []
    once_more = inversion.invert(Dense(kernel), data, noise, MESH, active, SMOOTH, again, look=seen.append)
    assert once_more.chi2 == pytest.approx(1.0, abs=0.06)
    assert len(seen) == len(once_more.history)
    assert seen[-1] == pytest.approx(once_more.model)


def test_a_magnetisation_that_is_not_along_the_field_is_found() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -500.0), (75.0, 75.0, 40.0), (16, 15, 12))
    x, y = np.meshgrid(np.linspace(50, 1150, 18), np.linspace(50, 1050, 18))
    obs = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 40.0)])
    here = (-30.0, -3.0, 24_000.0)
    kinds = fields.magnetisation_fields(*here)
    active = np.ones(mesh.size, bool)
    kernel = Lattice(mesh, obs, kinds, active)
    true = np.zeros(mesh.shape)
    true[7:10, 6:9, 6:10] = 0.05
    way = (35.0, 120.0)
    whole = np.concatenate([true.ravel() * part for part in fields.field_direction(*way)])
    data = kernel.apply(whole)
    level = 0.02 * float(np.abs(data).max())
    data = data + np.random.default_rng(1).normal(0, level, len(data))
    noise = np.full(len(data), level)
    found, toward = invert_one_direction(kernel, data, noise, mesh, active, SMOOTH)
    assert found.reached
    wanted = fields.field_direction(*way)
    assert np.degrees(np.arccos(toward @ wanted)) < 5.0
    parts = found.model.reshape(3, -1)
    strength = np.linalg.norm(parts, axis=0)
    core = parts[:, strength > 0.6 * strength.max()].sum(axis=1)
    assert np.degrees(np.arccos(core @ wanted / np.linalg.norm(core))) < 7.0
    middle = np.average(mesh.centres(), axis=0, weights=np.where(strength > 0.5 * strength.max(), strength, 0.0))
    assert middle[:2] == pytest.approx([637.5, 562.5], abs=60.0)
    free = inversion.invert(kernel, data, noise, mesh, active, SMOOTH)  # each cell its own direction: it smears
    assert (
        free.reached
        and np.corrcoef(strength, true.ravel())[0, 1]
        > np.corrcoef(np.linalg.norm(free.model.reshape(3, -1), axis=0), true.ravel())[0, 1]
    )


def test_mass_and_depth_of_a_sphere_are_found_with_noise_and_the_residual_is_noise() -> None:
    # Gauss's theorem: the mass follows from gravity whatever its shape (Blakely 1995, section 3.5).
    mesh = TensorMesh.even((0.0, 0.0, -1000.0), (50.0, 50.0, 50.0), (40, 40, 20))
    rng = np.random.default_rng(7)
    obs = np.column_stack([rng.uniform(50, 1950, (700, 2)), np.full(700, 10.0)])
    centre, radius, density = np.array([1000.0, 1000.0, -350.0]), 180.0, 600.0
    mass = 4 / 3 * np.pi * radius**3 * density
    away = centre - obs
    r = np.linalg.norm(away, axis=1)
    data = fields.GRAVITATION * mass * -away[:, 2] / r**3 * 1e5  # a point's mass, mGal
    level = 0.02 * float(data.max())
    data = data + rng.normal(0, level, len(data))
    active = np.ones(mesh.size, bool)
    kernel = Lattice(mesh, obs, [fields.vertical_gravity()], active)
    settings = inversion.Settings(smoothness=50.0, exponent=0.75)
    found = inversion.invert(
        kernel, data, np.full(len(data), level), mesh, active, settings, inversion.Constraints(lower=0.0)
    )
    masses = found.model * mesh.volumes()
    assert masses.sum() == pytest.approx(mass, rel=0.03)
    middle = np.average(mesh.centres(), axis=0, weights=masses)
    assert np.hypot(*(middle - centre)[:2]) < 25.0
    assert abs(middle[2] - centre[2]) < 100.0  # two cells: gravity alone leaves depth open
    residual = (data - found.predicted) / level
    assert kstest(residual, "norm").pvalue > 0.01


def test_the_cross_gradient_is_nothing_along_and_its_product_is_symmetric() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -80.0), (20.0, 25.0, 10.0), (6, 5, 8))
    rng = np.random.default_rng(3)
    active = rng.random(mesh.shape) > 0.1
    n = int(active.sum())
    w = rng.uniform(0.5, 2.0, n)
    link = CrossGradient(mesh, active, w)
    other = rng.normal(size=n)
    link.hold(other)
    product = np.column_stack([link.apply(e) for e in np.eye(n)])
    assert product == pytest.approx(product.T)
    assert np.linalg.eigvalsh(product).min() > -1e-9
    assert link.apply(w * (3.0 * other - 2.0)) == pytest.approx(np.zeros(n), abs=1e-9)  # the same structure
    assert np.abs(link.apply(w * rng.normal(size=n))).max() > 1e-6


def test_surveys_inverted_together_overlap_more_than_alone() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -600.0), (50.0, 50.0, 40.0), (24, 24, 15))
    rng = np.random.default_rng(4)
    active = np.ones(mesh.size, bool)
    true = np.zeros(mesh.shape)
    true[7:11, 8:14, 8:12] = 1.0
    true[15:18, 10:14, 9:13] = 1.0
    x, y = np.meshgrid(np.linspace(30, 1170, 22), np.linspace(30, 1170, 22))
    obs = np.column_stack([x.ravel(), y.ravel(), np.full(x.size, 40.0)])
    surveys = []
    for kind, value, exponent in (
        (fields.total_field(-55.0, 12.0, 50_000.0), 0.04, 0.45),
        (fields.vertical_gravity(), 350.0, 0.75),
    ):
        kernel = Lattice(mesh, obs, [kind], active)
        data = kernel.apply(value * true.ravel())
        level = 0.02 * float(np.abs(data).max())
        data = data + rng.normal(0, level, len(data))
        settings = inversion.Settings(smoothness=50.0, exponent=exponent)
        known = inversion.Constraints(lower=0.0)
        surveys.append(Survey(kernel, data, np.full(len(data), level), settings, known))
    alone = invert_together(surveys, mesh, active, coupling=0.0)
    both = invert_together(surveys, mesh, active, coupling=3.0)
    assert all(r.chi2 == pytest.approx(1.0, abs=0.1) for r in (*alone, *both))

    def overlap(found: list[inversion.Inversion]) -> tuple[float, float]:
        count = int(true.sum())
        strong = [np.zeros(mesh.size, bool) for _ in found]
        for mask, result in zip(strong, found, strict=True):
            mask[np.argsort(result.model)[-count:]] = True
        volumes = np.ones(mesh.size)
        return dice(*strong, volumes), min(dice(s, true.ravel() > 0, volumes) for s in strong)

    assert overlap(both)[0] > overlap(alone)[0] + 0.05  # with each other
    assert overlap(both)[1] >= overlap(alone)[1] - 0.02  # with the truth


def test_refusals_and_cancel(case: tuple[np.ndarray, ...]) -> None:
    kernel, data, _ = case
    active, ones, op = np.ones(MESH.size, bool), np.ones(len(data)), Dense(kernel)
    with pytest.raises(InputError, match="noise must be positive"):
        inversion.invert(op, data, 0 * ones, MESH, active, SMOOTH)
    with pytest.raises(InputError, match="no value"):
        inversion.invert(op, np.where(data > 0, data, np.nan), ones, MESH, active, SMOOTH)
    with pytest.raises(InputError, match="no room"):
        inversion.invert(op, data, ones, MESH, active, SMOOTH, inversion.Constraints(0.1, 0.1))
    with pytest.raises(ConvergenceError, match="within the noise"):
        inversion.invert(op, data, 1e6 * ones, MESH, active, SMOOTH)
    with pytest.raises(Cancelled):
        stopped = CallbackProgress(lambda *_: None, lambda: True)
        inversion.invert(op, data, ones, MESH, active, SMOOTH, progress=stopped)


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
    three = meshing.thin_by_cell(x, y, 50.0, 3)
    assert len(three) == 300 and set(rows.tolist()) < set(three.tolist())
