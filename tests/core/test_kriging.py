"""Variograms, kriging and gridding from near samples: against published cases and two reference libraries."""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy.interpolate import RBFInterpolator
from scipy.spatial import Delaunay, cKDTree

from innerlamp.core.compute.gridding import kriging, neighbours, validation, variogram
from innerlamp.core.compute.gridding import variogram as vg
from innerlamp.core.compute.gridding.natural import natural_at
from innerlamp.core.compute.gridding.radial import radial
from innerlamp.core.compute.gridding.variogram import Model, Structure
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.base import Item
from innerlamp.core.items.features import RING, Features
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.grids.interpolation import CrossValidate, model_for
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES

KNOWN = json.loads((Path(__file__).parents[1] / "data" / "reference-values.json").read_text())["kriging"]
CRS = "EPSG:32629"
# Isaaks & Srivastava 1989, chapter 12: seven samples round one place, covariance 10 exp(-0.3 h).
SEVEN = np.array(KNOWN["isaaks_srivastava_7pt"]["data"])
PLACE = (np.array([65.0]), np.array([137.0]))
TEXTBOOK = vg.Model(0.0, (vg.Structure("exponential", 10.0, 10.0),))


@pytest.fixture(scope="module")
def meuse() -> pd.DataFrame:
    """Topsoil of the Meuse floodplain (Rikken & van Rijn 1993), as scikit-gstat ships it."""
    file = resources.files("skgstat").joinpath("data", "samples", "meuse.txt")
    with resources.as_file(file) as path:
        return pd.read_csv(path)


def xyv(table: pd.DataFrame) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    return table["x"].to_numpy(float), table["y"].to_numpy(float), np.log(table["zinc"].to_numpy(float))


def run(operation: str, inputs: dict[str, Item], **params: object) -> dict[str, Item]:
    op = OPERATIONS[operation]
    return op.run(Inputs(inputs, CRS), op.check(params), SILENT)


# ---- variograms


def test_models_are_those_of_the_books() -> None:
    exact = KNOWN["model_exact_a100"]
    h = np.array(exact["h"])
    for shape, key in (("spherical", "spherical"), ("exponential", "exp_practical"), ("gaussian", "gauss_practical")):
        model = vg.Model(0.0, (vg.Structure(shape, 1.0, 100.0),))  # type: ignore[arg-type]
        assert model.gamma(h) == pytest.approx(exact[key], abs=1e-10)
    nested = vg.Model(0.5, (vg.Structure("spherical", 1.0, 50.0), vg.Structure("spherical", 2.0, 100.0)))
    assert nested.gamma(np.array([0.0, 1e-9, 1e9])) == pytest.approx([0, 0.5, 3.5])


def test_the_variogram_of_a_line_by_hand() -> None:
    # Values 3 5 7 6 4 1 1 4 6 5 7 at unit distances; gamma of lags 1 to 4 by hand.
    v = np.array([3.0, 5, 7, 6, 4, 1, 1, 4, 6, 5, 7])
    found = vg.experimental(np.arange(11.0), np.zeros(11), v, 1.0, 4)
    assert found.gamma == pytest.approx([2.0, 16 / 3, 7.5625, 8.0714285714])
    assert found.pairs.tolist() == [10, 9, 8, 7]


def test_the_variogram_and_fit_of_the_meuse_samples_are_the_published_ones(meuse: pd.DataFrame) -> None:
    # Bivand, Pebesma & Gomez-Rubio 2013, chapter 8: 15 bins to a third of the diagonal, all digits.
    x, y, v = xyv(meuse)
    width, bins = vg.propose_bins(x, y)
    assert width * bins == pytest.approx(KNOWN["meuse_logzinc_variogram"]["cutoff"])
    found = vg.experimental(x, y, v, width, bins)
    table = np.array(KNOWN["meuse_logzinc_variogram"]["table"])
    assert found.pairs.tolist() == table[:, 0].astype(int).tolist()
    assert found.distance == pytest.approx(table[:, 1], rel=1e-8)
    assert found.gamma == pytest.approx(table[:, 2], rel=1e-8)
    model = vg.fit(found, "spherical")
    # Published: nugget 0.0507, partial sill 0.5906, range 897.
    assert (model.nugget, model.structures[0].sill, model.structures[0].range) == pytest.approx(
        (0.0507, 0.5906, 897.0), rel=2e-3
    )


