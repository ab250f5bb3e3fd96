"""Filters of potential fields against closed forms: prisms at other heights and inclinations, Poisson's relation, spheres."""

from __future__ import annotations

import numpy as np
import pytest

from innerlamp.core.compute.potential import filters as fl
from innerlamp.core.compute.potential.prisms import gravity_kernel, magnetic_kernel
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import Grid
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"
STEP, N = 25.0, 161
AXIS = STEP * (np.arange(N) - N // 2)
GX, GY = np.meshgrid(AXIS, AXIS)
# One prism, 400 m a side, its top 300 m below the measurements.
PRISM = TensorMesh.even((-200.0, -200.0, -700.0), (400.0, 400.0, 400.0), (1, 1, 1))
INNER = (slice(40, 121), slice(40, 121))


def at(height: float) -> np.ndarray:
    return np.column_stack([GX.ravel(), GY.ravel(), np.full(GX.size, height)])


def magnetic(inclination: float, declination: float, height: float = 0.0) -> np.ndarray:
    return magnetic_kernel(PRISM, at(height), inclination, declination, 50_000.0)[:, 0].reshape(N, N) * 0.05


def gravity(height: float = 0.0) -> np.ndarray:
    return gravity_kernel(PRISM, at(height))[:, 0].reshape(N, N) * 500.0


def off(a: np.ndarray, b: np.ndarray) -> float:
    """Root mean square difference in the inner part, as a share of the range."""
    return float(np.sqrt(np.mean((a - b)[INNER] ** 2)) / np.ptp(b))


@pytest.mark.parametrize(("height", "most"), [(100.0, 0.004), (300.0, 0.008)])
def test_the_field_continued_upward_is_that_of_the_prism_up_there(height: float, most: float) -> None:
    # What lies outside of the grid is not known: the miss grows with the height.
    assert off(fl.continued(magnetic(60, 15), STEP, STEP, height), magnetic(60, 15, height)) < most


def test_downward_continuation_undoes_upward() -> None:
    assert off(fl.continued(magnetic(60, 15, 100.0), STEP, STEP, -100.0), magnetic(60, 15)) < 0.012
    with pytest.raises(InputError, match="too small to be continued"):
        fl.continued(magnetic(60, 15), STEP, STEP, -4000.0)


def test_derivatives_are_those_of_the_closed_form() -> None:
    east, north, down = fl.derivatives(gravity(), STEP, STEP)
    d = 1.0

    def moved(dx: float, dy: float, dz: float) -> np.ndarray:
        places = at(0.0) + np.array([dx, dy, dz])
        return gravity_kernel(PRISM, places)[:, 0].reshape(N, N) * 500.0

    assert off(east, (moved(d, 0, 0) - moved(-d, 0, 0)) / (2 * d)) < 0.004
    assert off(north, (moved(0, d, 0) - moved(0, -d, 0)) / (2 * d)) < 0.004
    assert off(down, (moved(0, 0, -d) - moved(0, 0, d)) / (2 * d)) < 0.006


def test_derivatives_keep_the_slope_of_a_plane() -> None:
    east, north, _ = fl.derivatives(3 + 0.02 * GX - 0.05 * GY, STEP, STEP)
    assert east == pytest.approx(np.full((N, N), 0.02))
    assert north == pytest.approx(np.full((N, N), -0.05))


@pytest.mark.parametrize(
    ("inclination", "declination", "most"), [(65.0, 0.0, 0.01), (-50.0, 30.0, 0.015), (35.0, -20.0, 0.02)]
)
def test_the_reduced_field_is_that_of_a_vertical_inclination(
    inclination: float, declination: float, most: float
) -> None:
    reduced = fl.reduced_to_pole(magnetic(inclination, declination), STEP, STEP, inclination, declination)
    # The level is not determined: the means of both are taken off.
    vertical = magnetic(90, 0)
    shift = np.mean((reduced - vertical)[INNER])
    assert off(reduced - shift, vertical) < most
    j, i = np.unravel_index(np.argmax(reduced), reduced.shape)
    assert abs(AXIS[i]) <= STEP
    assert abs(AXIS[j]) <= STEP


def test_near_the_equator_the_peak_still_comes_over_the_body_and_noise_is_held() -> None:
    rng = np.random.default_rng(1)
    noise = rng.normal(0, 0.05, (N, N))
    field = magnetic(5.0, 10.0)
    reduced = fl.reduced_to_pole(field + noise, STEP, STEP, 5.0, 10.0)
    assert np.isfinite(reduced).all()
    j, i = np.unravel_index(np.argmax(np.where(np.hypot(GX, GY) < 1500, reduced, -np.inf)), reduced.shape)
    assert np.hypot(AXIS[i], AXIS[j]) < 100.0
    alone = fl.reduced_to_pole(noise, STEP, STEP, 5.0, 10.0)
    assert alone.std() < 10 * noise.std()


def test_pseudo_gravity_is_the_gravity_of_the_same_prism() -> None:
    # Poisson: magnetisation k B0 / mu0 = 0.05 * 50000 nT / (4 pi 1e-7) = 1.9894 A/m; density 500 kg/m3.
    ratio = 500.0 / (0.05 * 50_000e-9 / (4e-7 * np.pi))
    made = fl.pseudo_gravity(magnetic(60, 15), STEP, STEP, 60.0, 15.0, ratio)
    wanted = gravity()
    shift = np.mean((made - wanted)[INNER])
    assert off(made - shift, wanted) < 0.05
    assert np.ptp(made[INNER]) == pytest.approx(np.ptp(wanted[INNER]), rel=0.12)


def test_the_tilt_is_zero_over_the_edges_and_steep_over_the_body() -> None:
    # Miller & Singh 1994: positive over the source, zero near its edges, negative outside.
    shallow = TensorMesh.even((-600.0, -600.0, -1000.0), (1200.0, 1200.0, 970.0), (1, 1, 1))
    field = magnetic_kernel(shallow, at(0.0), 90.0, 0.0, 50_000.0)[:, 0].reshape(N, N) * 0.05
    angle = fl.tilt(field, STEP, STEP)
    row = angle[N // 2]
    crossing = AXIS[np.flatnonzero((row[:-1] > 0) != (row[1:] > 0))]
    assert np.abs(np.abs(crossing[np.abs(crossing) < 1000]) - 600).max() < 45
    assert row[N // 2] > 60
    assert np.nanmin(angle) >= -90
    assert np.nanmax(angle) <= 90


def test_the_horizontal_and_total_gradients_peak_over_the_contact() -> None:
    shallow = TensorMesh.even((-600.0, -600.0, -1000.0), (1200.0, 1200.0, 970.0), (1, 1, 1))
    field = gravity_kernel(shallow, at(0.0))[:, 0].reshape(N, N)
    ridge = fl.horizontal_gradient(field, STEP, STEP)[N // 2]
    assert abs(abs(AXIS[int(np.argmax(ridge))]) - 600) <= STEP
    whole = fl.total_gradient(field, STEP, STEP)
    assert (whole[INNER] >= fl.horizontal_gradient(field, STEP, STEP)[INNER] - 1e-9).all()


def test_a_band_keeps_what_lies_in_it() -> None:
    long, short = np.sin(2 * np.pi * GX / 2000), np.sin(2 * np.pi * GX / 200)
    low = fl.band_pass(long + short, STEP, STEP, 600.0, 0.0)
    assert np.abs(low - long)[INNER].max() < 0.12
    high = fl.band_pass(long + short, STEP, STEP, 0.0, 600.0)
    assert np.abs(high - short)[INNER].max() < 0.12
    with pytest.raises(InputError, match="below the longest"):
        fl.band_pass(long, STEP, STEP, 600.0, 200.0)


def test_gaps_come_back_as_they_were_and_spoil_only_their_surroundings() -> None:
    field = magnetic(60, 15)
    holed = field.copy()
    holed[10:16, 10:18] = np.nan
    out = fl.continued(holed, STEP, STEP, 100.0)
    assert (np.isnan(out) == np.isnan(holed)).all()
    assert off(np.nan_to_num(out), fl.continued(field, STEP, STEP, 100.0)) < 0.002


def test_polynomials_are_found_again_through_gaps() -> None:
    truth = 5 - 0.01 * GX + 2e-6 * GX * GY
    holed = truth.copy()
    holed[::7] = np.nan
    assert fl.polynomial(holed, 2) == pytest.approx(truth, abs=1e-8)
    with pytest.raises(InputError, match="too few for a surface"):
        fl.polynomial(np.where(np.eye(9) > 0, 1.0, np.nan), 5)


def test_the_slope_of_the_spectrum_tells_the_depth_of_sources() -> None:
    # Spector & Grant 1970: many small sources with their middles at one depth; point poles at 400 m.
    rng = np.random.default_rng(3)
    x, y = rng.uniform(-1300, 1300, (2, 300))  # well inside: fields cut off at the edge whiten the spectrum
    strength = rng.normal(size=300)
    field = np.zeros_like(GX)
    for a, b, s in zip(x, y, strength, strict=True):
        field += s * 400.0 / ((GX - a) ** 2 + (GY - b) ** 2 + 400.0**2) ** 1.5
    frequency, power = fl.radial_spectrum(field, STEP, STEP)
    assert fl.depth_from_slope(frequency, power, 6e-4, 3e-3) == pytest.approx(400.0, rel=0.12)


# ---- operations


def grid_of(values: np.ndarray, **more: object) -> Grid:
    place = {"x0": 500_000.0, "y0": 5_600_000.0, "dx": STEP, "dy": STEP, "attribute": "TMI", "unit": "nT"} | more
    return Grid(name="G", crs=CRS, values=values, **place)  # type: ignore[arg-type]


def run(operation: str, inputs: dict[str, Grid], **params: object) -> dict[str, Grid]:
    op = OPERATIONS[operation]
    return op.run(Inputs(inputs, CRS), op.check(params), SILENT)  # type: ignore[return-value,arg-type]


def test_every_filter_runs_as_an_operation_with_its_unit() -> None:
    import typing

    from innerlamp.core.operations.grids.filtering import Filter, main_field_of

    grid = grid_of(magnetic(60, 15))
    units = {"vertical derivative": "nT/m", "tilt angle": "°", "pseudo-gravity": "mGal", "continuation": "nT"}
    for name in typing.get_args(Filter):
        made = run(
            "filter-grid",
            {"grid": grid},
            filter=name,
            shortest=300.0 if name == "band-pass" else 0.0,
            inclination=65.0,
            declination=0.0,
        )["filtered"]
        assert np.isfinite(made.values).all()
        assert made.unit == units.get(name, made.unit)
    # No hemisphere is assumed: without a date or a direction the filter asks.
    with pytest.raises(InputError, match="direction of the main field is not known"):
        run("filter-grid", {"grid": grid}, filter="reduction to the pole")
    inclination, declination = main_field_of(grid, "2024-05-16")
    # The field there, by the IGRF of the notes: steep and a few degrees west of true north.
    assert 60 < inclination < 70
    assert -8 < declination < 2
    dated = run("filter-grid", {"grid": grid}, filter="reduction to the pole", date="2024-05-16")["filtered"]
    by_hand = fl.reduced_to_pole(grid.values, STEP, STEP, inclination, declination)
    assert dated.values == pytest.approx(by_hand)


def test_regional_and_residual_add_up() -> None:
    grid = grid_of(magnetic(60, 15) + 0.01 * GX)
    for params in ({"by": "polynomial", "order": 1}, {"by": "upward continuation", "height": 800.0}):
        made = run("regional-residual", {"grid": grid}, **params)
        assert made["residual"].values + made["regional"].values == pytest.approx(grid.values)


def test_grids_are_calculated_with_across_cell_sizes() -> None:
    a = grid_of(np.full((20, 20), 300.0), attribute="elevation", unit="m")
    b = grid_of(np.tile(np.arange(40.0), (40, 1)), dx=12.5, dy=12.5)
    flight = run("calculate-grid", {"a": a}, expression="a + 150", name="Flight")["result"]
    assert (flight.values == 450).all()
    assert (flight.attribute, flight.unit) == ("elevation", "m")
    both = run("calculate-grid", {"a": a, "b": b}, expression="where(b > 10, a + b, 0)", unit="nT", attribute="sum")[
        "result"
    ]
    assert both.values.shape == (20, 20)
    assert both.values[3, 10] == pytest.approx(320.0)
    assert both.values[3, 2] == 0.0
    for expression, words in (
        ("a + c", "uses c, which is not chosen"),
        ("a +", "."),
        ("a / 0", "blank everywhere"),
        ("__import__('os')", "."),
    ):
        with pytest.raises(InputError, match=words):
            run("calculate-grid", {"a": a, "b": b}, expression=expression)


@pytest.mark.parametrize(("sources", "depth"), [("points", 300.0), ("points", 500.0)])
def test_depths_of_compact_sources_from_their_spectrum(sources: str, depth: float) -> None:
    """Dipoles at one depth, summed in closed form (Blakely 1995, eq. 4.13): without their own part they seem too shallow."""
    rng = np.random.default_rng(2)
    n, cell = 128, 50.0
    gx, gy = np.meshgrid(cell * np.arange(n), cell * np.arange(n))
    field = np.zeros((n, n))
    for x, y, m in zip(
        rng.uniform(0, n * cell, 120), rng.uniform(0, n * cell, 120), rng.uniform(0.5, 1.5, 120), strict=True
    ):
        r2 = (gx - x) ** 2 + (gy - y) ** 2 + depth**2
        field += m * (3 * depth**2 / r2 - 1) / r2**1.5  # vertical field of a vertical dipole
    frequency, power = fl.radial_spectrum(field * 1e9, cell, cell)
    low, high = 1 / (12 * depth), 1 / (2.5 * depth)
    assert fl.depth_from_slope(frequency, power, low, high, 2.0) == pytest.approx(depth, rel=0.12)
    assert fl.depth_from_slope(frequency, power, low, high) < 0.75 * depth
