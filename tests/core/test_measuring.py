"""Lines and planes through places: a worked plane, mplstereonet's own fit, and closed forms."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from innerlamp.core.compute.geometry.measuring import line_between, plane_through
from innerlamp.core.compute.geometry.orientations import disks, plane_normal, section_traces
from innerlamp.core.compute.geometry.planes import SectionPlane, about, in_corridor, turned
from innerlamp.core.errors import InputError


def test_three_points_worked_out() -> None:
    # Dip 13.637566 towards 077.471192: the reference values, computed and confirmed with mplstereonet.
    dip, to = plane_through(np.array([1000, 2000, 500]), np.array([1200, 2050, 450]), np.array([1080, 2210, 470]))
    assert (dip, to) == pytest.approx((13.637566, 77.471192), abs=1e-6)
    with pytest.raises(InputError, match="one line"):
        plane_through(np.zeros(3), np.ones(3), 2 * np.ones(3))
    with pytest.raises(InputError, match="one line"):
        plane_through(np.zeros(3), np.zeros(3), np.ones(3))


@given(st.floats(1, 89), st.floats(0, 359.9), st.floats(-400, 400), st.floats(-400, 400))
def test_points_of_a_plane_give_it_back(dip: float, to: float, u: float, v: float) -> None:
    assume(abs(u) > 1 and abs(v) > 1)
    normal = plane_normal(np.array([dip]), np.array([to]))[0]
    strike = np.array([np.cos(np.radians(to)), -np.sin(np.radians(to)), 0.0])
    down = np.cross(normal, strike)
    origin = np.array([500_000.0, 7_000_000.0, 4000.0])
    found = plane_through(origin, origin + u * strike, origin + v * down)
    assert found[0] == pytest.approx(dip, abs=1e-4)
    assert (found[1] - to + 180) % 360 - 180 == pytest.approx(0.0, abs=0.02)


def test_a_line_between_two_places() -> None:
    line = line_between(np.array([0.0, 0.0, 100.0]), np.array([30.0, 40.0, 50.0]))
    assert (line.length, line.plan) == pytest.approx((np.sqrt(5000), 50.0))
    assert (line.plunge, line.trend) == pytest.approx((45.0, np.degrees(np.arctan2(30, 40))))
    assert line_between(np.array([30.0, 40.0, 50.0]), np.array([0.0, 0.0, 100.0])).plunge == pytest.approx(-45.0)
    assert line_between(np.zeros(3), np.array([0.0, 0.0, -5.0])).plunge == pytest.approx(90.0)


def test_apparent_dips_on_sections() -> None:
    # 30 degrees seen 45 from strike: 22.207654; 60 seen 30 from strike: 40.893395 (with mplstereonet, reference values).
    for dip, off, apparent in (
        (30.0, 45.0, 22.2076543),
        (60.0, 30.0, 40.8933946),
        (45.0, 90.0, 45.0),
        (20.0, 10.0, 3.6164416),
    ):
        trace = section_traces(
            plane_normal(np.array([dip]), np.array([90.0])), off
        )  # strike 0: the section is `off` from it
        assert np.degrees(np.arctan2(-trace[0, 1], trace[0, 0])) == pytest.approx(apparent, abs=1e-6)
    level = section_traces(plane_normal(np.array([0.0]), np.array([0.0])), 123.0)
    assert level[0] == pytest.approx([1.0, 0.0])
    assert np.isnan(
        section_traces(plane_normal(np.array([90.0]), np.array([0.0])), 90.0)
    ).all()  # it lies in the section
    corners = disks(np.zeros((1, 3)), plane_normal(np.array([40.0]), np.array([200.0])), 8.0)
    assert np.linalg.norm(corners, axis=2) == pytest.approx(8.0)
    assert corners @ plane_normal(np.array([40.0]), np.array([200.0]))[0] == pytest.approx(0.0, abs=1e-9)


def test_corridors_and_turning() -> None:
    off = np.array([-30.0, -5.0, 0.0, 5.0, 30.0])
    assert in_corridor(off, 10.0).tolist() == [False, True, True, True, False]
    assert in_corridor(off, 10.0, "behind").tolist() == [False, False, True, True, False]
    assert in_corridor(off, 10.0, "in front").tolist() == [False, True, True, False, False]
    plane = about(100.0, 200.0, 90.0, 50.0)
    assert (plane.x0, plane.x1, plane.y0) == pytest.approx((75.0, 125.0, 200.0))
    other = turned(plane, 90.0)
    assert other.azimuth == pytest.approx(180.0)
    assert other.length == pytest.approx(50.0)
    assert turned(SectionPlane(0, 0, 10, 0), 180.0) == SectionPlane(
        *(pytest.approx(v, abs=1e-9) for v in (10.0, 0.0, 0.0, 0.0))
    )