def test_directional_variograms_count_only_their_pairs() -> None:
    x, y = (g.ravel().astype(float) for g in np.meshgrid(np.arange(12), np.arange(12)))
    v = np.sin(x / 2.0)  # varies to the east only
    east = vg.experimental(x, y, v, 1.0, 4, azimuth=90.0, tolerance=10.0)
    north = vg.experimental(x, y, v, 1.0, 4, azimuth=0.0, tolerance=10.0)
    assert north.gamma == pytest.approx(0, abs=1e-12)
    assert east.gamma[0] > 0.01
    assert east.pairs[0] == north.pairs[0] == 12 * 11


def test_two_structures_are_found_again() -> None:
    truth = vg.Model(0.1, (vg.Structure("spherical", 0.4, 120.0), vg.Structure("spherical", 0.5, 900.0)))
    h = np.linspace(20, 1200, 40)
    found = vg.fit(vg.Experimental(h, truth.gamma(h), np.full(40, 500)), "spherical", structures=2)
    assert found.gamma(h) == pytest.approx(truth.gamma(h), rel=1e-4)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: vg.Model(-1.0, ()).check(), "can't be negative"),
        (lambda: vg.Model(0.0, (vg.Structure("spherical", 1.0, 0.0),)).check(), "ranges must be above 0"),
        (lambda: vg.experimental(np.zeros(2), np.zeros(2), np.zeros(2), 1.0, 3), "too few"),
        (lambda: vg.propose_bins(np.ones(5), np.ones(5)), "one place"),
        (
            lambda: vg.fit(vg.Experimental(np.arange(1.0, 5), np.zeros(4), np.ones(4, int)), "spherical"),
            "nothing to fit",
        ),
    ],
)
def test_what_is_no_variogram_is_said(make: object, words: str) -> None:
    with pytest.raises(InputError, match=words):
        make()  # type: ignore[operator]


# ---- kriging


def test_the_textbook_case_to_all_its_digits() -> None:
    known = KNOWN["isaaks_srivastava_7pt"]
    estimate, variance, *_ = kriging.krige(*SEVEN.T, *PLACE, TEXTBOOK)
    assert (estimate[0], variance[0]) == pytest.approx((known["estimate"], known["variance"]), rel=1e-10)
    # Printed in the book: 592.7 and 8.96.
    assert (round(estimate[0], 1), round(variance[0], 2)) == (592.7, 8.96)
    plane, spread, *_ = kriging.krige(*SEVEN.T, *PLACE, TEXTBOOK, drift=True)
    assert (plane[0], spread[0]) == pytest.approx(known["uk_linear"], rel=1e-9)


def test_variants_of_the_textbook_case() -> None:
    cases = {
        "nugget5_exp5": vg.Model(5.0, (vg.Structure("exponential", 5.0, 10.0),)),
        "range20": vg.Model(0.0, (vg.Structure("exponential", 10.0, 20.0),)),
        "gauss10": vg.Model(0.0, (vg.Structure("gaussian", 10.0, 10.0),)),
        "sph10": vg.Model(0.0, (vg.Structure("spherical", 10.0, 10.0),)),
        "pure_nugget": vg.Model(10.0, ()),
    }
    # Computed by three programs: numpy, gstools, PyKrige.
    known = {
        "nugget5_exp5": (596.7770, 10.3059),
        "range20": (572.3899, 5.7585),
        "gauss10": (559.3700, 4.7806),
        "sph10": (581.0994, 7.6613),
        "pure_nugget": (603.7143, 11.4286),
    }
    for name, model in cases.items():
        estimate, variance, *_ = kriging.krige(*SEVEN.T, *PLACE, model)
        assert (estimate[0], variance[0]) == pytest.approx(known[name], abs=6e-5), name


