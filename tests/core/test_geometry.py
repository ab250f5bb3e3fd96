"""Section planes, reading grids, triangles and shading, against closed forms and scipy."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import RegularGridInterpolator
from scipy.optimize import nnls
from scipy.spatial import ConvexHull, Delaunay

from innerlamp.core.compute.geometry.footprint import footprint
from innerlamp.core.compute.geometry.planes import SectionPlane, cut_surface
from innerlamp.core.compute.geometry.sampling import bilinear
from innerlamp.core.compute.geometry.surface_distance import distance_to_surface
from innerlamp.core.compute.geometry.triangles import is_closed, volume
from innerlamp.core.compute.gridding.shading import hillshade

METRES = st.floats(-1e4, 1e4)
BOX = np.array([[x, y, z] for x in (0.0, 2.0) for y in (0.0, 3.0) for z in (0.0, 4.0)])


def hull(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Outward triangles of a convex body."""
    made = ConvexHull(points)
    triangles = made.simplices.copy()
    a, b, c = (points[triangles[:, k]] for k in range(3))
    inward = np.einsum("ij,ij->i", np.cross(b - a, c - a), made.equations[:, :3]) < 0
    triangles[inward] = triangles[inward][:, ::-1]
    return points, triangles


@pytest.mark.parametrize(
    ("plane", "azimuth", "view"),
    [
        (SectionPlane(0, 0, 0, 10), 0, 270),
        (SectionPlane(0, 0, 10, 0), 90, 0),
        (SectionPlane(0, 0, -10, 0), 270, 180),
        (SectionPlane(5, 5, 15, -5), 135, 45),
    ],
)
def test_the_start_of_a_section_is_on_the_viewers_left(plane: SectionPlane, azimuth: float, view: float) -> None:
    assert (plane.azimuth, plane.view_azimuth) == pytest.approx((azimuth, view))
    a = np.radians(view)
    # One metre ahead of the viewer lies behind the plane.
    x, y = plane.to_map(np.array([1.0]))
    _, off = plane.to_plane(x + np.sin(a), y + np.cos(a))
    assert off[0] == pytest.approx(1.0)


@given(METRES, METRES, METRES, METRES)
def test_along_and_across_are_distances(x: float, y: float, dx: float, dy: float) -> None:
    plane = SectionPlane(100.0, -50.0, 700.0, 300.0)
    along, off = plane.to_plane(np.array([x]), np.array([y]))
    there, back = plane.to_map(along)
    assert np.hypot(there[0] - x, back[0] - y) == pytest.approx(abs(off[0]), abs=1e-6)
    second, across = plane.to_plane(np.array([x + dx]), np.array([y + dy]))
    assert np.hypot(second[0] - along[0], across[0] - off[0]) == pytest.approx(np.hypot(dx, dy), abs=1e-6)


def test_a_cut_box_gives_its_outline() -> None:
    vertices, triangles = hull(BOX)
    plane = SectionPlane(-1.0, 1.5, 5.0, 1.5)
    pieces = cut_surface(vertices, triangles, plane)
    lengths = np.linalg.norm(pieces[:, 1] - pieces[:, 0], axis=1)
    assert lengths.sum() == pytest.approx(2 * (2.0 + 4.0))  # around 2 m by 4 m
    assert pieces[..., 0].min() == pytest.approx(1.0)
    assert pieces[..., 0].max() == pytest.approx(3.0)
    assert (pieces[..., 1].min(), pieces[..., 1].max()) == pytest.approx((0.0, 4.0))
    assert len(cut_surface(vertices, triangles, SectionPlane(-1.0, 9.0, 5.0, 9.0))) == 0
    assert cut_surface(vertices, np.empty((0, 3), int), plane).shape == (0, 2, 2)


def test_volumes_of_bodies_with_known_ones() -> None:
    vertices, triangles = hull(BOX)
    assert volume(vertices, triangles) == pytest.approx(24.0)
    assert volume(vertices, triangles[:, ::-1]) == pytest.approx(-24.0)
    assert volume(vertices + 1e6, triangles) == pytest.approx(24.0, rel=1e-6)  # far from the origin
    tetrahedron = np.vstack([np.zeros(3), np.eye(3)])
    assert volume(*hull(tetrahedron)) == pytest.approx(1.0 / 6.0)
    rng = np.random.default_rng(0)
    cloud = rng.normal(size=(60, 3))
    assert volume(*hull(cloud)) == pytest.approx(ConvexHull(cloud).volume)  # scipy
    assert volume(vertices, np.empty((0, 3), int)) == 0.0


