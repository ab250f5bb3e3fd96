"""Edits, origins and undo: nothing a user did is lost, and undo takes back what the user did."""

from __future__ import annotations

import json
import pickle
import shutil
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.errors import InputError, ProjectError
from innerlamp.core.geometry.mesh import TensorMesh
from innerlamp.core.items.features import RING, Features, one_each
from innerlamp.core.items.fields import BlockModel
from innerlamp.core.items.points import PointSet
from innerlamp.core.project import payload, trail
from innerlamp.core.project.store import Moved, Store, stage
from innerlamp.core.running import execute

CRS = "EPSG:32719"
LEFT = "0 0; 100 0; 100 100; 0 100"
RIGHT = "100 0; 200 0; 200 100; 100 100"
DATA = Path(__file__).parents[1] / "data" / "first_project"


def soils(seed: int = 0, count: int = 80) -> PointSet:
    rng = np.random.default_rng(seed)
    table = pd.DataFrame(
        {
            "x": rng.uniform(0, 200, count),
            "y": rng.uniform(0, 100, count),
            "z": 4000.0,
            "Sn": rng.lognormal(1, 1, count),
        }
    )
    return PointSet(name="Soils", crs=CRS, table=table, units={"Sn": "ppm"})


@pytest.fixture
def project(tmp_path: Path) -> Any:
    with Project.create(tmp_path / "p", CRS) as opened:
        yield opened


def new_soils(project: Project, item: str, seed: int) -> None:
    """Replace the samples, as a new batch from the laboratory does."""
    project.store.add({"0": stage(project.store.payloads, soils(seed))}, "New assays", replace={"0": item})


def content(project: Project) -> dict[str, Any]:
    """All that can be seen of a project: items in order, with what they hold."""
    return {
        e.id: (e.name, e.held, e.lit, e.style, e.place, sorted(payload.files_of(project.store.manifest(e.version))))
        for e in project.items
    }


def gridded(project: Project) -> tuple[str, str, str]:
    item = project.store.put(soils())
    grid = project.run("grid-minimum-curvature", samples=item, attribute="Sn", cell=10.0)["grid"]
    smooth = project.run("smooth-grid", grid=grid, width=40.0)
    return item, grid, next(iter(smooth.values()))


def test_of_two_edits_prepared_at_once_the_second_is_refused_not_lost(project: Project) -> None:
    drawn = project.run("draw-feature", points=LEFT, value="SLATE")["features"]
    tasks = [
        execute.prepare(project.store, "draw-feature", {"points": RIGHT, "value": "GRANITE"}, {"features": drawn}),
        execute.prepare(
            project.store, "draw-feature", {"points": "0 200; 9 200; 9 209", "value": "DYKE"}, {"features": drawn}
        ),
    ]
    execute.land(project.store, tasks[0], execute.perform(tasks[0]))
    with pytest.raises(Moved, match="changed meanwhile"):
        execute.land(project.store, tasks[1], execute.perform(tasks[1]))
    item = project[drawn]
    assert isinstance(item, Features)
    assert list(item.table["unit"]) == ["SLATE", "GRANITE"]
    assert not list((project.store.path / "staging").glob("*"))


def test_an_edited_import_shows_both_and_goes_stale_by_what_the_edit_took_in(project: Project, tmp_path: Path) -> None:
    soils().table.rename(columns={"x": "East", "y": "North", "Sn": "Sn_ppm"}).to_csv(tmp_path / "s.csv", index=False)
    item = project.run("import-points", file=str(tmp_path / "s.csv"), name="Soils")["points"]
    units = project.run("draw-feature", points=LEFT, value="SLATE")["features"]
    project.run("level-by-unit", samples=item, map=units, attribute="Sn_ppm")
    entry = project.store.entry(item)
    assert [s.operation for s in entry.chain] == ["import-points", "level-by-unit"]
    assert entry.recipe is not None
    assert entry.recipe.operation == "import-points"
    assert list(entry.recipe.sources) == [str(tmp_path / "s.csv")]
    assert trail.freshness(project.store)[item] == "fresh"
    assert set(project[item].table["map unit"]) == {"", "SLATE"}  # type: ignore[attr-defined]
    project.run("draw-feature", features=units, points=RIGHT, value="GRANITE")
    assert trail.freshness(project.store)[item] == "stale"
    assert project.refresh() == [item]
    assert set(project[item].table["map unit"]) == {"GRANITE", "SLATE"}  # type: ignore[attr-defined]
    assert [s.operation for s in project.store.entry(item).chain] == ["import-points", "level-by-unit"]


