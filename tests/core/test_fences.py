"""Fences: sections that bend, against shapely's linear referencing and closed forms."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial import ConvexHull

from innerlamp.core.compute.geometry.planes import SectionPlane, cut_surface, turned

PLACES = st.lists(st.tuples(st.integers(0, 900), st.integers(0, 900)), min_size=3, max_size=6, unique=True)
BENT = SectionPlane.along([0.0, 0.0, 100.0, 0.0, 100.0, 100.0, 220.0, 100.0])


@given(PLACES, st.floats(-200, 1100), st.floats(-200, 1100))
def test_distance_along_and_off_a_fence_are_those_of_linear_referencing(
    places: list[tuple[int, int]], x: float, y: float
) -> None:
    fence = SectionPlane.along(np.array(places, dtype=float))
    line = shapely.LineString(places)
    assert fence.length == pytest.approx(line.length)
    along, off = fence.to_plane(np.array([x]), np.array([y]))
    point = shapely.Point(x, y)
    # Shapely holds places beyond the ends at the ends; ours go on straight there.
    if 1e-6 < line.project(point) < line.length - 1e-6:
        assert abs(off[0]) == pytest.approx(line.distance(point), abs=1e-6)
        assert line.interpolate(float(along[0])).distance(point) == pytest.approx(line.distance(point), abs=1e-5)


@given(PLACES, st.floats(0, 1))
def test_a_place_on_a_fence_is_found_again(places: list[tuple[int, int]], share: float) -> None:
    fence = SectionPlane.along(np.array(places, dtype=float))
    at = np.array([share * fence.length])
    x, y = fence.to_map(at)
    there = shapely.LineString(places).interpolate(float(at[0]))
    assert (x[0], y[0]) == pytest.approx((there.x, there.y), abs=1e-6)
    # A line that crosses itself has two answers there: each is right.
    along, off = fence.to_plane(x, y)
    back = fence.to_map(along)
    assert abs(off[0]) < 1e-6 and (back[0][0], back[1][0]) == pytest.approx((x[0], y[0]), abs=1e-5)


def test_sides_directions_and_steps_of_a_fence() -> None:
    assert [p.azimuth for p in BENT.pieces] == [90.0, 0.0, 90.0]
    assert BENT.corners.tolist() == [0.0, 100.0, 200.0, 320.0]
    assert BENT.azimuth_at(np.array([50.0, 150.0, 310.0])).tolist() == [90.0, 0.0, 90.0]
    # The second piece runs north: behind it, away from the viewer, lies west.
    along, off = BENT.to_plane(np.array([90.0, 110.0]), np.array([60.0, 40.0]))
    assert along.tolist() == [160.0, 140.0]
    assert off.tolist() == [10.0, -10.0]
    # In the outer angle of a bend a place lies at the bend.
    along, off = BENT.to_plane(np.array([103.0]), np.array([-4.0]))
    assert (along[0], abs(off[0])) == (100.0, 5.0)
    assert BENT.moved(5.0, -3.0).places[2].tolist() == [105.0, 97.0]
    a = np.radians(BENT.azimuth)
    step = BENT.stepped(10.0).places - BENT.places
    assert step == pytest.approx(np.tile([-10 * np.cos(a), 10 * np.sin(a)], (4, 1)))
    back = turned(turned(BENT, 37.0), -37.0)
    assert back.places == pytest.approx(BENT.places)
    assert turned(BENT, 90.0).pieces[0].azimuth == pytest.approx(180.0)


def test_lines_beside_a_fence_are_mitred() -> None:
    beside = shapely.LineString(BENT.beside(10.0))
    # Parallel offset with mitred corners, as shapely makes it (positive distances lie to the left: behind).
    wanted = shapely.LineString(BENT.places).offset_curve(10.0, join_style="mitre")
    assert beside.hausdorff_distance(wanted) < 1e-9


def test_a_fence_cuts_a_body_piece_by_piece() -> None:
    box = np.array([[x, y, z] for x in (20.0, 150.0) for y in (-30.0, 60.0) for z in (-50.0, 10.0)])
    pieces = cut_surface(box, ConvexHull(box).simplices, BENT)
    # It enters 20 m along the first piece and leaves 60 m along the second: 80 m + 60 m, roof and floor, one wall each.
    lengths = np.hypot(*(pieces[:, 1] - pieces[:, 0]).T)
    assert lengths.sum() == pytest.approx(2 * (80.0 + 60.0) + 2 * 60.0)
    assert (pieces[..., 0].min(), pieces[..., 0].max()) == pytest.approx((20.0, 160.0))


@pytest.mark.parametrize("places", [[], [1.0, 2.0], [1.0, 2.0, 1.0, 2.0], [0.0, 0.0, np.nan, 5.0]])
def test_what_is_no_section_is_refused(places: list[float]) -> None:
    with pytest.raises(ValueError, match="two places"):
        SectionPlane.along(places)
