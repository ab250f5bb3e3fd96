"""The drilled part of a prospect, and what the form of units proposes for it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.drilling.drilled_part import cell_for, main_group, section_line
from innerlamp.core.declaring.operation import Inputs
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.running.table import OPERATIONS


def test_single_holes_far_off_do_not_belong_to_the_drilled_part() -> None:
    x, y = (g.ravel() for g in np.meshgrid(7_410_000 + 50.0 * np.arange(6), 430_000 + 40.0 * np.arange(5)))
    far = np.array([7_413_000.0, 7_405_000.0])
    group = main_group(np.append(x, far), np.append(y, [430_000.0, 431_000.0]))
    assert group.tolist() == [True] * 30 + [False] * 2
    assert main_group(x, y).all()
    assert main_group(np.array([1.0, 9e5]), np.array([1.0, 9e5])).all()  # two holes are no group and its strays
    assert main_group(np.full(8, 5.0), np.full(8, 5.0)).all()  # a fan from one pad
    pads = np.repeat(50.0 * np.arange(6), 4)
    assert main_group(np.append(pads, 9_000.0), np.zeros(25)).tolist() == [True] * 24 + [False]


@pytest.mark.parametrize(
    ("size", "height", "wanted"), [(100.0, 60.0, 2.0), (1_000.0, 400.0, 20.0), (9_000.0, 900.0, 100.0)]
)
def test_cells_are_as_small_as_their_count_allows(size: float, height: float, wanted: float) -> None:
    cell = cell_for(size, size, height, 400_000)
    assert cell == wanted
    assert size * size * height / (0.4 * cell**3) <= 400_000


def test_the_form_of_units_proposes_the_drilled_part_of_the_demo(demo_path: Path) -> None:
    with Project.open(demo_path, write=False) as project:
        holes = project["Emberlow holes"]
        assert isinstance(holes, HoleSet)
        suggest = OPERATIONS["build-units"].suggest
        assert suggest is not None
        found = suggest(Inputs({"holes": holes}, project.store.crs))
    west, south = np.min(found["outline"], axis=0)
    east, north = np.max(found["outline"], axis=0)
    collars = holes.collars
    inside = (collars["x"].between(west, east) & collars["y"].between(south, north)).to_numpy()
    assert 0.7 * len(collars) < inside.sum() < len(collars)
    assert (east - west) * (north - south) < 0.2 * np.ptp(collars["x"]) * np.ptp(collars["y"])
    assert found["cell_z"] == pytest.approx(0.4 * found["cell"])


def holes(azimuth: float, dip: float, lines: int = 5, each: int = 6) -> tuple[np.ndarray, np.ndarray]:
    """Collars and ends in plan of holes 200 m long on lines 80 m apart, in the southern hemisphere."""
    a, d = np.radians([azimuth, dip])
    along, aside = np.array([np.sin(a), np.cos(a)]), np.array([np.cos(a), -np.sin(a)])
    grid = [(i, k) for i in range(lines) for k in range(each if i != 3 else each + 4)]
    start = (
        np.array([430_000 + 80.0 * i * aside[0] + 40.0 * k * along[0] for i, k in grid]),
        np.array([7_410_000 + 80.0 * i * aside[1] + 40.0 * k * along[1] for i, k in grid]),
    )
    collar = np.column_stack(start)
    return collar, collar + 200.0 * np.cos(d) * along


@pytest.mark.parametrize("azimuth", [60.0, 90.0, 135.0, 0.0, 300.0])
def test_the_section_runs_the_way_the_holes_go_through_the_line_with_most_of_them(azimuth: float) -> None:
    start, end = holes(azimuth, -60.0)
    line = section_line(start, end, 50.0)
    assert line is not None
    run = line[1] - line[0]
    found = np.degrees(np.arctan2(run[0], run[1])) % 180.0
    assert min(abs(found - azimuth % 180), 180 - abs(found - azimuth % 180)) < 1e-6
    aside = np.array([-run[1], run[0]]) / np.hypot(*run)
    assert (np.abs((start - line[0]) @ aside) < 1.0).sum() == 10  # the longer line
    t = (np.concatenate([start, end]) - line[0]) @ run / (run @ run)
    mine = np.abs((np.concatenate([start, end]) - line[0]) @ aside) < 1.0
    assert t[mine].min() > 0.0 and t[mine].max() < 1.0


def test_holes_from_both_sides_and_steep_ones_have_a_section_too() -> None:
    start, end = holes(90.0, -60.0)
    end[::2] = 2 * start[::2] - end[::2]  # every second one the other way
    line = section_line(start, end, 50.0)
    assert line is not None
    assert abs(line[1][1] - line[0][1]) < 1e-6
    steep = section_line(start, start.copy(), 50.0)
    assert steep is not None
    assert np.hypot(*(steep[1] - steep[0])) > 300.0
    one = section_line(start[:1], start[:1], 50.0)
    assert one is not None
    assert np.hypot(*(one[1] - one[0])) == pytest.approx(100.0)
    assert section_line(np.full((2, 2), np.nan), np.full((2, 2), np.nan), 50.0) is None
