"""Meshes: tensor and draped, turned and uneven, through storage, forward problems, inversion, formats and back."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from innerlamp.core.compute.potential import inversion, meshing, prisms
from innerlamp.core.compute.potential.linear import Dense
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import CORNERS, DrapedMesh, Mesh, TensorMesh, face_corners
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.progress import SILENT
from innerlamp.core.project.store import Store
from innerlamp.core.running.errands import export
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"
X, Y = 412_000.0, 7_388_000.0


def uneven(azimuth: float = 0.0) -> TensorMesh:
    return TensorMesh(
        X, Y, np.array([10.0, 10.0, 25.0]), np.array([5.0, 30.0]), azimuth, 3900.0, np.array([40.0, 10.0, 2.5, 1.0])
    )


def draped() -> DrapedMesh:
    """Two layers of the middle column are not there."""
    thickness = np.full((3, 2, 4), 10.0)
    thickness[1, :, 1:3] = 0.0
    return DrapedMesh(
        X,
        Y,
        np.array([10.0, 10.0, 25.0]),
        np.array([5.0, 30.0]),
        0.0,
        np.array([[4000.0, 4001], [4010, 4011], [4020, 4021]]),
        thickness,
    )


MESHES = [uneven(), uneven(37.0), draped()]


@pytest.mark.parametrize("mesh", MESHES)
def test_centres_lie_in_their_cells_and_volumes_add_up(mesh: Mesh) -> None:
    centres, volumes = mesh.centres(), mesh.volumes()
    there = volumes > 0
    i, j, k = mesh.find(*centres[there].T)
    assert np.array_equal(np.column_stack([i, j, k]), mesh.all_cells()[there])
    corners = mesh.corners(mesh.all_cells())
    assert corners.mean(axis=1) == pytest.approx(centres)
    # A parallelepiped's volume is the triple product of its edges.
    edges = corners[:, [1, 3, 4]] - corners[:, :1]
    assert volumes == pytest.approx(np.abs(np.linalg.det(edges)), abs=1e-5)
    west, east, south, north, low, high = mesh.bounds
    points = corners.reshape(-1, 3)
    assert np.allclose([west, south, low], points.min(axis=0)) and np.allclose([east, north, high], points.max(axis=0))
    values = np.arange(float(mesh.size)).reshape(mesh.shape)
    assert np.array_equal(mesh.values_at(values, *centres[there].T), values.ravel()[there])
    assert np.isnan(mesh.values_at(values, np.array([west - 1]), np.array([south]), np.array([low]))).all()
    assert np.isnan(mesh.values_at(values, centres[:1, 0], centres[:1, 1], np.array([np.nan]))).all()


def test_a_turned_mesh_is_the_mesh_turned() -> None:
    """Against scipy's rotation: clockwise seen from above is a negative angle about the vertical."""
    plain, turned = uneven(), uneven(37.0)
    about = np.array([X, Y, 0.0])
    wanted = Rotation.from_euler("z", -37.0, degrees=True).apply(plain.centres() - about) + about
    assert turned.centres() == pytest.approx(wanted)
    assert TensorMesh.even((0, 0, 0), (1, 1, 1), (2, 2, 2), 90.0).axes[1] == pytest.approx(
        [1.0, 0.0]
    )  # north turned to the east


def test_layers_of_no_thickness_are_stepped_over() -> None:
    mesh = draped()
    x, y = np.array([X + 15.0]), np.array([Y + 1.0])
    assert [int(mesh.find(x, y, np.array([z]))[2][0]) for z in (4005.0, 3995.0, 4010.0, 4000.0, 3990.0)] == [
        3,
        0,
        3,
        3,
        0,
    ]
    assert int(mesh.find(x, y, np.array([4010.1]))[0][0]) == -1
    assert (mesh.volumes() == 0).sum() == 4


@pytest.mark.parametrize("axis", [0, 1, 2])
@pytest.mark.parametrize("side", [0, 1])
def test_faces_are_flat_and_go_round(axis: int, side: int) -> None:
    square = CORNERS[face_corners(axis, side)]
    assert (square[:, axis] == side).all()
    assert (np.abs(np.roll(square, 1, axis=0) - square).sum(axis=1) == 1).all()


