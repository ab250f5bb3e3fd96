"""What was worked out is kept up to so many bytes; items at hand stay as long as they are shown."""

from __future__ import annotations

import gc
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from innerlamp.core.items.points import PointSet
from innerlamp.core.kept import Kept, size_of
from innerlamp.core.project.at_hand import ItemsAtHand
from innerlamp.core.project.store import Store

CRS = "EPSG:32719"


def points(name: str, count: int = 1_000) -> PointSet:
    table = pd.DataFrame({"x": np.arange(count, dtype=float), "y": 1.0, "z": 4000.0, "Au": 0.1})
    return PointSet(name=name, crs=CRS, table=table, units={"Au": "ppb"})


def test_the_latest_used_stays_and_the_bytes_are_bound() -> None:
    kept, made = Kept(11_000), []

    def value(name: str) -> np.ndarray:
        made.append(name)
        return np.zeros(400)  # 3,200 bytes

    for name in "abca":
        kept.of(name, lambda name=name: value(name))  # type: ignore[misc]
    assert made == ["a", "b", "c"]  # a was there
    kept.of("d", lambda: value("d"))
    kept.of("a", lambda: value("a"))
    assert made == ["a", "b", "c", "d"]  # b went, a was used later
    kept.of("b", lambda: value("b"))
    assert made[-1] == "b"
    assert kept.bytes <= 11_000
    kept.of("huge", lambda: np.zeros(10_000))  # what is larger than all is kept alone
    assert len(kept) == 1
    kept.clear()
    assert (len(kept), kept.bytes) == (0, 0)


def test_what_was_worked_out_of_something_goes_with_it() -> None:
    kept = Kept(10_000)
    table = pd.DataFrame({"a": [1.0]})
    kept.of(("t", id(table)), lambda: 1, owner=table)
    other = pd.DataFrame({"a": [2.0]})
    assert kept.of(("t", id(table)), lambda: 2, owner=other) == 2  # the same number, another table
    del table, other
    gc.collect()
    assert (len(kept), kept.bytes) == (0, 0)


def test_sizes_count_arrays_tables_and_texts_and_not_what_is_mapped(tmp_path: Path) -> None:
    np.save(tmp_path / "a.npy", np.zeros(1_000_000))
    assert size_of(np.load(tmp_path / "a.npy")) == 8_000_000
    assert size_of(np.load(tmp_path / "a.npy", mmap_mode="r")[10:]) < 1_000
    assert 32_000 < size_of(points("p")) < 40_000
    assert size_of(pd.DataFrame({"rock": ["SLATE"] * 1_000})) > 5_000


def test_what_is_shown_stays_at_hand_however_much_it_is() -> None:
    hand = ItemsAtHand(most=200_000)
    hand.pinned = lambda: range(100)
    for version in range(120):
        hand.put(version, points(f"p{version}"))
    assert all(version in hand for version in range(100))
    assert 119 in hand
    assert 100 not in hand
    hand.pinned = tuple
    hand.put(120, points("p120"))
    assert len(hand) < 8
    assert hand.get(120).name == "p120"


def test_scripts_hold_no_more_than_the_bound(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with Store.create(tmp_path / "p.lamp", CRS) as store:
        monkeypatch.setattr(store.at_hand, "most", 200_000)
        items = [store.put(points(f"p{k}")) for k in range(20)]
        for item in items:
            assert len(store.load(item).table) == 1_000  # type: ignore[attr-defined]
        assert len(store.at_hand) < 8
