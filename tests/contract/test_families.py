"""Contracts that every member of a family keeps; a new member is tested by being in its table."""

from __future__ import annotations

import dataclasses
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.declaring.operation import AREAS, Operation
from innerlamp.core.formats.table import FORMATS, export
from innerlamp.core.items.base import Item
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.kinds import KINDS
from innerlamp.core.project import payload
from innerlamp.core.project.store import Store
from innerlamp.core.running.describe import describe
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import FILES, STEPS, file_params


@pytest.fixture(scope="module")
def demo(demo_path: Path) -> Any:
    with Store.open(demo_path, write=False) as store:
        yield store


def of_kind(store: Store, kind: str) -> Item:
    return next(store.load(e.id) for e in store.entries() if e.kind == kind)


def few_rows(item: Item) -> Item:
    """The item with short tables: the library that writes ODS takes a minute for what others write in a second."""
    if isinstance(item, HoleSet):
        cut = {n: t.head(200) for n, t in item.tables.items()}
        return dataclasses.replace(item, tables=cut, findings=item.findings.head(50))
    return dataclasses.replace(item, table=item.table.head(200))  # type: ignore[attr-defined,call-arg]


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_is_in_the_demo_and_survives_storing(demo: Store, kind: str, tmp_path: Path) -> None:
    item = of_kind(demo, kind)
    assert item.title
    assert item.facts
    back = payload.read_item(tmp_path, payload.write_item(tmp_path, item))
    for name, value in vars(item).items():
        other = getattr(back, name)
        if isinstance(value, pd.DataFrame):
            pd.testing.assert_frame_equal(value, other)
        elif isinstance(value, np.ndarray):
            assert np.array_equal(value, other, equal_nan=True)
        elif isinstance(value, dict) and value and isinstance(next(iter(value.values())), pd.DataFrame | np.ndarray):
            assert list(value) == list(other)
        else:
            assert value == other
    for array in (v for v in vars(item).values() if isinstance(v, np.ndarray)):
        with pytest.raises(ValueError, match="read-only"):
            array[...] = 0


@pytest.mark.parametrize("op", OPERATIONS.values(), ids=str)
def test_every_operation_declares_what_forms_and_help_need(op: Operation) -> None:
    assert op.area in AREAS
    assert op.help.endswith(".")
    assert op.outputs
    names = [slot.slot for slot in op.inputs]
    for name, info in op.fields().items():
        assert info.label, name
        assert name not in names, f"{name} is an input and a parameter"
        assert info.role != "attribute" or info.of in names
        if (
            info.kind is float
            and name not in ("exponent", "target", "cutoff", "least", "ratio", "factor")
            and not name.endswith(("weight", "_low", "_high"))
        ):
            assert info.unit, f"{op.name}.{name} has no unit"
    text = describe(op)
    assert all(name in text for name in [*op.fields(), *names])


