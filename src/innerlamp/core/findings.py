"""Findings: what a check saw, where, how serious it is and what was done about it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

Severity = Literal["note", "mended", "left out", "look"]
ORDER: tuple[Severity, ...] = ("left out", "look", "mended", "note")
COLUMNS = ("severity", "what", "done", "hole", "table", "file", "line")


class Findings:
    """Collects findings, one row or many at a time, and hands them over as a table.

    Severities: ``note`` (for information), ``mended`` (a value was changed), ``left out`` (a row
    was not taken), ``look`` (taken as it is, but a person should decide).
    """

    def __init__(self) -> None:
        self._frames: list[pd.DataFrame] = []

    def add(
        self,
        severity: Severity,
        what: str | Sequence[str],
        done: str | Sequence[str],
        *,
        file: str = "",
        table: str = "",
        line: Any = 0,
        hole: Any = "",
    ) -> None:
        """Add findings; `what`, `done`, `line` and `hole` may be sequences of one length."""
        count = max((len(v) for v in (what, done, line, hole) if not isinstance(v, str) and np.ndim(v) == 1), default=1)
        if count == 0:
            return
        self._frames.append(
            pd.DataFrame(
                {
                    "file": file, "line": np.broadcast_to(np.asarray(line, dtype=np.int64), count),
                    "hole": list(hole) if np.ndim(hole) == 1 else [str(hole)] * count, "table": table,
                    "severity": severity, "what": _spread(what, count), "done": _spread(done, count),
                }
            )
        )  # fmt: skip

    def extend(self, other: Findings) -> None:
        """Take over what another collector has."""
        self._frames += other._frames

    def frame(self) -> pd.DataFrame:
        """All findings: what was left out first, then what to look at, what was mended, notes; by file and line."""
        if not self._frames:
            return pd.DataFrame({c: pd.Series(dtype="int64" if c == "line" else "str") for c in COLUMNS})
        whole = pd.concat(self._frames, ignore_index=True)
        whole = whole.assign(order=whole["severity"].map({name: k for k, name in enumerate(ORDER)}))
        return whole.sort_values(["order", "file", "line"], kind="stable").reset_index(drop=True)[list(COLUMNS)]


def _spread(text: str | Sequence[str], count: int) -> list[str]:
    return [text] * count if isinstance(text, str) else list(text)