def test_meshes_that_make_no_sense_are_refused() -> None:
    for make in (
        lambda: TensorMesh.even((0, 0, 0), (1, 0, 1), (2, 2, 2)),
        lambda: TensorMesh.even((0, 0, 0), (1, 1, 1), (2, 0, 2)),
        lambda: TensorMesh.even((np.nan, 0, 0), (1, 1, 1), (2, 2, 2)),
        lambda: DrapedMesh(0, 0, np.ones(2), np.ones(2), 0.0, np.zeros((2, 3)), np.ones((2, 2, 2))),
        lambda: DrapedMesh(0, 0, np.ones(2), np.ones(2), 0.0, np.zeros((2, 2)), -np.ones((2, 2, 2))),
        lambda: BlockModel(name="m", crs=CRS, mesh=uneven(), properties={"k": np.zeros((2, 2, 2))}),
    ):
        with pytest.raises(InputError):
            make()


@pytest.mark.parametrize("mesh", MESHES)
def test_models_on_any_mesh_are_stored_and_come_back(mesh: Mesh, tmp_path: Path) -> None:
    values = np.random.default_rng(0).random(mesh.shape)
    model = BlockModel(name="m", crs=CRS, mesh=mesh, properties={"k": values}, units={"k": "SI"})
    with Store.create(tmp_path / "p", CRS) as store:
        item = store.put(model)
    with Store.open(tmp_path / "p.lamp") as store:
        back = store.load(item)
        assert isinstance(back, BlockModel)
        assert back.mesh == mesh
        assert np.array_equal(back.properties["k"], values)
        assert back.mesh != uneven(12.0)


# ---- forward problems, against the mesh of equal cells and against the turned frame


def places() -> np.ndarray:
    rng = np.random.default_rng(1)
    return np.column_stack([rng.uniform(0, 600, 30), rng.uniform(0, 500, 30), rng.uniform(2, 40, 30)])


def test_cells_of_other_widths_give_the_sum_of_the_equal_cells_in_them() -> None:
    equal = TensorMesh.even((0, 0, -200), (50, 50, 25), (12, 10, 8))
    wide = TensorMesh(0, 0, np.r_[np.full(10, 50.0), 100.0], equal.v, 0.0, -200.0, np.r_[50.0, np.full(6, 25.0)])
    for kernel in (
        lambda m: prisms.magnetic_kernel(m, places(), -35.0, 12.0, 24_000.0),
        lambda m: prisms.gravity_kernel(m, places()),
    ):
        fine = kernel(equal).reshape(30, 12, 10, 8)
        summed = np.concatenate([fine[:, :10], fine[:, 10:].sum(axis=1, keepdims=True)], axis=1)
        summed = np.concatenate([summed[..., :2].sum(axis=-1, keepdims=True), summed[..., 2:]], axis=-1)
        assert kernel(wide) == pytest.approx(summed.reshape(30, -1), rel=1e-6, abs=1e-9 * np.abs(fine).max())


def test_a_draped_mesh_that_lies_flat_is_a_tensor_mesh() -> None:
    flat = TensorMesh.even((0, 0, -200), (50, 50, 25), (12, 10, 8))
    same = DrapedMesh(0, 0, flat.u, flat.v, 0.0, np.zeros((12, 10)), np.broadcast_to(flat.w, (12, 10, 8)))
    for near in (np.inf, 350.0):  # at least six longest sides
        one, two = (prisms.gravity_kernel(m, places(), near=near) for m in (flat, same))
        assert two == pytest.approx(one, rel=1e-9, abs=1e-12)