def test_the_meuse_samples_against_two_libraries(meuse: pd.DataFrame) -> None:
    import gstools
    from pykrige.ok import OrdinaryKriging

    x, y, v = xyv(meuse)
    model = vg.Model(0.05066, (vg.Structure("spherical", 0.59061, 897.02),))
    rng = np.random.default_rng(4)
    px, py = rng.uniform(178800, 181300, 40), rng.uniform(329800, 333500, 40)
    estimate, variance, *_ = kriging.krige(x, y, v, px, py, model, neighbours=len(v))
    theirs = gstools.krige.Ordinary(
        gstools.Spherical(dim=2, var=0.59061, len_scale=897.02, nugget=0.05066), (x, y), v, exact=True
    )
    field, spread = theirs((px, py))
    assert estimate == pytest.approx(field, rel=1e-8)
    assert variance == pytest.approx(spread, rel=1e-6)
    other = OrdinaryKriging(
        x,
        y,
        v,
        variogram_model="spherical",
        variogram_parameters={"psill": 0.59061, "range": 897.02, "nugget": 0.05066},
    )
    z, ss = other.execute("points", px, py)
    assert estimate == pytest.approx(np.asarray(z), rel=1e-8)
    assert variance == pytest.approx(np.asarray(ss), rel=1e-6)


def test_anisotropy_is_that_of_a_library(meuse: pd.DataFrame) -> None:
    import gstools

    x, y, v = xyv(meuse)
    azimuth, ratio = 40.0, 0.4
    model = vg.Model(0.05, (vg.Structure("exponential", 0.6, 1200.0),), azimuth, ratio)
    px, py = np.array([180000.0, 181000.0]), np.array([331000.0, 333000.0])
    estimate, variance, *_ = kriging.krige(x, y, v, px, py, model, neighbours=len(v))
    shape = gstools.Exponential(
        dim=2, var=0.6, len_scale=1200.0, rescale=3.0, nugget=0.05, anis=ratio, angles=np.radians(90.0 - azimuth)
    )
    field, spread = gstools.krige.Ordinary(shape, (x, y), v, exact=True)((px, py))
    assert estimate == pytest.approx(field, rel=1e-7)
    assert variance == pytest.approx(spread, rel=1e-6)


def test_leave_one_out_of_the_meuse_samples(meuse: pd.DataFrame) -> None:
    x, y, v = xyv(meuse)
    model = vg.Model(0.05066, (vg.Structure("spherical", 0.59061, 897.02),))
    estimate, variance, *_ = kriging.krige(x, y, v, x, y, model, neighbours=len(v), leave_one_out=np.arange(len(v)))
    numbers = validation.judge(v, estimate, variance)
    known = KNOWN["meuse_ok"]["loo"]
    assert numbers.rmse == pytest.approx(known["rmse"], rel=1e-6)
    assert numbers.mean_square_z == pytest.approx(known["mean_z2"], rel=1e-5)
    assert abs(numbers.mean_error) == pytest.approx(abs(known["mean_error"]), rel=1e-3)
    one, *_ = kriging.krige(np.delete(x, 3), np.delete(y, 3), np.delete(v, 3), x[3:4], y[3:4], model, neighbours=24)
    near, *_ = kriging.krige(x, y, v, x[3:4], y[3:4], model, neighbours=24, leave_one_out=np.array([3]))
    assert near[0] == pytest.approx(one[0])


def test_samples_are_honoured_and_far_places_fall_back_on_the_mean() -> None:
    estimate, variance, *_ = kriging.krige(*SEVEN.T, SEVEN[:, 0], SEVEN[:, 1], TEXTBOOK)
    assert estimate == pytest.approx(SEVEN[:, 2])
    assert variance == pytest.approx(np.zeros(7), abs=1e-9)
    far, spread, *_ = kriging.krige(*SEVEN.T, np.array([1e5]), np.array([1e5]), TEXTBOOK)
    assert spread[0] > 10.0
    assert SEVEN[:, 2].min() < far[0] < SEVEN[:, 2].max()
    none, *_ = kriging.krige(*SEVEN.T, np.array([1e5]), np.array([1e5]), TEXTBOOK, search_radius_m=50.0)
    assert np.isnan(none[0])


