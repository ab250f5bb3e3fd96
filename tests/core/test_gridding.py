"""Minimum curvature against its defining equation, thin-plate splines and exact planes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy.interpolate import RBFInterpolator

from innerlamp.core.compute.geometry.sampling import bilinear
from innerlamp.core.compute.gridding import minimum_curvature as mc
from innerlamp.core.compute.gridding.shading import hillshade
from innerlamp.core.errors import InputError

# Seven samples on nodes of a 41 x 41 grid.
NODES = np.array([[5, 6], [33, 8], [20, 20], [8, 34], [35, 32], [14, 12], [28, 27]], dtype=float)
VALUES = np.array([1.0, 4.0, 12.0, 3.0, 0.0, 6.0, 7.5])


def test_data_are_honoured_and_the_biharmonic_equation_holds_elsewhere() -> None:
    grid = mc.minimum_curvature(NODES[:, 0], NODES[:, 1], VALUES, mc.Lattice(0, 0, 1, 41, 41))
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
    grid = mc.minimum_curvature(NODES[:, 0], NODES[:, 1], VALUES, mc.Lattice(0, 0, 1, 41, 41), padding=40)
    x, y = np.meshgrid(np.arange(41.0), np.arange(41.0))
    spline = RBFInterpolator(NODES, VALUES, kernel="thin_plate_spline", degree=1)(
        np.column_stack([x.ravel(), y.ravel()])
    ).reshape(41, 41)
    assert np.abs(grid - spline)[8:33, 8:33].max() < 0.07


def test_planes_are_exact_also_off_nodes_and_at_real_coordinates() -> None:
    rng = np.random.default_rng(4)
    x, y = 502_000 + rng.uniform(0, 900, 60), 5_601_000 + rng.uniform(0, 700, 60)
    v = 3.0 + 0.01 * (x - 502_000) - 0.02 * (y - 5_601_000)
    lattice = mc.lattice_around(x, y, 25.0)
    grid = mc.minimum_curvature(x, y, v, lattice)
    gx, gy = np.meshgrid(lattice.x0 + 25.0 * np.arange(lattice.nx), lattice.y0 + 25.0 * np.arange(lattice.ny))
    assert grid == pytest.approx(3.0 + 0.01 * (gx - 502_000) - 0.02 * (gy - 5_601_000), abs=1e-7)


def test_scattered_data_are_honoured_by_bilinear_reading_and_turning_changes_nothing() -> None:
    rng = np.random.default_rng(7)
    x, y = rng.uniform(0, 60, 40), rng.uniform(0, 30, 40)
    v = np.sin(x / 9) * 5 + y / 4
    wide = mc.minimum_curvature(x, y, v, mc.Lattice(0, 0, 1, 61, 31))
    assert bilinear(wide, 0, 0, 1, 1, x, y) == pytest.approx(v, abs=1e-4)
    tall = mc.minimum_curvature(y, x, v, mc.Lattice(0, 0, 1, 31, 61))
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
            np.array(x, float), np.array(y, float), np.arange(len(x), dtype=float), mc.Lattice(0, 0, 1, 10, 10)
        )


def test_blanking_spacing_and_size_limit() -> None:
    x, y = np.meshgrid(np.arange(0, 100, 10.0), np.arange(0, 100, 10.0))
    assert mc.typical_spacing(x.ravel(), y.ravel()) == pytest.approx(10.0)
    blank = mc.blank_far(mc.Lattice(0, 0, 5, 60, 20), x.ravel(), y.ravel(), 20.0)
    assert not blank[:, :18].any()
    assert blank[:, 24:].all()
    with pytest.raises(InputError, match="larger cell size"):
        mc.minimum_curvature(x.ravel(), y.ravel(), x.ravel(), mc.Lattice(0, 0, 0.1, 2000, 2000))


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
