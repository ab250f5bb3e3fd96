"""One row of the printed table, and the last results that it is held against."""

from __future__ import annotations

import functools
import json
import re
import resource
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np

_KEPT = Path(__file__).with_name("last.json")
_FIRST = re.compile(r"([0-9][0-9.,]*) *(ns|ms|µs|s|MB|GB|frames/s|[a-zA-Z/]*)")
_BEHIND = 1.3  # times the kept ratio from which a row is marked


@dataclass(frozen=True)
class Row:
    """What was measured, what was asked ('' when nothing), and how it compares within the same run."""

    what: str
    measured: str
    asked: str = ""
    compared: str = ""

    @property
    def cost(self) -> tuple[float, bool] | None:
        """The first number of what was measured as a cost (less is better), and whether it is a time; None without one."""
        found = _FIRST.search(self.measured)
        if found is None:
            return None
        number, unit = float(found[1].replace(",", "")), found[2]
        if not number:
            return None
        if unit.endswith("/s"):
            return 1.0 / number, True
        scale = {"ns": 1e-9, "µs": 1e-6, "ms": 1e-3}.get(unit, 1.0)
        return number * scale, unit in ("ns", "µs", "ms", "s")


@functools.cache
def yardstick() -> float:
    """Return the seconds that a fixed piece of work takes here and now: arithmetic, memory and plain Python in equal parts.

    Times are told in it, so that a slower machine does not look like slower code.
    """
    rng = np.random.default_rng(0)
    square, long = rng.random((700, 700)), rng.random(6_000_000)

    def work() -> None:
        square @ square
        np.sort(long[:1_500_000])
        (long * 1.5 + 2.0).sum()
        total = 0
        for k in range(1_500_000):
            total += k & 7

    return seconds(work, 12)  # the shortest of many: what else the machine does comes and goes


def kept() -> dict[str, dict[str, Any]]:
    """Return the last results that were kept, by row."""
    return json.loads(_KEPT.read_text(encoding="utf-8")) if _KEPT.is_file() else {}


def keep(rows: Sequence[Row]) -> None:
    """Keep results as those that later runs are held against; rows that were not run stay as they were."""
    table = kept()
    for row in rows:
        if row.cost is not None:
            value, timed = row.cost
            ratio = value / yardstick() if timed else value
            table[row.what] = {"measured": row.measured, "ratio": float(f"{ratio:.4g}"), "date": f"{date.today()}"}
    _KEPT.write_text(json.dumps(table, indent=1, ensure_ascii=False, sort_keys=True) + "\n", encoding="utf-8")


def against(row: Row, before: Mapping[str, Mapping[str, Any]]) -> str:
    """Return how a row stands to the last result that was kept: '' where none is."""
    if row.cost is None or row.what not in before:
        return ""
    value, timed = row.cost
    times = (value / yardstick() if timed else value) / float(before[row.what]["ratio"])
    return f"{'BEHIND ' if times > _BEHIND else ''}{times:.2f} of {before[row.what]['measured']}"


def show(row: Row, before: Mapping[str, Mapping[str, Any]] = MappingProxyType({})) -> None:
    """Print a row beside the last result."""
    print(f"{row.what:<62} {row.measured:>20}  {row.asked:<18} {against(row, before):<30} {row.compared}", flush=True)


def seconds(run: Callable[[], object], repeat: int = 1) -> float:
    """Return the shortest of `repeat` runs in seconds."""
    best = float("inf")
    for _ in range(repeat):
        begin = time.perf_counter()
        run()
        best = min(best, time.perf_counter() - begin)
    return best


def peak_megabytes() -> float:
    """Return the most memory that this process has held so far."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
