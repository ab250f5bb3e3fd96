"""Tracks of strip logs as plain data, and units tied from hole to hole, worked by hand."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp.api import Project
from innerlamp.core.compute.drilling.ties import tied
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.items.tracks import Track, as_data, columns_of, from_data, kinds_for, proposed


def test_units_are_tied_in_order_and_near_ones_first() -> None:
    first = [("TILL", 0.0), ("SLATE", 8.0), ("VEIN", 40.0), ("SLATE", 44.0), ("GRAN", 90.0)]
    second = [("TILL", 0.0), ("SLATE", 12.0), ("VEIN", 52.0), ("SLATE", 55.0), ("VEIN", 80.0), ("GRAN", 99.0)]
    assert tied(first, second) == [(0, 0), (1, 1), (2, 2), (3, 3), (4, 5)]
    # Of two runs of the same unit the near one.
    assert tied([("VEIN", 50.0)], [("VEIN", 5.0), ("VEIN", 48.0), ("VEIN", 99.0)]) == [(0, 1)]
    # Never crossing: dolerite lies above the vein in one and below it in the other.
    assert len(tied([("DOLR", 10.0), ("VEIN", 20.0)], [("VEIN", 12.0), ("DOLR", 22.0)])) == 1
    assert tied([("", 1.0)], [("", 1.0)]) == tied([], [("A", 0.0)]) == []


RUNS = st.lists(st.tuples(st.sampled_from("ABC"), st.floats(0, 300)), max_size=9)


@given(RUNS, RUNS)
def test_ties_never_cross_and_join_equal_units(first: list[tuple[str, float]], second: list[tuple[str, float]]) -> None:
    first, second = sorted(first, key=lambda r: r[1]), sorted(second, key=lambda r: r[1])
    pairs = tied(first, second)
    assert all(first[i][0] == second[j][0] for i, j in pairs)
    assert all(a < c and b < d for (a, b), (c, d) in itertools.pairwise(pairs))
    assert tied(first, first) == [(k, k) for k in range(len(first))]


def test_tracks_as_data_and_back_and_what_is_none() -> None:
    tracks = (Track("bars", ("Sn_ppm",), 64, "log"), Track("planes", ()), Track("curve", ("A", "B"), 90))
    assert from_data(as_data(tracks)) == tracks
    hostile = [
        {"kind": "rock", "attributes": ["R"], "width": 1e9, "scale": "crooked"},
        {"kind": "explosion", "attributes": ["R"]},
        {"kind": "bars", "attributes": [5]},
        {"kind": "bars", "attributes": ["x"], "width": float("nan")},
        "bars",
        None,
    ]
    assert from_data(hostile) == (Track("rock", ("R",), 600), Track("bars", ("x",), 70))
    for other in (None, {}, "text", 5):
        assert from_data(other) == ()
    assert len(from_data(as_data(tracks * 100))) == 64


def test_proposed_tracks_of_the_demo(demo_path: Path) -> None:
    with Project.open(demo_path, write=False) as project:
        holes = project["Emberlow holes"]
    assert isinstance(holes, HoleSet)
    tracks = proposed(holes, planes=True)
    assert 6 <= len(tracks) <= 12
    assert tracks[0] == Track("rock", ("Rock",), 54)
    assert tracks[-1].kind == "planes"
    names = columns_of(holes)
    assert {"Rock", "Sn_ppm", "Alpha"} <= set(names)
    assert not {"hole", "from_m", "x0", "line"} & set(names)
    assert kinds_for(holes, "Sn_ppm")[0] == "bars"
    assert kinds_for(holes, "Rock")[0] == "rock"
    assert kinds_for(holes, "Alpha") == ("curve", "filled curve", "values")
    assert kinds_for(holes, "Sample") == ("notes",)
    assert kinds_for(holes, "nothing") == ()


@pytest.mark.parametrize("kind", ["rock", "bars"])
def test_titles_name_what_is_shown(kind: str) -> None:
    assert Track(kind, ("Sn_ppm",)).title == "Sn_ppm"  # type: ignore[arg-type]
    assert Track("planes", ()).title == "planes"