def test_a_plane_is_found_by_linear_drift() -> None:
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 100, 60), rng.uniform(0, 100, 60)
    plane = 3 + 0.5 * x - 0.2 * y
    out, *_ = kriging.krige(x, y, plane, np.array([150.0]), np.array([-40.0]), TEXTBOOK, drift=True)
    assert out[0] == pytest.approx(3 + 75 + 8)
    with pytest.raises(InputError, match="on one line"):
        kriging.krige(x, 2 * x, plane, np.array([1.0]), np.array([1.0]), TEXTBOOK, drift=True)
    with pytest.raises(InputError, match="too few"):
        kriging.krige(x[:1], y[:1], plane[:1], x[:1], y[:1], TEXTBOOK)


# ---- near samples


def test_inverse_distance_triangles_and_nearest_as_in_the_textbook() -> None:
    known = KNOWN["isaaks_srivastava_7pt"]
    for power in ("1", "2", "5"):
        found = neighbours.inverse_distance(*SEVEN.T, *PLACE, float(power))
        assert found[0] == pytest.approx(known["idw"][power], rel=1e-9)
    assert neighbours.triangles(*SEVEN.T, *PLACE)[0] == pytest.approx(known["triangulation"], rel=1e-9)
    assert neighbours.nearest(*SEVEN.T, *PLACE)[0] == known["nearest"]
    assert neighbours.inverse_distance(*SEVEN.T, SEVEN[:, 0], SEVEN[:, 1]) == pytest.approx(SEVEN[:, 2])
    with pytest.raises(InputError, match="on one line"):
        neighbours.triangles(np.arange(5.0), np.arange(5.0), np.arange(5.0), *PLACE)


def test_natural_neighbours_are_sibsons_areas() -> None:
    """A plane comes back (Sibson 1981); elsewhere the areas are those that a fine raster of the Voronoi cells counts."""
    x, y = np.array([0.0, 100, 0, 100]), np.array([0.0, 0, 100, 100])
    centre = natural_at(x, y, np.array([1.0, 2.0, 3.0, 6.0]), np.array([50.0]), np.array([50.0]))
    assert centre[0] == pytest.approx(3.0)
    rng = np.random.default_rng(5)
    x, y, v = 7_100_000 + rng.uniform(0, 300, 150), rng.uniform(0, 300, 150), rng.normal(size=150)
    gx, gy = (g.ravel() for g in np.meshgrid(7_100_000 + np.arange(301.0), np.arange(301.0)))
    inside = Delaunay(np.column_stack([x - 7_100_000, y])).find_simplex(np.column_stack([gx - 7_100_000, gy])) >= 0
    plane = natural_at(x, y, 2 + 0.01 * (x - 7_100_000) + 0.02 * y, gx, gy)
    assert np.abs(plane - (2 + 0.01 * (gx - 7_100_000) + 0.02 * gy))[inside].max() < 1e-9
    assert natural_at(x, y, v, x, y) == pytest.approx(v)
    tree = cKDTree(np.column_stack([x, y]))
    fine = np.stack(np.meshgrid(np.linspace(-80, 80, 1201), np.linspace(-80, 80, 1201)), axis=-1).reshape(-1, 2)
    for place in ((7_100_120.0, 140.0), (7_100_201.3, 99.1)):
        at = fine + np.array(place)
        away, near = tree.query(at)
        taken = np.hypot(*fine.T) < away
        share = np.bincount(near[taken], minlength=len(x)) / taken.sum()
        assert natural_at(x, y, v, *(np.array([c]) for c in place))[0] == pytest.approx(share @ v, abs=2e-3)


def test_natural_neighbours_on_a_lattice_and_beyond_the_hull() -> None:
    gx, gy = (g.ravel() for g in np.meshgrid(np.arange(0, 100, 10.0), np.arange(0, 80, 10.0)))  # circles through four
    at = np.random.default_rng(0).uniform(0, 70, (2, 500))
    assert natural_at(gx, gy, gx - 2 * gy, *at) == pytest.approx(at[0] - 2 * at[1])
    beyond = natural_at(gx, gy, gx - 2 * gy, np.array([-50.0, 45.0, 200.0]), np.array([30.0, -9.0, 200.0]))
    assert beyond == pytest.approx([-60.0, 45.0, 90.0 - 140.0])  # the nearest place on the hull
    with pytest.raises(InputError, match="on one line"):
        natural_at(np.arange(5.0), np.arange(5.0), np.arange(5.0), *PLACE)


