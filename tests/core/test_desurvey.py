"""Desurvey against published worked examples and closed forms."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from innerlamp.core.compute.drilling.desurvey import azimuth_and_dip, desurvey, direction, dogleg, locate
from innerlamp.core.errors import InputError

H = np.zeros(2, dtype=np.int64)


def _path(depth: list[float], azimuth: list[float], inclination: list[float], method: Any = "minimum curvature") -> Any:
    # Handbooks give inclination from vertical; ours is dip, negative down.
    dip = np.array(inclination, dtype=float) - 90.0
    hole = np.zeros(len(depth), dtype=np.int64)
    return desurvey(
        np.zeros((1, 3)),
        np.array([max(depth)]),
        hole,
        np.array(depth, dtype=float),
        np.array(azimuth, dtype=float),
        dip,
        method,
    )


def test_handbook_station_pair() -> None:
    # Worked example of drilling handbooks (100 ft, I 15 A 20 to I 25 A 45): N 27.22, E 19.45, TVD 94.01.
    # Values from memory, confirmed by integrating the turning direction numerically.
    path = _path([0, 100], [20, 45], [15, 25])
    east, north, up = path.position[-1]
    assert (north, east, -up) == pytest.approx((27.2183, 19.4508, 94.0123), abs=5e-5)
    assert dogleg(path)[0] * 100 / 30 == pytest.approx(12.95165, abs=1e-4)


def test_balanced_tangential_station_pair() -> None:
    # The same pair by the balanced tangential method: 27.1023, 19.3679, 93.6117 (Bourgoyne et al. 1986, formula).
    path = _path([0, 100], [20, 45], [15, 25], "balanced tangential")
    east, north, up = path.position[-1]
    assert (north, east, -up) == pytest.approx((27.1023, 19.3679, 93.6117), abs=5e-5)


def test_radius_of_curvature() -> None:
    # The same pair: 28.5811, 18.2082, 93.8500 (Craig & Randall 1976, formula); exact for a curve in one plane.
    path = _path([0, 100], [20, 45], [15, 25], "radius of curvature")
    east, north, up = path.position[-1]
    assert (north, east, -up) == pytest.approx((28.5811, 18.2082, 93.8500), abs=5e-5)
    depth = [100.0 * k for k in range(21)]
    plane = _path(depth, [0.0] * 21, [3.0 * k for k in range(21)], "radius of curvature").position[-1]
    assert (-plane[2], plane[1]) == pytest.approx((1653.98669, 954.92966), abs=1e-5)
    # Across north, and from a vertical reading, which has no azimuth: symmetric, and straight to the east.
    east, north, up = _path([0, 50], [350, 10], [30, 30], "radius of curvature").position[-1]
    assert east == pytest.approx(0.0, abs=1e-9)
    assert north == pytest.approx(25.0 * np.sin(np.radians(10)) / np.radians(10))
    assert -up == pytest.approx(50 * np.cos(np.radians(30)))
    quarter = _path([0, 100], [300, 90], [0, 90], "radius of curvature").position[-1]
    assert quarter == pytest.approx([63.661977, 0.0, -63.661977], abs=1e-6)


def test_places_between_readings_lie_on_the_path_of_radius_of_curvature() -> None:
    path = _path([0, 40, 100], [20, 75, 340], [15, 40, 25], "radius of curvature")
    hole = np.zeros(2001, np.int64)
    depth = np.linspace(0, 100, 2001)
    places = locate(path, hole, depth)
    assert places[[800, 2000]] == pytest.approx(path.position[1:])
    step = np.linalg.norm(np.diff(places, axis=0), axis=1)
    assert step.sum() == pytest.approx(100.0, abs=0.05)  # as long as it was drilled
    along = np.diff(places, axis=0) / step[:, None]
    dip = np.degrees(np.arccos(-along[:, 2]))
    assert dip[[0, 799, 1999]] == pytest.approx([15, 40, 25], abs=0.2)
    assert np.abs(np.diff(dip)).max() < 0.05  # turns evenly


def test_published_errors_of_methods() -> None:
    # Craig & Randall 1976, in Bourgoyne et al. 1986: 0 to 60 degrees at 3 deg/100 ft over 2000 ft due north;
    # exact TVD 1653.99, N 954.93; balanced tangential errs by -0.38 and -0.22.
    depth = [100.0 * k for k in range(21)]
    inclination = [3.0 * k for k in range(21)]
    exact = _path(depth, [0.0] * 21, inclination).position[-1]
    assert (-exact[2], exact[1]) == pytest.approx((1653.99, 954.93), abs=5e-3)
    balanced = _path(depth, [0.0] * 21, inclination, "balanced tangential").position[-1]
    assert -balanced[2] - 1653.99 == pytest.approx(-0.38, abs=6e-3)
    assert balanced[1] - 954.93 == pytest.approx(-0.22, abs=1e-2)


def test_quarter_circle_and_north_crossing() -> None:
    quarter = _path([0, 100], [0, 0], [0, 90])  # radius 200/pi
    assert quarter.position[-1] == pytest.approx([0.0, 63.661977, -63.661977], abs=1e-6)
    half = locate(quarter, np.zeros(1, np.int64), np.array([50.0]))[0]
    radius = 200 / np.pi
    assert half == pytest.approx([0.0, radius * (1 - np.cos(np.pi / 4)), -radius * np.sin(np.pi / 4)], abs=1e-9)
    wrap = _path([0, 50], [350, 10], [30, 30])
    assert wrap.position[-1] == pytest.approx([0.0, 24.682404, -43.410683], abs=1e-6)


def test_places_are_continuous_and_meet_stations() -> None:
    path = _path([0, 40, 90, 150], [10, 25, 80, 82], [10, 35, 30, 60])
    hole = np.zeros(4, dtype=np.int64)
    assert locate(path, hole, path.depth) == pytest.approx(path.position, abs=1e-9)
    depths = np.linspace(0, 170, 1701)
    places = locate(path, np.zeros(1701, np.int64), depths)
    steps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    assert steps == pytest.approx(np.full(1700, 0.1), rel=1e-4)  # a chord of 0.1 m of the curve


def test_holes_without_survey_go_straight_down_and_other_holes_do_not_mix() -> None:
    collar = np.array([[0.0, 0.0, 100.0], [500.0, 0.0, 50.0], [0.0, 500.0, 0.0]])
    hole = np.array([2, 0, 2], dtype=np.int64)
    path = desurvey(
        collar,
        np.array([30.0, 20.0, 60.0]),
        hole,
        np.array([50.0, 10.0, 0.0]),
        np.array([90.0, 0.0, 90.0]),
        np.array([-45.0, -90.0, -45.0]),
    )
    ends = locate(path, np.array([0, 1, 2]), np.array([30.0, 20.0, 60.0]))
    assert ends == pytest.approx(
        np.array([[0, 0, 70], [500, 0, 30], [60 * np.sqrt(0.5), 500, -60 * np.sqrt(0.5)]]), abs=1e-9
    )


def test_bad_surveys_are_refused() -> None:
    with pytest.raises(InputError, match="two survey readings at one depth"):
        desurvey(np.zeros((1, 3)), np.array([10.0]), H, np.array([5.0, 5.0]), np.zeros(2), np.full(2, -90.0))
    with pytest.raises(InputError, match="not a number"):
        desurvey(np.zeros((1, 3)), np.array([10.0]), H, np.array([0.0, np.nan]), np.zeros(2), np.full(2, -90.0))


@pytest.mark.parametrize("method", ["minimum curvature", "balanced tangential"])
def test_a_reversal_does_not_jump(method: str) -> None:
    """Readings that point in opposite ways are joined by no arc: half of the way is gone in each direction."""
    path = desurvey(
        np.zeros((1, 3)),
        np.array([200.0]),
        np.zeros(2, int),
        np.array([0.0, 100.0]),
        np.array([0.0, 180.0]),
        np.array([-60.0, 60.0]),
        method,
    )  # type: ignore[arg-type]
    depth = np.linspace(0.0, 200.0, 2001)
    places = locate(path, np.zeros(len(depth), int), depth)
    assert np.linalg.norm(np.diff(places, axis=0), axis=1).max() < 0.1 + 1e-9  # never farther than along the hole
    assert places[1000] == pytest.approx(np.zeros(3), abs=1e-9)
    assert places[500] == pytest.approx(50.0 * direction(np.array([0.0]), np.array([-60.0]))[0])


def test_above_the_collar_the_hole_goes_on_straight() -> None:
    path = desurvey(
        np.zeros((1, 3)),
        np.array([100.0]),
        np.zeros(2, int),
        np.array([0.0, 100.0]),
        np.array([90.0, 90.0]),
        np.array([-90.0, -45.0]),
    )
    above = locate(path, np.zeros(2, int), np.array([-5.0, -10.0]))
    assert above == pytest.approx(np.array([[0.0, 0.0, 5.0], [0.0, 0.0, 10.0]]))


def test_angles_of_a_direction_are_those_it_was_made_of() -> None:
    azimuth, dip = np.array([0.0, 45.0, 200.0, 359.5, 90.0]), np.array([-60.0, -89.0, 0.0, -10.0, 30.0])
    again = azimuth_and_dip(direction(azimuth, dip))
    assert again[0] == pytest.approx(azimuth) and again[1] == pytest.approx(dip, abs=1e-9)
    assert azimuth_and_dip(np.array([0.0, 0.0, -1.0 - 1e-12])) == (pytest.approx(0.0), pytest.approx(-90.0))
