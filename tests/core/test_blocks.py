"""Blocks: properties by expression, shares of surfaces and units, columns with true tops, reports, curves and swaths."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import trimesh

from innerlamp.api import Project
from innerlamp.core.errors import LampError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.fields import BlockModel, Grid, Surface
from innerlamp.core.items.points import PointSet
from innerlamp.core.operations.geology.grades.block_reports import swaths

from .test_units import BALL, CELLS, CRS, LAYERS, SOUTH, TOP, WEST, ball, drilled, layered

HERE = (WEST, SOUTH, TOP - 200.0)


@pytest.fixture
def lamp(tmp_path: Path) -> Iterator[Project]:
    with Project.create(tmp_path / "blocks.lamp", CRS) as project:
        yield project


@pytest.fixture
def blocks(lamp: Project) -> str:
    """10 x 8 x 6 blocks of 10 m: grade 0 to 9 with easting, two units by elevation."""
    mesh = TensorMesh.even(HERE, (10.0, 10.0, 10.0), (10, 8, 6))
    i, _, k = np.indices((10, 8, 6))
    model = BlockModel(
        name="Blocks", crs=CRS, mesh=mesh, properties={"Sn": i.astype(float), "unit": (k >= 3).astype(float)},
        units={"Sn": "ppm"}, names={"unit": ("Granite", "Slate")},
    )  # fmt: skip
    return str(lamp.store.put(model))


def block_model(lamp: Project, item: str) -> BlockModel:
    model = lamp[item]
    assert isinstance(model, BlockModel)
    return model


def test_a_property_is_worked_out_where_a_condition_is_met(lamp: Project, blocks: str) -> None:
    lamp.run(
        "compute-blocks", model=blocks, name="density", expression="where(unit == 'Granite', 2.6, 2.75)", unit="t/m3"
    )
    lamp.run(
        "compute-blocks",
        model=blocks,
        name="metal",
        expression="Sn * density * volume / 1000000",
        where="Sn >= 5 and unit == 'Granite'",
    )
    lamp.run("compute-blocks", model=blocks, name="class", expression="where(Sn > 7, 'rich', 'poor')")
    model = block_model(lamp, blocks)
    i, _, k = np.indices((10, 8, 6))
    assert model.properties["density"] == pytest.approx(np.where(k < 3, 2.6, 2.75))
    wanted = np.where((i >= 5) & (k < 3), i * 2.6 * 1000 / 1e6, np.nan)
    assert np.allclose(model.properties["metal"], wanted, equal_nan=True)
    assert model.names["class"] == ("poor", "rich") and (model.properties["class"] == (i > 7)).all()
    assert lamp.run("compute-blocks", model=blocks, name="east", expression="x - 402000")["model"] == blocks
    assert block_model(lamp, blocks).properties["east"][3, 0, 0] == pytest.approx(35.0)
    for bad, words in (
        ({"name": "x", "expression": "Sn"}, "can't be the name"),
        ({"name": "n", "expression": "Snn"}, "Snn"),
        ({"name": "n", "expression": "Sn", "where": "Sn > 100"}, "no block has a value"),
        ({"name": "n", "expression": "__import__('os')"}, "there is no function"),
    ):
        with pytest.raises(LampError, match=words):
            lamp.run("compute-blocks", model=blocks, **bad)


def test_blocks_that_meet_a_condition_are_a_model_of_their_own(lamp: Project, blocks: str) -> None:
    chosen = block_model(lamp, lamp.run("filter-blocks", model=blocks, where="unit == 'Granite' and Sn > 7")["model"])
    i, _, k = np.indices((10, 8, 6))
    assert np.array_equal(np.isfinite(chosen.properties["Sn"]), (i > 7) & (k < 3))
    assert chosen.names["unit"] == ("Granite", "Slate") and len(block_model(lamp, blocks).properties["Sn"]) == 10
    with pytest.raises(LampError, match="no block meets"):
        lamp.run("filter-blocks", model=blocks, where="Sn > 70")
    for operation, asked in (
        ("filter-blocks", {}),
        ("report-blocks", {}),
        ("compute-blocks", {"name": "n", "expression": "Sn"}),
    ):  # texts are no condition
        with pytest.raises(LampError, match="a condition must compare something"):
            lamp.run(operation, model=blocks, where="unit", **asked)


def test_blocks_take_shares_of_surfaces_heights_and_other_models(lamp: Project, blocks: str) -> None:
    box = trimesh.creation.box([25.0, 200.0, 200.0])
    body = Surface(
        name="Body",
        crs=CRS,
        vertices=box.vertices + np.array([WEST + 27.5, SOUTH + 40, TOP - 170]),
        triangles=box.faces,
        closed=True,
    )
    ground = Grid(
        name="Top", crs=CRS, values=np.full((4, 4), TOP - 100.0), x0=WEST - 50, y0=SOUTH - 50, dx=80, dy=80, attribute="Elevation",
        unit="m", quantities={"Elevation": "elevation"},
    )  # fmt: skip
    other = BlockModel(
        name="Other", crs=CRS, mesh=TensorMesh.even(HERE, (50.0, 80.0, 60.0), (2, 1, 1)),
        properties={"Sn": np.array([3.0, 4.0]).reshape(2, 1, 1)}, units={"Sn": "ppm"},
    )  # fmt: skip
    lamp.run("take-into-blocks", model=blocks, others=[lamp.store.put(i) for i in (body, ground, other)], corners=4)
    model = block_model(lamp, blocks)
    # The body lies from 15 to 40 m: half of the second column, all of the next two.
    assert model.properties["in Body"][:5, 4, 3] == pytest.approx([0, 50, 100, 100, 0])
    assert model.properties["above Top"][0, 0] == pytest.approx(np.arange(-95.0, -40, 10))
    assert model.properties["Sn of Other"][[0, 9], 0, 0].tolist() == [3.0, 4.0] and model.units["Sn of Other"] == "ppm"


def test_a_report_gives_volumes_tonnes_and_the_curve_of_tonnes_and_grade_by_hand(lamp: Project, blocks: str) -> None:
    made = lamp.run("report-blocks", model=blocks, attribute="Sn", by="unit", density="2.5", cutoffs=["5", "8"])
    report, curve = lamp[made["report"]], lamp[made["curve"]]
    assert isinstance(report, PointSet) and isinstance(curve, PointSet)
    rows = report.table.set_index("unit")
    assert rows.loc["Granite", "volume"] == pytest.approx(240_000.0) and rows.loc["all", "tonnes"] == pytest.approx(
        1_200_000.0
    )
    assert rows["Sn mean"].to_numpy() == pytest.approx(4.5)
    # From 5: half of the blocks at 7; from 8: a fifth at 8.5.
    assert curve.table[["cut-off", "tonnes above", "grade"]].to_numpy() == pytest.approx(
        np.array([[5, 0.6, 7.0], [8, 0.24, 8.5]])
    )
    few = lamp[lamp.run("report-blocks", model=blocks, where="Sn > 6 and z < 3850")["report"]]
    assert isinstance(few, PointSet) and few.table["blocks"].tolist() == [3 * 8 * 5]
    curve = lamp[lamp.run("report-blocks", model=blocks, attribute="Sn")["curve"]]
    assert (
        isinstance(curve, PointSet)
        and 8 <= len(curve.table) <= 14
        and (np.diff(curve.table["tonnes above"]) <= 0).all()
    )
    for bad, words in (
        ({"density": "-1"}, "neither a positive number"),
        ({"where": "Sn > 99"}, "no block meets"),
        ({"by": "Sn"}, "does not name"),
    ):
        with pytest.raises(LampError, match=words):
            lamp.run("report-blocks", model=blocks, **bad)


def test_swaths_hold_blocks_against_composites_in_slices(lamp: Project, blocks: str) -> None:
    rng = np.random.default_rng(0)
    at = np.array(HERE) + rng.uniform([0, 0, 0], [100, 80, 60], (500, 3))
    table = pd.DataFrame(at, columns=list("xyz")).assign(Sn=(at[:, 0] - WEST) / 10.0, hole="H", from_m=0.0, to_m=2.0)
    source = lamp.store.put(
        PointSet(
            name="C",
            crs=CRS,
            table=table,
            units={"Sn": "ppm"},
            content="composites",
            roles={"from_m": "from", "to_m": "to"},
        )
    )
    made = lamp[lamp.run("swaths", model=blocks, composites=source, attribute="Sn", width=20.0, height=20.0)["swaths"]]
    assert isinstance(made, PointSet)
    rows = made.table[(made.table["along"] == "easting")].pivot_table(index="position", columns="of", values="mean")
    assert rows["blocks"].to_numpy() == pytest.approx([0.5, 2.5, 4.5, 6.5, 8.5])
    assert rows["composites"].to_numpy() == pytest.approx(rows["blocks"].to_numpy() + 0.5, abs=0.35)
    level = made.table[(made.table["along"] == "elevation") & (made.table["of"] == "blocks")]
    assert level["mean"].to_numpy() == pytest.approx(4.5) and level["count"].sum() == 480
    mean, count = swaths(
        np.array([1.0, 2, 11, np.nan]), np.array([1.0, 3, 5, 9]), np.array([1.0, 3, 1, 1]), np.array([0.0, 10, 20])
    )
    assert mean.tolist() == [2.5, 5.0] and count.tolist() == [2, 1]


def test_units_have_shares_in_blocks_and_columns_with_their_true_tops(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, ball, every=20.0)
    model = lamp.run("build-units", holes=holes, units=BALL, field="smooth", smoothing=0, **CELLS)["model"]
    exact = 4.0 / 3.0 * np.pi * 70.0**3
    shares = block_model(lamp, lamp.run("cut-blocks", model=model)["model"])
    volume = shares.mesh.volumes().reshape(shares.mesh.shape)
    granite = np.nan_to_num(shares.properties["share of Granite"])
    assert (volume * granite).sum() / 100 == pytest.approx(exact, rel=0.015)  # by whole cells it is within 3 %
    assert (granite + np.nan_to_num(shares.properties["share of Slate"]))[
        np.isfinite(shares.properties["unit"])
    ] == pytest.approx(100.0)
    columns = block_model(lamp, lamp.run("cut-blocks", model=model, how="columns with true tops")["model"])
    volume = columns.mesh.volumes().reshape(columns.mesh.shape)
    assert volume[columns.properties["unit"] == 0].sum() == pytest.approx(exact, rel=0.015)
    whole = block_model(lamp, model)
    assert volume.sum() == pytest.approx(whole.mesh.volumes().sum(), rel=1e-6)
    middle = columns.mesh.values_at(
        columns.properties["thickness"], np.array([WEST + 101]), np.array([SOUTH + 101]), np.array([TOP - 120])
    )
    assert middle[0] == pytest.approx(140.0, abs=3.0)
    with pytest.raises(LampError, match="none that 'build-units' made"):
        lamp.run("cut-blocks", model=lamp.run("cut-blocks", model=model)["model"])


def test_layers_of_columns_lie_where_the_holes_have_them(lamp: Project, tmp_path: Path) -> None:
    holes = drilled(lamp, tmp_path, layered)
    model = lamp.run("build-units", holes=holes, units=LAYERS, **CELLS)["model"]
    columns = block_model(lamp, lamp.run("cut-blocks", model=model, how="columns with true tops")["model"])
    # The base of the cover at a hole: 20 m and a tenth of the northing.
    i, j = columns.mesh.columns(np.array([WEST + 80]), np.array([SOUTH + 160.0]))
    number = columns.properties["unit"][i[0], j[0]]
    tops = columns.mesh.interfaces[i[0], j[0]]
    cover = np.flatnonzero(number == 0)
    assert len(cover) == 1 and TOP - tops[cover[0]] == pytest.approx(36.0, abs=3.0)


def test_shells_and_estimates_stay_in_their_unit_and_fault_block(lamp: Project) -> None:
    mesh = TensorMesh.even(HERE, (10.0, 10.0, 10.0), (20, 20, 20))
    at = mesh.centres()
    away = (at - np.array(HERE) - 100.0).T
    inside = 70.0 - np.sqrt(
        (away**2).sum(axis=0)
    )  # a ball in the middle; the fault stands upright, obliquely to the cells
    off = (away[0] + 0.5 * away[1]) / np.hypot(1.0, 0.5) - 13.0
    properties = {
        "unit": (inside <= 0).astype(float),
        "inside Granite": inside,
        "inside Slate": -inside,
        "off Big fault": off,
    }
    model = BlockModel(
        name="Units", crs=CRS, mesh=mesh, properties={k: v.reshape(mesh.shape) for k, v in properties.items()},
        names={"unit": ("Granite", "Slate")},
    )  # fmt: skip
    places = np.array(HERE) + np.stack(np.meshgrid(*[np.arange(5.0, 200, 15)] * 3, indexing="ij"), axis=-1).reshape(
        -1, 3
    )
    table = pd.DataFrame(places, columns=list("xyz")).assign(
        Sn=500.0 + np.arange(len(places)) % 7, hole="H", from_m=0.0, to_m=2.0
    )
    source = PointSet(
        name="C",
        crs=CRS,
        table=table,
        units={"Sn": "ppm"},
        content="composites",
        roles={"from_m": "from", "to_m": "to"},
    )
    given = {"composites": lamp.store.put(source), "model": lamp.store.put(model)}
    asked = {"attribute": "Sn", "cutoff": 100.0, "cell": 5.0, "search_radius_m": 40.0, "transform": "none"}
    shell = lamp[lamp.run("grade-shell", **given, **asked, unit="Granite")["shell"]]
    assert isinstance(shell, Surface) and shell.volume_m3 == pytest.approx(4 / 3 * np.pi * 70.0**3, rel=0.03)
    rows = lamp[
        lamp.run("grade-shell", **given, **asked | {"cutoff": 504.0}, further=["506"], unit="Granite", name="Two")[
            "dilution"
        ]
    ]
    assert isinstance(rows, PointSet) and rows.table["cut-off"].tolist()[0] == 504.0
    grade = table["Sn"].to_numpy()[np.linalg.norm(places - np.array(HERE) - 100.0, axis=1) < 70.0]
    first = rows.table.iloc[0]
    assert first["mean in"] >= 504.0 > grade.mean() and 0 <= first["waste"] <= 100 and first["lost"] <= 60
    # The part of a ball beyond a plane 13 m off its middle, a cap: pi h2 (3 r - h) / 3.
    half = lamp[
        lamp.run("grade-shell", **given, **asked, unit="Granite", fault="Big fault", fault_side="hangingwall")["shell"]
    ]
    h = 70.0 - 13.0
    assert isinstance(half, Surface) and half.volume_m3 == pytest.approx(np.pi * h**2 * (210.0 - h) / 3.0, rel=0.04)
    beyond = (half.vertices - np.array(HERE) - 100.0) @ np.array([1.0, 0.5, 0.0]) / np.hypot(1.0, 0.5) - 13.0
    assert beyond.min() > -1.0  # it ends in the plane of the fault, not in steps
    with pytest.raises(LampError, match="the model has no fault 'Small'"):
        lamp.run("grade-shell", **given, **asked, fault="Small")
    blocks = block_model(
        lamp,
        lamp.run(
            "estimate-blocks", **given, attribute="Sn", method="nearest", unit="Granite", where="[off Big fault] < 0"
        )["model"],
    )
    known = np.isfinite(blocks.properties["Sn"])
    assert np.array_equal(known, ((inside > 0) & (off < 0)).reshape(mesh.shape))
