"""Long sections: a vein worked by hand at 4,000 m in the south, fitted planes, open ends, what is refused."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from innerlamp.api import Project
from innerlamp.core.compute.drilling import long_section as ls
from innerlamp.core.compute.geometry.orientations import plane_normal
from innerlamp.core.errors import InputError, LampError
from innerlamp.core.items.features import Features
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import PointSet

# A vein that strikes north and dips 60 degrees east, through (402000, 7502000, 4000). Holes drilled level to the west
# from the east meet it at its elevation: x = 402000 + (4000 - z) / tan 60. Level holes cut it at 60 degrees.
TAN = float(np.tan(np.radians(60.0)))
PLACES = ((0.0, 3900.0, 2.0), (100.0, 3900.0, 4.0), (200.0, 3900.0, 1.0), (100.0, 3800.0, 3.0))  # north, z, grade


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    collars, surveys, assays = ["hole,x,y,z,depth"], ["hole,depth,azimuth,dip"], ["hole,from,to,Cu_pct"]
    for k, (north, z, grade) in enumerate(PLACES):
        vein = 402000.0 + (4000.0 - z) / TAN
        collars.append(f"L{k},{vein + 50.0},{7502000.0 + north},{z},80")
        surveys.append(f"L{k},0,270,0")
        assays += [f"L{k},0,46,0.1", f"L{k},46,54,{grade}", f"L{k},54,80,0.1"]
    # One that ends 20 m before the vein, one far from it, one that found nothing, one that was not sampled there.
    vein = 402000.0 + 100.0 / TAN
    collars += [f"SHORT,{vein + 60.0},7502300,3900,40", "AWAY,405000,7505000,4000,50"]
    collars += [f"BARREN,{vein + 50.0},7502400,3900,80", f"BLIND,{vein + 50.0},7502500,3900,80"]
    surveys += ["SHORT,0,270,0", "AWAY,0,90,-60", "BARREN,0,270,0", "BLIND,0,270,0"]
    assays += ["SHORT,0,40,0.1", "AWAY,0,50,0.1", "BARREN,0,80,0.1", "BLIND,0,20,0.1"]
    for name, lines in (("collar", collars), ("survey", surveys), ("assay", assays)):
        (tmp_path / f"{name}.csv").write_text("\n".join(lines) + "\n")
    made = Project.create(tmp_path / "p.lamp", "EPSG:32719")
    made.run("import-holes", **{k: str(tmp_path / f"{k}.csv") for k in ("collar", "survey", "assay")}, name="Holes")
    made.run("intercepts", holes="Holes", attribute="Cu_pct", cutoff=0.5, name="Hits")
    yield made
    made.close()


def made_of(project: Project, **values: object) -> tuple[pd.DataFrame, BlockModel, Features, pd.DataFrame]:
    made = project.run("long-section", **{"holes": "Hits", "drilled": "Holes", "attribute": "Cu_pct", **values})
    points, field, lines, ends = (project[made[k]] for k in ("piercings", "field", "contours", "open"))
    assert isinstance(points, PointSet) and isinstance(field, BlockModel)
    assert isinstance(lines, Features) and isinstance(ends, PointSet)
    return points.table, field, lines, ends.table


def test_a_vein_by_hand(project: Project) -> None:
    rows, field, lines, ends = made_of(project, dip=60, dip_direction=90, reach=60)
    assert rows["hole"].tolist() == ["L0", "L1", "L2", "L3", "SHORT", "BARREN", "BLIND"]
    assert rows["is"].tolist() == ["pierced"] * 4 + ["stops short", "pierced", "not sampled"]
    assert rows["grade x thickness"].iloc[5] == 0.0
    assert rows["grade x thickness"].iloc[[4, 6]].isna().all()
    # 8 m drilled at 60 degrees to the vein are 8 sin 60 thick.
    thick = 8.0 * np.sin(np.radians(60.0))
    assert rows["true thickness"].iloc[:4].tolist() == pytest.approx([thick] * 4)
    assert rows["Cu_pct"].iloc[:4].tolist() == pytest.approx([2.0, 4.0, 1.0, 3.0])
    assert rows["grade x thickness"].iloc[:4].tolist() == pytest.approx([g * thick for _, _, g in PLACES])
    assert rows["depth_m"].tolist() == pytest.approx([50.0] * 4 + [60.0, 50.0, 50.0], abs=1e-6)
    assert rows["missing"].iloc[4] == pytest.approx(20.0, abs=1e-6)
    assert rows[["x", "z"]].iloc[3].tolist() == pytest.approx([402000.0 + 200.0 / TAN, 3800.0], abs=1e-6)
    # The sheet stands north-south and upright; at a piercing it has its value, beyond the reach none.
    assert field.mesh.shape[0] == 1
    assert field.mesh.azimuth % 180.0 == pytest.approx(0.0)
    product = field.properties["grade x thickness"]
    x, y = (float(v) for v in (field.mesh.plan_centres[0][0, 0], 7502100.0))
    at = field.mesh.values_at(product, np.array([x]), np.array([y]), np.array([3900.0]))
    assert at[0] == pytest.approx(4.0 * thick, rel=0.05)
    away = field.properties["distance to piercing"]
    assert np.nanmax(np.where(np.isfinite(product), away, np.nan)) <= 60.0
    assert np.isnan(product[away > 60.0]).all()
    # Straight below L3, down the dip: the height lost is less than the distance in the plane.
    below = field.mesh.values_at(away, np.array([x]), np.array([y]), np.array([3760.0]))
    assert below[0] == pytest.approx(40.0 / np.sin(np.radians(60.0)), abs=5.0)
    # Contours lie on the vein itself.
    v = lines.vertices
    assert (4000.0 - v[:, 2]) / TAN == pytest.approx(v[:, 0] - 402000.0, abs=1e-6)
    assert set(lines.table["grade x thickness"]) <= set(np.arange(0, 40, 1.0)) | {2.5, 7.5, 12.5, 17.5, 22.5}
    # Of L1, the richest: L0, L2 and L3 lie 100 m or more away, so with a reach of 60 all eight directions are open.
    assert (ends["from hole"] == "L1").sum() == 8
    first = ends[ends["from hole"] == "L1"].set_index("direction")
    assert first.loc["down dip", "plunge"] == pytest.approx(60.0)
    assert first.loc["down dip", "trend"] == pytest.approx(90.0)
    assert first.loc["down dip", "nearest"] == pytest.approx(100.0 / np.sin(np.radians(60.0)))
    assert first.loc["along strike to N", ["x", "y", "z"]].tolist() == pytest.approx(
        [402000.0 + 100.0 / TAN, 7502160.0, 3900.0]
    )
    assert np.isnan(first.loc["up dip", "nearest"])


def test_with_a_wider_reach_tested_directions_are_closed(project: Project) -> None:
    _, _, _, ends = made_of(project, dip=60, dip_direction=90, reach=130, least=10.0)
    mine = ends[ends["from hole"] == "L1"]["direction"].tolist()
    assert "along strike to N" not in mine and "down dip" not in mine
    assert "up dip" in mine
    assert (ends["grade x thickness"] >= 10.0).all()
    assert ends["grade x thickness"].is_monotonic_decreasing


def test_all_samples_count_where_there_are_no_intercepts_and_the_plane_is_fitted(project: Project) -> None:
    rows, *_ = made_of(project, holes="Holes", dip=60, dip_direction=90, within=3.4, reach=60)
    # Middles within 3.4 m of the plane: only the 8 m in it.
    assert rows["grade x thickness"].iloc[1] == pytest.approx(4.0 * 8.0 * np.sin(np.radians(60.0)))
    fitted, *_ = made_of(project, reach=60)
    assert fitted["plane dip"].iloc[0] == pytest.approx(60.0, abs=1e-6)
    assert fitted["plane dip direction"].iloc[0] == pytest.approx(90.0, abs=1e-6)


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"dip": 60}, "by half"),
        ({"dip": 5, "dip_direction": 90}, "not seen along its strike"),
        ({"attribute": "Au_ppm"}, "no attribute"),
        ({"dip": 60, "dip_direction": 90, "cell": 0.001}, "too many"),
        ({"dip": 95, "dip_direction": 90}, "dip"),
    ],
)
def test_what_has_no_long_section_is_said(project: Project, values: dict[str, object], words: str) -> None:
    with pytest.raises(LampError, match=words):
        made_of(project, **{"reach": 60, **values})


@given(st.floats(20, 90), st.floats(0, 359.9), st.integers(0, 10_000))
def test_coordinates_in_a_plane_go_there_and_back(dip: float, direction: float, seed: int) -> None:
    plane = ls.BodyPlane(np.array([402000.0, 7502000.0, 4000.0]), dip, direction)
    xyz = plane.middle + np.random.default_rng(seed).uniform(-300, 300, (5, 3))
    along, up, off = plane.inside(xyz)
    assert plane.outside(along, up) + off[:, None] * plane.normal == pytest.approx(xyz, abs=1e-6)
    first, second = plane.axes
    assert first[2] == 0.0 and second[2] >= 0.0
    # The strike has the dip to its right: turned by 90 degrees about the vertical, clockwise.
    right = Rotation.from_euler("z", -90, degrees=True).apply(first)
    a = np.radians(direction)
    assert right == pytest.approx([np.sin(a), np.cos(a), 0.0], abs=1e-9)


def test_planes_are_fitted_and_of_parallel_veins_the_richest_is_taken() -> None:
    rng = np.random.default_rng(3)
    true = ls.BodyPlane(np.array([1000.0, 2000.0, 300.0]), 70.0, 215.0)
    at = true.outside(rng.uniform(-200, 200, 40), rng.uniform(-100, 100, 40)) + rng.normal(0, 1.0, (40, 3))
    fitted = ls.fitted_plane(at, np.ones(40), None, None, 10.0)
    assert abs(fitted.normal @ true.normal) > np.cos(np.radians(1.0))
    other = at + 50.0 * plane_normal(np.array([70.0]), np.array([215.0]))[0]
    both, weight = np.concatenate([at, other]), np.repeat([1.0, 1.5], 40)
    rich = ls.fitted_plane(both, weight, 70.0, 215.0, 10.0)
    assert (rich.middle - true.middle) @ true.normal == pytest.approx(50.0, abs=1.0)
    with pytest.raises(InputError, match="line or all around"):
        ls.fitted_plane(np.arange(12.0)[:, None] * [1.0, 2.0, 0.5], np.ones(12), None, None, 10.0)
    with pytest.raises(InputError, match="three"):
        ls.fitted_plane(at[:2], np.ones(2), None, None, 10.0)
    with pytest.raises(InputError, match="no interval"):
        ls.fitted_plane(at, np.zeros(40), None, None, 10.0)
