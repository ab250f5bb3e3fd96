"""One row of the printed table."""

from __future__ import annotations

import resource
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Row:
    """What was measured, what was asked ('' when nothing), and how it compares within the same run."""

    what: str
    measured: str
    asked: str = ""
    compared: str = ""


def show(row: Row) -> None:
    """Print a row."""
    print(f"{row.what:<62} {row.measured:>20}  {row.asked:<18} {row.compared}", flush=True)


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
