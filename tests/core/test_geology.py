"""Radial fields against scipy; shells against exact volumes; sections against plane geometry."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import RBFInterpolator

from innerlamp.core.compute.geology import rbf
from innerlamp.core.compute.geology.shells import closed_shell
from innerlamp.core.compute.geometry.footprint import footprint
from innerlamp.core.compute.geometry.planes import SectionPlane, cut_surface
from innerlamp.core.compute.geometry.triangles import is_closed, volume
from innerlamp.core.errors import InputError

RNG = np.random.default_rng(11)
POINTS = RNG.uniform(0, 100, (300, 3))
VALUES = np.sin(POINTS[:, 0] / 15) + POINTS[:, 1] / 60
QUERY = RNG.uniform(-10, 110, (200, 3))


@pytest.mark.parametrize(("drift", "degree"), [("constant", 0), ("linear", 1)])
def test_field_equals_scipy(drift: rbf.Drift, degree: int) -> None:
    mine = rbf.evaluate(rbf.fit(POINTS, VALUES, drift=drift), QUERY)
    assert mine == pytest.approx(RBFInterpolator(POINTS, VALUES, kernel="linear", degree=degree)(QUERY), abs=1e-7)


def test_smoothing_equals_scipy_and_anisotropy_is_a_stretch_of_space() -> None:
    mine = rbf.evaluate(rbf.fit(POINTS, VALUES, nugget=5.0), QUERY)
    assert mine == pytest.approx(
        RBFInterpolator(POINTS, VALUES, kernel="linear", degree=0, smoothing=5.0)(QUERY), abs=1e-7
    )
    # Vertical plane striking north: north and down reach three times as far as east.
    plane = rbf.Ellipsoid(azimuth=0.0, dip=90.0, along=3.0, down=3.0)
    squeeze = np.array([1.0, 1 / 3, 1 / 3])
    other = RBFInterpolator(POINTS * squeeze, VALUES, kernel="linear", degree=0)(QUERY * squeeze)
    assert rbf.evaluate(rbf.fit(POINTS, VALUES, ellipsoid=plane), QUERY) == pytest.approx(other, abs=1e-7)


def test_repeated_points_are_averaged_and_few_points_refused() -> None:
    points = np.vstack([POINTS, POINTS[:1]])
    field = rbf.fit(points, np.append(VALUES, VALUES[0] + 2.0))
    assert rbf.evaluate(field, POINTS[:1])[0] == pytest.approx(VALUES[0] + 1.0, abs=1e-4)
    with pytest.raises(InputError, match="too few"):
        rbf.fit(POINTS[:3], VALUES[:3])


def test_shell_of_a_sphere_converges_to_its_volume() -> None:
    # Relative volume errors of a contoured sphere R=10 are -2.49e-3 at h 0.65 and four times less at half of it.
    errors = []
    for h in (0.65, 0.325):
        axis = np.arange(-13, 13 + h / 2, h)
        x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
        vertices, triangles, held = closed_shell(10 - np.sqrt(x**2 + y**2 + z**2), (-13, -13, -13), h)
        assert is_closed(triangles)
        assert held == pytest.approx(volume(vertices, triangles))
        errors.append(held / (4 / 3 * np.pi * 1000) - 1)
    assert errors[0] == pytest.approx(-2.49e-3, abs=2e-5)
    assert errors[1] == pytest.approx(errors[0] / 4, rel=0.05)


def test_shell_is_closed_where_it_meets_the_box_and_nothing_is_refused() -> None:
    vertices, triangles, held = closed_shell(np.ones((5, 6, 7)), (0.0, 0.0, 0.0), 2.0)
    assert is_closed(triangles)
    assert held > 8 * 10 * 12  # at least the box of the nodes
    assert vertices.min() > -2.0
    with pytest.raises(InputError, match="nothing lies above"):
        closed_shell(np.zeros((4, 4, 4)), (0, 0, 0), 1.0, level=1.0)


def test_volume_of_known_bodies() -> None:
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]])
    faces = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    assert volume(corners + 7e6, faces) == pytest.approx(1 / 6, rel=1e-8)
    assert volume(corners, faces[:, ::-1]) == pytest.approx(-1 / 6)
    assert is_closed(faces)
    assert not is_closed(faces[:3])


def test_section_plane_directions() -> None:
    # Looking along a line from west to east, A on the left: the viewer looks north.
    plane = SectionPlane(100.0, 50.0, 300.0, 50.0)
    assert (plane.azimuth, plane.view_azimuth) == (90.0, 0.0)
    along, behind = plane.to_plane(np.array([150.0]), np.array([80.0]))
    assert (along[0], behind[0]) == (50.0, 30.0)
    assert plane.to_map(along) == (pytest.approx([150.0]), pytest.approx([50.0]))


def test_cut_of_a_tetrahedron_and_footprint_of_a_square() -> None:
    corners = np.array([[0, 0, 0], [10, 0, 0], [0, 10, 0], [0, 0, 10.0]])
    faces = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    pieces = cut_surface(corners, faces, SectionPlane(0, 5, 10, 5))
    assert np.linalg.norm(np.diff(pieces, axis=1), axis=2).sum() == pytest.approx(5 + 5 + 5 * np.sqrt(2))
    square = np.array([[0, 0, 0], [100, 0, 3], [100, 100, 5], [0, 100, 1.0]])
    (line,) = footprint(square, np.array([[0, 1, 2], [0, 2, 3]]), cells=200)
    assert np.ptp(line, axis=0) == pytest.approx([100, 100], abs=1.5)


def test_a_box_of_ones_measures_its_cells() -> None:
    """At the box the shell ends half a cell beyond the last node, with plane faces."""
    vertices, triangles, held = closed_shell(np.ones((3, 3, 3)), (10.0, 20.0, 30.0), 2.0)
    assert held == pytest.approx(27 * 8.0, rel=1e-6)
    assert vertices.min(axis=0) == pytest.approx([9.0, 19.0, 29.0], abs=1e-3)
    assert vertices.max(axis=0) == pytest.approx([15.0, 25.0, 35.0], abs=1e-3)
    assert is_closed(triangles)


def test_nodes_at_the_level_and_missing_ones_leave_a_closed_surface() -> None:
    """Whole numbers around a cut-off of 1 and holes: the worst case for a surface that must not touch itself."""
    rng = np.random.default_rng(0)
    for k in range(60):
        field = rng.integers(-1, 3, (7, 6, 5)).astype(float)
        if k % 2:
            field[rng.random(field.shape) < 0.1] = np.nan
        vertices, triangles, held = closed_shell(field, (0.0, 0.0, 0.0), 1.0, 1.0)
        assert is_closed(triangles)
        assert 0 < held < 7 * 6 * 5
        assert held == pytest.approx(volume(vertices, triangles))
    beside = np.ones((5, 3, 3))
    beside[3:] = np.nan
    _, _, held = closed_shell(beside, (0.0, 0.0, 0.0), 1.0)
    assert held == pytest.approx(27.0, rel=1e-3)  # half-way to what is missing


def test_shoots_pitch_within_their_plane() -> None:
    """A line in a plane by trigonometry: tan(trend - strike) = tan(pitch) cos(dip), sin(plunge) = sin(pitch) sin(dip)."""
    for strike, dip, pitch in ((30.0, 60.0, 40.0), (200.0, 75.0, 120.0), (0.0, 90.0, 25.0)):
        shape = rbf.Ellipsoid(strike, dip, 6.0, 2.0, pitch)
        trend, plunge = shape.main
        assert np.sin(np.radians(plunge)) == pytest.approx(np.sin(np.radians(pitch)) * np.sin(np.radians(dip)))
        turned = np.arctan2(np.sin(np.radians(pitch)) * np.cos(np.radians(dip)), np.cos(np.radians(pitch)))
        assert trend == pytest.approx((strike + np.degrees(turned)) % 360.0)
        t, d = np.radians(trend), np.radians(plunge)
        along = np.array([np.sin(t) * np.cos(d), np.cos(t) * np.cos(d), -np.sin(d)])
        s, dd = np.radians(strike), np.radians(dip)
        pole = np.cross([np.sin(s), np.cos(s), 0.0], [np.cos(s) * np.cos(dd), -np.sin(s) * np.cos(dd), -np.sin(dd)])
        lengths = [np.linalg.norm(shape.matrix() @ v) for v in (along, np.cross(pole, along), pole)]
        assert lengths == pytest.approx([1 / 6.0, 1 / 2.0, 1.0])  # three ranges
    assert rbf.Ellipsoid(10.0, 50.0, 3.0, 3.0).matrix() == pytest.approx(
        rbf.Ellipsoid(10.0, 50.0, 3.0, 3.0, 0.0).matrix()
    )


def test_points_merge_by_true_distance() -> None:
    """Two places 30 mm apart along a direction that is stretched fifty times stay two."""
    rng = np.random.default_rng(0)
    places = rng.uniform(0, 100, (20, 3))
    places[1] = places[0] + [0.0, 0.03, 0.0]
    field = rbf.fit(places, np.arange(20.0), ellipsoid=rbf.Ellipsoid(0.0, 90.0, 50.0, 50.0))
    assert len(field.centres) == 20
    places[1] = places[0] + [0.0, 0.0005, 0.0]
    assert len(rbf.fit(places, np.arange(20.0)).centres) == 19
