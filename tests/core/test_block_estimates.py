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
from innerlamp.core.compute.geology.estimation import Blocks, Search, Variogram, estimate, grade_and_tonnage
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


def spherical(h: np.ndarray, sill: float, reach: float) -> np.ndarray:
    r = np.minimum(h / reach, 1.0)
    return sill * (1.5 * r - 0.5 * r**3)


@pytest.mark.parametrize("turned", [0.0, 35.0])
def test_a_block_is_the_mean_of_its_points_and_its_variance_that_of_the_textbook(
    samples: tuple[np.ndarray, np.ndarray], turned: float
) -> None:
    """Kriging is linear: a block's grade is the mean of those of its points from the same samples. Its variance, efficiency and
    slope follow from covariances worked out here with dense algebra (Journel & Huijbregts 1978, Mining Geostatistics, V.A)."""
    points, values = samples
    nugget, sill, reach = 0.2, 1.5, 80.0
    variogram = Variogram(nugget, (Structure("spherical", sill, reach),))
    at = ORIGIN + np.array([[40.0, 50.0, 60.0], [5.0, 90.0, 20.0]])
    a = np.radians(turned)
    axes = np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]])
    blocks = Blocks(np.array([[20.0, 10.0, 5.0], [30.0, 30.0, 10.0]]), axes, (4, 3, 2))
    got = estimate(points, values, at, Search(reach=1e6, most=60), "kriging", variogram, blocks=blocks)
    frame = np.eye(3)
    frame[:2, :2] = axes
    for k in range(2):
        inside = at[k] + (blocks.middles() * blocks.sizes[k]) @ frame
        alone = estimate(points, values, inside, Search(reach=1e6, most=60), "kriging", variogram)
        assert got.grade[k] == pytest.approx(alone.grade.mean(), rel=1e-9)
        between = np.linalg.norm(points[:, None] - points[None], axis=2)
        cov = sill + nugget - np.where(between > 0, nugget + spherical(between, sill, reach), 0.0)
        to_block = sill - spherical(np.linalg.norm(points[:, None] - inside[None], axis=2), sill, reach).mean(axis=1)
        of_block = sill - spherical(np.linalg.norm(inside[:, None] - inside[None], axis=2), sill, reach).mean()
        system = np.block([[cov, np.ones((60, 1))], [np.ones((1, 60)), np.zeros((1, 1))]])
        weights = np.linalg.solve(system, np.append(to_block, 1.0))[:60]
        variance = of_block - 2 * weights @ to_block + weights @ cov @ weights
        assert got.variance[k] == pytest.approx(variance, rel=1e-8)
        assert got.efficiency[k] == pytest.approx((of_block - variance) / of_block, rel=1e-8)
        assert got.slope[k] == pytest.approx(weights @ to_block / (weights @ cov @ weights), rel=1e-8)
        assert variance < alone.variance.mean()


def test_the_variance_within_a_block_is_its_integral() -> None:
    """Against random pairs of places, whose mean is the sixfold integral of the variogram over a block."""
    from innerlamp.core.compute.gridding.kriging_equations import gamma_within

    rng = np.random.default_rng(8)
    size = np.array([30.0, 20.0, 10.0])
    pairs = rng.uniform(size=(2, 400_000, 3)) * size
    wanted = spherical(np.linalg.norm(pairs[0] - pairs[1], axis=1), 1.0, 50.0).mean()
    middles = Blocks(size[None], np.eye(2), (8, 8, 4)).middles() * size
    kind, sill, reach = np.zeros(1, np.int64), np.ones(1), np.full(1, 50.0)
    assert gamma_within(middles, 0.0, kind, sill, reach) == pytest.approx(wanted, rel=0.01)
    assert gamma_within(middles, 0.3, kind, sill, reach) == pytest.approx(wanted + 0.3, rel=0.01)


def test_octants_look_beyond_a_dense_hole() -> None:
    """Three hundred samples of one hole lie nearer than all others: by looking at every sample, seven octants have some."""
    rng = np.random.default_rng(4)
    hole = ORIGIN + np.column_stack([np.full(300, 5.0), np.full(300, 5.0), np.linspace(1.0, 9.0, 300)])
    far = ORIGIN + rng.uniform(-90, 90, (80, 3))
    points, values = np.vstack([hole, far]), np.arange(380.0)
    got = estimate(
        points, values, ORIGIN[None], Search(reach=200, least=1, most=16, each_octant=2), "inverse distance", power=1.0
    )
    away = np.linalg.norm(points - ORIGIN, axis=1)
    octant = ((points - points.mean(axis=0) >= ORIGIN - points.mean(axis=0)) * [1, 2, 4]).sum(axis=1)
    chosen = np.concatenate([[k for k in np.argsort(away) if octant[k] == o][:2] for o in range(8)]).astype(int)
    assert got.samples[0] == len(chosen) == 16
    assert got.grade[0] == pytest.approx(np.average(values[chosen], weights=1 / away[chosen]))


def test_blocks_tell_how_well_they_are_known(tmp_path: Path) -> None:
    rng = np.random.default_rng(6)
    at = ORIGIN + rng.uniform(0, 200, (150, 3))
    table = pd.DataFrame({"x": at[:, 0], "y": at[:, 1], "z": at[:, 2], "Au_ppm": rng.lognormal(0, 0.5, 150)})
    table["from_m"], table["to_m"] = 0.0, 1.0
    with Project.create(tmp_path / "a.lamp", CRS) as project:
        item = project.store.put(
            PointSet(name="c", crs=CRS, table=table, units={"Au_ppm": "ppm"}, roles={"from_m": "from", "to_m": "to"})
        )
        given: dict[str, Any] = {"composites": item, "attribute": "Au_ppm", "cell": 40.0, "cell_z": 40.0, "nugget": 0.2}
        block, point = (
            project.store.load(project.run("estimate-blocks", **given, **more)["model"])
            for more in ({}, {"across": 1, "upward": 1})
        )
    assert isinstance(block, BlockModel) and isinstance(point, BlockModel)
    good = np.isfinite(block.properties["Au_ppm"])
    assert (block.properties["kriging variance"][good] < point.properties["kriging variance"][good]).all()
    efficiency, slope = (block.properties[n][good] for n in ("kriging efficiency", "slope of regression"))
    assert efficiency.max() <= 1.0 and 0.0 < np.median(slope) < 1.3
    assert np.isnan(point.properties["slope of regression"]).all()
