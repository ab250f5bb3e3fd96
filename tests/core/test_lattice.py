"""The lattice operator against the matrix of closed forms, on meshes of all kinds, and its transposed against itself."""

from __future__ import annotations

import numpy as np
import pytest

from innerlamp.core.compute.potential import fields, prisms
from innerlamp.core.compute.potential.lattice import Lattice
from innerlamp.core.compute.potential.linear import Dense, Stacked
from innerlamp.core.compute.potential.meshing import draped_under, tops_below
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import DrapedMesh, Mesh, TensorMesh

PLAN = (30, 26)
FIELD = (-28.0, -4.0, 23_000.0)  # a low southern inclination


def ground(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Hills of 160 m at 4,000 m."""
    return 4000.0 + 80.0 * np.sin(x / 230.0) * np.cos(y / 310.0)


def sensors(mesh: Mesh, above: float = 40.0) -> np.ndarray:
    rng = np.random.default_rng(5)
    p, q = rng.uniform(-60.0, 1550.0, 90), rng.uniform(100.0, 1200.0, 90)  # some beside the mesh
    return np.column_stack([*mesh.to_map(p, q), ground(p, q) + above + rng.uniform(0, 30.0, 90)])


def meshes() -> dict[str, Mesh]:
    even = TensorMesh.even((402_000.0, 7_502_000.0, 3500.0), (50.0, 50.0, 25.0), (*PLAN, 24))
    p, q = (0.5 * (e[1:] + e[:-1]) for e in even.plan_edges)
    tops = ground(*np.meshgrid(p, q, indexing="ij"))
    turned = TensorMesh.even((402_000.0, 7_502_000.0, 3500.0), (50.0, 50.0, 25.0), (*PLAN, 24), azimuth=37.0)
    cut, _ = tops_below(turned, tops, sensors(turned), 1.0)
    growing = 10.0 * 1.18 ** np.arange(18)[::-1]
    layers = np.broadcast_to(growing, (*PLAN, 18)).copy()
    return {
        "cut by the ground, turned": draped_under(turned, cut),
        "flat": TensorMesh.even((402_000.0, 7_502_000.0, 3400.0), (50.0, 40.0, 30.0), (*PLAN, 17)),
        "draped, thicker with depth": DrapedMesh(402_000.0, 7_502_000.0, even.u, even.v, 0.0, tops, layers),
    }


KINDS = {
    "total field": fields.total_field(*FIELD),
    "gravity": fields.vertical_gravity(),
    "gradient": fields.gravity_gradient("xz"),
}


@pytest.mark.parametrize("name", list(meshes()))
@pytest.mark.parametrize("kind", list(KINDS))
def test_data_of_a_model_are_those_of_the_closed_forms(name: str, kind: str) -> None:
    mesh, field = meshes()[name], KINDS[kind]
    obs = sensors(mesh)
    rng = np.random.default_rng(1)
    thick = mesh.volumes() > 0
    active = thick & (rng.random(mesh.size) > 0.1)  # with gaps
    whole = prisms.kernel_matrix(mesh, obs, field, active)
    quick = Lattice(mesh, obs, [field], active)
    body = np.exp(-0.5 * ((mesh.centres() - mesh.centres()[mesh.size // 2 + 5]) / 150.0) ** 2).prod(axis=1)[active]
    for model, most in ((body, 3e-4), (rng.random(int(active.sum())), 1e-4)):
        wanted = whole @ model
        assert np.linalg.norm(quick.apply(model) - wanted) < most * np.linalg.norm(wanted)
    data = rng.normal(size=len(obs))
    wanted = whole.T @ data
    assert np.linalg.norm(quick.transposed(data) - wanted) < 1e-3 * np.linalg.norm(wanted)
    seen = np.sqrt((whole**2).sum(axis=0))
    assert quick.column_norms() == pytest.approx(seen, rel=0.1, abs=0.002 * seen.max())


def test_the_transposed_is_that_of_the_product_to_the_last_digits() -> None:
    mesh = meshes()["cut by the ground, turned"]
    obs = sensors(mesh)
    active = mesh.volumes() > 0
    for dtype, digits in ((np.float64, 1e-13), (np.float32, 1e-6)):
        three = Lattice(mesh, obs, fields.magnetisation_fields(*FIELD), active, dtype=dtype)
        rng = np.random.default_rng(2)
        model, data = rng.normal(size=three.shape[1]), rng.normal(size=len(obs))
        one, other = three.apply(model) @ data, model @ three.transposed(data)
        size = np.linalg.norm(three.apply(model)) * np.linalg.norm(data)
        assert abs(one - other) < digits * size


def test_a_magnetisation_along_the_field_is_a_susceptibility() -> None:
    mesh = meshes()["flat"]
    obs = sensors(mesh, 120.0)
    model = np.random.default_rng(3).random(mesh.size)
    induced = Lattice(mesh, obs, [fields.total_field(*FIELD)]).apply(model)
    along = np.concatenate([model * part for part in fields.field_direction(*FIELD[:2])])
    three = Lattice(mesh, obs, fields.magnetisation_fields(*FIELD))
    assert three.apply(along) == pytest.approx(induced, rel=1e-4, abs=1e-4 * np.abs(induced).max())


def test_gradients_are_the_slopes_of_gravity_and_their_diagonal_sums_to_nothing() -> None:
    mesh = TensorMesh.even((0.0, 0.0, -300.0), (50.0, 50.0, 25.0), (6, 6, 4))
    model = np.full(mesh.size, 400.0)
    at = np.array([[140.0, 260.0, 30.0]])

    def down(place: np.ndarray) -> float:
        return float((prisms.gravity_kernel(mesh, place) @ model)[0])

    def gradient(part: fields.Component) -> float:
        return float((prisms.kernel_matrix(mesh, at, fields.gravity_gradient(part)) @ model)[0])

    step = 0.5
    for part, axis in (("xz", [1, 0, 0]), ("yz", [0, 1, 0]), ("zz", [0, 0, -1])):
        move = step * np.array([axis], dtype=float)
        slope = (down(at + move) - down(at - move)) / (2 * step) * 1e4  # mGal/m are 1e4 E
        assert gradient(part) == pytest.approx(slope, rel=1e-5)  # type: ignore[arg-type]
    assert gradient("xx") + gradient("yy") + gradient("zz") == pytest.approx(0.0, abs=1e-9)
    assert gradient("zz") > 0  # dense rock below


def test_stacked_operators_are_one_after_the_other() -> None:
    rng = np.random.default_rng(0)
    a, b = rng.normal(size=(4, 6)), rng.normal(size=(3, 6))
    both, whole = Stacked([Dense(a), Dense(b)]), np.vstack([a, b])
    model, data = rng.normal(size=6), rng.normal(size=7)
    assert both.shape == (7, 6)
    assert both.apply(model) == pytest.approx(whole @ model)
    assert both.transposed(data) == pytest.approx(whole.T @ data)
    assert both.column_norms() == pytest.approx(np.linalg.norm(whole, axis=0))
    with pytest.raises(InputError, match="different models"):
        Stacked([Dense(a), Dense(b[:, :5])])


def test_columns_of_different_widths_have_no_lattice() -> None:
    mesh = TensorMesh(0.0, 0.0, np.array([50.0, 60.0]), np.array([50.0, 50.0]), 0.0, -100.0, np.full(4, 25.0))
    with pytest.raises(InputError, match="one width"):
        Lattice(mesh, np.array([[50.0, 50.0, 40.0]]), [fields.vertical_gravity()])