def test_a_drift_that_samples_do_not_determine_is_left_out_and_said() -> None:
    """Readings every 2 m along lines 200 m apart: the nearest ones lie on one line, along which a plane is free to turn."""
    model = Model(0.01, (Structure("spherical", 1.0, 1500.0),))
    for turn in (False, True):
        along, across = (g.ravel() for g in np.meshgrid(np.arange(0, 3000, 2.0), np.arange(0, 2000, 200.0)))
        x, y = (across, along) if turn else (along, across)
        v = 4.5 + np.sin(x / 700) + 0.5 * np.cos(y / 900)
        px, py = np.random.default_rng(0).uniform(100, 1700, (2, 300))
        found = kriging.krige(x + 7e6, y, v, px + 7e6, py, model, drift=True)
        assert np.abs(found.estimate - (4.5 + np.sin(px / 700) + 0.5 * np.cos(py / 900))).max() < 0.05
        assert not found.plain.any()  # samples of other lines are found for each quadrant
    x = np.append(np.arange(0, 1000, 10.0), [5000.0, 5200.0, 5100.0])
    y = np.append(np.zeros(100), [0.0, 0.0, 300.0])
    v = 3.0 + 0.001 * x
    within = kriging.krige(x, y, v, np.array([500.0]), np.array([40.0]), model, drift=True, search_radius_m=400.0)
    assert within.plain.all()  # only one line within reach: no plane, and it is said
    assert within.estimate[0] == pytest.approx(3.5, abs=0.05)


def test_numbers_of_a_validation_by_hand() -> None:
    found = validation.judge(np.array([1.0, 2, 4, np.nan]), np.array([2.0, 2, 3, 5]), np.array([1.0, 1, 4, 1]))
    assert (found.count, found.mean_error, found.rmse) == pytest.approx((3, 0.0, np.sqrt(2 / 3)))
    assert found.mean_square_z == pytest.approx((1 + 0 + 0.25) / 3)
    # Regression of sample on estimate: covariance 0.5555, variance of estimates 0.2222.
    assert found.slope == pytest.approx(2.5)


# ---- operations


@pytest.fixture(scope="module")
def soils() -> PointSet:
    op = OPERATIONS["import-points"]
    made = op.run(Inputs({}, CRS), op.check({"file": str(FILES / "geochemistry" / "soils_emberlow.csv")}), SILENT)
    item = made["points"]
    assert isinstance(item, PointSet)
    return item


def test_kriging_of_the_soils_gives_two_grids_and_keeps_to_the_boundary(soils: PointSet) -> None:
    west, east, south, north, _, _ = soils.bounds
    ring = np.array(
        [(west + 500, south + 500), (east - 500, south + 500), (east - 500, north - 500), (west + 500, south + 500)]
    )
    area = Features(
        name="a",
        crs=CRS,
        table=pd.DataFrame({"n": ["a"]}),
        vertices=np.column_stack([ring, np.full(4, np.nan)]),
        starts=np.array([0, 4]),
        owner=np.array([0]),
        part_types=np.array([RING]),
    )
    made = run("grid-kriging", {"samples": soils, "boundary": area}, attribute="Sn ppm", transform="log10", cell=50.0)
    grid, variance = made["grid"], made["variance"]
    assert isinstance(grid, Grid)
    assert isinstance(variance, Grid)
    gx, gy = np.meshgrid(grid.x, grid.y)
    inside = np.isfinite(grid.values)
    assert inside.any()
    assert (gx[inside] > west + 450).all()
    assert (gy[inside] > south + 450).all()
    known = soils.table["Sn ppm"].dropna()
    assert known.min() < np.nanmedian(grid.values) < known.max()
    assert (variance.values[inside] >= 0).all()
    assert (variance.attribute, variance.unit) == ("kriging variance", "log10 squared")
    crossing = Features(
        **{
            **vars(area),
            "vertices": area.vertices[[0, 1, 2, 0]] * 0 + np.column_stack([[0, 9, 0, 9], [0, 9, 9, 0], np.zeros(4)]),
        }
    )
    with pytest.raises(InputError, match="crosses itself"):
        run("grid-kriging", {"samples": soils, "boundary": crossing}, attribute="Sn ppm", cell=80.0)


