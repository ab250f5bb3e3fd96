"""Drawing on the map: snapping, shared boundaries, corners, splitting, joining, merging. Areas are checked against shapely."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import shapely

from innerlamp.core.compute.geometry import sketching as sk
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import InputError
from innerlamp.core.formats.shapes.features import polygons_of, shapes_of
from innerlamp.core.items.features import Features
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"
LEFT = [(0, 0), (100, 0), (100, 100), (0, 100)]


def run(operation: str, item: Features | None, **params: Any) -> Features:
    op = OPERATIONS[operation]
    made = op.run(Inputs({} if item is None else {"features": item}, CRS), op.check(params), SILENT)["features"]
    assert isinstance(made, Features)
    return made


def draw(item: Features | None, points: list[tuple[float, float]], value: str, **params: Any) -> Features:
    return run("draw-feature", item, points=points, value=value, **params)


@pytest.fixture
def two() -> Features:
    """A square of slate and one of granite that shares its right-hand side, drawn over it."""
    slate = draw(None, LEFT, "SLATE", name="Geology")
    return draw(slate, [(60, 20), (160, 20), (160, 80), (60, 80)], "GRANITE")


def area(item: Features, unit: str) -> float:
    return sum(s.area for s, u in zip(shapes_of(item), item.table["unit"], strict=True) if u == unit)


def test_a_new_polygon_takes_its_ground_from_others_and_shares_their_edges(two: Features) -> None:
    assert two.name == "Geology" and list(two.table["unit"]) == ["SLATE", "GRANITE"]
    assert area(two, "GRANITE") == pytest.approx(6000)
    assert area(two, "SLATE") == pytest.approx(10_000 - 40 * 60)
    first, second = shapes_of(two)
    assert first.intersection(second).area == 0.0
    assert first.intersection(second).length == pytest.approx(60 + 2 * 40)
    filled = draw(two, [(-50, -50), (200, -50), (200, 150), (-50, 150)], "TILL", over="fill gaps")
    assert area(filled, "TILL") == pytest.approx(250 * 200 - 6000 - 7600)
    over = draw(two, [(0, 0), (50, 0), (50, 50)], "DYKE", over="lie over")
    assert area(over, "SLATE") == pytest.approx(7600)
    with pytest.raises(InputError, match="cover all of this ground"):
        draw(two, [(10, 10), (20, 10), (20, 20)], "X", over="fill gaps")


def test_a_shared_corner_moves_for_both_neighbours_and_crossing_is_refused(two: Features) -> None:
    moved = run("edit-corner", two, action="move", x=60, y=20, to_x=50, to_y=15)
    assert sum(s.area for _, s in polygons_of(moved)) == pytest.approx(
        sum(s.area for _, s in polygons_of(two)), rel=0.02
    )
    first, second = shapes_of(moved)
    assert first.intersection(second).area == pytest.approx(0.0, abs=1e-9)
    assert (np.hypot(*(moved.vertices[:, :2] - [50, 15]).T) < 1e-6).sum() >= 2
    with pytest.raises(InputError, match="crosses itself"):
        run("edit-corner", two, action="move", x=160, y=20, to_x=20, to_y=120)
    with pytest.raises(InputError, match="no corner at that place"):
        run("edit-corner", two, action="move", x=7, y=7, to_x=0, to_y=0)


def test_corners_are_added_to_and_removed_from_all_boundaries_there(two: Features) -> None:
    added = run("edit-corner", two, action="add", x=60, y=50)
    assert (np.hypot(*(added.vertices[:, :2] - [60, 50]).T) < 1e-6).sum() == 2
    back = run("edit-corner", added, action="remove", x=60, y=50)
    assert [s.equals(t) for s, t in zip(shapes_of(back), shapes_of(two), strict=True)] == [True, True]
    with pytest.raises(InputError, match="no edge passes there"):
        run("edit-corner", two, action="add", x=500, y=50)
    triangle = draw(None, [(0, 0), (10, 0), (0, 10)], "A")
    with pytest.raises(InputError, match="three corners"):
        run("edit-corner", triangle, action="remove", x=0, y=0)


def test_splitting_joining_and_merging_keep_the_ground(two: Features) -> None:
    halves = run("split-features", two, points=[(-10, 50), (300, 50)])
    assert list(halves.table["unit"]) == ["SLATE", "SLATE", "GRANITE", "GRANITE"]
    assert area(halves, "SLATE") == pytest.approx(7600) and area(halves, "GRANITE") == pytest.approx(6000)
    joined = run("join-features", halves, rows=[2, 3])
    assert list(joined.table["unit"]) == ["SLATE", "SLATE", "GRANITE"]
    merged = run("merge-by-unit", halves, column="unit")
    assert list(merged.table["unit"]) == ["SLATE", "GRANITE"]
    assert [s.normalize().equals(t.normalize()) for s, t in zip(shapes_of(merged), shapes_of(two), strict=True)] == [
        True,
        True,
    ]
    with pytest.raises(InputError, match="from side to side"):
        run("split-features", two, points=[(10, 10), (20, 20)])
    with pytest.raises(InputError, match="2 features at least"):
        run("join-features", two, rows=[1])
    line = draw(two, [(0, 0), (50, 50), (100, 100)], "fault", shape="line")
    with pytest.raises(InputError, match="can't be joined"):
        run("join-features", line, rows=[0, 2])
    cut = run("split-features", line, points=[(0, 60), (60, 0)], rows=[2])
    assert [s.geom_type for s in shapes_of(cut)].count("LineString") == 2


def test_values_are_set_and_features_removed(two: Features) -> None:
    renamed = run("edit-features", two, rows=[0], value="PHYLLITE")
    assert list(renamed.table["unit"]) == ["PHYLLITE", "GRANITE"]
    assert len(run("edit-features", two, action="remove", rows=[0]).table) == 1
    with pytest.raises(InputError, match="no feature 10"):
        run("edit-features", two, rows=[9], value="x")
    with pytest.raises(InputError, match="nothing would be left"):
        run("edit-features", two, action="remove", rows=[0, 1])


@pytest.mark.parametrize(
    ("points", "words"),
    [
        ([(0, 0), (10, 10)], "three corners"),
        ([(0, 0), (10, 10), (10, 0), (0, 10)], "cross itself"),
        ([(0, 0), (5, 5), (10, 10)], "no area|cross itself"),
    ],
)
def test_polygons_that_are_none_are_refused(points: list[tuple[float, float]], words: str) -> None:
    with pytest.raises(InputError, match=words):
        draw(None, points, "A")


def test_clicks_snap_to_corners_before_edges_and_follow_a_boundary_the_shorter_way() -> None:
    ring = np.array([*LEFT, LEFT[0]], dtype=float)
    assert sk.snap(97, 3, [ring], 5) == sk.Snap(100.0, 0.0, "corner", 0, 1.0)
    edge = sk.snap(52, 3, [ring], 5)
    assert (edge.on, edge.x, edge.y, edge.position) == ("edge", 52.0, 0.0, 0.52)
    assert sk.snap(50, 40, [ring], 5).on == ""
    start, stop = sk.snap(100, 50, [ring], 1).position, sk.snap(50, 100, [ring], 1).position
    assert sk.followed(ring, start, stop).tolist() == [[100, 100]]
    low = sk.snap(50, 0, [ring], 1).position
    west = sk.snap(0, 50, [ring], 1).position
    assert sk.followed(ring, low, west).tolist() == [[0, 0]]
    assert sk.followed(ring, west, low).tolist() == [[0, 0]]
    path = np.array([(0, 0), (10, 0), (20, 5), (30, 0)], dtype=float)
    assert sk.followed(path, 2.5, 0.5).tolist() == [[20, 5], [10, 0]]


def test_split_keeps_holes_empty() -> None:
    holed = shapely.Polygon([(0, 0), (10, 0), (10, 10), (0, 10)], [[(4, 4), (6, 4), (6, 6), (4, 6)]])
    parts = sk.split(holed, shapely.LineString([(5, -1), (5, 11)]))
    assert len(parts) == 2 and sum(p.area for p in parts) == pytest.approx(96.0)