def test_turning_mesh_stations_and_field_together_changes_nothing() -> None:
    mesh = TensorMesh.even((X, Y, -200), (50, 40, 25), (12, 10, 8))
    turned = TensorMesh(X, Y, mesh.u, mesh.v, 25.0, -200.0, mesh.w)
    local = places()
    x, y = turned.to_map(local[:, 0], local[:, 1])
    obs, moved = local + np.array([X, Y, 0.0]), np.column_stack([x, y, local[:, 2]])
    wanted = prisms.magnetic_kernel(mesh, obs, -35.0, 12.0, 24_000.0)
    assert prisms.magnetic_kernel(turned, moved, -35.0, 37.0, 24_000.0) == pytest.approx(
        wanted, abs=1e-9 * np.abs(wanted).max()
    )
    assert prisms.gravity_kernel(turned, moved) == pytest.approx(prisms.gravity_kernel(mesh, obs), rel=1e-6, abs=1e-12)


def test_roughness_of_a_linear_model_is_its_slope_on_uneven_cells() -> None:
    """x'Qx of x = a s along an axis is the size plus the sum over interfaces of (L a)^2, whatever the widths."""
    mesh = TensorMesh(0, 0, np.array([10.0, 20, 40, 5]), np.ones(3), 0.0, 0.0, np.ones(2))
    rough = inversion.Roughness(mesh, np.ones(mesh.shape, dtype=bool), 7.0)
    x = 0.3 * mesh.centres()[:, 0]
    assert float(x @ rough.apply(x)) == pytest.approx(float(x @ x) + 3 * 6 * (7.0 * 0.3) ** 2)


def test_an_inversion_on_a_draped_mesh_finds_the_body_under_the_hill() -> None:
    rng = np.random.default_rng(3)
    gx, gy = np.meshgrid(25.0 + 50.0 * np.arange(16), 25.0 + 50.0 * np.arange(14), indexing="ij")
    tops = 60.0 * np.exp(-((gx - 400) ** 2 + (gy - 350) ** 2) / 2e5)
    mesh = DrapedMesh(0, 0, np.full(16, 50.0), np.full(14, 50.0), 0.0, tops, np.full((16, 14, 8), 30.0))
    obs = np.column_stack([gx.ravel(), gy.ravel(), tops.ravel() + 1.0])
    true = np.zeros(mesh.shape)
    true[7:9, 6:8, 3:5] = 0.05
    kernel = prisms.magnetic_kernel(mesh, obs, -60.0, 0.0, 50_000.0)
    data = kernel @ true.ravel() + rng.normal(0, 1.0, len(obs))
    found = inversion.invert(
        Dense(kernel),
        data,
        np.ones(len(obs)),
        mesh,
        np.ones(mesh.shape, bool),
        inversion.Settings(smoothness=50.0),
        inversion.Constraints(lower=0.0),
    )
    assert found.reached
    assert 0.8 < found.chi2 < 1.2
    core = np.average(mesh.centres(), axis=0, weights=np.where(found.model > 0.5 * found.model.max(), found.model, 0))
    wanted = np.average(mesh.centres(), axis=0, weights=true.ravel())
    assert np.hypot(*(core - wanted)[:2]) < 30.0
    assert abs(core[2] - wanted[2]) < 60.0


def test_a_matrix_is_an_operator() -> None:
    matrix = np.random.default_rng(0).normal(size=(5, 7))
    op = Dense(matrix)
    x, r = np.arange(7.0), np.arange(5.0)
    assert op.shape == (5, 7)
    assert r @ op.apply(x) == pytest.approx(op.transposed(r) @ x)
    assert op.column_norms() == pytest.approx(np.linalg.norm(matrix, axis=0))


def test_meshes_under_the_ground_hold_the_data() -> None:
    mesh = meshing.mesh_under((0.0, 930.0, 0.0, 410.0), 420.0, 50.0, 25.0, 300.0, 2, 380.0)
    west, east, south, north, low, high = mesh.bounds
    assert west <= -100 + 30 and east >= 1000 and south <= -80 and north >= 490
    assert high == 420.0 and low <= 80.0


# ---- formats


def model_on(mesh: Mesh) -> BlockModel:
    values = np.random.default_rng(4).random(mesh.shape)
    values[0, 0, 0] = np.nan
    return BlockModel(name="M", crs=CRS, mesh=mesh, properties={"k": values}, units={"k": "SI"})


