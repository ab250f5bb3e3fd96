"""Lines, outlines and notes in space: what is kept of them, and what is refused."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.errors import LampError
from innerlamp.core.items.features import LINE, POINT, Features, in_space, part_vertices
from innerlamp.core.progress import SILENT
from innerlamp.core.running.table import OPERATIONS

CRS = "EPSG:32629"
LINE_PLACES = "500 100 50; 510 100 40; 520 100 20"


def run(name: str, item: Features | None, values: dict[str, Any]) -> Features:
    op = OPERATIONS[name]
    made = op.run(Inputs({"features": item} if item is not None else {}, CRS), op.check(values), SILENT)["features"]
    assert isinstance(made, Features)
    return made


def draw(item: Features | None = None, **values: Any) -> Features:
    return run("draw-in-space", item, values)


def test_lines_outlines_and_notes_keep_their_places_in_space() -> None:
    first = draw(points=LINE_PLACES, value="Vein 1")
    both = draw(first, shape="outline", points="500 100 50; 510 100 40; 505 100 20; 500 100 50", value="Skarn")
    three = draw(both, shape="note", points="515 100 70", words="  open below ")
    assert three.table["body"].tolist() == ["Vein 1", "Skarn", ""]
    assert three.table["note"].tolist() == ["", "", "open below"]
    assert three.part_types.tolist() == [LINE, LINE, POINT]
    assert part_vertices(three, 0).tolist() == [[500, 100, 50], [510, 100, 40], [520, 100, 20]]
    outline = part_vertices(three, 1)
    assert len(outline) == 4 and outline[0].tolist() == outline[-1].tolist()  # closed once, however it was given
    assert in_space(three).all()
    # On the ground it is a map's, off it it lies in space.
    assert not in_space(three, np.zeros(len(three.vertices))).any()
    assert in_space(three, np.array([0, 0, -9.0, 0, 0, 0, 0, 0])).tolist() == [True, False, False]


def test_a_corner_that_two_drawings_share_moves_and_goes_for_both() -> None:
    both = draw(draw(points=LINE_PLACES), shape="outline", points="520 100 20; 530 100 0; 540 100 30; 530 100 45")
    where = {"x": 520.0, "y": 100.0, "z": 20.0}
    moved = run("move-in-space", both, {**where, "to_x": 521.0, "to_y": 100.5, "to_z": 18.0})
    assert part_vertices(moved, 0)[-1].tolist() == [521.0, 100.5, 18.0]
    assert part_vertices(moved, 1)[[0, -1]].tolist() == [[521.0, 100.5, 18.0]] * 2
    less = run("move-in-space", both, {**where, "action": "remove"})
    assert part_vertices(less, 0).tolist() == [[500, 100, 50], [510, 100, 40]]
    assert part_vertices(less, 1).tolist() == [[530, 100, 0], [540, 100, 30], [530, 100, 45], [530, 100, 0]]
    with pytest.raises(LampError, match="nothing would be left"):
        run("move-in-space", less, {"action": "remove", "x": 500.0, "y": 100.0, "z": 50.0})


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"points": ""}, "no place"),
        ({"points": "1 2"}, "three numbers"),
        ({"points": "1 2 x; 3 4 5"}, "easting northing elevation"),
        ({"points": "1 2 3"}, "two places"),
        ({"points": "1 2 3; 1 2 3"}, "two places"),
        ({"points": "1 2 3; 4 5 6", "shape": "outline"}, "three places"),
        ({"points": "1 2 3", "shape": "note"}, "needs words"),
        ({"points": [(np.nan, 1.0, 2.0), (3.0, 4.0, 5.0)]}, "no place|finite"),
    ],
)
def test_what_can_not_be_drawn_is_said(values: dict[str, Any], words: str) -> None:
    with pytest.raises(LampError, match=words):
        draw(**values)


def test_where_nothing_is_drawn_nothing_is_moved() -> None:
    with pytest.raises(LampError, match="nothing is drawn"):
        run("move-in-space", draw(points=LINE_PLACES), {"x": 1.0, "y": 2.0, "z": 3.0})
