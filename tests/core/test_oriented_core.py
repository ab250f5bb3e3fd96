"""Oriented core against closed-form cases, rotations built with scipy, and mplstereonet's angles between planes."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from innerlamp.core.compute.drilling.desurvey import desurvey, direction, direction_at, locate
from innerlamp.core.compute.drilling.oriented import (
    core_angles,
    line_directions,
    plane_normals,
)
from innerlamp.core.compute.geometry.orientations import dip_and_direction, plane_normal, plunge_and_trend

VALUES = Path(__file__).parents[1] / "data" / "reference-values.json"
BOTTOM = np.zeros(1, dtype=bool)


def test_cases_worked_by_numerical_ellipses() -> None:
    # Computed by cutting a cylinder numerically; kept with the other reference values.
    rows = json.loads(VALUES.read_text())["structure"]["alpha_beta"]["rows"]
    for row in rows:
        along = direction(np.array([row["hole_trend"]]), np.array([-row["hole_plunge"]]))
        normal = plane_normal(np.array([row["dip"]]), np.array([row["dipdir"]]))
        alpha, beta = core_angles(normal, along)
        assert alpha[0] == pytest.approx(row["alpha"], abs=1e-5)
        assert (beta[0] - row["beta"] + 180) % 360 - 180 == pytest.approx(0.0, abs=1e-3)
        dip, to = dip_and_direction(plane_normals(alpha, beta, along, BOTTOM))
        assert (dip[0], to[0]) == pytest.approx((row["dip"], row["dipdir"]), abs=1e-6)
        # From the top of the core beta is the same less half a turn.
        other = plane_normals(alpha, (beta + 180.0) % 360.0, along, ~BOTTOM)
        assert np.abs(other @ normal.T).item() == pytest.approx(1.0)


@given(st.floats(0, 359), st.floats(3, 86), st.floats(1, 89), st.floats(0, 359), st.floats(0, 359))
def test_by_rotating_core_into_the_hole(trend: float, plunge: float, alpha: float, beta: float, gamma: float) -> None:
    """Core lies along z downwards with its bottom line to x; scipy turns it into the hole."""
    a, b, g = np.radians([alpha, beta, gamma])
    apex = np.array([np.cos(b), np.sin(b), 0.0])  # clockwise looking along +z with x the bottom and y to the right
    long_axis = np.array([0.0, 0.0, np.cos(a)]) + np.sin(a) * apex
    across = np.cross([0.0, 0.0, 1.0], apex)
    normal = np.cross(long_axis, across)
    line = np.cos(g) * long_axis + np.sin(g) * across
    hole = direction(np.array([trend]), np.array([-plunge]))[0]
    down = np.array([0.0, 0.0, -1.0])
    bottom = (down - (down @ hole) * hole) / np.linalg.norm(down - (down @ hole) * hole)
    turn, _ = Rotation.align_vectors([hole, bottom], [[0.0, 0.0, 1.0], [1.0, 0.0, 0.0]])
    args = (np.array([alpha]), np.array([beta]))
    ours = plane_normals(*args, hole[None, :], BOTTOM)[0]
    assert abs(ours @ turn.apply(normal)) == pytest.approx(1.0, abs=1e-9)
    ours = line_directions(*args, np.array([gamma]), hole[None, :], BOTTOM)[0]
    assert abs(ours @ turn.apply(line)) == pytest.approx(1.0, abs=1e-9)
    assert abs(ours @ plane_normals(*args, hole[None, :], BOTTOM)[0]) == pytest.approx(0.0, abs=1e-9)


def test_angles_agree_with_mplstereonet() -> None:
    mplstereonet = pytest.importorskip("mplstereonet")
    rng = np.random.default_rng(4)
    for _ in range(20):
        trend, plunge, alpha, beta = rng.uniform(0, 360), rng.uniform(10, 85), rng.uniform(5, 85), rng.uniform(0, 360)
        along = direction(np.array([trend]), np.array([-plunge]))
        dip, to = dip_and_direction(plane_normals(np.array([alpha]), np.array([beta]), along, BOTTOM))
        pole = mplstereonet.pole(to[0] - 90.0, dip[0])
        hole = mplstereonet.line(plunge, trend)
        between = float(np.degrees(mplstereonet.angular_distance(pole, hole)[0]))
        assert min(between, 180 - between) == pytest.approx(90.0 - alpha, abs=1e-6)


def test_planes_square_to_the_core_and_vertical_holes() -> None:
    along = direction(np.array([40.0, 40.0]), np.array([-60.0, -90.0]))
    normal = plane_normals(np.array([90.0, 50.0]), np.array([np.nan, 10.0]), along, np.zeros(2, bool))
    dip, to = dip_and_direction(normal)
    assert (dip[0], to[0]) == pytest.approx((30.0, 220.0))  # square to a hole 040/60
    assert np.isnan(dip[1])  # a vertical core has no bottom
    plunge, trend = plunge_and_trend(-along[:1])
    assert (plunge[0], trend[0]) == pytest.approx((60.0, 40.0))


def test_the_direction_of_the_hole_is_that_at_the_depth_of_the_reading() -> None:
    path = desurvey(
        np.zeros((1, 3)),
        np.array([100.0]),
        np.zeros(2, np.int64),
        np.array([0.0, 100.0]),
        np.array([90.0, 90.0]),
        np.array([-90.0, -30.0]),
    )
    for depth in (0.0, 25.0, 50.0, 100.0):
        along = direction_at(path, np.zeros(1, np.int64), np.array([depth]))[0]
        assert np.degrees(np.arcsin(-along[2])) == pytest.approx(90.0 - 0.6 * depth, abs=0.02)
    assert np.isfinite(locate(path, np.zeros(1, np.int64), np.array([100.0]))).all()
