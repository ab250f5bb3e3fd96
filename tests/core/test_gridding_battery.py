"""The same questions put to every method of gridding and every filter of grids.

What is asked is common practice (no source): a plane and a constant come back, nothing depends on where the map lies, on the
order of the rows or the unit, doubled samples change nothing, and what can't be done is said in words.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.gridding import cells
from innerlamp.core.compute.potential import filters as fl
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import LampError
from innerlamp.core.items.fields import Grid
from innerlamp.core.items.points import PointSet
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32719"
VARIOGRAM = {"nugget": 0.0, "sill": 1.0, "range_m": 400.0}
METHODS: dict[str, tuple[str, dict[str, Any]]] = {
    "minimum curvature": ("grid-minimum-curvature", {}),
    "with tension": ("grid-minimum-curvature", {"tension": 0.3}),
    "kriging": ("grid-kriging", VARIOGRAM),
    "kriging, fitted": ("grid-kriging", {}),
    "kriging with drift": ("grid-kriging", {**VARIOGRAM, "drift": "linear"}),
    "inverse distance": ("grid-neighbours", {"method": "inverse distance"}),
    "nearest neighbour": ("grid-neighbours", {"method": "nearest neighbour"}),
    "natural neighbours": ("grid-neighbours", {"method": "natural neighbours"}),
    "triangles": ("grid-neighbours", {"method": "triangles"}),
    "thin plate": ("grid-neighbours", {"method": "radial basis", "kernel": "thin plate"}),
    "linear kernel": ("grid-neighbours", {"method": "radial basis", "kernel": "linear"}),
    "cubic kernel": ("grid-neighbours", {"method": "radial basis", "kernel": "cubic"}),
}
PLANAR = (
    "minimum curvature",
    "with tension",
    "kriging with drift",
    "natural neighbours",
    "triangles",
    "thin plate",
    "linear kernel",
    "cubic kernel",
)
EACH = pytest.mark.parametrize("method", METHODS)


def samples(values: Callable[[np.ndarray, np.ndarray], np.ndarray], east: float = 0.0, north: float = 0.0) -> PointSet:
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 900, 160), rng.uniform(0, 700, 160)
    table = pd.DataFrame({"x": x + east, "y": y + north, "z": np.nan, "v": values(x, y)})
    return PointSet(name="S", crs=CRS, table=table)


def gridded(method: str, points: PointSet, **more: Any) -> Grid:
    name, params = METHODS[method]
    op = OPERATIONS[name]
    made = op.run(
        Inputs({"samples": points}, CRS),
        op.check({"attribute": "v", "cell": 25.0, "blanking": 120.0, **params, **more}),
        SILENT,
    )
    grid = made["grid"]
    assert isinstance(grid, Grid)
    return grid


def wavy(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.sin(x / 150) + np.cos(y / 120)


@EACH
def test_a_constant_comes_back(method: str) -> None:
    made = gridded(
        method, samples(lambda x, _: np.full(len(x), 4.25)), **({} if method != "kriging, fitted" else VARIOGRAM)
    )
    assert np.nanmax(np.abs(made.values - 4.25)) < 1e-6


@pytest.mark.parametrize("method", PLANAR)
def test_a_plane_comes_back_within_the_samples(method: str) -> None:
    made = gridded(method, samples(lambda x, y: 3 + 0.01 * x - 0.02 * y, 412_000.0, 7_388_000.0))
    gx, gy = made.places
    inside = np.isfinite(made.values) & (gx > 412_080) & (gx < 412_820) & (gy > 7_388_080) & (gy < 7_388_620)
    wanted = 3 + 0.01 * (gx - 412_000) - 0.02 * (gy - 7_388_000)
    # Tension holds a surface flat between samples: a plane under it is one only where samples are.
    assert np.abs(made.values - wanted)[inside].max() < (0.15 if method == "with tension" else 2e-4)


@EACH
def test_it_does_not_matter_where_the_map_lies(method: str) -> None:
    here, there = gridded(method, samples(wavy)), gridded(method, samples(wavy, 700_000.0, 7_000_000.0))
    assert (there.x0 - 700_000.0, there.y0 - 7_000_000.0) == pytest.approx((here.x0, here.y0))
    assert there.values == pytest.approx(here.values, abs=2e-5, nan_ok=True)


@EACH
def test_rows_in_another_order_and_other_units_change_nothing(method: str) -> None:
    points = samples(wavy)
    plain = gridded(method, points)
    mixed = PointSet(name="S", crs=CRS, table=points.table.sample(frac=1.0, random_state=1).reset_index(drop=True))
    assert gridded(method, mixed).values == pytest.approx(plain.values, abs=1e-6, nan_ok=True)
    feet = PointSet(name="S", crs=CRS, table=points.table.assign(v=points.table["v"] / 0.3048))
    more = {"sill": 1.0 / 0.3048**2} if METHODS[method][1].get("sill") else {}
    assert 0.3048 * gridded(method, feet, **more).values == pytest.approx(plain.values, abs=1e-6, nan_ok=True)


@EACH
def test_samples_given_twice_change_nothing(method: str) -> None:
    points = samples(wavy)
    twice = PointSet(name="S", crs=CRS, table=pd.concat([points.table, points.table], ignore_index=True))
    assert gridded(method, twice).values == pytest.approx(gridded(method, points).values, abs=1e-6, nan_ok=True)


@EACH
def test_values_at_samples_are_not_lost(method: str) -> None:
    """A single high sample shows where it is, and nothing far from all samples is invented."""
    points = samples(lambda x, y: np.where((np.abs(x - 450) < 70) & (np.abs(y - 350) < 70), 10.0, 1.0))
    made = gridded(method, points, cell=12.5)
    gx, gy = made.places
    assert 3.0 < np.nanmax(made.values) < 20.0
    row, column = np.unravel_index(np.nanargmax(made.values), made.values.shape)
    assert np.hypot(gx[row, column] - 450, gy[row, column] - 350) < 180
    assert np.nanmin(made.values) > -9.0


@EACH
@pytest.mark.parametrize("case", ["one line", "two", "one", "nothing", "all at one place"])
def test_too_little_is_gridded_or_refused_in_words(method: str, case: str) -> None:
    along = np.arange(20.0) * 30
    table = {
        "one line": pd.DataFrame({"x": along, "y": 0.5 * along + 7e6, "v": along / 100}),
        "two": pd.DataFrame({"x": [0.0, 50.0], "y": [0.0, 20.0], "v": [1.0, 2.0]}),
        "one": pd.DataFrame({"x": [0.0], "y": [0.0], "v": [1.0]}),
        "nothing": pd.DataFrame({"x": [0.0, 1.0], "y": [0.0, 9.0], "v": [np.nan, np.nan]}),
        "all at one place": pd.DataFrame({"x": np.zeros(5), "y": np.zeros(5), "v": np.arange(5.0)}),
    }[case].assign(z=np.nan)
    try:
        made = gridded(method, PointSet(name="S", crs=CRS, table=table))
    except LampError as error:
        assert str(error)
        return
    known = made.values[np.isfinite(made.values)]
    assert known.size
    low, high = float(table["v"].min()), float(table["v"].max())
    room = 0.5 * (high - low) + 1e-6
    assert low - room <= known.min() and known.max() <= high + room


# ---- filters of grids

FILTERS: dict[str, Callable[[np.ndarray, float, float], np.ndarray]] = {
    "east": lambda v, dx, dy: fl.derivatives(v, dx, dy)[0],
    "north": lambda v, dx, dy: fl.derivatives(v, dx, dy)[1],
    "down": lambda v, dx, dy: fl.derivatives(v, dx, dy)[2],
    "horizontal gradient": fl.horizontal_gradient,
    "total gradient": fl.total_gradient,
    "upward": lambda v, dx, dy: fl.continued(v, dx, dy, 80.0),
    "pole": lambda v, dx, dy: fl.reduced_to_pole(v, dx, dy, -35.0, 12.0),
    "pseudo-gravity": lambda v, dx, dy: fl.pseudo_gravity(v, dx, dy, -35.0, 12.0),
    "band-pass": lambda v, dx, dy: fl.band_pass(v, dx, dy, 120.0, 600.0),
    "smoothed mean": lambda v, dx, dy: cells.smoothed(v, dx, dy, 100.0),
    "smoothed median": lambda v, dx, dy: cells.smoothed(v, dx, dy, 100.0, "median"),
    "filled": lambda v, dx, dy: cells.filled_gaps(v, 0.5 * (dx + dy), 0.0),
}
SLOPES = {"east": (1, 0, 0), "north": (0, 1, 0), "down": (0, 0, 0), "horizontal gradient": None, "total gradient": None}
EVERY = pytest.mark.parametrize("name", FILTERS)


def bumps(ny: int, nx: int, dx: float, dy: float) -> np.ndarray:
    gx, gy = np.meshgrid(dx * np.arange(nx), dy * np.arange(ny))
    return 50 * np.exp(-((gx - 0.5 * dx * nx) ** 2 + (gy - 0.45 * dy * ny) ** 2) / 160.0**2) + 0.01 * gx


@EVERY
@pytest.mark.parametrize("shape", [(48, 64), (47, 63)])
def test_filters_are_linear_in_the_unit_and_keep_the_shape(name: str, shape: tuple[int, int]) -> None:
    v = bumps(*shape, 20.0, 20.0)
    one, two = FILTERS[name](v, 20.0, 20.0), FILTERS[name](2.5 * v, 20.0, 20.0)
    assert one.shape == v.shape
    assert two == pytest.approx(2.5 * one, rel=1e-6, abs=1e-6 * np.abs(one).max())


@EVERY
def test_islands_of_blanks_come_back_blank_and_spoil_nothing_far_away(name: str) -> None:
    v = bumps(60, 70, 20.0, 20.0)
    holed = v.copy()
    holed[3:6, 3:6] = holed[50:55, 60:66] = np.nan
    whole, made = FILTERS[name](v, 20.0, 20.0), FILTERS[name](holed, 20.0, 20.0)
    if name == "filled":
        assert np.isfinite(made).all()
        assert np.array_equal(made[np.isfinite(holed)], v[np.isfinite(holed)])
        return
    assert np.array_equal(np.isnan(made), np.isnan(holed))
    middle = (slice(18, 40), slice(20, 50))
    # Pseudo-gravity is a sum over the whole map: a gap changes its level a little everywhere.
    share = 0.12 if name == "pseudo-gravity" else 0.02
    assert np.abs(made - whole)[middle].max() < share * np.ptp(whole)


@EVERY
def test_cells_that_are_not_square_say_the_same(name: str) -> None:
    """The same field on cells twice as high as wide: read at the common places it is the same."""
    fine, oblong = bumps(120, 140, 10.0, 10.0), bumps(60, 140, 10.0, 20.0)
    a, b = FILTERS[name](fine, 10.0, 10.0)[::2], FILTERS[name](oblong, 10.0, 20.0)
    middle = (slice(12, 48), slice(25, 115))
    share = {"smoothed median": 0.08, "pseudo-gravity": 0.08, "smoothed mean": 0.03}.get(name, 0.03)
    assert np.abs(a - b)[middle].max() < share * np.ptp(a)


@pytest.mark.parametrize("name", SLOPES)
def test_derivatives_of_a_plane_are_its_slopes(name: str) -> None:
    gx, gy = np.meshgrid(20.0 * np.arange(50), 30.0 * np.arange(41))
    made = FILTERS[name](5 + 0.3 * gx - 0.4 * gy, 20.0, 30.0)
    wanted = {"east": 0.3, "north": -0.4, "down": 0.0}.get(name, 0.5)
    assert made == pytest.approx(np.full(made.shape, wanted), abs=1e-9)


@EVERY
def test_a_constant_grid_has_no_anomaly(name: str) -> None:
    made = FILTERS[name](np.full((40, 50), 321.0), 20.0, 20.0)
    level = 321.0 if name in ("upward", "smoothed mean", "smoothed median", "filled") else 0.0
    assert made == pytest.approx(np.full((40, 50), level), abs=1e-6)


def test_a_blank_far_away_does_not_change_the_median_at_the_edges() -> None:
    v = np.random.default_rng(0).normal(size=(40, 40))
    holed = v.copy()
    holed[20, 20] = np.nan
    away = np.ones(v.shape, dtype=bool)
    away[15:26, 15:26] = False
    assert np.array_equal(
        cells.smoothed(v, 10, 10, 50, "median")[away], cells.smoothed(holed, 10, 10, 50, "median")[away]
    )


@pytest.mark.parametrize("cell", [17.3, 25.0, 33.3333, 90.0])
def test_other_cells_hold_what_the_old_ones_held(cell: float) -> None:
    """Mass is kept: the sum of value times area over cells that tile the same ground; and nothing is displaced."""
    rng = np.random.default_rng(0)
    v = rng.normal(size=(60, 50))
    old = cells.Cells(v, 5.0, 5.0, 10.0, 10.0)
    nx, ny = int(500 // cell), int(600 // cell)
    made = cells.resampled(old, cell / 2, cell / 2, cell, nx, ny)
    brute = np.empty((ny, nx))
    for j in range(ny):
        for i in range(nx):
            wx = np.clip(
                np.minimum((i + 1) * cell, 10.0 * np.arange(1, 51)) - np.maximum(i * cell, 10.0 * np.arange(50)),
                0,
                None,
            )
            wy = np.clip(
                np.minimum((j + 1) * cell, 10.0 * np.arange(1, 61)) - np.maximum(j * cell, 10.0 * np.arange(60)),
                0,
                None,
            )
            brute[j, i] = wy @ v @ wx / (wx.sum() * wy.sum())
    assert made == pytest.approx(brute)


def test_a_wide_gap_in_a_plane_is_closed_by_the_plane() -> None:
    gx, gy = np.meshgrid(np.arange(120.0), np.arange(100.0))
    plane = 3 + 0.1 * gx - 0.15 * gy
    holed = plane.copy()
    holed[20:80, 20:100] = np.nan  # 60 x 80 cells
    for tension in (0.0, 0.25):
        assert cells.filled_gaps(holed, 10.0, 0.0, tension) == pytest.approx(plane, abs=1e-5)
    near = cells.filled_gaps(holed, 10.0, 50.0, 0.0)
    assert np.isnan(near[50, 60]) and near[50, 22] == pytest.approx(plane[50, 22], abs=1e-5)
