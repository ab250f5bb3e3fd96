"""The made-up prospect: its data show what its truth says, and its files hold what was promised."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.compute.geometry.sampling import bilinear
from innerlamp.core.geometry.mesh import DrapedMesh
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.points import SurveyLines
from innerlamp.demo import truth
from innerlamp.demo.build import FILES

X0, Y0 = truth.ORIGIN


@pytest.fixture(scope="module")
def project(demo_path):  # type: ignore[no-untyped-def]
    with Project.open(demo_path, write=False) as opened:
        yield opened


def csv(name: str) -> pd.DataFrame:
    return pd.read_csv(FILES / name, sep=None, engine="python")


def test_files_hold_what_was_promised() -> None:
    first, second = csv("drilling/collars.csv"), csv("drilling_second_phase/collars.csv")
    assert 55 <= len(first) + len(second) <= 65  # about 60 holes in two phases
    assert len(csv("geochemistry/soils_emberlow.csv")) == 3200
    magnetics = csv("geophysics/airborne_magnetics.csv")
    assert magnetics.iloc[:, 0].nunique() == 86
    assert len(csv("geophysics/gravity_stations.csv")) == 700
    assert len(list((FILES / "geophysics").glob("resistivity_line_?.csv"))) == 6
    assert len(csv("geology/old_workings.csv")) >= 3
    assert len(csv("geology/structural_readings.csv")) == 300
    assert json.loads((FILES / "geology" / "geological_map.geojson").read_text())["type"] == "FeatureCollection"
    assert {p["what"] for p in json.loads((FILES / "planted.json").read_text())["errors"]} >= {
        "trailing space",
        "overlapping interval",
        "survey beyond end of hole",
        "no assay rows",
        "below detection",
        "day-first date",
    }


def test_one_file_has_semicolons() -> None:
    heads = {p.name: p.read_text(encoding="utf-8", errors="replace").split("\n")[0] for p in FILES.rglob("*.csv")}
    assert sum(";" in h for h in heads.values()) >= 1


def test_every_assay_lies_in_the_rock_that_was_logged(project: Project) -> None:
    holes = project["Emberlow holes"]
    log = holes.tables["lithology"]  # type: ignore[attr-defined]
    code = next(c for c in log.columns if log[c].isin(truth.CODES).mean() > 0.9)
    assert set(log[code]) <= set(truth.CODES)
    at = truth.rock(log["x"].to_numpy() - X0, log["y"].to_numpy() - Y0, log["z"].to_numpy())
    agree = np.mean(np.array(truth.CODES)[at] == log[code].to_numpy())
    assert agree > 0.8  # the logger sees contacts a little off, and thin veins not at all


def test_gravity_is_low_over_the_cupolas_and_high_over_the_gabbro(project: Project) -> None:
    table = project["Gravity stations"].table  # type: ignore[attr-defined]
    column = next(c for c in table.columns if "boug" in c.lower())
    x, y = table["x"].to_numpy() - X0, table["y"].to_numpy() - Y0
    plane = np.column_stack([np.ones(len(x)), x, y])
    places = (truth.APEX, truth.SKARN_CUPOLA, truth.LENS_CUPOLA, truth.GABBRO)
    away = np.array([np.hypot(x - px, y - py) for px, py in places])
    far = away.min(axis=0) > 1_000
    rest = table[column].to_numpy() - plane @ np.linalg.lstsq(plane[far], table[column].to_numpy()[far], rcond=None)[0]
    over = [np.median(rest[a < 350]) for a in away]
    assert over[0] < -0.6
    assert over[2] < -0.15
    assert over[3] > 0.5
    assert over[1] > over[0]  # the skarn on its crest makes up for its granite


def test_magnetics_are_high_over_the_skarn_and_the_hidden_one(project: Project) -> None:
    lines = project["Airborne magnetics"]
    assert isinstance(lines, SurveyLines)
    assert lines.date == "2024-05-16"
    t = lines.table
    x, y, value = t["x"].to_numpy() - X0, t["y"].to_numpy() - Y0, t["TMI_ANOM_nT"].to_numpy()
    for place in ((truth.APEX[0] + 420.0, truth.APEX[1] - 60.0), truth.SKARN_CUPOLA):
        far = np.hypot(x - place[0], y - place[1])
        assert np.quantile(value[far < 250], 0.9) > np.median(value[(far > 500) & (far < 900)]) + 10


def test_soils_are_richest_beside_the_veins(project: Project) -> None:
    grid = project["Soil Sn"]
    assert isinstance(grid, Grid)
    j, i = np.unravel_index(np.nanargmax(grid.values), grid.values.shape)
    away = np.hypot(grid.x[i] - X0 - truth.APEX[0], grid.y[j] - Y0 - truth.APEX[1])
    assert 100 < away < 500  # dragged off by the ice


def test_shell_lies_under_the_ground_and_in_the_veins(project: Project) -> None:
    shell, ground = project["Sn shell 800 ppm"], project["Ground"]
    assert isinstance(shell, Surface)
    assert isinstance(ground, Grid)
    v = shell.vertices
    top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, v[:, 0], v[:, 1])
    assert (v[:, 2] <= top + 15.0).all()  # no farther above than one node of the field
    crest = truth.over_crest(v[:, 0] - X0, v[:, 1] - Y0, v[:, 2])
    assert np.median(crest) > 0.3


def test_model_is_absent_above_ground_and_never_negative(project: Project) -> None:
    model, ground = project["Susceptibility of Airborne magnetics"], project["Ground"]
    assert isinstance(model, BlockModel)
    assert isinstance(ground, Grid)
    values = model.properties["susceptibility"]
    assert isinstance(model.mesh, DrapedMesh)
    gx, gy = model.mesh.plan_centres
    z = model.mesh.centres()[:, 2].reshape(model.shape)
    top = bilinear(ground.values, ground.x0, ground.y0, ground.dx, ground.dy, gx, gy)
    inside = np.isfinite(top)
    above = z > np.where(inside, top + 5.0, np.nan)[:, :, None]
    assert np.isnan(values[above]).all()
    there = model.mesh.thickness > 0
    assert np.isfinite(values[inside][there[inside]]).all()
    assert np.nanmin(values) >= 0.0


def test_predicted_and_residual_add_to_what_was_observed(project: Project) -> None:
    table = project["Fit of Airborne magnetics"].table  # type: ignore[attr-defined]
    assert (table["predicted"] + table["residual"]).to_numpy() == pytest.approx(table["observed"].to_numpy())
    assert np.mean((table["residual"] / table["noise"]) ** 2) == pytest.approx(1.0, abs=0.06)  # the target misfit


@pytest.mark.parametrize("line", [1, 2, 3, 4, 5, 6])
def test_resistivity_readings_are_physical(line: int) -> None:
    table = csv(f"geophysics/resistivity_line_{line}.csv")
    column = next(c for c in table.columns if "rho" in c.lower() or "resist" in c.lower() or "ohm" in c.lower())
    values = pd.to_numeric(table[column], errors="coerce").dropna()
    low = min(p[2] for p in truth.PROPERTIES.values())
    high = max(p[2] for p in truth.PROPERTIES.values())
    assert 0.3 * low < values.median() < 2 * high
    assert len(values) > 100