def test_a_new_file_of_an_import_keeps_the_edits(project: Project, tmp_path: Path) -> None:
    file = tmp_path / "s.csv"
    soils().table.rename(columns={"Sn": "Sn_ppm"}).to_csv(file, index=False)
    item = project.run("import-points", file=str(file), name="Soils")["points"]
    project.run("compute-column", item=item, name="Sn pct", expression="Sn_ppm / 10000", unit="%")
    project.run("compute-column", item=item, name="twice", expression="[Sn pct] * 2", unit="%")
    soils(5, 30).table.rename(columns={"Sn": "Sn_ppm"}).to_csv(file, index=False)
    project.make_again(item)
    table = project[item].table  # type: ignore[attr-defined]
    assert len(table) == 30
    assert table["twice"].to_numpy() == pytest.approx(2e-4 * soils(5, 30).table["Sn"].to_numpy())
    # One that no longer fits is kept, says why, and can be dropped or changed.
    soils(6, 20).table.rename(columns={"Sn": "Cu_ppm"}).to_csv(file, index=False)
    project.make_again(item)
    chain = project.store.entry(item).chain
    assert [bool(s.problem) for s in chain] == [False, True, True]
    assert "Sn_ppm" in chain[1].problem
    project.change_edit(item, 1, expression="Cu_ppm / 10000")
    assert [s.problem for s in project.store.entry(item).chain] == ["", "", ""]
    assert "twice" in project[item].attributes
    project.drop_edit(item, 2)
    assert "twice" not in project[item].attributes
    assert "Sn pct" in project[item].attributes
    with pytest.raises(InputError, match="no such change"):
        project.drop_edit(item, 2)
    project.store.undo()
    assert "twice" in project[item].attributes


def test_undo_takes_back_the_change_with_what_was_made_fresh(project: Project) -> None:
    item, grid, smooth = gridded(project)
    before = content(project)
    new_soils(project, item, 3)
    assert project.refresh() == [grid, smooth]
    after = content(project)
    assert project.store.undo() == "New assays"
    assert content(project) == before
    assert set(trail.freshness(project.store).values()) <= {"source", "fresh"}
    assert project.refresh() == []
    assert project.store.redo() == "New assays"
    assert content(project) == after
    assert project.refresh() == []
    # Each step is one of the user's, however much followed from it.
    assert [label for _, label, _ in project.store.history.rows()][-1] == "New assays"