@pytest.mark.parametrize("method", ["inverse distance", "nearest neighbour", "natural neighbours", "triangles"])
def test_every_method_grids_the_soils(soils: PointSet, method: str) -> None:
    grid = run("grid-neighbours", {"samples": soils}, attribute="Sn ppm", method=method, cell=40.0)["grid"]
    assert isinstance(grid, Grid)
    known = soils.table["Sn ppm"].dropna()
    assert np.isfinite(grid.values).mean() > 0.7
    assert np.nanmin(grid.values) >= known.min() - 1e-9
    assert np.nanmax(grid.values) <= known.max() + 1e-9


def test_methods_are_compared_by_the_same_numbers(soils: PointSet) -> None:
    rms = {}
    for method in ("kriging", "inverse distance", "nearest neighbour"):
        made = run("cross-validate", {"samples": soils}, attribute="Sn ppm", transform="log10", method=method)[
            "residuals"
        ]
        assert isinstance(made, PointSet)
        assert len(made.table) == len(soils.table.dropna(subset=["Sn ppm"]))
        rms[method] = float(np.sqrt(np.mean(made.table["residual"] ** 2)))
    assert rms["kriging"] < rms["inverse distance"] < rms["nearest neighbour"]


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ({"x": [1.0], "y": [1.0], "v": [np.nan]}, "no row has a usable value"),
        ({"x": [1.0], "y": [1.0], "v": [2.0]}, "all values lie at one place"),
        ({"x": np.arange(9.0), "y": np.arange(9.0), "v": np.ones(9)}, "all values are the same"),
    ],
)
def test_samples_that_make_no_grid_are_said(table: dict[str, object], words: str) -> None:
    item = PointSet(name="p", crs=CRS, table=pd.DataFrame(table).assign(z=0.0))
    with pytest.raises(InputError, match=words):
        run("grid-kriging", {"samples": item}, attribute="v")


@pytest.mark.parametrize("kernel", ["linear", "thin plate", "cubic"])
@pytest.mark.parametrize("smoothing", [0.0, 0.01, 0.5])
def test_smoothing_of_radial_functions_is_scipys(kernel: str, smoothing: float) -> None:
    """In the frame in which the area measures 1; a wrong sign would roughen."""
    rng = np.random.default_rng(0)
    x, y = 7e6 + rng.uniform(0, 800, 80), rng.uniform(0, 500, 80)
    v = np.sin(x / 90) + 0.3 * rng.normal(size=80)
    frame = np.column_stack([x, y])
    frame = (frame - frame.mean(axis=0)) / np.ptp(frame, axis=0).max()
    names = {"linear": "linear", "thin plate": "thin_plate_spline", "cubic": "cubic"}
    theirs = RBFInterpolator(frame, v, kernel=names[kernel], degree=1, smoothing=smoothing)
    ours = radial(x, y, v, x, y, kernel, smoothing)  # type: ignore[arg-type]
    assert ours == pytest.approx(theirs(frame), abs=1e-7)
    if smoothing:
        assert np.sqrt(np.mean((ours - v) ** 2)) < np.std(v)


def test_a_variogram_that_is_given_whole_is_not_fitted() -> None:
    choice = CrossValidate(attribute="v", nugget=0.1, sill=2.0, range_m=300.0)
    data, model = model_for(np.array([0.0, 10.0]), np.array([0.0, 5.0]), np.array([1.0, 2.0]), choice)
    assert data is None
    assert (model.nugget, model.structures[0].sill, model.structures[0].range) == (0.1, 2.0, 300.0)


def test_a_tolerance_of_ninety_degrees_or_more_takes_all_pairs() -> None:
    rng = np.random.default_rng(0)
    x, y, v = rng.uniform(0, 100, 60), rng.uniform(0, 100, 60), rng.normal(size=60)
    every = variogram.experimental(x, y, v, 10.0, 10)
    for tolerance in (90.0, 120.0, 180.0):
        assert variogram.experimental(x, y, v, 10.0, 10, 30.0, tolerance).pairs.tolist() == every.pairs.tolist()