def brought_back(path: Path) -> BlockModel:
    op = OPERATIONS["import-element" if path.suffix == ".omf" else "import-blocks"]
    made = next(iter(op.run(Inputs({}, CRS), op.check({"file": str(path)}), SILENT).values()))
    assert isinstance(made, BlockModel)
    return made


@pytest.mark.parametrize("azimuth", [0.0, 37.0])
@pytest.mark.parametrize("ending", [".csv", ".vtr", ".vtu", ".omf"])
def test_uneven_and_turned_models_come_back(azimuth: float, ending: str, tmp_path: Path) -> None:
    model = model_on(uneven(azimuth))
    if azimuth and ending == ".vtr":
        with pytest.raises(InputError, match=r"can't hold these cells.*\.vtu"):
            export(model, tmp_path / "m.vtr")
        return
    (path,) = export(model, tmp_path / f"m{ending}")
    back = brought_back(path)
    assert back.mesh.shape == model.mesh.shape
    assert back.mesh.centres() == pytest.approx(model.mesh.centres(), abs=1e-3)
    assert back.mesh.volumes() == pytest.approx(model.mesh.volumes(), rel=1e-3)
    assert back.properties["k"] == pytest.approx(model.properties["k"], nan_ok=True)


def test_draped_cells_are_read_by_vtk_and_refused_where_there_is_no_place_for_them(tmp_path: Path) -> None:
    """VTK's own reader and its cell sizes are the judge."""
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkFiltersVerdict import vtkCellSizeFilter
    from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridReader

    model = model_on(draped())
    (path,) = export(model, tmp_path / "m.vtu")
    reader = vtkXMLUnstructuredGridReader()
    reader.SetFileName(str(path))
    sizes = vtkCellSizeFilter()
    sizes.SetInputConnection(reader.GetOutputPort())
    sizes.Update()
    measured = vtk_to_numpy(sizes.GetOutput().GetCellData().GetArray("Volume"))
    assert measured == pytest.approx(model.mesh.volumes()[1:], abs=0.1)
    for ending in (".vti", ".vtr", ".omf"):
        with pytest.raises(InputError):
            export(model, tmp_path / f"m{ending}")


def test_no_sensor_lies_in_a_cell_however_near_the_ground() -> None:
    """Readings carried 2 m above a 3 % slope: cells that reach above the ground would turn the sign of the kernel."""
    mesh = TensorMesh.even((0.0, 0.0, -150.0), (25.0, 25.0, 10.0), (24, 20, 20))
    gx = mesh.plan_centres[0]
    rng = np.random.default_rng(0)
    obs = np.column_stack([rng.uniform(80, 520, 300), rng.uniform(80, 420, 300), np.zeros(300)])
    obs[:, 2] = 0.03 * obs[:, 0] + 2.0
    tops, lowered = meshing.tops_below(mesh, 0.03 * gx, obs, 1.0)
    cut = meshing.draped_under(mesh, tops)
    i = cut.find(*obs.T)[0]
    assert (i < 0).all()  # above every column
    stepped = meshing.below_ground(mesh, 0.03 * gx)
    inside = mesh.values_at(stepped.astype(float), *obs.T)
    assert np.nansum(inside) > 0  # what whole cells did
    assert np.abs(tops - 0.03 * gx).max() < 1.0 and lowered.sum() < len(obs) / 4
    # Uniform ground: a sensor above it reads a small smooth field; the thickness under each column is what it was.
    assert cut.thickness.sum(axis=2) == pytest.approx(tops + 150.0)
    field = prisms.gravity_kernel(cut, obs) @ np.full(cut.size, 1000.0)
    fine = TensorMesh.even((0.0, 0.0, -150.0), (5.0, 5.0, 10.0), (120, 100, 20))
    exact = meshing.draped_under(fine, 0.03 * fine.plan_centres[0])
    wanted = prisms.gravity_kernel(exact, obs, near=100.0) @ np.full(exact.size, 1000.0)
    assert np.abs(field - wanted).max() < 0.03  # mGal, of 5.6; a step of half a cell is 0.2


