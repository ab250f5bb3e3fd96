"""Minimum curvature against its defining equation, thin-plate splines and exact planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pytest
from scipy.interpolate import RBFInterpolator

from innerlamp.core.compute.geometry.sampling import bilinear
from innerlamp.core.compute.gridding import minimum_curvature as mc
from innerlamp.core.compute.gridding import plate
from innerlamp.core.compute.gridding import radial as rb
from innerlamp.core.compute.gridding.kriging import without_twins
from innerlamp.core.compute.gridding.shading import ground_shade, hillshade
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.geometry.grid import GridGeometry, geometry_around
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT, CallbackProgress
from innerlamp.core.running.table import OPERATIONS

# Seven samples on nodes of a 41 x 41 grid.
NODES = np.array([[5, 6], [33, 8], [20, 20], [8, 34], [35, 32], [14, 12], [28, 27]], dtype=float)
VALUES = np.array([1.0, 4.0, 12.0, 3.0, 0.0, 6.0, 7.5])


def test_data_are_honoured_and_the_biharmonic_equation_holds_elsewhere() -> None:
    grid = mc.minimum_curvature(NODES[:, 0], NODES[:, 1], VALUES, GridGeometry(0, 0, 1, 41, 41))
    at = grid[NODES[:, 1].astype(int), NODES[:, 0].astype(int)]
    assert at == pytest.approx(VALUES, abs=1e-5)
    # The 13-point biharmonic operator (Briggs 1974) away from data and edges.
    lap = grid[1:-1, :-2] + grid[1:-1, 2:] + grid[:-2, 1:-1] + grid[2:, 1:-1] - 4 * grid[1:-1, 1:-1]
    bih = lap[1:-1, :-2] + lap[1:-1, 2:] + lap[:-2, 1:-1] + lap[2:, 1:-1] - 4 * lap[1:-1, 1:-1]
    free = np.ones_like(bih, dtype=bool)
    for i, j in NODES.astype(int):
        free[j - 3 : j, i - 3 : i] = False  # bih[r, c] belongs to node (c + 2, r + 2)
    assert np.abs(bih[free]).max() < 1e-7
    assert np.abs(bih[~free]).max() > 1e-3


def test_equals_a_thin_plate_far_from_edges() -> None:
    # With its free edge 40 cells away the plate is the thin-plate spline (scipy) to 0.07 of a range of 12.
    grid = mc.minimum_curvature(NODES[:, 0], NODES[:, 1], VALUES, GridGeometry(0, 0, 1, 41, 41), padding=40)
    x, y = np.meshgrid(np.arange(41.0), np.arange(41.0))
    spline = RBFInterpolator(NODES, VALUES, kernel="thin_plate_spline", degree=1)(
        np.column_stack([x.ravel(), y.ravel()])
    ).reshape(41, 41)
    assert np.abs(grid - spline)[8:33, 8:33].max() < 0.07


def test_planes_are_exact_also_off_nodes_and_at_real_coordinates() -> None:
    rng = np.random.default_rng(4)
    x, y = 502_000 + rng.uniform(0, 900, 60), 5_601_000 + rng.uniform(0, 700, 60)
    v = 3.0 + 0.01 * (x - 502_000) - 0.02 * (y - 5_601_000)
    geometry = geometry_around(x, y, 25.0)
    grid = mc.minimum_curvature(x, y, v, geometry)
    gx, gy = np.meshgrid(geometry.x0 + 25.0 * np.arange(geometry.nx), geometry.y0 + 25.0 * np.arange(geometry.ny))
    assert grid == pytest.approx(3.0 + 0.01 * (gx - 502_000) - 0.02 * (gy - 5_601_000), abs=1e-7)


def test_scattered_data_are_honoured_by_bilinear_reading_and_turning_changes_nothing() -> None:
    rng = np.random.default_rng(7)
    x, y = rng.uniform(0, 60, 40), rng.uniform(0, 30, 40)
    v = np.sin(x / 9) * 5 + y / 4
    wide = mc.minimum_curvature(x, y, v, GridGeometry(0, 0, 1, 61, 31))
    assert bilinear(wide, 0, 0, 1, 1, x, y) == pytest.approx(v, abs=1e-4)
    tall = mc.minimum_curvature(y, x, v, GridGeometry(0, 0, 1, 31, 61))
    assert pytest.approx(wide, abs=1e-8) == tall.T


@pytest.mark.parametrize(
    ("x", "y", "words"),
    [
        ([0, 1], [0, 1], "three are needed"),
        ([0, 1, 2, 3], [0, 1, 2, 3], "one line"),
        ([np.nan] * 5, [0] * 5, "three are needed"),
    ],
)
def test_too_little_data(x: list[float], y: list[float], words: str) -> None:
    with pytest.raises(InputError, match=words):
        mc.minimum_curvature(
            np.array(x, float), np.array(y, float), np.arange(len(x), dtype=float), GridGeometry(0, 0, 1, 10, 10)
        )


def test_blanking_spacing_and_size_limit() -> None:
    x, y = np.meshgrid(np.arange(0, 100, 10.0), np.arange(0, 100, 10.0))
    assert mc.typical_spacing(x.ravel(), y.ravel()) == pytest.approx(10.0)
    blank = mc.blank_far(GridGeometry(0, 0, 5, 60, 20), x.ravel(), y.ravel(), 20.0)
    assert not blank[:, :18].any()
    assert blank[:, 24:].all()
    with pytest.raises(InputError, match="larger cell size"):
        mc.minimum_curvature(x.ravel(), y.ravel(), x.ravel(), GridGeometry(0, 0, 0.01, 9000, 9000))


def along_lines(size: int, gap: int) -> tuple[np.ndarray, np.ndarray]:
    """Readings every 1.2 cells along north-south lines, as a survey has them."""
    rng = np.random.default_rng(1)
    x, y = np.meshgrid(np.arange(2.37, size - 3, gap), np.arange(1.0, size - 2, 1.2))
    return x.ravel() + rng.normal(0, 0.2, x.size), y.ravel()


@pytest.mark.parametrize("tension", [0.0, 0.3])
def test_the_iterated_plate_equals_the_direct_one(tension: float) -> None:
    # The same samples, once solved directly (SuperLU, in scipy) and once by conjugate gradients with multigrid.
    size = 193
    x, y = along_lines(size, 16)
    v = np.sin(x / 20) * np.cos(y / 26) + 2 * np.exp(-((x - 60) ** 2 + (y - 110) ** 2) / 90.0)
    made = plate.through(x, y, v, size, size, tension)
    direct = mc._direct(x, y, v, size, size, tension)
    inner = (slice(8, -8), slice(8, -8))
    assert np.std((made - direct)[inner]) < 0.015 * np.std(direct)
    assert np.abs(made - direct)[inner].max() < 0.03 * np.ptp(direct)
    assert bilinear(made, 0, 0, 1, 1, x, y) == pytest.approx(v, abs=4e-3 * np.ptp(v))


def test_a_plane_through_many_cells_is_exact_and_the_digits_do_not_depend_on_the_run() -> None:
    x, y = along_lines(260, 20)
    geometry = GridGeometry(0, 0, 1, 260, 260)
    grid = mc.minimum_curvature(x, y, 3 + 0.1 * x - 0.2 * y, geometry)
    gx, gy = geometry.places()
    assert grid == pytest.approx(3 + 0.1 * gx - 0.2 * gy, abs=1e-6)
    bumps = np.sin(x / 9)
    assert np.array_equal(mc.minimum_curvature(x, y, bumps, geometry), mc.minimum_curvature(x, y, bumps, geometry))


def test_tension_keeps_a_step_from_swinging_out() -> None:
    # Smith & Wessel (1990): with tension the surface overshoots less beside a steep flank.
    x, y = (v.ravel() for v in np.meshgrid(np.arange(2.0, 60, 8), np.arange(2.0, 60, 8)))
    v = np.where(x < 30, 0.0, 10.0)
    over = []
    for tension in (0.0, 0.3, 0.9):
        grid = mc.minimum_curvature(x, y, v, GridGeometry(0, 0, 1, 60, 60), tension=tension)[8:-8, 8:-8]
        over.append(max(float(grid.max()) - 10.0, -float(grid.min())))
    assert over[0] > 1.3 * over[1] > 2.6 * over[2]
    with pytest.raises(InputError, match="from 0 to below 1"):
        mc.minimum_curvature(x, y, v, GridGeometry(0, 0, 1, 60, 60), tension=1.0)


def test_lines_are_told_apart_from_readings() -> None:
    x, y = along_lines(200, 20)
    line = np.round(x / 20).astype(int)
    assert mc.typical_spacing(x, y) < 2
    assert mc.line_spacing(x, y, line) == pytest.approx(20.0, rel=0.05)
    assert np.isnan(mc.line_spacing(x, y, np.zeros(len(x))))


def test_radial_basis_equals_scipy_and_its_patches_the_whole() -> None:
    rng = np.random.default_rng(5)
    xy, at = rng.uniform(0, 500, (120, 2)), rng.uniform(0, 500, (300, 2))
    v = np.sin(xy[:, 0] / 80) + xy[:, 1] / 200
    for mine, name in (("thin plate", "thin_plate_spline"), ("cubic", "cubic"), ("linear", "linear")):
        peer = RBFInterpolator(xy, v, kernel=name, degree=1)(at)
        assert rb.radial(*xy.T, v, *at.T, mine) == pytest.approx(peer, abs=1e-8)  # type: ignore[arg-type]
    many = rng.uniform(0, 2000, (4000, 2))
    w = np.sin(many[:, 0] / 120) * np.cos(many[:, 1] / 150)
    some = rng.uniform(100, 1900, (400, 2))
    patched = rb.radial(*many.T, w, *some.T)
    assert patched == pytest.approx(RBFInterpolator(many, w, kernel="thin_plate_spline", degree=1)(some), abs=2e-3)
    with pytest.raises(InputError, match="one line"):
        rb.radial(np.arange(5.0), np.arange(5.0), np.arange(5.0), np.zeros(1), np.zeros(1))


def test_leaving_one_out_of_radial_bases_equals_doing_so() -> None:
    rng = np.random.default_rng(6)
    x, y = rng.uniform(0, 100, (2, 40))
    v = x / 10 + np.sin(y / 20)
    quick = rb.left_out(x, y, v)
    for k in (0, 17, 39):
        rest = np.arange(40) != k
        assert quick[k] == pytest.approx(rb.radial(x[rest], y[rest], v[rest], x[k : k + 1], y[k : k + 1])[0], abs=1e-7)


def points(values: np.ndarray, x: np.ndarray, y: np.ndarray, unit: str = "") -> PointSet:
    table = pd.DataFrame({"x": x, "y": y, "z": np.nan, "v": values})
    return PointSet(name="samples", crs="EPSG:32632", table=table, units={"v": unit}, content="samples")


def gridded(operation: str, item: PointSet, **params: Any) -> Grid:
    op = OPERATIONS[operation]
    made = op.run(Inputs({"samples": item}, item.crs), op.check({"attribute": "v", **params}), SILENT)
    grid = made["grid"]
    assert isinstance(grid, Grid)
    return grid


@pytest.mark.parametrize("operation", ["grid-minimum-curvature", "grid-neighbours", "grid-kriging"])
def test_directions_are_gridded_as_vectors(operation: str) -> None:
    # Mardia & Jupp (2000): the mean of 350 and 10 degrees is 0, that of the axes 175 and 5 is 0.
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0, 500, 50.0), np.arange(0, 500, 50.0)))
    turn = np.random.default_rng(3).choice([350.0, 10.0], x.size)
    grid = gridded(operation, points(turn, x, y, "°"), transform="direction", cell=25.0)
    away = np.abs((grid.values + 180.0) % 360.0 - 180.0)
    assert np.nanmax(away) < 45.0 and np.nanmean(away) < 11.0
    grid = gridded(operation, points(np.where(turn > 180, 175.0, 5.0), x, y, "°"), transform="axis", cell=25.0)
    assert np.nanmax(np.abs((grid.values + 90.0) % 180.0 - 90.0)) < 25.0


def test_transforms_come_back_and_twins_follow_the_rule() -> None:
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0, 500, 50.0), np.arange(0, 500, 50.0)))
    v = np.exp(np.random.default_rng(3).normal(2, 1, x.size))
    for transform in ("log10", "square root", "normal score"):
        near = gridded("grid-neighbours", points(v, x, y), transform=transform, method="nearest neighbour", cell=50.0)
        held = near.values[np.isfinite(near.values)]
        assert set(np.round(held, 6)) <= set(np.round(v, 6))
    x[1], y[1] = x[0], y[0]
    v[0], v[1] = 5.0, 9.0
    for rule, wanted in (("mean", 7.0), ("highest", 9.0), ("first", 5.0), ("median", 7.0)):
        made = without_twins(x, y, v, rule)
        at = np.flatnonzero((made[0] == x[0]) & (made[1] == y[0]))
        assert made[2][at] == pytest.approx([wanted]) and made[3] == 1


def test_a_trend_joins_what_crosses_the_lines_at_an_angle() -> None:
    # A ridge that runs north-east, met only where lines cross it: along the trend its crest hangs together.
    x, y = along_lines(240, 24)
    ridge = np.exp(-(((x - y) / np.sqrt(2)) ** 2) / 2 / 4.0**2)
    plain = gridded("grid-minimum-curvature", points(ridge, x, y), cell=2.0, blanking=60.0)
    along = gridded("grid-minimum-curvature", points(ridge, x, y), cell=2.0, blanking=60.0, trend=45.0, stretch=5.0)
    places = np.arange(30.0, 210.0, 3.0)
    crest = [bilinear(g.values, g.x0, g.y0, g.dx, g.dy, places, places) for g in (plain, along)]
    assert np.nanmin(crest[1]) > 0.8 > np.nanmin(crest[0])


@pytest.mark.parametrize("method", ["minimum curvature", "natural neighbours", "radial basis"])
def test_surfaces_are_compared_by_leaving_samples_out(method: str) -> None:
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 1000, (2, 150))
    v = np.sin(x / 150) + np.cos(y / 200)
    op = OPERATIONS["cross-validate"]
    made = op.run(
        Inputs({"samples": points(v, x, y)}, "EPSG:32632"), op.check({"attribute": "v", "method": method}), SILENT
    )
    table = made["residuals"].table  # type: ignore[attr-defined]
    assert len(table) == 150
    known = table["residual"].notna()
    assert known.mean() > 0.9
    assert np.sqrt(np.mean(table["residual"][known] ** 2)) < 0.3 * np.std(v)


@pytest.mark.parametrize(
    ("values", "params", "words"),
    [
        ([np.nan] * 9, {}, "no row has a usable value"),
        ([1.0] + [np.nan] * 8, {}, "all values lie at one place"),
        ([-1.0] * 9, {"transform": "log10"}, "no row has a usable value"),
        ([1.0] * 9, {"cell": 0.001}, "larger cell size"),
        ([1.0] * 9, {"attribute": "w"}, "not a number column"),
    ],
)
def test_what_can_not_be_gridded_is_told(values: list[float], params: dict[str, Any], words: str) -> None:
    x, y = (v.ravel() for v in np.meshgrid(np.arange(3.0) * 50, np.arange(3.0) * 50))
    with pytest.raises(InputError, match=words):
        gridded("grid-minimum-curvature", points(np.array(values), x, y), **params)


def test_equal_values_make_a_flat_grid_and_kriging_says_that_there_is_nothing_to_fit() -> None:
    x, y = (v.ravel() for v in np.meshgrid(np.arange(5.0) * 50, np.arange(5.0) * 50))
    flat = gridded("grid-minimum-curvature", points(np.full(25, 7.0), x, y))
    assert flat.values[np.isfinite(flat.values)] == pytest.approx(7.0)
    with pytest.raises(InputError, match="all values are the same"):
        gridded("grid-kriging", points(np.full(25, 7.0), x, y))


def test_a_boundary_of_another_system_is_refused() -> None:
    from .test_grid_work import square

    x, y = (v.ravel() for v in np.meshgrid(np.arange(5.0) * 50, np.arange(5.0) * 50))
    samples = points(x + y, x, y)
    op = OPERATIONS["grid-neighbours"]
    with pytest.raises(InputError, match="EPSG:32632 and EPSG:32629"):
        op.run(
            Inputs({"samples": samples, "boundary": square([(0, 0), (90, 0), (90, 90)])}, samples.crs),
            op.check({"attribute": "v"}),
            SILENT,
        )


def test_every_method_is_compared_in_one_table() -> None:
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 1000, (2, 120))
    v = np.sin(x / 150) + np.cos(y / 200)
    op = OPERATIONS["cross-validate"]
    said: list[str] = []
    progress = CallbackProgress(lambda _share, text, _measures: said.append(text))
    made = op.run(
        Inputs({"samples": points(v, x, y)}, "EPSG:32632"),
        op.check({"attribute": "v", "method": "every method"}),
        progress,
    )
    item = made["residuals"]
    assert isinstance(item, PointSet)
    names = [c for c in item.table.columns if c.startswith("residual ")]
    assert len(names) == 7
    rms = {n.removeprefix("residual "): float(np.sqrt(np.nanmean(item.table[n] ** 2))) for n in names}
    best = min(rms, key=lambda n: rms[n])
    assert item.findings["what"].iloc[0].startswith(best) and said[-1].startswith(f"from the best: {best}")
    assert rms["nearest neighbour"] > 2 * rms[best]


def test_hillshade_of_a_plane_follows_lambert() -> None:
    # A plane that falls to the north-west by 45 degrees faces a sun at 315/45 squarely.
    y, x = np.mgrid[0:5, 0:5] * 1.0
    facing = hillshade((x - y) / np.sqrt(2), 1.0, 1.0, exaggeration=1.0)
    assert facing == pytest.approx(np.ones((5, 5)))
    assert hillshade(np.zeros((4, 4)), 1.0, 1.0) == pytest.approx(np.full((4, 4), np.sin(np.pi / 4)))


def test_bilinear_edges_and_blanks(reference: dict[str, Any]) -> None:
    values = np.array([[0.0, 1.0], [2.0, np.nan]])
    got = bilinear(
        values, 0.0, 0.0, 1.0, 1.0, np.array([0.5, 0.0, -0.4, -0.6, 0.9]), np.array([0.0, 0.5, 0.0, 0.0, 0.9])
    )
    assert got[:3] == pytest.approx([0.5, 1.0, 0.0])
    assert np.isnan(got[3:]).all()
    assert "plate_grid" in reference["kriging_extra"]


@pytest.mark.parametrize(("spacing", "cell", "most"), [(200, 50.0, 0.6), (200, 40.0, 0.4), (100, 25.0, 0.2)])
def test_dense_readings_along_lines_do_not_make_the_plate_swing(spacing: int, cell: float, most: float) -> None:
    """A smooth 80 nT anomaly without noise, read every 10 m along wavy lines; and one spike among the readings."""

    def bump(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        return 80 * np.exp(-((x - 2000) ** 2 + (y - 2000) ** 2) / (2 * 350.0**2))

    along = np.arange(0, 4000, 10.0)
    x = np.concatenate([line + 6 * np.sin(along / 300) for line in np.arange(0, 4001, spacing)])
    y = np.tile(along, len(x) // len(along))
    geometry = geometry_around(x, y, cell, margin=cell)
    gx, gy = geometry.places()
    inner = (np.abs(gx - 2000) < 1700) & (np.abs(gy - 2000) < 1700)
    spiked = bump(x, y)
    spiked[len(x) // 2] += 4000.0
    for values, limit in ((bump(x, y), most), (spiked, 2.5 * most)):
        made = mc.minimum_curvature(x, y, values, geometry)
        assert np.abs(made - bump(gx, gy))[inner].max() < limit


def test_ground_is_lit_from_several_sides_and_a_plane_is_even() -> None:
    y, x = np.meshgrid(10.0 * np.arange(80), 10.0 * np.arange(100), indexing="ij")
    # A ridge along the light of a single sun from the north-west has two sides alike; with several they differ.
    ridge = 60.0 * np.exp(-(((x - 500.0) + (y - 400.0)) ** 2) / 2e4)
    shade = ground_shade(ridge, 10.0, 10.0)
    assert np.ptp(shade) > 0.4
    across = (x + y > 940.0) & (x + y < 980.0), (x + y > 820.0) & (x + y < 860.0)
    assert abs(shade[across[0]].mean() - shade[across[1]].mean()) > 0.2
    plane = ground_shade(0.05 * x - 0.03 * y, 10.0, 10.0)
    assert np.ptp(plane) < 1e-9
    assert 0.3 < plane.mean() < 0.7
    # Rounding of feet to whole ones on nearly flat ground makes no stripes.
    feet = ground_shade(np.round(0.002 * x / 0.3048) * 0.3048 + 4000.0, 10.0, 10.0)
    assert np.isfinite(feet).all()
    assert feet.min() >= 0.0
    assert feet.max() <= 1.0
