"""Catalogues from strangers: what is not written by us is not read, values of other types cost one item, deep chains cost little."""

from __future__ import annotations

import dataclasses
import json
import shutil
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from innerlamp import cli
from innerlamp.core.errors import LampError, ProjectError
from innerlamp.core.items.legend import Legend
from innerlamp.core.items.style import Style
from innerlamp.core.project import catalogue, seals, trail
from innerlamp.core.project.records import Line, Recipe
from innerlamp.core.project.store import Store, stage
from innerlamp.core.running.fresh import Fresh

from ..scale import LONG, share
from .test_hostile_projects import CRS, in_catalogue, points

# What stands in the place of a value: other types, and numbers that no value has.
MANY = 20_000 if LONG else 4_000  # edits of one item
OTHERS: list[Any] = ["x", 5, -1, 1e308, [], [1, "a"], {}, {"a": []}, None, True, "../../x", "a\nb"]


@pytest.fixture
def project(tmp_path: Path) -> Path:
    """Three items, one made from another, with an edit, a legend, a style, view settings and steps to take back."""
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        first = store.put(points())
        run = Recipe("tidy", {"by": 2, "to": "E"}, {"points": ((first, 1),)}, {"f": "a.csv"}, "tidied", "g")
        second = store.put(dataclasses.replace(points(3.0), name="Tidied"), recipe=run)
        edit = Recipe("draw", {"rows": [1]}, {"item": ((second, 2),)}, base="item")
        store.add({"0": stage(store.payloads, points(4.0))}, "Edit", {"0": edit}, {"0": second})
        store.put(dataclasses.replace(points(5.0), name="Whole"))
        store.set_legend(Legend("v", low=1.0, high=2.0, breaks=(1.0, 2.0)))
        store.restyle(second, Style("v", opacity=0.5))
        store.light({second: True})
        store.rename(first, "Pegs")
        store.set_workspace({"corridor": 40.0, "section": [0, 0, 1, 1], "views": {}, "selections": {}, "log": {}})
        return store.path


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("CREATE TRIGGER t AFTER UPDATE ON head BEGIN DELETE FROM version; END", "trigger 't'"),
        ("CREATE TRIGGER t AFTER INSERT ON seal BEGIN DELETE FROM version; END", "trigger 't'"),
        ("CREATE VIEW v AS SELECT * FROM head", "view 'v'"),
        ("CREATE TABLE more(a)", "table 'more'"),
        ("CREATE INDEX i ON head(json_extract(state, '$.name'))", "index 'i'|unsafe use"),
        ("ALTER TABLE head ADD COLUMN x TEXT GENERATED ALWAYS AS (upper(state)) VIRTUAL", "table 'head'"),
        ("ALTER TABLE workspace RENAME TO spaceork", "table 'spaceork'"),
        ("DROP TABLE seal", "lacks TABLE seal"),
        ("UPDATE meta SET value='0' WHERE key='schema'", "no schema 0"),
        ("UPDATE meta SET value='1' WHERE key='schema'", "writes"),
        ("UPDATE meta SET value='-4' WHERE key='schema'", "number of its schema"),
        ("UPDATE meta SET value='four' WHERE key='schema'", "number of its schema"),
        ("DELETE FROM meta WHERE key='schema'", "number of its schema"),
        ("UPDATE meta SET value='5' WHERE key='schema'", "newer version"),
        ("DROP TABLE meta", "no heading"),
    ],
)
@pytest.mark.parametrize("write", [True, False])
def test_a_catalogue_that_is_not_as_we_write_it_is_refused_before_it_is_read(
    project: Path, query: str, words: str, write: bool
) -> None:
    in_catalogue(project, query)
    with pytest.raises(ProjectError, match=words):
        Store.open(project, write=write)


def test_a_view_in_the_place_of_a_table_is_never_asked(project: Path) -> None:
    """A view that would never end: the project is refused at once, by the command too."""
    db = sqlite3.connect(project / "catalogue.sqlite")
    db.executescript(
        "DROP TABLE workspace; CREATE VIEW workspace AS WITH RECURSIVE r(key) AS"
        " (SELECT 1 UNION ALL SELECT key+1 FROM r) SELECT key, 'a' AS value FROM r;"
    )
    db.close()
    with pytest.raises(ProjectError, match="view 'workspace'"):
        Store.open(project)