def test_columns_cut_at_the_ground_are_written_as_whole_cells_where_a_format_has_no_others(tmp_path: Path) -> None:
    mesh = TensorMesh.even((X, Y, 0.0), (10.0, 10.0, 5.0), (4, 3, 6))
    tops = np.full((4, 3), 24.0)
    tops[1, 1] = 11.0
    cut = meshing.draped_under(mesh, tops)
    values = np.where(cut.thickness > 0, 1.0 + np.arange(72.0).reshape(4, 3, 6), np.nan)
    model = BlockModel(name="M", crs=CRS, mesh=cut, properties={"k": values})
    for ending in (".vti", ".omf"):
        (path,) = export(model, tmp_path / f"m{ending}")
        back = brought_back(path)
        assert back.mesh == mesh
        assert back.mesh.values_at(back.properties["k"], *np.array([[X + 1], [Y + 1], [1.0]]))[0] == 1.0
        assert np.isnan(back.mesh.values_at(back.properties["k"], *np.array([[X + 15], [Y + 15], [16.0]]))[0])


def slivered(azimuth: float = 0.0) -> DrapedMesh:
    """Columns with tops of their own, and layers of which some are not there."""
    rng = np.random.default_rng(4)
    thickness = rng.choice([0.0, 2.0, 5.0, 11.0], (12, 9, 14))
    u, v = np.full(12, 20.0), np.full(9, 30.0)
    return DrapedMesh(402_000.0, 7_502_000.0, u, v, azimuth, 4000.0 + rng.uniform(0, 60, (12, 9)), thickness)


@pytest.mark.parametrize("azimuth", [0.0, 33.0])
@pytest.mark.parametrize("kind", ["level", "draped"])
def test_a_cut_has_the_cells_that_its_places_lie_in(kind: str, azimuth: float) -> None:
    mesh: Mesh = slivered(azimuth)
    if kind == "level":
        mesh = TensorMesh.even((402_000.0, 7_502_000.0, 3900.0), (20.0, 30.0, 7.0), (12, 9, 14), azimuth)
    west, east, south, north, *_ = mesh.bounds
    x, y = np.linspace(west - 50, east + 50, 90), np.linspace(south - 10, north + 10, 90)
    cut = mesh.cut(x, y, 400)
    rows = cut.k.shape[0]
    z = cut.low + (cut.high - cut.low) / rows * (np.arange(rows) + 0.5)
    values = np.arange(float(mesh.size)).reshape(mesh.shape)
    expected = mesh.values_at(values, x[None, :], y[None, :], z[:, None])
    assert np.isfinite(expected).any() and np.isnan(expected).any()
    np.testing.assert_array_equal(cut.values(values), expected)
    # Each found cell holds the middle of its row.
    inside = cut.k >= 0
    low, high = mesh.levels(cut.i[inside], cut.j[inside], cut.k[inside])
    height = np.broadcast_to(z[:, None], cut.k.shape)[inside]
    assert ((low <= height) & (height <= high)).all()


def test_a_cut_beside_the_mesh_is_empty_and_one_looks_at_its_own_columns_only(monkeypatch: pytest.MonkeyPatch) -> None:
    mesh = slivered()

    def whole(self: DrapedMesh) -> None:
        raise AssertionError("all columns were summed up")

    monkeypatch.setattr(DrapedMesh, "interfaces", property(whole))
    far = mesh.cut(np.array([0.0, 10.0]), np.array([0.0, 10.0]), 50)
    assert (far.k == -1).all() and np.isnan(far.values(np.ones(mesh.shape))).all()
    x, y = np.full(5, mesh.x0 + 30.0), mesh.y0 + np.linspace(1.0, 100.0, 5)
    assert (mesh.cut(x, y, 300).k >= 0).any()
    assert mesh.find(x[:1], y[:1], np.array([4000.0]))[0].tolist() == [1]
    one = np.array([1])
    assert mesh.levels(one, one, one * 13)[1].tolist() == [mesh.tops[1, 1]]
