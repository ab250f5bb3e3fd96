"""Grades of blocks: kriging against a reference library, searches against looking at every sample, tonnes by hand."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import gstools as gs
import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.geology.estimation import Search, Variogram, estimate, grade_and_tonnage
from innerlamp.core.compute.geology.rbf import Ellipsoid
from innerlamp.core.compute.gridding.variogram import Structure
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import PointSet

CRS = "EPSG:32719"
ORIGIN = np.array([402_000.0, 7_502_000.0, 4_000.0])


@pytest.fixture(scope="module")
def samples() -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(2)
    at = ORIGIN + rng.uniform(0, 100, (60, 3))
    return at, np.exp(rng.normal(0, 1, 60)) + 0.02 * (at[:, 0] - ORIGIN[0])


def test_kriging_is_that_of_a_reference_library(samples: tuple[np.ndarray, np.ndarray]) -> None:
    # gstools: its exponential model reaches 95 % of its sill at three times the length scale.
    points, values = samples
    at = ORIGIN + np.random.default_rng(3).uniform(10, 90, (25, 3))
    ours = estimate(
        points,
        values,
        at,
        Search(reach=1e6, most=60),
        "kriging",
        Variogram(0.3, (Structure("exponential", 1.7, 75.0),)),
    )
    model = gs.Exponential(dim=3, var=1.7, len_scale=25.0, nugget=0.3, rescale=1.0)
    reference = gs.krige.Ordinary(model, (points - ORIGIN).T, values, exact=True)
    grade, variance = reference((at - ORIGIN).T)
    assert ours.grade == pytest.approx(grade, rel=1e-6)
    assert ours.variance == pytest.approx(variance, rel=1e-6)
    here = estimate(
        points,
        values,
        points[:5],
        Search(reach=1e6, most=60),
        "kriging",
        Variogram(0.0, (Structure("spherical", 1.0, 60.0),)),
    )
    assert here.grade == pytest.approx(values[:5], abs=1e-8) and np.abs(here.variance).max() < 1e-8


def test_the_search_takes_what_looking_at_every_sample_takes(samples: tuple[np.ndarray, np.ndarray]) -> None:
    points, values = samples
    ellipsoid = Ellipsoid(40.0, 65.0, 3.0, 2.0, 25.0)
    search = Search(ellipsoid, reach=90.0, least=4, most=8, each_octant=2, passes=(0.5, 1.0, 2.0))
    at = ORIGIN + np.random.default_rng(5).uniform(0, 100, (40, 3))
    found = estimate(points, values, at, search, "inverse distance", power=2.0)
    matrix = ellipsoid.matrix()
    for k, place in enumerate(at):
        off = (points - place) @ matrix.T
        away = np.linalg.norm(off, axis=1)
        grade, used, turn = np.nan, 0, 0
        for number, times in enumerate(search.passes, start=1):
            taken: list[int] = []
            counts: dict[tuple[bool, ...], int] = {}
            for j in np.argsort(away):
                octant = tuple((off[j] >= 0).tolist())
                if away[j] > 90.0 * times / 3.0 or len(taken) == 8:
                    break
                if counts.get(octant, 0) < 2:
                    counts[octant] = counts.get(octant, 0) + 1
                    taken.append(int(j))
            if len(taken) >= 4:
                grade, used, turn = float(np.average(values[taken], weights=away[taken] ** -2)), len(taken), number
                break
        assert found.passed[k] == turn
        if turn:
            assert found.samples[k] == used and found.grade[k] == pytest.approx(grade)
    assert set(found.passed) >= {1, 2, 3}
    nearest = estimate(points, values, at, Search(reach=1e6, least=1), "nearest")
    expected = values[np.argmin(np.linalg.norm(points[None] - at[:, None], axis=2), axis=1)]
    assert (nearest.grade == expected).all()
    for bad in (Search(reach=-1.0), Search(least=5, most=3), Search(passes=())):
        with pytest.raises(InputError, match="the search finds nothing"):
            estimate(points, values, at, bad, "nearest")
    with pytest.raises(InputError, match="needs a variogram"):
        estimate(points, values, at, Search(), "kriging")


def test_tonnes_and_grades_are_those_by_hand() -> None:
    table = grade_and_tonnage(
        np.array([1.0, 2.0, 4.0, np.nan]), np.array([10.0, 20.0, 30.0, 99.0]), 2.5, (0.0, 2.0, 9.0)
    )
    assert table[0] == pytest.approx((0.0, 150.0, (10 + 40 + 120) / 60))
    assert table[1] == pytest.approx((2.0, 125.0, (40 + 120) / 50))
    assert table[2][1] == 0.0 and np.isnan(table[2][2])


@pytest.fixture
def lamp(tmp_path: Path, samples: tuple[np.ndarray, np.ndarray]) -> Iterator[Project]:
    with Project.create(tmp_path / "blocks.lamp", CRS) as project:
        points, values = samples
        table = pd.DataFrame(
            {"x": points[:, 0], "y": points[:, 1], "z": points[:, 2], "from_m": 0.0, "to_m": 2.0, "Sn_ppm": values}
        )
        project.store.put(
            PointSet(
                name="Composites",
                crs=CRS,
                table=table,
                units={"Sn_ppm": "ppm"},
                content="composites",
                roles={"from_m": "from", "to_m": "to"},
            )
        )
        mesh = TensorMesh.even(tuple(ORIGIN), (20.0, 20.0, 20.0), (5, 5, 5))
        unit = np.where(np.arange(5)[:, None, None] < 2, 0.0, 1.0) + np.zeros(mesh.shape)
        project.store.put(
            BlockModel(name="Units", crs=CRS, mesh=mesh, properties={"unit": unit}, names={"unit": ("Ore", "Waste")})
        )
        yield project


def test_a_unit_bounds_blocks_and_samples_alike(lamp: Project, samples: tuple[np.ndarray, np.ndarray]) -> None:
    asked: dict[str, Any] = {"composites": "Composites", "attribute": "Sn_ppm", "reach": 60.0, "cutoffs": "1; 2"}
    made = lamp[lamp.run("estimate-blocks", **asked, model="Units", unit="Ore", method="nearest", least=1)["model"]]
    assert isinstance(made, BlockModel)
    grades = made.properties["Sn_ppm"]
    assert np.isfinite(grades[:2]).all() and np.isnan(grades[2:]).all()
    points, values = samples
    inside = points[:, 0] < ORIGIN[0] + 40.0
    assert set(grades[:2].ravel()) <= set(values[inside])
    free = lamp[lamp.run("estimate-blocks", **asked, cell=25, cell_z=25)["model"]]
    assert isinstance(free, BlockModel) and "kriging variance" in free.properties
    assert free.attributes["Sn_ppm"].unit == "ppm"
    known = np.isfinite(free.properties["Sn_ppm"])
    assert set(np.unique(free.properties["pass"][known])) <= {1.0, 2.0}
    for change, words in (
        ({"model": "Units", "unit": "Gold"}, "no unit 'Gold'"),
        ({"unit": "Ore"}, "no model has it"),
        ({"passes": "near"}, "near"),
        ({"reach": 0.01}, "no block finds enough samples"),
        ({"cell": 0.01, "cell_z": 0.01}, "Take larger blocks"),
    ):
        with pytest.raises(LampError, match=words):
            lamp.run("estimate-blocks", **asked | change)