def test_a_project_without_a_coordinate_system_is_refused(project: Path) -> None:
    in_catalogue(project, "DELETE FROM meta WHERE key='crs'")
    with pytest.raises(ProjectError, match="coordinate system is missing or damaged"):
        Store.open(project)


def places_in(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where values stand in a value, the whole first."""
    yield path
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, each in inside:
        yield from places_in(each, (*path, key))


def changed(value: Any, path: tuple[Any, ...], other: Any) -> Any:
    """The value with another one at a place."""
    if not path:
        return other
    out = dict(value) if isinstance(value, dict) else list(value)
    out[path[0]] = changed(value[path[0]], path[1:], other)
    return out


def cells(project: Path) -> list[tuple[str, str, str, tuple[Any, ...]]]:
    """Every value that the rows of a catalogue hold: table, key of the row, column, place in its text."""
    found = []
    db = sqlite3.connect(project / "catalogue.sqlite")
    columns = {
        "head": ("key", ["state"]),
        "legend": ("key", ["state"]),
        "workspace": ("key", ["value"]),
        "version": ("id", ["kind", "manifest", "facts", "bounds", "attributes", "crs", "made_at", "origin", "item"]),
        "origin": ("id", ["recipe", "parent", "key"]),
        "change": ("id", ["entries", "label", "at", "done", "cause", "bytes"]),
    }
    for table, (key, names) in columns.items():
        for name in names:
            for row, text in db.execute(f"SELECT {key}, {name} FROM {table}").fetchall():
                try:
                    value = json.loads(text)
                except (TypeError, ValueError):
                    value = text
                found += [(table, str(row), name, place) for place in places_in(value)]
    db.close()
    return found


def damage(project: Path, cell: tuple[str, str, str, tuple[Any, ...]], other: Any) -> None:
    """Put a value into a catalogue and seal its rows again: checksums tell nothing of what strangers write."""
    table, row, column, place = cell
    db = sqlite3.connect(project / "catalogue.sqlite", isolation_level=None)
    key = "key" if table in ("head", "legend", "workspace") else "id"
    (text,) = db.execute(f"SELECT {column} FROM {table} WHERE {key}=?", (row,)).fetchone()
    raw = column in (
        "kind",
        "crs",
        "made_at",
        "origin",
        "item",
        "parent",
        "key",
        "label",
        "at",
        "done",
        "cause",
        "bytes",
    )
    new = other if raw else json.dumps(changed(json.loads(text), place, other))
    if isinstance(new, list | dict):
        new = json.dumps(new)
    try:
        db.execute(f"UPDATE {table} SET {column}=? WHERE {key}=?", (new, row))
    except sqlite3.IntegrityError:  # a column that can't be empty
        db.execute(f"UPDATE {table} SET {column}=? WHERE {key}=?", (b"\xff\x00", row))
    seals.make(db)
    db.close()


def use(project: Path) -> None:
    """All that opening a project, looking at it and going back in it asks of its catalogue."""
    with Store.open(project) as store:
        for entry in store.entries():
            try:
                item = store.load(entry.id)
            except LampError:
                continue
            assert isinstance(item.name, str) and item.bounds and item.attributes is not None and item.facts is not None
            assert entry.name + entry.kind + entry.crs and entry.style.opacity <= 1.0
        store.damaged()
        trail.freshness(store)
        Fresh(store).due()
        for key in ("corridor", "section", "views", "selections", "log"):
            store.workspace(key, 1.0)
        for action in (lambda: store.legend("v"), store.history.rows, store.undo, store.redo, store.clean_up):
            try:
                action()
            except LampError as error:
                assert str(error).isprintable()


def test_a_value_of_another_type_costs_at_most_its_item(project: Path, tmp_path: Path) -> None:
    every = cells(project)
    rng = np.random.default_rng(5)
    pairs = [(cell, k) for cell in every for k in range(len(OTHERS))]
    chosen = [pairs[k] for k in rng.permutation(len(pairs))[: share(len(pairs) // 6)]]
    assert len(every) > 150
    odd: list[str] = []
    copy = tmp_path / "copy.lamp"
    for cell, k in chosen:
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(project, copy)
        damage(copy, cell, OTHERS[k])
        try:
            use(copy)
        except LampError as error:
            assert str(error).isprintable()
        except Exception as error:
            odd.append(f"{cell} = {OTHERS[k]!r}: {type(error).__name__} {error}")
    assert not odd, "\n".join([f"{len(odd)} of {len(chosen)}", *odd[:40]])


@pytest.mark.parametrize("other", [5, [], "", {"a": 1}])
def test_an_item_whose_name_is_none_is_told_and_check_goes_on(
    project: Path, other: Any, capsys: pytest.CaptureFixture[str]
) -> None:
    cell = next(c for c in cells(project) if c[0] == "head" and c[3] == ("name",))
    damage(project, cell, other)
    with Store.open(project) as store:
        assert len(store.entries()) == 2 and len(store.damaged_rows()) == 1
    assert cli.main(["check", str(project), "--mend"]) == 2
    assert "part of the catalogue is damaged" in capsys.readouterr().out


@pytest.mark.parametrize(("column", "other"), [("state", b"\0\1"), ("key", None), ("key", b"\xff"), ("key", 2**40)])
def test_a_row_of_an_item_that_is_no_text_is_told_and_the_rest_opens(
    project: Path, column: str, other: object, capsys: pytest.CaptureFixture[str]
) -> None:
    with sqlite3.connect(project / "catalogue.sqlite") as db:
        (first,) = db.execute("SELECT key FROM head LIMIT 1").fetchone()
        db.execute(f"UPDATE head SET {column}=? WHERE key=?", (other, first))
    with Store.open(project) as store:
        assert len(store.entries()) == 2 and len(store.damaged_rows()) == 1
    assert cli.main(["check", str(project), "--mend"]) == 2
    assert "part of the catalogue is damaged" in capsys.readouterr().out


def hang(store: Store, count: int) -> str:
    """Items that hang from each other like a chain; returns the first one."""
    (first,) = store.heads()
    row = store._db.execute("SELECT kind, manifest, facts, bounds, attributes, crs, made_at FROM version").fetchone()
    with store._transaction() as db:
        above, version = first, 1
        for k in range(count):
            recipe = Recipe("tidy", {}, {"points": ((above, version),)}, output="tidied", group=f"g{k}")
            origin = store._origins.extend(None, (recipe,))
            above = f"item{k}"
            made = db.execute(
                "INSERT INTO version(item,kind,manifest,origin,facts,bounds,attributes,crs,made_at)"
                " VALUES(?,?,?,?,?,?,?,?,?)",
                (above, row[0], row[1], origin, *row[2:]),
            )
            version = int(made.lastrowid or 0)
            state = {"name": f"Item {k}", "version": version, "place": float(k + 2)}
            db.execute("INSERT INTO head VALUES(?,?)", (above, json.dumps(state)))
    store._entries = None
    return first


def test_a_chain_of_three_thousand_items_is_judged_and_taken_back(tmp_path: Path) -> None:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        store.put(points())
        first = hang(store, 3000)
        assert set(trail.freshness(store).values()) == {"source", "fresh"}
        store.add({"0": stage(store.payloads, points(9.0))}, "New", None, {"0": first})
        states = trail.freshness(store)
        assert sum(s == "stale" for s in states.values()) == 3000
        assert trail.next_to_refresh(store) == [["item0"]] and len(trail.touched_by(store, first)) == 3000
        store.undo()
        assert set(trail.freshness(store).values()) == {"source", "fresh"}
        assert not store.damaged()


def test_an_item_of_twenty_thousand_edits_opens_and_is_judged(tmp_path: Path) -> None:
    with Store.create(tmp_path / "a.lamp", CRS) as store:
        item, other = store.put(points()), store.put(points(2.0))
        steps = tuple(
            Recipe("draw", {"k": k}, {"item": ((item, 1),), "by": ((other, k),)}, base="item") for k in range(MANY)
        )
        store.add({"0": stage(store.payloads, points(3.0))}, "Edits", {"0": Line(steps, 1)}, {"0": item})
    with Store.open(tmp_path / "a.lamp") as store:
        assert len(store.entry(item).chain) == MANY
        assert trail.freshness(store)[item] == "stale"
        store.rename(item, "Edited")
        assert catalogue.SCHEMA == 4 and store.undo() == "Rename Stakes"
