"""Work on grids against closed forms and general-purpose libraries (scipy, rasterio's statistics by hand, numpy)."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.compute.gridding import cells as gc
from innerlamp.core.compute.potential import filters as fl
from innerlamp.core.compute.potential.lineaments import lineaments, ridges
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.items.base import Item
from innerlamp.core.items.features import HOLE, RING, Features
from innerlamp.core.items.fields import Grid
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"


def run(operation: str, inputs: dict[str, Item], **params: Any) -> dict[str, Any]:
    op = OPERATIONS[operation]
    return op.run(Inputs(inputs, CRS), op.check(params), SILENT)


def grid_of(values: np.ndarray, name: str = "G", **more: Any) -> Grid:
    place = {"x0": 5.0, "y0": 5.0, "dx": 10.0, "dy": 10.0, "attribute": "v", "unit": "nT"} | more
    return Grid(name=name, crs=CRS, values=values, **place)


def square(*rings: list[tuple[float, float]], name: str = "area") -> Features:
    xy = np.concatenate([np.array([*r, r[0]], dtype=float) for r in rings])
    starts = np.concatenate([[0], np.cumsum([len(r) + 1 for r in rings])]).astype(np.int64)
    role = np.array([RING] + [HOLE] * (len(rings) - 1), dtype=np.int8)
    return Features(
        name=name,
        crs=CRS,
        table=pd.DataFrame({"unit": ["a"]}),
        vertices=np.column_stack([xy, np.full(len(xy), np.nan)]),
        starts=starts,
        owner=np.zeros(len(rings), dtype=np.int64),
        part_types=role,
    )


BOX = [(20.0, 20.0), (80.0, 20.0), (80.0, 60.0), (20.0, 60.0)]
GX, GY = np.meshgrid(5.0 + 10.0 * np.arange(20), 5.0 + 10.0 * np.arange(12))
PLANE = 3.0 + 0.1 * GX - 0.2 * GY


def test_other_cells_keep_a_plane_and_large_ones_hold_the_mean() -> None:
    fine = run("resample-grid", {"grid": grid_of(PLANE)}, cell=5.0)["resampled"]
    x, y = np.meshgrid(fine.x, fine.y)
    inner = (x > 5) & (x < 195) & (y > 5) & (y < 115)
    assert fine.values[inner] == pytest.approx((3.0 + 0.1 * x - 0.2 * y)[inner])
    coarse = run("resample-grid", {"grid": grid_of(np.arange(240.0).reshape(12, 20))}, cell=20.0)["resampled"]
    assert coarse.values.shape == (6, 10)
    assert coarse.values[0, 0] == pytest.approx(np.mean([0, 1, 20, 21]))
    like = run("resample-grid", {"grid": grid_of(PLANE), "other": coarse})["resampled"]
    assert (like.x0, like.dx, like.values.shape) == (coarse.x0, coarse.dx, coarse.values.shape)
    with pytest.raises(InputError, match="do not overlap"):
        run("resample-grid", {"grid": grid_of(PLANE), "other": grid_of(PLANE, x0=9e5)})


def test_a_grid_is_cut_by_polygons_with_holes_and_by_values() -> None:
    hole = [(40.0, 30.0), (60.0, 30.0), (60.0, 50.0), (40.0, 50.0)]
    cut = run("clip-grid", {"grid": grid_of(PLANE), "polygons": square(BOX, hole)})["cut"]
    assert cut.values.shape == (4, 6)
    assert np.isfinite(cut.values).sum() == 24 - 4
    assert (cut.x0, cut.y0) == (25.0, 25.0)
    assert cut.values[0, 0] == pytest.approx(3.0 + 2.5 - 5.0)
    around = run("clip-grid", {"grid": grid_of(PLANE), "polygons": square(BOX)}, keep="outside")["cut"]
    assert np.isfinite(around.values).sum() == 240 - 24
    high = run("clip-grid", {"grid": grid_of(PLANE)}, low=10.0)["cut"]
    assert np.nanmin(high.values) >= 10.0
    with pytest.raises(InputError, match="nothing to cut by"):
        run("clip-grid", {"grid": grid_of(PLANE)})
    crossed = square([(0.0, 0.0), (100.0, 100.0), (100.0, 0.0), (0.0, 100.0)])
    with pytest.raises(InputError, match="row 1 crosses itself"):
        run("clip-grid", {"grid": grid_of(PLANE), "polygons": crossed})


def test_grids_are_joined_on_one_level_without_a_step() -> None:
    left, right = grid_of(PLANE[:, :12], "left"), grid_of(PLANE[:, 8:] + 50.0, "right", x0=85.0)
    whole = run("mosaic", {"grids": [left, right]})["whole"]
    assert whole.values == pytest.approx(PLANE)
    stepped = run("mosaic", {"grids": [left, right]}, level=False, seam="last")["whole"]
    assert stepped.values[:, 9] == pytest.approx(PLANE[:, 9] + 50.0)
    faded = run("mosaic", {"grids": [left, right]}, level=False, seam="fade")["whole"]
    row = faded.values[6] - PLANE[6]
    assert row[0] == pytest.approx(0.0) and row[-1] == pytest.approx(50.0)
    assert np.abs(np.diff(row)).max() < 25.0
    with pytest.raises(InputError, match="'nT' and 'mGal'"):
        run("mosaic", {"grids": [left, grid_of(PLANE, "g", unit="mGal")]})


def test_gaps_are_filled_smoothly_and_as_far_as_asked() -> None:
    x, y = np.meshgrid(np.arange(80.0), np.arange(60.0))
    truth = np.sin(x / 12) + np.cos(y / 15)
    holed = truth.copy()
    holed[20:32, 30:45] = np.nan
    filled = run("fill-grid", {"grid": grid_of(holed)})["filled"].values
    assert filled[np.isfinite(holed)] == pytest.approx(holed[np.isfinite(holed)])
    assert np.abs(filled - truth).max() < 0.15
    near = run("fill-grid", {"grid": grid_of(holed)}, widest=20.0)["filled"].values
    assert np.isnan(near[26, 37]) and np.isfinite(near[21, 37])
    with pytest.raises(InputError, match="too few values"):
        run("fill-grid", {"grid": grid_of(np.where(x + y == 0, 1.0, np.nan))})


def test_smoothing_keeps_planes_and_takes_spikes_out() -> None:
    from scipy.ndimage import gaussian_filter

    rng = np.random.default_rng(0)
    noise = rng.normal(size=(60, 80))
    made = gc.smoothed(noise, 10, 10, 80.0)
    assert made[15:-15, 15:-15] == pytest.approx(gaussian_filter(noise, 2.0)[15:-15, 15:-15], abs=1e-6)
    spiked = PLANE.copy()
    spiked[6, 10] = 1e6
    assert gc.smoothed(spiked, 10, 10, 30.0, "median")[6, 10] == pytest.approx(PLANE[6, 10], abs=1.1)
    spiked[0, 0] = np.nan
    assert np.isnan(gc.smoothed(spiked, 10, 10, 30.0, "median")[0, 0])
    with pytest.raises(InputError, match="does not reach the next cell"):
        gc.smoothed(PLANE, 10, 10, 5.0)


def test_figures_by_polygon_are_those_of_numpy() -> None:
    made = run("zonal-statistics", {"grid": grid_of(PLANE), "polygons": square(BOX)})["polygons"]
    inside = PLANE[(GY > 20) & (GY < 60) & (GX > 20) & (GX < 80)]
    row = made.table.iloc[0]
    assert row["v cells"] == 24
    for name, value in (
        ("mean", inside.mean()),
        ("median", np.median(inside)),
        ("lowest", inside.min()),
        ("highest", inside.max()),
        ("deviation", inside.std()),
    ):
        assert row[f"v {name}"] == pytest.approx(value)
    assert made.units["v mean"] == "nT"
    with pytest.raises(InputError, match="no cell of the grid"):
        run("zonal-statistics", {"grid": grid_of(PLANE, x0=1e6), "polygons": square(BOX)})


def test_moving_correlation_equals_numpy_in_one_window_and_finds_where_grids_agree() -> None:
    rng = np.random.default_rng(1)
    a, b = rng.normal(size=(40, 50)), rng.normal(size=(40, 50))
    r = gc.correlation(a, b, (3, 4))
    assert r[20, 25] == pytest.approx(np.corrcoef(a[17:24, 21:30].ravel(), b[17:24, 21:30].ravel())[0, 1])
    half = np.where(np.arange(50) < 25, a, -a)
    made = run("compare-grids", {"grid": grid_of(a), "other": grid_of(half, "H")}, window=70.0)
    values = made["correlation"].values
    assert np.allclose(values[:, 5:20], 1.0) and np.allclose(values[:, 31:45], -1.0)
    pairs = made["pairs"].table
    assert len(pairs) == 2000
    assert {"v of G", "v of H", "correlation"} <= set(pairs.columns)
    with pytest.raises(InputError, match="do not overlap"):
        run("compare-grids", {"grid": grid_of(a), "other": grid_of(a, x0=1e6)})
    turned = Grid(name="t", crs="EPSG:4326", values=a, x0=0, y0=0, dx=1, dy=1, attribute="v")
    with pytest.raises(InputError, match="EPSG:32629 and EPSG:4326"):
        run("compare-grids", {"grid": grid_of(a), "other": turned})


def test_lineaments_follow_the_edge_of_a_body() -> None:
    # Over the edge of a thick plate the horizontal gradient of gravity peaks (Cordell & Grauch 1985): a slab's
    # gravity is an arctangent across its edge.
    x, y = np.meshgrid(10.0 * np.arange(120), 10.0 * np.arange(100))
    across = (x - 600.0) * np.cos(np.radians(30)) - (y - 500.0) * np.sin(np.radians(30))
    field = np.arctan(across / 60.0)
    lines = run("lineaments", {"grid": grid_of(field, x0=0.0, y0=0.0)})["lines"]
    table = lines.table
    assert len(table) == 1
    assert table["azimuth"].iloc[0] == pytest.approx(30.0, abs=2.0)
    assert table["length"].iloc[0] > 900.0
    v = lines.vertices
    off = np.abs((v[:, 0] - 600.0) * np.cos(np.radians(30)) - (v[:, 1] - 500.0) * np.sin(np.radians(30)))
    assert off.max() < 15.0
    with pytest.raises(InputError, match="no ridge"):
        run("lineaments", {"grid": grid_of(field)}, shortest=9000.0)


def test_ridges_are_counted_in_four_directions_and_crossing_lines_part_at_the_crossing() -> None:
    hill = np.zeros((5, 5))
    hill[2, 2] = 1.0
    assert ridges(hill)[2, 2] == 4
    hill[2, 1:4] = 1.0
    assert ridges(hill)[2, 2] == 3
    x, y = np.meshgrid(np.arange(80.0), np.arange(80.0))
    cross = np.exp(-((x - 40) ** 2) / 8) + np.exp(-((y - 40) ** 2) / 8)
    found = lineaments(cross, 0, 0, 1, 1, 10.0, 0.3)
    assert len(found) == 4
    assert sorted(round(f.azimuth) % 180 // 45 for f in found) == [0, 0, 2, 2]


def test_depths_are_read_in_windows() -> None:
    step, n = 25.0, 161
    axis = step * (np.arange(n) - n // 2)
    gx, gy = np.meshgrid(axis, axis)
    rng = np.random.default_rng(3)
    field = np.zeros_like(gx)
    for a, b, s in zip(*rng.uniform(-1300, 1300, (2, 300)), rng.normal(size=300), strict=True):
        field += s * 400.0 / ((gx - a) ** 2 + (gy - b) ** 2 + 400.0**2) ** 1.5
    grid = grid_of(field, x0=axis[0], y0=axis[0], dx=step, dy=step)
    one = run("source-depth", {"grid": grid}, shortest=333.0, longest=1667.0)["depths"].table
    frequency, power = fl.radial_spectrum(field, step, step)
    assert one["depth"].tolist() == pytest.approx([fl.depth_from_slope(frequency, power, 1 / 1667.0, 1 / 333.0)])
    assert one["depth"].iloc[0] == pytest.approx(400.0, rel=0.12)
    many = run("source-depth", {"grid": grid}, window=2000.0, shortest=300.0)["depths"].table
    assert len(many) == 9 and (many["depth"] > 0).all()
    with pytest.raises(InputError, match="below the longest"):
        run("source-depth", {"grid": grid}, shortest=900.0, longest=300.0)