def test_nothing_that_is_there_is_computed_twice(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    item, _, _ = gridded(project)
    new_soils(project, item, 3)
    project.store.undo()  # before anything was made fresh
    project.store.redo()
    project.refresh()
    made = content(project)
    project.store.undo()
    count: list[str] = []
    perform = execute.perform
    monkeypatch.setattr(execute, "perform", lambda task, *rest: count.append(task.label) or perform(task, *rest))
    project.store.redo()
    assert content(project) == made
    project.refresh()
    assert count == []


def test_a_result_that_came_too_late_is_found_again(project: Project) -> None:
    item, grid, _ = gridded(project)
    new_soils(project, item, 3)
    cause = project.store.history.last()
    how = execute.again(project.store, [grid])
    assert how.task is not None
    project.store.undo()  # while the refresh runs
    before = content(project)
    assert execute.land(project.store, how.task, execute.perform(how.task), cause) == {}
    assert content(project) == before
    project.store.redo()
    assert trail.freshness(project.store)[grid] == "fresh"  # the pointer moved by itself


def test_undo_of_a_removal_puts_the_item_where_it_was(project: Project) -> None:
    a, b, c = (project.store.put(soils()) for _ in range(3))
    project.store.remove([b])
    project.store.undo()
    assert [e.id for e in project.items] == [a, b, c]


def test_changes_of_different_things_do_not_undo_each_other(project: Project) -> None:
    item, grid, _ = gridded(project)
    new_soils(project, item, 3)
    project.store.rename(grid, "Tin")
    project.refresh()  # follows from both; belongs to the last one
    project.store.undo()
    assert project.store.entry(grid).name != "Tin"
    project.refresh()
    assert trail.freshness(project.store)[grid] == "fresh"
    project.store.undo()
    assert trail.freshness(project.store)[grid] == "fresh"
    assert project.store.entry(grid).name != "Tin"


def test_history_is_bounded_and_cleaning_up_keeps_what_it_reaches(project: Project) -> None:
    store = project.store
    item = store.put(soils())
    store.history.most = 5
    for seed in range(1, 12):
        new_soils(project, item, seed)
    assert len(store.history.rows()) == 5
    store.clean_up()
    values = []
    while store.undo():
        values.append(float(store.load(item).table["Sn"].iloc[0]))  # type: ignore[attr-defined]
    assert values == [float(soils(seed).table["Sn"].iloc[0]) for seed in (10, 9, 8, 7, 6)]
    store.history.most_bytes = 1
    new_soils(project, item, 20)
    assert len(store.history.rows()) == 1


def test_a_held_item_does_not_block_what_hangs_from_it(project: Project) -> None:
    item, grid, smooth = gridded(project)
    project.store.hold(grid)
    new_soils(project, item, 3)
    state = trail.freshness(project.store)
    assert (state[grid], state[smooth]) == ("behind", "behind")
    assert project.refresh() == []  # no eternal staleness
    project.store.hold(grid, held=False)
    assert project.refresh() == [grid, smooth]


def test_one_that_cannot_be_made_again_stops_only_what_hangs_from_it(project: Project) -> None:
    item, grid, _ = gridded(project)
    other = project.store.put(soils(9))
    second = project.run("grid-minimum-curvature", samples=other, attribute="Sn", cell=10.0)["grid"]
    bad = soils(1)
    renamed = PointSet(name="Soils", crs=CRS, table=bad.table.rename(columns={"Sn": "W"}), units={"W": "ppm"})
    project.store.add({"0": stage(project.store.payloads, renamed)}, "Other columns", replace={"0": item})
    new_soils(project, other, 2)
    assert project.refresh() == [second]
    assert list(project.problems) == [grid]
    assert "Sn" in project.problems[grid]


def test_nothing_is_made_in_circles(project: Project) -> None:
    item = project.store.put(soils())
    map_ = project.run("anomalies", samples=item, attribute="Sn", by="value", value=1.0, link=500.0)["anomalies"]
    with pytest.raises(InputError, match=r"is itself made from 'Soils'\. Use a dated copy"):
        project.run("level-by-unit", samples=item, map=map_, unit="rank", attribute="Sn")
    copy = project.store.dated_copy(map_)
    project.run("level-by-unit", samples=item, map=copy, unit="rank", attribute="Sn")
    assert project.refresh() == [map_]
    assert project.refresh() == []


def test_staging_is_gone_after_every_landing(project: Project) -> None:
    gridded(project)
    assert not list((project.store.path / "staging").glob("*"))


def test_moving_a_page_with_a_large_picture_costs_little(project: Project) -> None:
    drawn = project.run("draw-feature", points=LEFT, value="SLATE")["features"]
    page = project.run("make-page", around=drawn, heading="P", date="2024-01-01")["page"]
    rng = np.random.default_rng(1)
    picture = "iVBORw0KGgo" + "".join(rng.choice(list("ABCDEFGHabcdefgh0123456789+/"), 2_000_000))
    elements = [dict(e) for e in project[page].elements]  # type: ignore[attr-defined]
    elements.append({"kind": "picture", "x": 10.0, "y": 10.0, "w": 30.0, "h": 30.0, "data": picture})

    def size() -> int:
        return sum(f.stat().st_size for f in project.store.path.glob("catalogue.sqlite*"))

    project.run("arrange-page", page=page, layout=elements)
    project.store._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    before = size()
    for step in range(10):
        elements[-1] = {**elements[-1], "x": 10.0 + step}
        project.run("arrange-page", page=page, layout=elements)
    project.store._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    assert size() - before < 200_000
    assert project[page].elements[-1]["data"] == picture  # type: ignore[attr-defined]
    assert project[page].elements[-1]["x"] == 19.0  # type: ignore[attr-defined]


def test_items_are_frozen_deeply() -> None:
    model = BlockModel(
        name="M", crs=CRS, mesh=TensorMesh.even((0, 0, 0), (1, 1, 1), (2, 2, 2)), properties={"a": np.zeros((2, 2, 2))}
    )
    with pytest.raises(ValueError, match="read-only"):
        model.properties["a"][0, 0, 0] = 1.0
    with pytest.raises(TypeError, match="never change"):
        model.properties["b"] = np.zeros((2, 2, 2))
    table = soils().table
    before = table.copy()
    for change in (
        lambda: table.__setitem__("Sn", 0.0),
        lambda: table.loc.__setitem__((0, "Sn"), 0.0),
        lambda: table.iloc.__setitem__((0, 0), 0.0),
        lambda: table.at.__setitem__((0, "Sn"), 0.0),
        lambda: table.insert(0, "new", 1.0),
        lambda: table.pop("Sn"),
    ):
        with pytest.raises(TypeError, match="never change"):
            change()
    pd.testing.assert_frame_equal(pd.DataFrame(table), before)
    assert type(table[["x"]]) is type(table.copy()) is pd.DataFrame  # what is made of it is a plain table
    assert type(pickle.loads(pickle.dumps(table))) is pd.DataFrame


def test_a_reader_follows_the_writer(project: Project) -> None:
    item = project.store.put(soils())
    with Store.open(project.store.path, write=False) as reader:
        seen: list[Any] = []
        reader.changed.connect(seen.append)
        assert len(reader.entries()) == 1
        assert not reader.follow()
        new_soils(project, item, 4)
        other = project.store.put(soils(5))
        assert reader.follow()
        assert (seen[-1].replaced, seen[-1].added) == ((item,), (other,))
        assert float(reader.load(item).table["Sn"].iloc[0]) == float(soils(4).table["Sn"].iloc[0])  # type: ignore[attr-defined]


# ---- projects of earlier versions


@pytest.fixture
def first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A project made by the first version: edits, a held item, a dated copy, stale items, a history."""
    with zipfile.ZipFile(DATA / "first.zip") as archive:
        archive.extractall(tmp_path)
    monkeypatch.chdir(tmp_path)  # its recipes name files beside it
    return tmp_path / "first.lamp"


@pytest.mark.parametrize("write", [True, False])
def test_an_old_project_opens_as_it_was(first: Path, write: bool) -> None:
    facts = json.loads((DATA / "first.json").read_text())
    before = (first / "catalogue.sqlite").read_bytes()
    with Project.open(first, write) as project:
        for wanted, entry in zip(facts["items"], project.items, strict=True):
            assert (entry.id, entry.name, entry.kind, entry.version, entry.held, bool(entry.dated)) == tuple(
                wanted[k] for k in ("id", "name", "kind", "version", "held", "dated")
            )
            assert list(entry.attributes) == list(wanted["attributes"])
            assert project[entry.id].name
        chains = {e.name: [s.operation for s in e.chain] for e in project.items}
        assert chains["Soils"] == ["import-points", "level-by-unit", "compute-column"]
        assert chains["Map"] == ["draw-feature", "draw-feature", "edit-corner", "edit-features"]
        assert chains["Holes"] == ["import-holes", "add-holes"]
        lit = {e.name for e in project.items if e.lit}
        assert lit == {"Soils", "Topography", "Holes", "Map", "Soil Sn"}
        assert project.store.find("Soils").style.colour_by == "Sn_ppm"
        legend = project.store.legend("Sn_ppm")
        assert legend is not None
        assert legend.cutoff == 10.0
        assert project.store.damaged() == {}
        assert project.store.redo_label() == "Rename Map"
    assert write or (first / "catalogue.sqlite").read_bytes() == before


def test_an_old_project_refreshes_and_undoes(first: Path) -> None:
    with Project.open(first) as project:
        state = trail.freshness(project.store)
        stale = {project.store.entry(i).name for i, how in state.items() if how == "stale"}
        # What levels by the map was left behind when the map was edited; the first version had forgotten that.
        # So was the page, which was fitted to the map before it was arranged by hand.
        assert stale == {"Soils", "Soil Sn", "Soil Sn, smoothed", "First"}
        assert {project.store.entry(i).name for i in project.refresh()} == stale
        assert project.problems == {}
        assert trail.freshness(project.store)[project.store.find("Contours").id] == "behind"  # held
        before = len(project.items)
        taken = []
        while label := project.store.undo():
            taken.append(label)
        assert taken[0] == "Remove Sn_pct composites 6 m"
        assert project.items == []
        while project.store.redo():
            pass
        assert len(project.items) == before
        assert {e.name for e in project.items} >= {"Geological map", "Topography"}


def test_a_catalogue_that_is_no_catalogue_is_refused(first: Path) -> None:
    with Project.open(first) as project:
        project.store._db.execute("UPDATE meta SET value='99' WHERE key='schema'")
    with pytest.raises(Exception, match="newer version"):
        Project.open(first)
    shutil.rmtree(first / "payloads")
    (first / "catalogue.sqlite").write_bytes(b"SQLite format 3\0" + b"\xff" * 4000)
    with pytest.raises(Exception, match="can't be read"):
        Project.open(first)


def test_a_table_is_looked_at_once_until_it_changes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from innerlamp.core.findings import Findings
    from innerlamp.core.formats.tables import delimited, tables_in

    count: list[Path] = []
    look = delimited.look
    monkeypatch.setattr(delimited, "look", lambda path: count.append(path) or look(path))
    file = tmp_path / "a.csv"
    file.write_text("x,y\n1,2\n3,4\n")
    assert tables_in.look(file).columns == tables_in.look(file).columns == ("x", "y")
    assert len(tables_in.read(file, Findings()).line) == 2
    assert len(count) == 1
    file.write_text("x;y;z\n1;2;3\n")
    assert tables_in.look(file).columns == ("x", "y", "z")
    assert len(count) == 2


@pytest.mark.parametrize(
    "damage",
    [
        lambda m, put: m["tables"].update(table=put(b"PAR1" + b"\xff" * 200 + b"PAR1", ".parquet")),
        lambda m, put: m["tables"].update(table=put(b"", ".parquet")),
        lambda m, _: m["tables"].update(table=7),
        lambda m, put: m["arrays"].update(table=put(b"\x93NUMPY\x01\x00v\x00{'descr': '<f8', 'fortran_order'", ".npy")),
        lambda m, _: m.update(tables=None),
        lambda m, _: m.update(meta=[]),
        lambda m, _: m["meta"].update(units={"@keys": ["nothing"]}),
    ],
)
def test_content_that_is_whole_and_yet_no_item_is_one_sentence(tmp_path: Path, damage: Any) -> None:
    manifest = json.loads(json.dumps(payload.write_item(tmp_path, soils())))
    damage(manifest, lambda data, suffix: payload.write_file(tmp_path, data, suffix))
    with pytest.raises(ProjectError, match="can't be read"):
        payload.read_item(tmp_path, manifest)


def test_a_grid_hangs_from_the_column_it_read_and_not_from_the_table(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    table = pd.DataFrame(
        {"easting": rng.uniform(0, 900, 60), "northing": rng.uniform(0, 900, 60), "Cu_ppm": rng.uniform(1, 9, 60)}
    )
    table.assign(Zn_ppm=2.0).to_csv(tmp_path / "s.csv", index=False)
    with Project.create(tmp_path / "p.lamp", "EPSG:32719") as project:
        soils = project.run("import-points", file=str(tmp_path / "s.csv"))["points"]
        grid = project.run("grid-minimum-curvature", samples=soils, attribute="Cu_ppm", cell=50.0)["grid"]
        version = project.store.entry(grid).version

        def state() -> str:
            return trail.freshness(project.store)[grid]

        project.run("compute-column", item=soils, expression="Cu_ppm * 2", name="double")
        assert project.store.entry(soils).version > 1
        assert state() == "fresh"
        assert project.refresh() == []
        project.run("correct", item=soils, rows=[3], column="Zn_ppm", value="7", why="typed wrongly")
        assert state() == "fresh"
        # Also when what it was made from is cleaned away, and after opening again.
        project.store.clean_up(forget=True)
        assert state() == "fresh"
        assert len(project.store.versions(soils)) == 1
    with Project.open(tmp_path / "p.lamp") as project:
        assert trail.freshness(project.store)[grid] == "fresh"
        project.run("correct", item=soils, rows=[3], column="Cu_ppm", value="70", why="typed wrongly")
        assert trail.freshness(project.store)[grid] == "stale"
        assert project.refresh() == [grid]
        assert project.store.entry(grid).version > version
        project.run("correct", item=soils, rows=[5], action="leave out row", why="not of this survey")
        assert trail.freshness(project.store)[grid] == "stale"
        # Only what is named, and what that is made from, is made again.
        other = project.run("grid-minimum-curvature", samples=soils, attribute="Zn_ppm", cell=60.0)["grid"]
        project.run("correct", item=soils, rows=[7], action="leave out row", why="not of this survey")
        assert project.refresh(only=[other]) == [other]
        assert trail.freshness(project.store)[grid] == "stale"


def test_a_change_of_one_property_writes_no_other_part_anew(project: Project, monkeypatch: pytest.MonkeyPatch) -> None:
    mesh = TensorMesh.even((0, 0, 4000), (10, 10, 10), (20, 20, 20))
    rng = np.random.default_rng(0)
    values = {name: rng.normal(size=mesh.shape) for name in ("Cu", "Au", "density")}
    item = project.store.put(BlockModel(name="M", crs=CRS, mesh=mesh, properties=values))
    written: list[str] = []
    kept = payload.write_array
    monkeypatch.setattr(payload, "write_array", lambda folder, a: written.append(str(a.shape)) or kept(folder, a))
    project.run("compute-blocks", model=item, name="twice", expression="Cu * 2")
    assert written.count(str(mesh.shape)) == 1
    found = project[item]
    assert isinstance(found, BlockModel)
    assert found.properties["Au"] == pytest.approx(values["Au"])
    assert found.properties["twice"] == pytest.approx(2 * values["Cu"])


def test_a_feature_is_drawn_on_a_map_with_numbers_dates_and_truths(project: Project) -> None:
    table = pd.DataFrame(
        {
            "unit": ["SLATE"],
            "number": [7],
            "seen": pd.to_datetime(["2024-05-01"]),
            "sure": [True],
            "share": [0.5],
        }
    )
    ring = np.array([[0.0, 0], [100, 0], [100, 100], [0, 0]])
    item = project.store.put(Features(name="Map", crs=CRS, table=table, **one_each([ring], RING)))
    project.run("draw-feature", features=item, points=RIGHT, value="GRANITE")
    project.run("draw-in-space", features=item, points="0 0 10; 50 0 20", value="VEIN", shape="line", column="unit")
    found = project[item]
    assert isinstance(found, Features)
    assert found.table["unit"].tolist() == ["SLATE", "GRANITE", "VEIN"]
    assert found.table["number"].tolist()[0] == 7
    assert found.table["number"].isna().tolist() == [False, True, True]
    with pytest.raises(InputError, match="number"):
        project.run("draw-feature", features=item, points=LEFT, value="GRANITE", column="number")
