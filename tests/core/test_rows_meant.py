"""Edits keep to the rows that they were made on, when files come in anew in another order or without some rows."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

from innerlamp.api import Project
from innerlamp.core.errors import InputError
from innerlamp.core.importing.row_keys import Finder, keys_of
from innerlamp.core.items import feature_keys
from innerlamp.core.items.features import Features
from innerlamp.core.items.points import PointSet
from innerlamp.core.running import prepare

CRS = "EPSG:32719"


@pytest.fixture
def project(tmp_path: Path) -> Any:
    with Project.create(tmp_path / "p", CRS) as opened:
        yield opened


def write_holes(folder: Path, depths: list[int], hole: str = "H001") -> dict[str, str]:
    """A hole at 4,000 m in the south, with an interval of 1 m at each depth, whose grade is the depth over 10."""
    names = {slot: folder / f"{slot}.csv" for slot in ("collar", "survey", "assay")}
    names["collar"].write_text(f"hole,x,y,z,depth\n{hole},430000,7410000,4012,600\n")
    names["survey"].write_text(f"hole,depth,azimuth,dip\n{hole},0,90,-60\n")
    rows = "".join(f"{hole},{d},{d + 1},{d / 10}\n" for d in depths)
    names["assay"].write_text(f"hole,from,to,Cu_pct\n{rows}")
    return {slot: str(path) for slot, path in names.items()}


def grades(project: Project, item: str) -> dict[float, float]:
    table = project[item].tables["assay"]  # type: ignore[attr-defined]
    return dict(zip(table["from_m"].tolist(), table["Cu_pct"].tolist(), strict=True))


def test_a_correction_stays_at_its_depth_when_the_file_loses_earlier_rows(project: Project, tmp_path: Path) -> None:
    files = write_holes(tmp_path, [0, 100, 200, 300, 400])
    item = project.run("import-holes", **files)["holes"]
    project.run("correct", item=item, table="assay", rows=[2], column="Cu_pct", value="0.5", why="assayed again")
    assert grades(project, item)[200.0] == 0.5
    assert project.items[0].chain[-1].params["rows"] == []  # kept by what the row holds
    write_holes(tmp_path, [200, 300, 400])
    project.make_again(item)
    assert grades(project, item) == {200.0: 0.5, 300.0: 30.0, 400.0: 40.0}


@pytest.mark.parametrize(
    ("depths", "grade", "said"),
    [([0, 100, 300], {}, "no longer there"), ([0, 200], {200: 7.5}, "was 20.0 when it was corrected and is 7.5 now")],
)
def test_a_correction_whose_row_is_gone_or_doubtful_stays_as_a_problem(
    project: Project, tmp_path: Path, depths: list[int], grade: dict[int, float], said: str
) -> None:
    files = write_holes(tmp_path, [0, 100, 200, 300])
    item = project.run("import-holes", **files)["holes"]
    project.run("correct", item=item, table="assay", rows=[2], column="Cu_pct", value="0.5", why="assayed again")
    write_holes(tmp_path, depths)
    if grade:
        path = Path(files["assay"])
        path.write_text(path.read_text().replace("200,201,20.0", "200,201,7.5"))
    project.make_again(item)
    edit = project.items[0].chain[-1]
    assert (edit.operation, said in edit.problem) == ("correct", True), edit.problem
    assert grades(project, item) == {float(d): grade.get(d, d / 10) for d in depths}


def test_a_file_that_was_put_right_needs_the_correction_no_more(project: Project, tmp_path: Path) -> None:
    files = write_holes(tmp_path, [0, 100, 200])
    item = project.run("import-holes", **files)["holes"]
    project.run("correct", item=item, table="assay", rows=[1], column="Cu_pct", value="0.5", why="typed wrongly")
    Path(files["assay"]).write_text(Path(files["assay"]).read_text().replace("100,101,10.0", "100,101,0.5"))
    project.make_again(item)
    assert grades(project, item)[100.0] == 0.5
    assert project.items[0].chain[-1].problem == ""


def test_rows_left_out_are_the_same_rows_of_a_file_in_another_order(project: Project, tmp_path: Path) -> None:
    path = tmp_path / "soils.csv"
    rows = [(430000 + 10 * k, 7410000.0, 100 + k) for k in range(6)]

    def write(order: list[int]) -> None:
        path.write_text("x,y,Au_ppb\n" + "".join(f"{rows[k][0]},{rows[k][1]},{rows[k][2]}\n" for k in order))

    write([0, 1, 2, 3, 4, 5])
    item = project.run("import-points", file=str(path))["points"]
    project.run("correct", item=item, rows=[1, 4], action="leave out row", why="contaminated")
    write([5, 4, 3, 2, 1, 0])
    project.make_again(item)
    points = project[item]
    assert isinstance(points, PointSet)
    assert sorted(points.table["Au_ppb"]) == [100, 102, 103, 105]


def square(x: float, unit: str, y: float = 0.0) -> dict[str, Any]:
    ring = [[x, y], [x + 100, y], [x + 100, y + 100], [x, y + 100], [x, y]]
    return {"type": "Feature", "properties": {"unit": unit}, "geometry": {"type": "Polygon", "coordinates": [ring]}}


def write_map(path: Path, features: list[dict[str, Any]]) -> str:
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::32719"}}
    path.write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": features}))
    return str(path)


def units(project: Project, item: str) -> dict[float, str]:
    """Unit by the west edge of each feature."""
    found = project[item]
    assert isinstance(found, Features)
    west = [found.vertices[found.starts[k] : found.starts[k + 1], 0].min() for k in range(len(found.part_types))]
    return {float(w): str(found.table["unit"].iloc[int(o)]) for w, o in zip(west, found.owner, strict=True)}


A, B, C = square(0, "SLATE"), square(500, "GRANITE"), square(900, "GRANITE")


def test_the_edited_feature_stays_the_edited_one_when_the_file_comes_in_another_order(
    project: Project, tmp_path: Path
) -> None:
    item = project.run("import-features", file=write_map(tmp_path / "m.geojson", [A, B, C]))["features"]
    project.run("edit-features", features=item, rows="1", value="DIORITE")
    assert units(project, item) == {0.0: "SLATE", 500.0: "DIORITE", 900.0: "GRANITE"}
    write_map(tmp_path / "m.geojson", [B, C, A])
    project.make_again(item)
    assert units(project, item) == {0.0: "SLATE", 500.0: "DIORITE", 900.0: "GRANITE"}


def test_keys_outlive_edits_of_shapes_and_a_feature_that_is_gone_is_a_problem(project: Project, tmp_path: Path) -> None:
    item = project.run("import-features", file=write_map(tmp_path / "m.geojson", [A, B, C]))["features"]
    project.run("edit-corner", features=item, action="move", x=500, y=0, to_x=480, to_y=-10)
    project.run("edit-features", features=item, rows="1", value="DIORITE")
    project.run("edit-features", features=item, rows="2", action="remove")
    write_map(tmp_path / "m.geojson", [C, B])
    project.make_again(item)
    assert units(project, item) == {480.0: "DIORITE"}
    project.drop_edit(item, 1)  # the corner goes back, and what was edited after it is still known
    assert units(project, item) == {500.0: "DIORITE"}
    write_map(tmp_path / "m.geojson", [A, C])
    project.make_again(item)
    assert units(project, item) == {0.0: "SLATE"}
    problems = [step.problem for step in project.items[0].chain]
    assert "no longer there" in problems[1]
    assert problems[2] == ""


def test_halves_and_joined_features_are_known_by_what_they_were_made_of(project: Project, tmp_path: Path) -> None:
    item = project.run("import-features", file=write_map(tmp_path / "m.geojson", [A, B, C]))["features"]
    project.run("split-features", features=item, rows="0", points="50 -10; 50 110")
    rows = [k for k, unit in enumerate(project[item].table["unit"]) if unit == "SLATE"]  # type: ignore[attr-defined]
    project.run("edit-features", features=item, rows=[rows[1]], value="HORNFELS")
    before = units(project, item)
    assert sorted(before.values()) == ["GRANITE", "GRANITE", "HORNFELS", "SLATE"]
    write_map(tmp_path / "m.geojson", [C, B, A])
    project.make_again(item)
    assert units(project, item) == before
    project.drop_edit(item, 1)  # without the split there is no half that could be hornfels
    assert units(project, item) == {0.0: "SLATE", 500.0: "GRANITE", 900.0: "GRANITE"}
    assert "no longer there" in project.items[0].chain[-1].problem


def test_equal_shapes_are_told_apart_by_what_their_rows_say() -> None:
    table = pd.DataFrame({"unit": ["A", "B", "A"]})
    ring = np.array([[0.0, 0, np.nan], [1, 0, np.nan], [1, 1, np.nan], [0, 0, np.nan]])
    made = Features(
        name="m",
        crs=CRS,
        table=table,
        vertices=np.concatenate([ring] * 3),
        starts=np.array([0, 4, 8, 12]),
        owner=np.arange(3),
        part_types=np.full(3, 2, dtype=np.int8),
    )
    keys = feature_keys.shape_keys(made)
    assert len(set(keys.tolist())) == 3
    turned = Features(
        name="m",
        crs=CRS,
        table=table.iloc[[1, 0, 2]].reset_index(drop=True),
        vertices=made.vertices,
        starts=made.starts,
        owner=made.owner,
        part_types=made.part_types,
    )
    assert feature_keys.shape_keys(turned)[0] == keys[1]


def test_rows_at_one_place_are_told_apart_by_what_they_hold_then_by_the_line_of_the_file() -> None:
    table = pd.DataFrame({"x": [1.0, 1.0, 2.0], "y": [5.0, 5.0, 5.0], "Au": [3.0, 4.0, 4.0], "file_line": [2, 3, 4]})
    keys = keys_of(table, [0, 1])
    turned = table.iloc[[2, 1, 0]].reset_index(drop=True).assign(file_line=[2, 3, 4])
    find = Finder(turned, "t")
    assert [find.row(key) for key in keys] == [2, 1]
    equal = table.assign(Au=4.0)
    assert [Finder(equal, "t").row(key) for key in keys_of(equal, [0, 1])] == [0, 1]
    with pytest.raises(InputError, match="nothing tells which"):
        Finder(equal.assign(file_line=[12, 13, 14]), "t").row(keys_of(equal, [1])[0])


def test_edits_by_row_number_of_old_projects_are_read_in_the_version_they_were_made_on(
    project: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    item = project.run("import-features", file=write_map(tmp_path / "m.geojson", [A, B, C]))["features"]
    with monkeypatch.context() as patch:  # as earlier versions of the program wrote it
        patch.setattr(prepare, "pinned", lambda _, step, __: step)
        project.run("edit-features", features=item, rows="1", value="DIORITE")
    assert project.items[0].chain[-1].params["rows"] == [1]
    write_map(tmp_path / "m.geojson", [B, C, A])
    project.make_again(item)
    assert units(project, item) == {0.0: "SLATE", 500.0: "DIORITE", 900.0: "GRANITE"}