def test_closed_means_every_edge_twice_and_opposite() -> None:
    _, triangles = hull(BOX)
    assert is_closed(triangles)
    assert not is_closed(triangles[1:])
    flipped = triangles.copy()
    flipped[0] = flipped[0][::-1]
    assert not is_closed(flipped)
    assert not is_closed(np.empty((0, 3), int))


def test_bilinear_agrees_with_scipy_inside() -> None:
    rng = np.random.default_rng(3)
    values = rng.normal(size=(7, 9))
    y, x = 5.0 + 20.0 * np.arange(7), 100.0 + 10.0 * np.arange(9)
    at = np.column_stack([rng.uniform(y[0], y[-1], 200), rng.uniform(x[0], x[-1], 200)])
    ours = bilinear(values, 100.0, 5.0, 10.0, 20.0, at[:, 1], at[:, 0])
    assert ours == pytest.approx(RegularGridInterpolator((y, x), values)(at))


def test_bilinear_at_the_edge_and_beside_blanks() -> None:
    values = np.array([[1.0, 2.0], [3.0, np.nan]])
    read = lambda x, y: float(bilinear(values, 0.0, 0.0, 1.0, 1.0, np.array([x]), np.array([y]))[0])  # noqa: E731
    assert read(-0.4, -0.4) == 1.0  # within half a cell the edge value holds
    assert np.isnan(read(-0.6, 0.0))
    assert read(0.0, 1.0) == 3.0  # a blank neighbour of weight zero does not spoil a value
    assert read(0.5, 0.0) == 1.5
    assert np.isnan(read(0.5, 0.5))
    assert np.isnan(read(np.nan, 0.0))


def test_footprint_encloses_the_plan_area() -> None:
    vertices, triangles = hull(BOX * 100.0)
    lines = footprint(vertices, triangles)
    x, y = np.concatenate(lines).T
    assert len(lines) == 1
    area = 0.5 * abs(np.dot(x[:-1], y[1:]) - np.dot(x[1:], y[:-1]))
    assert area == pytest.approx(200.0 * 300.0, rel=0.03)


def test_shade_of_a_plane_follows_lamberts_law() -> None:
    # A plane that faces the light fully is as bright as can be; one that turns away by the angle a, cos(a).
    y, x = np.mgrid[0:20, 0:20] * 10.0
    flat = hillshade(np.zeros((20, 20)), 10.0, 10.0, azimuth=315.0, altitude=45.0, exaggeration=1.0)
    assert flat == pytest.approx(np.full((20, 20), np.sin(np.radians(45.0))))
    facing = (x - y) / np.sqrt(2.0)  # dips 45 degrees to the north-west
    assert hillshade(facing, 10.0, 10.0, exaggeration=1.0) == pytest.approx(np.ones((20, 20)))
    away = -facing
    assert hillshade(away, 10.0, 10.0, exaggeration=1.0) == pytest.approx(np.zeros((20, 20)), abs=1e-12)
    holed = facing.copy()
    holed[4, 4] = np.nan
    assert np.isnan(hillshade(holed, 10.0, 10.0)[4, 4])


def test_distances_to_uneven_triangles_are_exact() -> None:
    """A sheet of slivers and giants; the judge minimises over every triangle by itself (scipy)."""
    rng = np.random.default_rng(0)
    plan = np.concatenate([rng.uniform(0, 1000, (40, 2)), rng.uniform(0, 30, (60, 2))])
    triangles = Delaunay(plan).simplices
    vertices = np.column_stack([plan, rng.normal(0, 8, len(plan))])
    points = rng.uniform(-200, 1200, (60, 3)) * np.array([1, 1, 0.2])
    best = np.full(len(points), np.inf)
    for a, b, c in vertices[triangles]:
        for row, p in enumerate(points):
            # Barycentric shares that are not negative and sum to one: the nearest place by bounded least squares.
            matrix = np.vstack([np.column_stack([a, b, c]) / 1e3, np.full(3, 1e3)])
            shares = nnls(matrix, np.append(p / 1e3, 1e3))[0]
            best[row] = min(best[row], np.linalg.norm(shares @ np.array([a, b, c]) / shares.sum() - p))
    found = distance_to_surface(points, vertices, triangles)
    assert found == pytest.approx(best, rel=1e-4, abs=1e-3)
    assert np.isnan(distance_to_surface(np.array([[np.nan, 0, 0]]), vertices, triangles)).all()
