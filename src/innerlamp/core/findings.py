"""Findings: what a check saw, where, how serious it is and what was done about it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pandas as pd

Severity = Literal["note", "mended", "left out", "look"]
ORDER: tuple[Severity, ...] = ("left out", "look", "mended", "note")
_COUNTED = ("mended", "left out", "look")
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
        file: Any = "",
        table: str = "",
        line: Any = 0,
        hole: Any = "",
    ) -> None:
        """Add findings; `what`, `done`, `file`, `line` and `hole` may be sequences of one length."""
        count = max(
            (len(v) for v in (what, done, file, line, hole) if not isinstance(v, str) and np.ndim(v) == 1), default=1
        )
        if count == 0:
            return
        self._frames.append(
            pd.DataFrame(
                {
                    "file": _spread(file, count),
                    "line": np.broadcast_to(np.asarray(line, dtype=np.int64), count),
                    "hole": list(hole) if np.ndim(hole) == 1 else [str(hole)] * count,
                    "table": table,
                    "severity": severity,
                    "what": _spread(what, count),
                    "done": _spread(done, count),
                }
            )
        )

    def extend(self, other: Findings) -> None:
        """Take over what another collector has."""
        self._frames += other._frames

    def frame(self) -> pd.DataFrame:
        """All findings: what was left out first, then what to look at, what was mended, notes; by file and line."""
        if not self._frames:
            return pd.DataFrame({c: pd.Series(dtype="int64" if c == "line" else "str") for c in COLUMNS})
        whole = pd.concat(self._frames, ignore_index=True).sort_values(["file", "line"], kind="stable")
        return gravest_first(whole)[list(COLUMNS)]


def gravest_first(findings: pd.DataFrame) -> pd.DataFrame:
    """Return findings in the order of their severity; those of one severity stay in their order."""
    order = findings["severity"].map({name: k for k, name in enumerate(ORDER)})
    return findings.iloc[order.argsort(kind="stable")].reset_index(drop=True)


def _spread(text: str | Sequence[str], count: int) -> list[str]:
    return [text] * count if isinstance(text, str) else list(text)


def report_by_hole(
    collars: pd.DataFrame, surveys: pd.DataFrame, tables: Mapping[str, pd.DataFrame], findings: pd.DataFrame
) -> pd.DataFrame:
    """Return what an import did, one row a hole, in the order of the collars; holes that only findings name come last.

    Parameters
    ----------
    collars, surveys
        Tables with the column ``hole``.
    tables
        Interval tables by name, each with the column ``hole``.
    findings
        As `Findings.frame` gives them.

    Returns
    -------
    DataFrame
        hole, taken (whether it has a collar), survey readings, one count for each interval
        table, counts of findings by severity (``mended``, ``left out``, ``look``) and in words
        what was found, the gravest first.
    """
    known = collars["hole"].astype(str)
    named = findings[findings["hole"].astype(str) != ""] if len(findings) else findings
    strangers = [h for h in dict.fromkeys(named["hole"].astype(str)) if h not in set(known)] if len(named) else []
    out = pd.DataFrame({"hole": [*known, *strangers]})
    out["taken"] = ["yes"] * len(known) + ["no"] * len(strangers)
    none = pd.Series(dtype="int64")
    for name, table in {"survey": surveys, **tables}.items():
        counts = table["hole"].astype(str).value_counts()
        out[f"{name} rows"] = out["hole"].map(counts).fillna(0).astype(int)
    for severity in _COUNTED:
        counts = named.loc[named["severity"] == severity, "hole"].astype(str).value_counts() if len(named) else none
        out[severity] = out["hole"].map(counts).fillna(0).astype(int)
    words = (
        named[named["severity"].isin(_COUNTED)].groupby(named["hole"].astype(str), sort=False)["what"].agg(_in_words)
        if len(named)
        else none
    )
    out["found"] = out["hole"].map(words).fillna("")
    return out


def _in_words(whats: pd.Series) -> str:
    # Values differ from row to row ("Sn '<0.5' is below detection"); what they share is said once.
    counts = whats.str.replace(r"'[^']*' ", "", regex=True).value_counts(sort=False)
    return "; ".join(f"{what} ({count})" if count > 1 else str(what) for what, count in counts.items())
