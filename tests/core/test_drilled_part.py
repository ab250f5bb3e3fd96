"""The drilled part of a prospect, and what the form of units proposes for it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.drilling.drilled_part import cell_for, main_group
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