def test_what_an_estimate_lacks_in_spread_is_that_of_the_equations_in_covariances() -> None:
    rng = np.random.default_rng(3)
    model = Model(0.1, (Structure("spherical", 0.9, 300.0),))
    x, y = rng.uniform(0, 500, (2, 12))
    px, py = rng.uniform(0, 500, (2, 5))
    within = 1.0 - _gamma(model, np.hypot(x[:, None] - x, y[:, None] - y))
    for drift in (False, True):
        made = kriging.krige(x, y, rng.normal(size=12), px, py, model, neighbours=12, drift=drift)
        for k in range(5):
            extra = np.column_stack([np.ones(12), x - px[k], y - py[k]] if drift else [np.ones(12)])
            size = extra.shape[1]
            matrix = np.block([[within, extra], [extra.T, np.zeros((size, size))]])
            to_place = 1.0 - _gamma(model, np.hypot(x - px[k], y - py[k]))
            weights = np.linalg.solve(matrix, np.concatenate([to_place, [1.0], np.zeros(size - 1)]))[:12]
            assert made.plain[k] or made.lacking[k] == pytest.approx(1.0 - weights @ within @ weights, abs=1e-9)


def _gamma(model: Model, h: np.ndarray) -> np.ndarray:
    """The spherical variogram as it stands in any text (Matheron 1963)."""
    (part,) = model.structures
    u = np.minimum(h / part.range, 1.0)
    return np.where(h > 0, model.nugget + part.sill * (1.5 * u - 0.5 * u**3), 0.0)


@pytest.mark.parametrize(("transform", "plain_share"), [("log10", 0.8), ("square root", 0.97)])
def test_kriging_of_logs_and_roots_gives_the_mean_back(transform: str, plain_share: float) -> None:
    """Over fields with the variogram that is given, kriged cells have their mean; turned back as they are they lack the rest."""
    rng = np.random.default_rng(11)
    x, y = (a.ravel() for a in np.meshgrid(np.arange(14) * 100.0 + 50.0, np.arange(14) * 100.0 + 50.0))
    model = Model(0.0, (Structure("spherical", 1.0, 250.0),))
    root = np.linalg.cholesky(1.0 - _gamma(model, np.hypot(x[:, None] - x, y[:, None] - y)))
    log = transform == "log10"
    sums = np.zeros(3)
    for _ in range(60):
        field = root @ rng.normal(size=len(x))
        values = np.exp(field) if log else (2.0 + field) ** 2
        known = rng.permutation(len(x))[:50]
        table = pd.DataFrame({"x": x[known], "y": y[known], "z": np.nan, "v": values[known]})
        item = PointSet(name="p", crs=CRS, table=table)
        whole = {"nugget": 0.0, "sill": 1.0 / np.log(10.0) ** 2 if log else 1.0, "range_m": 250.0}
        form = {"attribute": "v", "cell": 100.0, "blanking": 1000.0, **whole}
        grid = run("grid-kriging", {"samples": item}, transform=transform, **form)["grid"]
        assert isinstance(grid, Grid)
        row, column = ((y - grid.y[0]) / 100.0).round().astype(int), ((x - grid.x[0]) / 100.0).round().astype(int)
        there = (row >= 0) & (row < len(grid.y)) & (column >= 0) & (column < len(grid.x))
        assert grid.x[0] % 100.0 == grid.y[0] % 100.0 == 50.0  # cells lie on the places of the field
        told = grid.values[row[there], column[there]]
        at = np.isin(np.flatnonzero(there), known)
        np.testing.assert_allclose(told[at], values[there][at], rtol=1e-6)  # a sample comes back as it is
        y_hat = kriging.krige(x[known], y[known], field[known], x[there], y[there], model).estimate
        sums += told[~at].sum(), values[there][~at].sum(), (np.exp(y_hat) if log else (2.0 + y_hat) ** 2)[~at].sum()
    assert sums[0] / sums[1] == pytest.approx(1.0, abs=0.04 if log else 0.02)
    assert sums[2] / sums[1] < plain_share