def test_every_operation_runs_on_demo_data(demo: Store, demo_path: Path, tmp_path: Path) -> None:
    run_in_demo = {e.recipe.operation for e in demo.entries() if e.recipe is not None}
    rest = set(OPERATIONS) - run_in_demo
    assert rest == {
        "gravity-of-model",
        "add-holes",
        "compute-column",
        "diurnal-correction",
        "import-surface",
        "import-blocks",
        "import-element",
        "merge-holes",
        "correct",
        "lift-corrections",
        "exclude-spikes",
        "group-codes",
        "grid-kriging",
        "grid-neighbours",
        "cross-validate",
        "calculate-grid",
        "regional-residual",
        "resample-grid",
        "clip-grid",
        "mosaic",
        "fill-grid",
        "smooth-grid",
        "zonal-statistics",
        "compare-grids",
        "lineaments",
        "source-depth",
        "draw-feature",
        "edit-corner",
        "edit-features",
        "split-features",
        "join-features",
        "merge-by-unit",
        "arrange-page",
        "anomalies",
        "level-by-unit",
        "principal-components",
    }  # not part of the demo project, so they are run here
    copy = tmp_path / "copy.lamp"
    shutil.copytree(demo_path, copy)
    with Project.open(copy) as project:
        made = project.run(
            "gravity-of-model",
            model="Susceptibility of Airborne magnetics",
            stations="Gravity stations",
            attribute="susceptibility",
            factor=6000.0,
        )
        second = FILES / "drilling_second_phase"
        project.run("add-holes", holes="Emberlow holes", collar=str(second / "collars.csv"))
        project.run("compute-column", item="Soils", name="Sn in %", expression="[Sn ppm] / 10000", unit="%")
        project.run("merge-holes", holes="Emberlow holes")
        project.run("correct", item="Soils", where="[Sn ppm] > 70", column="Sn ppm", action="empty value", why="w")
        project.run("lift-corrections", item="Soils")
        project.run("exclude-spikes", lines="Airborne magnetics", attribute="TMI_ANOM_nT", limit=4.0)
        project.run("group-codes", holes="Emberlow holes", attribute="Rock", rules={"*": "All"})
        soil = {"samples": "Soils", "attribute": "Sn ppm", "transform": "log10", "cell": 80.0}
        kriged = project.run("grid-kriging", **soil)
        project.run("grid-neighbours", method="natural neighbours", **soil)
        project.run("cross-validate", samples="Soils", attribute="Sn ppm", transform="log10")
        coarse = project.run("resample-grid", grid="Magnetics", cell=60.0)["resampled"]
        project.run("clip-grid", grid=coarse, polygons="Geological map")
        project.run("mosaic", grids=["Magnetics", coarse], cell=60.0)
        project.run("join-grids", a="Magnetics", b=coarse, cell=80.0)  # by its earlier name
        project.run("fill-grid", grid=kriged["grid"])
        project.run("smooth-grid", grid="Ground", width=100.0)
        figures = project.run("zonal-statistics", grid="Ground", polygons="Geological map")["polygons"]
        assert "elevation mean" in project[figures].attributes
        agree = project.run("compare-grids", grid="Soil Sn", other="Ground")
        assert len(project[agree["pairs"]].table) > 1000  # type: ignore[attr-defined]
        project.run("lineaments", grid="Magnetics")
        project.run("source-depth", grid="Magnetics", window=1500.0)
        ring = "503000 5601400; 503400 5601400; 503400 5601700"
        drawn = project.run("draw-feature", features=figures, points=ring, value="DIORITE")["features"]
        last = len(project[drawn].table) - 1  # type: ignore[attr-defined]
        project.run("edit-corner", features=drawn, action="move", x=503400, y=5601400, to_x=503350, to_y=5601420)
        project.run("split-features", features=drawn, points="503200 5601000; 503300 5602000", rows=str(last))
        project.run("join-features", features=drawn, rows=f"{last}; {last + 1}")
        project.run("edit-features", features=drawn, rows=str(last), value="GABBRO")
        project.run("merge-by-unit", features=drawn, column="unit")
        assert "GABBRO" in set(project[drawn].table["unit"])  # type: ignore[attr-defined]
        project.run("arrange-page", page="Emberlow A3", layout='[{"kind": "notes", "x": 5, "y": 5, "w": 50, "h": 20}]')
        project.run("calculate-grid", a="Ground", expression="a + 150", name="Flight surface")
        stations = project.run("grid-neighbours", samples="Gravity stations", attribute="Bouguer_mGal", cell=60.0)[
            "grid"
        ]
        residual = project.run("regional-residual", grid=stations)["residual"]
        project.run("anomalies", samples="Soils", attribute="Sn ppm")
        project.run("level-by-unit", samples="Soils", map="Geological map", attribute="Sn ppm")
        project.run("principal-components", samples="Soils")
        assert project[residual].facts
        project.export("Sn shell 800 ppm", tmp_path / "shell.omf")
        project.run("import-element", file=str(tmp_path / "shell.omf"), name="Shell again")
        assert project["Shell again"].volume_m3 == pytest.approx(project["Sn shell 800 ppm"].volume_m3)  # type: ignore[attr-defined]
        assert len(project["Emberlow holes"].collars) == 58  # type: ignore[attr-defined]
        assert "Sn in %" in project.store.find("Soils").attributes
        table = project[made["stations"]].table  # type: ignore[attr-defined]
        assert len(table) == 500
        assert table["computed_gravity"].max() > 3 * abs(table["computed_gravity"].median())
        for e in project.items:
            declared = {o.slot: o.kind for o in OPERATIONS[e.recipe.operation].outputs} if e.recipe else {}
            assert e.recipe is not None
            assert declared[e.recipe.output] in (e.kind, "")


@pytest.mark.parametrize("chosen", FORMATS, ids=lambda f: f.name)
def test_every_format_writes_its_kinds(demo: Store, chosen: Any, tmp_path: Path) -> None:
    for kind in chosen.kinds:
        for extension in chosen.extensions:
            item = of_kind(demo, kind)
            files = export(few_rows(item) if extension == ".ods" else item, tmp_path / f"{kind}{extension}")
            sizes = [f.stat().st_size for f in files]  # a Shapefile has small companions
            assert min(sizes) > 0
            assert max(sizes) > 40
    assert not list(tmp_path.glob(".*"))


def test_demo_files_are_those_of_the_generator(tmp_path: Path) -> None:
    from innerlamp.demo.generate import write_all

    write_all(tmp_path)
    shipped = {p.relative_to(FILES): p for p in FILES.rglob("*") if p.is_file()}
    made = {p.relative_to(tmp_path): p for p in tmp_path.rglob("*") if p.is_file()}
    assert set(shipped) == set(made)
    for name, path in made.items():
        if path.suffix == ".csv":
            a, b = (pd.read_csv(f, sep=None, engine="python", dtype=str) for f in (path, shipped[name]))
            assert a.shape == b.shape
            for column in a.columns:
                x, y = (pd.to_numeric(t[column], errors="coerce") for t in (a, b))
                assert np.allclose(x, y, rtol=1e-3, atol=0.02, equal_nan=True), (
                    f"{name} {column}"
                )  # last digits may differ between processors
        else:
            assert abs(path.stat().st_size - shipped[name].stat().st_size) < 50, name
    assert sum(p.stat().st_size for p in shipped.values()) < 15_000_000


def test_demo_steps_name_shipped_files_and_declared_outputs() -> None:
    for operation, params, inputs, outputs in STEPS:
        op = OPERATIONS[operation]
        assert {o.slot for o in op.outputs} == set(outputs)
        assert set(inputs) <= {slot.slot for slot in op.inputs}
        op.check(file_params(params))


def test_painters_and_panes_cover_every_kind() -> None:
    from innerlamp.app.painters.table import PAINTERS
    from innerlamp.app.shell.shelf import ORDER

    assert set(PAINTERS) == {(view, kind) for view in ("map", "section", "scene") for kind in KINDS}
    assert set(ORDER) == set(KINDS)
